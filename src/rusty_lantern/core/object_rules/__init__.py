"""What holds of a version or of many: retention, samples, tallies."""
