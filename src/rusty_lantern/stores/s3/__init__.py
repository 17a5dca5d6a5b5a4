"""A thin reader of stores of the S3-compatible protocol. GET and HEAD only, by construction."""
