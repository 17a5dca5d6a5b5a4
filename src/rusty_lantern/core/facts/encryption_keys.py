"""Facts of encryption keys: their state, where they are kept, how they are rotated, who may use them."""

from __future__ import annotations

from rusty_lantern.core.answer import Answer, Fact, fact_of
from rusty_lantern.core.facts.registry import fact
from rusty_lantern.core.model.store_index import NOT_WHOLE
from rusty_lantern.core.model.subjects import KeyView, age_of, store_may_use
from rusty_lantern.core.value_types import COUNT, DURATION, MOMENT, SWITCH, TEXT, Levels, show_moment, show_names

KEY = "encryption-key"
KEY_STATES = Levels(("destroyed", "pending-deletion", "disabled", "enabled"), ordered=True)
PROTECTION = Levels(("software", "hardware-module", "external-manager"), ordered=True)
UNUSED = "no bucket has it as its default"


@fact(
    "encryption-key.state",
    KEY_STATES,
    "whether it can be used: what it encrypts cannot be read if not",
    of=KEY,
    advice=(
        ("pending-deletion", "cancel the scheduled deletion in time: {note}"),
        (
            "no bucket has it as its default",
            (
                "no bucket needs it: see by lantern encryption whether objects are under it; if none are, "
                "delete it, or leave it and waive this"
            ),
        ),
        ("destroyed", "restore what it encrypts from a copy, and use another key"),
        ("", "enable the key again: nothing encrypted with it can be read until then ({note})"),
    ),
    safe="enabled",
)
def key_state(view: KeyView, name: str) -> Fact:
    """As the key service says; the note says what depends on it."""
    state, uses = view.key.state, key_buckets(view, name)
    if state.value is None or uses.value is None:
        return fact_of(state)
    note = UNUSED if not uses.value else f"the default of {uses.note}"
    if view.key.deleted.value is not None:
        note = f"{note}; it is to be destroyed on {show_moment(view.key.deleted.value)}"
    return Answer("known", state.value, note, state.evidence)


@fact(
    "encryption-key.region",
    TEXT,
    "where it lives",
    of=KEY,
    advice="an encryption key does not move: make one in the right region, and use it instead",
)
def key_place(view: KeyView, _: str) -> Fact:
    """As the key service says."""
    return fact_of(view.key.region)


fact(
    "encryption-key.managed-by", Levels(("provider", "customer"), ordered=True), "who manages it", of=KEY, habit=False
)(lambda view, _: fact_of(view.key.managed_by))

fact(
    "encryption-key.kept-in",
    PROTECTION,
    "where its material is kept",
    of=KEY,
    advice="where a key is kept cannot change: make one in {wanted}, and use it instead",
)(lambda view, _: fact_of(view.key.kept_in))

fact(
    "encryption-key.rotation",
    DURATION,
    "the period in which it is rotated by itself; absent: it is not",
    unit="seconds",
    of=KEY,
    advice="switch automatic rotation on: {wanted}",
)(lambda view, _: fact_of(view.key.rotates))

fact(
    "encryption-key.next-rotation",
    MOMENT,
    "when it is rotated next; absent: no rotation is planned",
    of=KEY,
    advice="plan the key's next rotation",
    restless=True,
)(lambda view, _: fact_of(view.key.next_rotation))

# Both are needed where it was never rotated.
fact(
    "encryption-key.age",
    DURATION,
    "how long its material has been in use: since it was rotated, or made",
    unit="seconds",
    of=KEY,
    advice="rotate the key",
    grows=True,
)(lambda view, _: age_of(view.key, view.index))


@fact(
    "encryption-key.buckets",
    COUNT,
    "how many buckets have it as their default: what would be unreadable without it",
    of=KEY,
)
def key_buckets(view: KeyView, _: str) -> Fact:
    """Of the buckets that were read."""
    index = view.index
    if not index.whole:
        return Answer("failed", None, NOT_WHOLE)
    unread = next((b for b in index.dossier.buckets if not b.encryption.settled), None)
    if unread is not None:
        return Answer("failed", None, f"the encryption of {unread.name} could not be read: {unread.encryption.reason}")
    names = [bucket.name for bucket in index.protected_by.get(view.key.id, [])]
    return Answer("known", len(names), show_names(names, 10))


# Without it the store can neither encrypt nor decrypt.
fact(
    "encryption-key.usable-by-store",
    SWITCH,
    "whether the store's own service identity may use it",
    of=KEY,
    safe="on",
    advice="allow the store's service identity to encrypt and decrypt with it",
)(lambda view, _: store_may_use(view.key, view.index))

fact(
    "encryption-key.scheduled-deletion",
    MOMENT,
    "when it is going to be destroyed; absent: it is not",
    of=KEY,
    advice="cancel the scheduled deletion in time",
)(lambda view, _: fact_of(view.key.deleted))
