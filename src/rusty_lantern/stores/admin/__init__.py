"""The administration door of a gateway: the full list of its buckets, their owners, and every user."""
