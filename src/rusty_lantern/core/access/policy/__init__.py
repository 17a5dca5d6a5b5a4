"""Rules as they are written: documents, condition keys, actions, principals, identities' own permissions."""
