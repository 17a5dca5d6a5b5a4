"""Simulated stores that speak the real protocol on loopback, and the demo estate they hold."""
