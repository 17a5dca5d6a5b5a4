"""The users of a store with a MinIO engine, by its administration protocol: groups, policies, access keys."""
