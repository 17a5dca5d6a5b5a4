"""How results are shown: terminal tables and JSON."""
