"""Rules as they are written: documents, actions, condition keys, principals, ACLs."""
