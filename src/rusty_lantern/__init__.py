"""Rusty Lantern: who can get into which bucket, and what has drifted from the team's baseline."""

__version__ = "0.1.0"
