"""JSON documents that consoles export → entries of a dossier, by a layout that says where each field is found."""
