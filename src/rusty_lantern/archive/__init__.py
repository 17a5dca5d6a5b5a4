"""Surveys on disk: written whole or not at all, never changed afterwards, any alteration detectable."""
