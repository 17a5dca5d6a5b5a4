"""Secrets have no place in a file that people share."""

from __future__ import annotations

import re

from rusty_lantern.core.errors import ProblemList
from rusty_lantern.core.yaml_source import Node

_SECRET_NAMES = re.compile(r"(?i)(secret|password|passwd|private|session|access)[-_]?(key|token|access)?")


_SECRET_FORM = re.compile(r"^[A-Za-z0-9/+=]{32,}$")


def refuse_secrets(node: Node, complaints: ProblemList) -> None:
    """Complain of what looks like a secret, wherever it is in the file."""
    remedy = "put it in a profile, an environment variable or a separate file, and name that here"
    for key, value in node.fields or ():
        if value.text and _SECRET_NAMES.fullmatch(key.text or ""):
            complaints.add("this looks like a secret, and secrets do not belong in the estate file", key.place, remedy)
        elif value.text and _SECRET_FORM.fullmatch(value.text) and re.search("[0-9]", value.text):
            complaints.add(
                "this looks like a secret, and secrets do not belong in the estate file", value.place, remedy
            )
        refuse_secrets(value, complaints)
    for item in node.items or ():
        refuse_secrets(item, complaints)
