"""Files that a person points at: event logs, share links, secrets."""
