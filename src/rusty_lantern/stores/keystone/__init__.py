"""A Keystone identity service: tokens by its one POST, and everybody it knows by GET."""
