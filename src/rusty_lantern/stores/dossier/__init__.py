"""Reading a store by its dossier, from a file or over HTTP."""
