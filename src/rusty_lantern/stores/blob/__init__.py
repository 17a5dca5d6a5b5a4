"""Stores of the blob protocol: containers with public access levels, headers that begin with `x-ms-`."""
