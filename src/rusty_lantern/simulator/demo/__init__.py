"""The Saltmarsh Trust: the demo's estate."""
