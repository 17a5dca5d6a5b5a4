"""A thin reader of stores that speak the S3-compatible protocol. GET and HEAD only, by construction."""
