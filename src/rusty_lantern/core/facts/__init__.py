"""The register of facts, and how each follows from a dossier.

Importing any module of this package fills the register: whoever looks a fact up finds it, in whatever process.
"""

from rusty_lantern.core.facts import catalogue as catalogue
