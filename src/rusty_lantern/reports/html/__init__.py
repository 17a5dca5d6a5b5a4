"""The report as one page."""
