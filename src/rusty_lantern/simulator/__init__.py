"""Simulated stores with the real protocol on loopback, and the demo estate they hold."""
