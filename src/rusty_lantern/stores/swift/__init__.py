"""Stores and doors of the open Swift protocol."""
