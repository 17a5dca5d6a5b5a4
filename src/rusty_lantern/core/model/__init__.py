"""What a store looked like: the dossier, and its parts joined by name.

Modules whose structs are decoded from a dossier evaluate their annotations as they are imported. As texts (`from
__future__ import annotations`), all of them would be evaluated one by one before the first dossier is decoded, which
takes every program start a twentieth longer.
"""
