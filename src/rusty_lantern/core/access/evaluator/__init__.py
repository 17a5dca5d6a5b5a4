"""One concrete request against a bucket's rules."""
