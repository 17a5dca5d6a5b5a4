"""What a store looked like: the dossier, and its parts joined by name."""
