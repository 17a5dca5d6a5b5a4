"""Each command's result as a terminal view."""

from __future__ import annotations

from rich.console import Console

from rusty_lantern.core.access.verbs import VERBS
from rusty_lantern.core.scales import show_bytes, show_moment
from rusty_lantern.reports.audit_view import left_out, line_of
from rusty_lantern.reports.results import (
    BucketRow,
    BucketsResult,
    FactResult,
    RequiredResult,
    ShowResult,
)
from rusty_lantern.reports.survey_results import SurveyResult
from rusty_lantern.reports.terminal import STYLES, Cell, Grid, join, line, many, next_step, styled
from rusty_lantern.stores.s3.reached import QUESTION_WORDS, Reached

STATUS_ORDER = ("drifted", "unknown", "waived", "held")


def buckets_view(screen: Console, result: BucketsResult) -> None:
    """One line a bucket, and totals."""
    grid = Grid(
        "bucket", "place", "created", "objects", "bytes", "exposure", "versions", "encryption", "lock", "steward",
        shrink=(9, 0), right=(3, 4), drop=(1, 2, 3, 4, 8, 9), keep=20, floors={9: 10},
    )  # fmt: skip
    several = len({row.store for row in result.buckets}) > 1
    if not several and result.buckets:
        line(screen, ("store ", "dim"), (result.buckets[0].store, "bold"))
    for row in result.buckets:
        grid.add(
            f"{row.store}/{row.bucket}" if several else row.bucket,
            _or_unknown(row, "place", row.place),
            row.created[:10] if isinstance(row.created, str) else "unknown",
            f"{row.objects:,}" if isinstance(row.objects, int) else "unknown",
            show_bytes(row.bytes) if isinstance(row.bytes, int) else "unknown",
            _exposure_cell(row),
            _or_unknown(row, "versioning", row.versioning),
            _or_unknown(row, "encryption.at-rest", row.encryption),
            _short_lock(row.lock),
            _or_unknown(row, "tags.steward", row.steward),
        )
    grid.show(screen)
    screen.print()
    least = "" if result.complete else "at least "
    totals = [
        many(len(result.buckets), "bucket"),
        f"{least}{result.total_objects:,} objects",
        least + show_bytes(result.total_bytes),
    ]
    line(screen, (join(totals), "bold"))
    left_out(screen, grid)
    for store in result.unread:
        line(screen, (f"store {store} was not read", STYLES["unknown"]))
    exposed = [row for row in result.buckets if "open" in row.exposure.values()]
    if exposed:
        next_step(screen, f"lantern exposure {exposed[0].store}/{exposed[0].bucket}", "who gets in, and how")


def _short_lock(words: str) -> Cell:
    """A lock in few letters: a period cut in the middle would read as another period."""
    if words == "unknown":
        return styled(words)
    return words.replace("governance", "gov.").replace("compliance", "compl.")


def _or_unknown(row: BucketRow, fact: str, value: object) -> Cell:
    if fact in row.unknown:
        return styled("unknown")
    return "-" if value is None else str(value)


def _exposure_cell(row: BucketRow) -> Cell:
    """The verbs that are open; else those that are narrow or unknown; with the level in front."""
    for level in ("open", "unknown", "narrow"):
        verbs = [verb for verb in VERBS if row.exposure.get(verb) == level]
        if len(verbs) == len(VERBS):
            return f"{level} all", STYLES[level]
        if verbs:
            return f"{level} {' '.join(verbs)}", STYLES[level]
    return styled("closed")


def show_view(screen: Console, result: ShowResult) -> None:
    """Every fact of one bucket; with `--required`, what is asked and by whom."""
    line(screen, (f"{result.store}/{result.bucket}", "bold"))
    line(screen, (join([f"survey {result.survey}", f"as of {show_moment(result.as_of)}"]), "dim"))
    screen.print()
    facts = result.facts
    if result.required is not None:
        _required_table(screen, result.required)
        asked = {r.fact for r in result.required}
        facts = [found for found in facts if found.fact not in asked]
        screen.print()
        line(screen, ("not required", "dim"))
    grid = Grid("fact", "value", "why", "evidence", shrink=(3, 2))
    told: dict[str, list[str]] = {reason: [] for reason in UNTOLD}
    for found in facts:
        if found.note in told and found.state in ("unsupported", "failed"):
            told[found.note].append(found.fact)
            continue
        grid.add(
            found.fact, (found.words, STYLES.get(found.words, "")), found.note, (_evidence(found, result.bucket), "dim")
        )
    grid.show(screen)
    for reason, names in told.items():
        if names:
            screen.print()
            line(screen, (f"{reason}: ", STYLES["unknown"]), (", ".join(names), "dim"), hang=2)


UNTOLD = ("not offered by this store", "not in the dossier")
"""Reasons that say nothing of one fact in particular: their facts are named together, after the others."""


def _required_table(screen: Console, required: list[RequiredResult]) -> None:
    """What is required, judged; under what did not hold, the reasons in full."""
    grid = Grid("judged", "fact", "required", "observed", "asked by", shrink=(4, 2))
    for asked in sorted(required, key=lambda r: STATUS_ORDER.index(r.status)):
        origin = f"{asked.sheet}, line {line_of(asked.place)}"
        grid.add(styled(asked.status), asked.fact, asked.required, (asked.observed, "bold"), (origin, "dim"))
    grid.show(screen)
    open_points = [r for r in required if r.status != "held"]
    notes: dict[str, list[str]] = {}
    for asked in open_points:
        why = "; ".join(part for part in (asked.note, asked.because) if part)
        if why:
            notes.setdefault(why, []).append(asked.fact)
    overriding = [r for r in required if r.displaced]
    if notes or overriding:
        screen.print()
    for why, facts in notes.items():
        line(screen, (", ".join(facts) + ": ", "bold"), why, indent=2)
    for asked in overriding:
        sheet, _, place = asked.displaced[-1].rpartition(", ")
        line(screen, (f"{asked.fact}: ", "bold"), f"overrides {sheet}, line {line_of(place)}", indent=2)


def _evidence(found: FactResult, bucket: str) -> str:
    """Question and answer; the bucket's own name is left out, since the whole page is about it."""
    if not found.evidence.question:
        return ""
    return f"{found.evidence.question.replace(f'/{bucket}', '', 1)} → {found.evidence.answer}"


def survey_view(screen: Console, result: SurveyResult) -> None:
    """What was kept, and what could not be read."""
    line(screen, ("kept survey ", ""), (result.survey, "bold"))
    grid = Grid("store", "buckets", "answers", "denied", "failed", "not offered", shrink=(0,), right=(1, 2, 3, 4, 5))
    for store, buckets in result.stores.items():
        states = result.questions.get(store, {})
        answered = sum(states.get(state, 0) for state in ("known", "absent"))
        refused = [states.get(state, 0) for state in ("denied", "failed")]
        cells: list[Cell] = [(f"{n:,}", STYLES["unknown"] if n else "dim") for n in refused]
        grid.add(
            store,
            "unread" if buckets is None else f"{buckets:,}",
            f"{answered:,}",
            *cells,
            (f"{states.get('unsupported', 0):,}", "dim"),
        )
    grid.show(screen, indent=2)
    for store, told in result.besides.items():
        if told:
            words = ", ".join(many(number, *ONE_AND_MORE[name]) for name, number in told.items())
            line(screen, (f"{store}: ", "bold"), words, indent=2)
    for store, reason in result.unread.items():
        line(screen, (f"store {store} was not read: {reason}", STYLES["unknown"]), indent=2)
    next_step(screen, "lantern audit", "hold it against the baseline")


ONE_AND_MORE = {
    "identities": ("identity", "identities"),
    "groups": ("group", "groups"),
    "credentials": ("credential", "credentials"),
    "encryption_keys": ("encryption key", "encryption keys"),
    "links": ("link", "links"),
}


def reach_view(screen: Console, results: list[Reached]) -> None:
    """Per store: does it answer, over what, with which clock, and what may be asked."""
    for number, found in enumerate(results):
        if number:
            screen.print()
        line(screen, (found.store, "bold"), f"  {found.address}")
        for heading, words, style in _reach_rows(found):
            line(screen, (f"{heading:<12}", "dim"), (words, style), indent=2)
        if found.questions:
            grid = Grid("question", "may ask", "refused for", shrink=(2,))
            for question, allowed in found.questions.items():
                buckets = ", ".join(found.refused.get(question, []))
                grid.add(QUESTION_WORDS[question], styled(allowed), (buckets, "dim"))
            screen.print()
            grid.show(screen, indent=2)
    screen.print()
    blind = _blind(results)
    if blind:
        line(screen, ("An audit would not be able to see:", STYLES["unknown"]))
        for words in blind:
            line(screen, words, indent=2)
    else:
        line(screen, ("An audit would be able to see everything it asks for.", STYLES["held"]))
    if any(found.credential == "accepted" for found in results):
        next_step(screen, "lantern survey", "read every bucket's settings and keep them")


def _reach_rows(found: Reached) -> list[tuple[str, str, str]]:
    answers = "yes" if found.answers else f"no: {found.note}"
    rows = [("answers", answers, STYLES["yes" if found.answers else "failed"])]
    if found.certificate is not None:
        shown = found.certificate
        words = f"{shown.verdict}, {shown.begins:%Y-%m-%d} to {shown.ends:%Y-%m-%d}, for {', '.join(shown.names[:4])}"
        rows.append(("certificate", words, "" if shown.verdict == "trusted" else STYLES["high"]))
    if not found.answers:
        return rows
    tls = found.transport == "tls"
    rows.append(("transport", *TRANSPORTS[found.transport]))
    if tls and found.plain_http:
        rows.append(("plain http", "answered as well: anyone on the way could read along", STYLES["medium"]))
    if found.legacy_signatures:
        rows.append(("signatures", "those of the first generation are accepted as well", STYLES["medium"]))
    if found.transport != "file":
        rows.append(("clock", *_clock(found.clock_ahead_seconds)))
    accepted = found.credential == "accepted"
    credential = found.credential if accepted else f"{found.credential}: {found.note}"
    rows.append(("credential", credential, STYLES["yes" if accepted else "failed"]))
    if found.buckets is not None:
        tried = (
            f"{found.buckets:,}, of which {found.sampled} were tried"
            if found.buckets > found.sampled
            else f"{found.buckets:,}"
        )
        rows.append(("buckets", tried, ""))
    return rows


TRANSPORTS = {
    "tls": ("TLS", ""),
    "plain": ("plain http: anyone on the way reads along", STYLES["medium"]),
    "file": ("a file on this machine", ""),
}


def _clock(ahead: int | None) -> tuple[str, str]:
    if ahead is None:
        return "the store does not say", "dim"
    if abs(ahead) <= 5:
        return "agrees", ""
    way = "ahead of" if ahead > 0 else "behind"
    words = f"{abs(ahead):,} s {way} ours"
    if abs(ahead) > 300:
        return f"{words}: signatures may be refused, retention dates are off", STYLES["high"]
    return words, ""


def _blind(results: list[Reached]) -> list[str]:
    found = []
    for reached in results:
        if reached.credential != "accepted":
            found.append(f"{reached.store}: anything ({reached.note or 'the credential is not accepted'})")
            continue
        for question, allowed in reached.questions.items():
            where = f" of {', '.join(reached.refused[question])}" if question in reached.refused else ""
            if allowed in ("no", "failed"):
                found.append(f"{reached.store}: {QUESTION_WORDS[question]}{where}")
            elif allowed == "not offered":
                found.append(f"{reached.store}: {QUESTION_WORDS[question]} (the store does not offer it)")
    return found
