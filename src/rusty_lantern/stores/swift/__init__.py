"""Stores and doors that speak the open Swift protocol."""
