"""Reading an identity service of the query protocol."""
