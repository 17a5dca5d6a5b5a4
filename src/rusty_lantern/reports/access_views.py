"""Terminal views of the access commands."""

from __future__ import annotations

from rich.console import Console

from rusty_lantern.core.access.verbs import VERBS
from rusty_lantern.core.scales import show_moment
from rusty_lantern.reports.access_results import AccessResult, ChangeResult, DecisionResult, TryResult
from rusty_lantern.reports.exposure_view import CAN, WHO, show_witness
from rusty_lantern.reports.terminal import STYLES, Grid, join, line, many

_SAYS = {
    "allows": STYLES["open"],
    "denies": "bold",
    "not understood": STYLES["unknown"],
    "ignored": "dim",
    "shuts": "dim",
}


def why_view(screen: Console, result: DecisionResult) -> None:
    """The request, each rule's word on it, and the decision."""
    request = result.request
    line(screen, (f"{result.store}/{result.bucket}", "bold"), f"  {request.action}")
    line(screen, (request.request, "bold"), indent=2)
    line(screen, (join([f"from {request.address}", request.caller, request.at]), "dim"), indent=2)
    for name, value in {**request.headers, **request.circumstances}.items():
        line(screen, f"{name}: {value}", indent=2)
    screen.print()
    grid = Grid("rule", "says", "first part that does not fit, or why", shrink=(2, 0))
    for step in result.steps:
        grid.add(step.rule, (step.says, _SAYS.get(step.says, "dim")), (step.why, "dim"))
    if result.steps:
        grid.show(screen, indent=2)
        screen.print()
    word, style = {True: ("allowed", "open"), False: ("refused", "held"), None: ("cannot be told", "unknown")}[
        result.allowed
    ]
    line(screen, (word, STYLES[style]), f": {result.by}")
    if result.note:
        line(screen, (result.note, "dim"))


def access_view(screen: Console, result: AccessResult) -> None:
    """One line for each identity and bucket."""
    line(screen, ("What buckets grant to named identities", "bold"))
    line(screen, (join([f"survey {result.survey}", f"as of {show_moment(result.as_of)}"]), "dim"))
    screen.print()
    grid = Grid("identity", "side", "bucket", "may", "only", shrink=(4, 0, 3))
    for row in result.access:
        verbs = [verb if row.verbs[verb] != "unknown" else f"{verb}?" for verb in VERBS if verb in row.verbs]
        side = ("inside", "dim") if row.inside else ("outside", STYLES["narrow"])
        if set(row.verbs.values()) == {"unknown"}:
            grid.add(row.identity, side, f"{row.store}/{row.bucket}", ("cannot be told", STYLES["unknown"]), "")
            continue
        may = "everything but unlock" if len(verbs) == len(VERBS) - 1 and "unlock" not in row.verbs else " ".join(verbs)
        grid.add(row.identity, side, f"{row.store}/{row.bucket}", may, ("; ".join(row.fences), "dim"))
    grid.show(screen)
    screen.print()
    outside = len({row.identity for row in result.access if not row.inside})
    line(
        screen,
        join([many(len({row.identity for row in result.access}), "identity", "identities"), f"{outside} outside"]),
    )
    line(screen, ("What an identity's own permissions allow it is not read yet: this is the buckets' side.", "dim"))


def try_view(screen: Console, result: TryResult) -> None:
    """What would be so, and who would gain or lose what."""
    title = f"{result.bucket} as proposed" + (f", against {result.against} as it is" if result.against else "")
    line(screen, (title, "bold"))
    line(screen, (f"as of {show_moment(result.as_of)}; nothing was sent anywhere", "dim"))
    screen.print()
    grid = Grid("would be", *VERBS)
    for audience, verdicts in result.exposure.items():
        cells = [verdicts[verb].verdict for verb in VERBS]
        grid.add(audience, *(("·" if cell == "closed" else cell, STYLES[cell]) for cell in cells))
    grid.show(screen)
    for audience, verdicts in result.exposure.items():
        doubts = {doubt: verb for verb in VERBS for doubt in verdicts[verb].doubts}
        for doubt in doubts:
            line(screen, (f"unknown for {audience}: ", STYLES["unknown"]), doubt, indent=2)
    if result.changes is None:
        return
    screen.print()
    if not result.changes:
        line(screen, ("Nobody gains or loses access.", STYLES["held"]))
    told = set()
    for change in result.changes:
        if (change.verb, change.before, change.after) not in told:  # what anyone gains, any account gains as well
            _change(screen, change)
        told.add((change.verb, change.before, change.after))


def _change(screen: Console, change: ChangeResult) -> None:
    for word, style, witness in (("gains", STYLES["open"], change.gained), ("loses", STYLES["held"], change.lost)):
        if witness is not None:
            can = CAN[change.verb].removeprefix("can ")
            who = WHO[change.audience].rstrip(",")
            shift = f"{change.before} → {change.after}" if change.before != change.after else f"stays {change.after}"
            line(screen, (f"{word} ", style), f"{who}: to {can}", (f"  ({shift})", "dim"))
            show_witness(screen, witness)
    if not change.sure and change.gained is None and change.lost is None:
        words = f"{change.audience}, {change.verb}: {change.before} → {change.after}"
        line(screen, ("cannot be told ", STYLES["unknown"]), words)
