"""Readers of live stores. Each only reads, and each yields a dossier."""
