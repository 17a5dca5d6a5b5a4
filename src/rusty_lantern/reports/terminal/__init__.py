"""Views of results in a terminal."""
