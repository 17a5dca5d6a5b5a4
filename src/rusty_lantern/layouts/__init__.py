"""Layouts for JSON documents that consoles export, as `lantern dossier from-json --layout NAME` takes them."""
