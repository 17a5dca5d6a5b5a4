"""Asking a store over HTTP: signing, pacing, retries, hardened parsing, keys and errors."""
