"""Files that a person writes: the estate, declared buckets, tables, dossiers."""
