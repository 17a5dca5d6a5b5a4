"""What `lantern dossier check` found, as a result and as a view."""

from __future__ import annotations

import msgspec
from rich.console import Console

from rusty_lantern.core.dossier import Dossier
from rusty_lantern.core.dossier_check import Fault
from rusty_lantern.reports.terminal import STYLES, Grid, join, line, many, next_step


class CheckResult(msgspec.Struct, frozen=True, kw_only=True):
    """`lantern dossier check --json`. `held` counts what the document tells; empty where it cannot be read."""

    file: str
    usable: bool
    faults: list[Fault]
    held: dict[str, int]
    left_out: list[str]
    """Parts of a dossier that it does not tell: what follows from them is going to be unknown."""

    @classmethod
    def of(cls, file: str, faults: list[Fault], dossier: Dossier | None) -> CheckResult:
        """The result of a check."""
        sections = ("identities", "groups", "credentials", "encryption_keys", "links")
        held, left_out = {}, []
        if dossier is not None:
            held["buckets"] = len(dossier.buckets)
            held |= {name: len(getattr(dossier, name).value or ()) for name in sections}
            left_out = [name for name in sections if getattr(dossier, name).state == "failed"]
            fields = dossier.buckets[0].__struct_fields__[1:] if dossier.buckets else ()
            left_out += [
                f"buckets: {name}"
                for name in fields
                if name not in ("doors", "table") and all(getattr(b, name).state == "failed" for b in dossier.buckets)
            ]
        usable = dossier is not None and not any(fault.grave for fault in faults)
        return cls(file=file, usable=usable, faults=faults, held=held, left_out=left_out)


def check_view(screen: Console, result: CheckResult) -> None:
    """The faults, grave ones first; what it holds; what it leaves out."""
    word, style = ("a dossier that can be judged by", "held") if result.usable else ("not to be judged by", "critical")
    line(screen, (result.file, "bold"), "  ", (word, STYLES[style]))
    held = [many(number, name.replace("_", " ").removesuffix("s")) for name, number in result.held.items() if number]
    if held:
        line(screen, (join(held).replace("identitie", "identity"), "dim"))
    if result.faults:
        screen.print()
        grid = Grid("where", "what is wrong", "what to do", shrink=(2, 1, 0))
        for fault in sorted(result.faults, key=lambda f: not f.grave):
            grid.add((fault.pointer, "bold"), (fault.what, STYLES["high" if fault.grave else "medium"]), fault.hint)
        grid.show(screen)
    if result.left_out:
        screen.print()
        line(
            screen,
            ("It does not tell, so these are going to be unknown: ", STYLES["unknown"]),
            ", ".join(result.left_out),
        )
    if result.usable:
        next_step(screen, "lantern survey", "once estate.yaml has `reads: dossier` and `at: FILE`")
