"""What would put drift right: words, settings, edits of policies."""
