"""What commands say, as data: one struct for each."""
