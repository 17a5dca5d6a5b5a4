"""The register of facts, and how each follows from a dossier."""
