"""Edits of a policy and an ACL that close what is too open."""

from __future__ import annotations

import ipaddress
import json
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from functools import partial
from typing import Any

import msgspec

from rusty_lantern.core.access.dialects.shipped import COMMON, dialect_of
from rusty_lantern.core.access.policy.actions import BY_LOWER_NAME, VERBS, actions_of
from rusty_lantern.core.access.policy.condition_keys import AUDIENCES
from rusty_lantern.core.access.policy.container_acl import BULK_DELETE
from rusty_lantern.core.answer import Answer, Fact
from rusty_lantern.core.audit.access_differences import Difference, differences, own_differences
from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.audit.dialect_differences import on_dialect
from rusty_lantern.core.baseline.loader import Requirement
from rusty_lantern.core.model.acl import NOBODY, ObjectAcls
from rusty_lantern.core.model.identity import Verb
from rusty_lantern.core.remediation.container_acl_edits import request_document, without_public
from rusty_lantern.core.remediation.filer import SHUT_THE_FILER, without_filer
from rusty_lantern.core.remediation.remedy import Document, Remedy, takes_documents
from rusty_lantern.core.remediation.s3_documents import (
    grants_document,
)
from rusty_lantern.core.remediation.setting_documents import as_document
from rusty_lantern.core.value_types import show_names

EXPOSURE_FACTS = {f"exposure.{verb}": verb for verb in VERBS} | {
    f"exposure.{audience}.{verb}": verb for audience in AUDIENCES for verb in VERBS
}


SWITCH_ON_GUARDS = "switch on the bucket's public-access guards that ignore public ACLs and restrict public policies"
OPENED_BY_ACCOUNT = (
    "take whoever lets the public in out of the account's ACL (X-Account-Access-Control): it opens every container"
)
OWNED_BY_NOBODY = (
    "give the bucket back to a user: its owner is anonymous, so whoever sends no credentials owns it. The gateway's "
    "administrator links it to the user; then set its ACL again, and look through what was stored since"
)


def access_remedies(view: BucketSubject, wanted: list[Requirement]) -> list[Remedy]:
    """What a filer lets in is closed there, what objects' own ACLs let in on the objects, the rest by the bucket's
    rules."""
    behind = without_filer(view)
    if behind is not None:
        remedies = access_remedies(behind, rest) if (rest := [r for r in wanted if not _holds(behind, r)]) else []
        return [Remedy(tuple(r.fact for r in wanted), SHUT_THE_FILER), *remedies]
    bare = _but(view, msgspec.structs.replace(view.bucket, object_acls=Answer("known", ObjectAcls())))
    on_objects = [r for r in wanted if view.rules.object_acls and _too_open(r) and _holds(bare, r)]
    rest = [r for r in wanted if r not in on_objects]
    remedies = [_of_doors(bare, rest)] if rest else []
    if remedies and remedies[0].proof and view.rules.object_doubt:
        remedies[0] = msgspec.structs.replace(remedies[0], proof=(*remedies[0].proof, f"but {view.rules.object_doubt}"))
    if on_objects:
        actions = {action.name for r in on_objects for action in actions_of(EXPOSURE_FACTS[r.fact])}
        mine = [g for g in view.rules.object_acls if view.rules.granted_actions(g) & actions]
        acl = ", ".join(f"{g.permission} to {g.to} on {g.key}" for g in mine)
        words = f"remove the public from objects' own ACLs: {acl}; or disable ACLs for the whole bucket"
        remedies.insert(0, Remedy(tuple(r.fact for r in on_objects), words))
    return remedies


def _of_doors(view: BucketSubject, wanted: list[Requirement]) -> Remedy:
    facts = tuple(r.fact for r in wanted)
    closing = [r for r in wanted if _too_open(r)]
    if len(closing) < len(wanted):
        rest = next(r for r in wanted if r not in closing)
        words = f"it is less open than required: allow the public by a policy that grants {EXPOSURE_FACTS[rest.fact]}"
        return Remedy(facts, words)
    if view.bucket.owner.value == NOBODY and view.dossier.acl_reading == "gateway":
        return Remedy(facts, OWNED_BY_NOBODY)
    if not takes_documents(view) and view.bucket.container_acl.value is None:
        return _of_rights(view, facts, wanted)
    after = view
    steps: list[str] = []
    for made, step in _edits(view, wanted):
        after, steps = made(after), [*steps, step]
        if all(_holds(after, r) for r in wanted):
            break
    if not steps or not all(_holds(after, r) or not after.fact(r.fact).settled for r in wanted):
        account = any(s.door and s.title.startswith("account ACL") for s in view.rules.policy.statements)
        return Remedy(facts, OPENED_BY_ACCOUNT if account else SWITCH_ON_GUARDS)
    documents = []
    if after.bucket.policy != view.bucket.policy:
        documents.append(Document("policy", _as_applied(after.bucket.policy.value or "")))
    if after.bucket.container_acl != view.bucket.container_acl:
        documents.append(request_document(view, after))
    if after.bucket.acl != view.bucket.acl:
        owner = view.bucket.owner.value or ""
        documents.append(as_document("ACL", grants_document(after.bucket.acl.value or [], owner)))
    proof = (*_proof(view, after, wanted), *_still_everywhere(after), *_by_the_common_reading(after, wanted))
    return Remedy(facts, "; ".join(steps), tuple(documents), proof)


def _of_rights(view: BucketSubject, facts: tuple[str, ...], wanted: list[Requirement]) -> Remedy:
    """Which rights of the public to take away, and the result; in words, since such stores take no document."""
    verbs = list(dict.fromkeys(EXPOSURE_FACTS[r.fact] for r in wanted))
    rights = view.bucket.rights.value or []
    public = [right for right in rights if right.to in AUDIENCES and any(right.gives(verb) for verb in verbs)]
    actions = {action.name for verb in verbs for action in actions_of(verb)}
    acl = view.bucket.acl.value or []
    granted = [grant for grant in acl if grant.public and view.rules.granted_actions(grant) & actions]
    changed = msgspec.structs.replace(
        view.bucket,
        rights=view.bucket.rights.map(lambda every: [right for right in every if right not in public]),
        acl=view.bucket.acl.map(lambda every: [grant for grant in every if grant not in granted]),
    )
    after = _but(view, changed)
    steps = []
    if granted:
        steps.append(f"remove from the ACL: {', '.join(one.words for one in granted)}")
    if any(right.door != "web" for right in public):
        named = ", ".join(right.title for right in public if right.door != "web")
        steps.append(f"take {', '.join(verbs)} away from everybody who is not named ({named})")
    if any(right.door == "web" for right in public):
        steps.append("switch the static site off, or keep in this bucket only what may be public")
    if not steps or not all(_holds(after, r) for r in wanted):
        return Remedy(facts, f"take {', '.join(verbs)} away from everybody who is not named")
    return Remedy(facts, "; ".join(steps), (), tuple(_proof(view, after, wanted)))


def _too_open(requirement: Requirement) -> bool:
    assert requirement.comparison is not None
    return requirement.comparison.accepts("closed")


def _holds(view: BucketSubject, requirement: Requirement) -> bool:
    fact = view.fact(requirement.fact)
    assert requirement.comparison is not None
    return fact.value is not None and requirement.comparison.accepts(fact.value)


Edit = tuple[Callable[[BucketSubject], BucketSubject], str]


def _edits(view: BucketSubject, wanted: list[Requirement]) -> Iterator[Edit]:
    """Edits that may close the doors: of each statement that alone opens one, then of public grants."""
    verbs = dict.fromkeys(EXPOSURE_FACTS[r.fact] for r in wanted)
    edited = without_public(view, verbs)
    if edited is not None:
        yield lambda after: (without_public(after, verbs) or (after, ""))[0], edited[1]
    policy = view.rules.policy
    for number in range(len(_statements(view))):
        places = ("/Statement", f"/Statement/{number}")  # as this store reads it, one may be several, or none
        mine = [s for s in policy.statements if s.place in places]
        alone = [s for s in policy.statements if s in mine or s.effect != "Allow"]
        kept = msgspec.structs.replace(view.rules, policy=msgspec.structs.replace(policy, statements=tuple(alone)))
        opened = msgspec.structs.replace(view, supposed=msgspec.structs.replace(kept, acl=(), rights=()))
        leaks = [verb for verb in verbs if any(not _holds(opened, r) for r in wanted if EXPOSURE_FACTS[r.fact] == verb)]
        if leaks and any(s.effect == "Allow" for s in mine):
            restriction = _restriction(view)
            title = mine[0].title
            how = (
                f"restrict {title} of the policy to {', '.join(restriction)}"
                if restriction
                else f"take {title} out of the policy"
            )
            yield partial(_with_statement, number=number, verbs=leaks), f"{how} for {' and '.join(leaks)}"
    if any(one.by_post == BULK_DELETE for one in policy.statements) and not verbs.keys().isdisjoint(_BY_BULK):
        yield _without_bulk_deletion, "deny everybody s3:DeleteBucket on the bucket, which bulk deletion asks for"
    actions = {action.name for verb in verbs for action in actions_of(verb)}
    public = [g for g in view.bucket.acl.value or () if g.public and view.rules.granted_actions(g) & actions]
    if public:
        words = ", ".join(one.words for one in public)
        yield partial(_without_grants, public=public), f"take {words} out of the bucket's ACL"


def _but(view: BucketSubject, bucket: Any) -> BucketSubject:
    return msgspec.structs.replace(view, bucket=bucket)


def _restriction(view: BucketSubject) -> list[str]:
    """The accounts that a statement is restricted to: the owner's own and those that the team trusts."""
    return sorted({account for account in (view.account, *view.trusted_accounts) if account.isdigit()})


def _still_everywhere(view: BucketSubject) -> Iterator[str]:
    """Of each allowing statement, whether its condition on source addresses names every address."""
    for number, statement in enumerate(_statements(view), 1):
        tests = statement.get("Condition") if statement.get("Effect") == "Allow" else None
        for operator, by_key in tests.items() if isinstance(tests, dict) else ():
            if operator.lower().removesuffix("ifexists") != "ipaddress" or not isinstance(by_key, dict):
                continue
            for key, written in by_key.items():
                if key.lower() == "aws:sourceip" and _is_everywhere(
                    written if isinstance(written, list) else [written]
                ):
                    yield f"but the {key} condition of statement {number} names every address: it restricts nothing"


def _is_everywhere(written: Sequence[object]) -> bool:
    """Whether networks in CIDR form together name every address of a family. One that is none names nothing."""
    fours: list[ipaddress.IPv4Network] = []
    sixes: list[ipaddress.IPv6Network] = []
    for one in written:
        with suppress(ValueError):
            net = ipaddress.ip_network(str(one), strict=False)
            if isinstance(net, ipaddress.IPv4Network):
                fours.append(net)
            else:
                sixes.append(net)
    whole = [net.prefixlen for net in ipaddress.collapse_addresses(fours)]
    return 0 in (*whole, *(net.prefixlen for net in ipaddress.collapse_addresses(sixes)))


def _statements(view: BucketSubject) -> list[dict[str, Any]]:
    """The statements of the policy as they are written."""
    try:
        document = json.loads(view.bucket.policy.value or "{}")
        written = document.get("Statement", [])
    except (ValueError, AttributeError, RecursionError):
        return []
    statements = written if isinstance(written, list) else [written]
    return statements if all(isinstance(statement, dict) for statement in statements) else []


def _with_statement(view: BucketSubject, number: int, verbs: Sequence[str]) -> BucketSubject:
    """The bucket with one statement restricted, or without it, as far as it lets these verbs through."""
    document = json.loads(view.bucket.policy.value or "{}")
    statements = _statements(view)
    mine, rest = statements[number], _other_actions(statements[number], verbs)
    restriction = _restriction(view)
    new = [mine | {"Action": rest}] if rest else []
    if restriction:
        shut = mine | {"Principal": {"AWS": restriction}}
        shut |= {"Action": [a for a in _listed(mine["Action"]) if a not in rest]} if rest else {}
        if rest and mine.get("Sid"):
            shut["Sid"] = f"{mine['Sid']}Restricted"
        shut.pop("NotPrincipal", None)
        new.append(shut)
    # Statements keep their numbers while several are edited: what replaces one takes its place.
    document["Statement"] = [*statements[:number], *new[-1:], *statements[number + 1 :], *new[:-1]]
    if not new:
        document["Statement"] = [*statements[:number], _NOTHING, *statements[number + 1 :]]
    text = json.dumps(document, indent=1, ensure_ascii=False)
    return _but(view, msgspec.structs.replace(view.bucket, policy=Answer("known", text)))


_NOTHING = {"Effect": "Deny", "Principal": "*", "Action": "*", "Resource": "arn:aws:s3:::-"}
"""Holds the place of a statement that was taken out; no request ever meets it. Left out of what is shown."""


def _as_applied(policy: str) -> str:
    """The policy without what only held a place; empty where nothing is left, and it is to be deleted."""
    document = json.loads(policy)
    kept = [statement for statement in document["Statement"] if statement != _NOTHING]
    return json.dumps(document | {"Statement": kept}, indent=1, ensure_ascii=False) if kept else ""


def _listed(written: Any) -> list[str]:
    return list(written) if isinstance(written, list) else [written]


def _other_actions(statement: dict[str, Any], verbs: Sequence[str]) -> list[str]:
    """The actions of a statement that are of other verbs; none where it is written with globs and cannot be split."""
    written = _listed(statement.get("Action", []))
    known = [BY_LOWER_NAME.get(str(action).lower()) for action in written]
    if not all(known):
        return []
    mine = {action.name for verb in VERBS if verb in verbs for action in actions_of(verb)}
    return [action for action, name in zip(written, known, strict=True) if name not in mine]


_BY_BULK: frozenset[Verb] = frozenset({"delete", "change-settings"})
"""The verbs of a bulk deletion at a gateway's Swift door."""


def _without_bulk_deletion(view: BucketSubject) -> BucketSubject:
    """The bucket with a Deny of what bulk deletion asks for; whoever deletes the bucket has to take it out first."""
    document = json.loads(view.bucket.policy.value or '{"Version": "2012-10-17"}')
    deny = {
        "Sid": "NoBulkDeletion", "Effect": "Deny", "Principal": "*", "Action": "s3:DeleteBucket",
        "Resource": f"arn:aws:s3:::{view.bucket.name}",
    }  # fmt: skip
    document["Statement"] = [*_statements(view), deny]
    text = json.dumps(document, indent=1, ensure_ascii=False)
    return _but(view, msgspec.structs.replace(view.bucket, policy=Answer("known", text)))


def _without_grants(view: BucketSubject, public: list[Any]) -> BucketSubject:
    kept = [grant for grant in view.bucket.acl.value or () if grant not in public]
    return _but(view, msgspec.structs.replace(view.bucket, acl=Answer("known", kept)))


def _proof(view: BucketSubject, after: BucketSubject, wanted: list[Requirement]) -> list[str]:
    """What deciding again shows: every door before and after, and what others than the public lose or gain."""
    outcomes, sure = [_outcome(r.fact, after.fact(r.fact)) for r in wanted], True
    verbs_asked = {EXPOSURE_FACTS[r.fact] for r in wanted}
    lost: dict[str, list[Verb]] = {}
    for one in differences(view, after):
        sure = sure and one.change.sure
        if one.change.gained is not None:
            outcomes.append(f"{one.who} would gain {one.verb}")
        if one.change.lost is not None and not (one.kind == "audience" and one.verb in verbs_asked):
            lost.setdefault(one.who, []).append(one.verb)
    outcomes += [f"{who} also loses {verb}" for who, verbs in lost.items() for verb in verbs if who in AUDIENCES]
    outcomes += [f"{who} also loses {', '.join(verbs)}" for who, verbs in lost.items() if who not in AUDIENCES]
    own = own_differences(view, after)
    outcomes += _own_losses(own.differences)
    sure = sure and all(one.change.sure for one in own.differences)
    if len(outcomes) == len(wanted):
        seen = sure and not own.unseen
        outcomes.append(f"nothing else is {'lost, and nothing is' if seen else 'known to be lost or'} gained")
    outcomes += [f"{own.unseen}: what they lose or gain is not known"] if own.unseen else []
    return outcomes if sure else [*outcomes, "something that was not understood or not read could hide more"]


def _outcome(name: str, fact: Fact) -> str:
    return (
        f"{name} is {fact.value}"
        if fact.settled
        else f"{name} is unknown, since something else may open it: {fact.reason}"
    )


def _by_the_common_reading(after: BucketSubject, wanted: list[Requirement]) -> Iterator[str]:
    """Whether a policy that closes what it should by the store's own dialect does so by the common reading."""
    if dialect_of(after.dossier) == COMMON or after.bucket.policy.value is None:
        return
    common = on_dialect(after, COMMON)
    still = [r.fact for r in wanted if not _holds(common, r)]
    yield f"by the common reading that leaves {', '.join(still)}" if still else "the common reading agrees"


def _own_losses(differences: Sequence[Difference]) -> Iterator[str]:
    """What the store's own identities lose, those who lose the same together."""
    lost: dict[str, list[Verb]] = {}
    for one in differences:
        if one.change.lost is not None:
            lost.setdefault(one.who, []).append(one.verb)
        if one.change.gained is not None:
            yield f"{one.who} would gain {one.verb}"
    alike: dict[tuple[Verb, ...], list[str]] = {}
    for who, verbs in lost.items():
        alike.setdefault(tuple(verbs), []).append(who)
    for those, names in alike.items():
        lose, own = ("loses", "its") if len(names) == 1 else ("lose", "their")
        yield f"{show_names(names, _FEW)} also {lose} {', '.join(those)}: no permission of {own} own gives it"


_FEW = 5
