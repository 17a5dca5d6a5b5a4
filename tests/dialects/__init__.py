"""What documents mean to a store's software, measured one construct at a time."""
