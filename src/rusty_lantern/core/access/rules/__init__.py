"""Everything that decides about one bucket: its policy as its store's software reads it, ACLs, guards, other doors, who
owns it, and what identities may do by permissions of their own."""
