"""Edits of a policy and an ACL that close what is too open."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator, Sequence
from functools import partial
from typing import Any, NamedTuple

import msgspec

from rusty_lantern.core.access.policy.actions import BY_LOWER_NAME, VERBS, actions_of
from rusty_lantern.core.access.policy.condition_keys import AUDIENCES
from rusty_lantern.core.access.policy.container_acl import BULK_DELETE
from rusty_lantern.core.access.policy.document import Statement
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.audit.refused_policy import refused_by_guard
from rusty_lantern.core.baseline.loader import Requirement
from rusty_lantern.core.model.acl import NOBODY, ObjectAcls
from rusty_lantern.core.model.identity import Verb
from rusty_lantern.core.remediation.access_point_edits import edits_of_points, point_documents
from rusty_lantern.core.remediation.container_acl_edits import request_document, without_public
from rusty_lantern.core.remediation.exposure_requirements import EXPOSURE_FACTS, holds, opens_more, too_open
from rusty_lantern.core.remediation.filer import of_filer, without_filer
from rusty_lantern.core.remediation.proof import by_the_common_reading, proof_of, still_everywhere
from rusty_lantern.core.remediation.remedy import Document, Remedy, takes_documents
from rusty_lantern.core.remediation.s3_documents import (
    grants_document,
)
from rusty_lantern.core.remediation.service_edits import ACCOUNT_KEY, unbound_statements, with_bound_services
from rusty_lantern.core.remediation.setting_documents import as_document
from rusty_lantern.core.remediation.written_policy import PLACEHOLDER, as_applied, statements_of

SWITCH_ON_GUARDS = "switch on the bucket's public-access guards that ignore public ACLs and restrict public policies"
OPENED_BY_ACCOUNT = (
    "take whoever lets the public in out of the account's ACL (X-Account-Access-Control): it opens every container"
)
OWNED_BY_NOBODY = (
    "give the bucket back to a user: its owner is anonymous, so whoever sends no credentials owns it. The gateway's "
    "administrator links it to the user; then set its ACL again, and look through what was stored since"
)


ANSWERS_OTHERWISE = (
    "find out why the store lets in what no rule that can be read lets in (a setting of its own, something in front of "
    "it), and test it again: lantern survey --probe"
)


def _is_refuted(view: BucketSubject, required: Requirement) -> bool:
    """Whether the store let in, when it was tested, what its rules deny, or has no rules: no edit of them helps."""
    verb = EXPOSURE_FACTS[required.fact]
    shut = view.inputs.has_no_rules or view.by_rules.worded[verb].level == "closed"
    return shut and verb in view.let_in and too_open(required)


def access_remedies(view: BucketSubject, wanted: list[Requirement]) -> list[Remedy]:
    """What a filer lets in is closed there, what objects' own ACLs let in on the objects, the rest by the bucket's
    rules."""
    refuted = [r for r in wanted if _is_refuted(view, r)]
    if refuted:
        rest = [r for r in wanted if r not in refuted]
        words = Remedy(tuple(r.fact for r in refuted), ANSWERS_OTHERWISE)
        return [words, *(access_remedies(view, rest) if rest else [])]
    behind = without_filer(view)
    if behind is not None:
        rest = [r for r in wanted if opens_more(behind, r)]
        return [of_filer(behind, wanted), *(access_remedies(behind, rest) if rest else [])]
    bare = _with_object_acls(view, Answer("known", ObjectAcls()))
    on_objects = [r for r in wanted if view.rules.object_acls and too_open(r) and holds(bare, r)]
    rest = [r for r in wanted if r not in on_objects]
    remedies = []
    if rest:
        edited = _of_doors(view, bare, rest)
        remedies.append(edited.remedy)
        on_objects += [r for r in rest if edited.after is not None and too_open(r) and opens_more(edited.after, r)]
    if on_objects:
        remedies.insert(0, _of_objects(view, on_objects))
    return remedies


def _of_objects(view: BucketSubject, wanted: list[Requirement]) -> Remedy:
    """Which of the objects' own ACLs let the public in, whatever the bucket's rules are."""
    actions = {action.name for r in wanted for action in actions_of(EXPOSURE_FACTS[r.fact])}
    mine = [g for g in view.rules.object_acls if view.rules.granted_actions(g) & actions]
    acl = ", ".join(f"{g.permission} to {g.to} on {g.key}{' and others' if g.more else ''}" for g in mine)
    words = f"remove the public from objects' own ACLs: {acl}"
    if view.bucket.ownership.state != "unsupported":
        words += "; or disable ACLs for the whole bucket"
    return Remedy(tuple(r.fact for r in wanted), words)


class _Edited(NamedTuple):
    remedy: Remedy
    after: BucketSubject | None = None
    """The bucket with the remedy applied, and its objects' ACLs as they are; None where that cannot be decided."""


def _of_doors(real: BucketSubject, view: BucketSubject, wanted: list[Requirement]) -> _Edited:
    """The edit of the bucket's rules alone (`view` has no ACLs of objects), decided again with those as they are."""
    facts = tuple(r.fact for r in wanted)
    closing = [r for r in wanted if too_open(r)]
    if len(closing) < len(wanted):
        rest = next(r for r in wanted if r not in closing)
        words = f"it is less open than required: allow the public by a policy that grants {EXPOSURE_FACTS[rest.fact]}"
        return _Edited(Remedy(facts, words))
    if view.bucket.owner.value == NOBODY and view.dossier.acl_reading == "gateway":
        return _Edited(Remedy(facts, OWNED_BY_NOBODY))
    if not takes_documents(view) and view.bucket.container_acl.value is None:
        return _of_rights(real, view, facts, wanted)
    after = view
    steps: list[str] = []
    for made, step in _edits(view, wanted):
        after, steps = made(after), [*steps, step]
        if all(holds(after, r) for r in wanted):
            break
    if not steps or not all(holds(after, r) or not after.fact(r.fact).settled for r in wanted):
        account = any(s.door and s.title.startswith("account ACL") for s in view.rules.policy.statements)
        return _Edited(Remedy(facts, OPENED_BY_ACCOUNT if account else SWITCH_ON_GUARDS))
    documents = []
    if after.bucket.policy != view.bucket.policy:
        documents.append(Document("policy", as_applied(after.bucket.policy.value or "")))
    documents += point_documents(view, after)
    if after.bucket.container_acl != view.bucket.container_acl:
        documents.append(request_document(view, after))
    if after.bucket.acl != view.bucket.acl:
        owner = view.bucket.owner.value or ""
        documents.append(as_document("ACL", grants_document(after.bucket.acl.value or [], owner)))
    then = _with_object_acls(after, real.bucket.object_acls)
    refused = refused_by_guard(after) if after.bucket.policy != view.bucket.policy else ""
    proof = (
        *proof_of(real, then, wanted),
        *still_everywhere(after),
        *by_the_common_reading(after, wanted),
        *([f"but {refused}"] if refused else ()),
    )
    return _Edited(Remedy(facts, "; ".join(steps), tuple(documents), proof), then)


def _of_rights(real: BucketSubject, view: BucketSubject, facts: tuple[str, ...], wanted: list[Requirement]) -> _Edited:
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
    if not steps or not all(holds(after, r) for r in wanted):
        return _Edited(Remedy(facts, f"take {', '.join(verbs)} away from everybody who is not named"))
    then = _with_object_acls(after, real.bucket.object_acls)
    return _Edited(Remedy(facts, "; ".join(steps), (), tuple(proof_of(real, then, wanted))), then)


def _with_object_acls(view: BucketSubject, acls: Answer[ObjectAcls]) -> BucketSubject:
    return _but(view, msgspec.structs.replace(view.bucket, object_acls=acls))


Edit = tuple[Callable[[BucketSubject], BucketSubject], str]


def _edits(view: BucketSubject, wanted: list[Requirement]) -> Iterator[Edit]:
    """Edits that may close the doors: of each statement that alone opens one, then of public grants."""
    verbs = dict.fromkeys(EXPOSURE_FACTS[r.fact] for r in wanted)
    edited = without_public(view, verbs)
    if edited is not None:
        yield lambda after: (without_public(after, verbs) or (after, ""))[0], edited[1]
    yield from edits_of_points(view, wanted)
    policy = view.rules.policy
    for number in range(len(statements_of(view))):
        places = ("/Statement", f"/Statement/{number}")  # as this store reads it, one may be several, or none
        mine = [s for s in policy.statements if s.place in places]
        leaks = _leaks(view, mine, wanted)
        if leaks and any(s.effect == "Allow" for s in mine):
            restriction = _restriction(view)
            title = mine[0].title
            how = (
                f"restrict {title} of the policy to {', '.join(restriction)}"
                if restriction
                else f"take {title} out of the policy"
            )
            yield partial(_with_statement, number=number, verbs=leaks), f"{how} for {' and '.join(leaks)}"
    accounts = _restriction(view)
    for number, title in unbound_statements(view).items() if accounts else ():
        if _leaks(view, [s for s in policy.statements if s.place.startswith(f"{title}, through the service ")], wanted):
            words = f"let the services in {title} of the policy act for {', '.join(accounts)} alone ({ACCOUNT_KEY})"
            yield partial(with_bound_services, number=number, accounts=accounts), words
    if any(one.by_post == BULK_DELETE for one in policy.statements) and not verbs.keys().isdisjoint(_BY_BULK):
        yield _without_bulk_deletion, "deny everybody s3:DeleteBucket on the bucket, which bulk deletion asks for"
    actions = {action.name for verb in verbs for action in actions_of(verb)}
    public = [g for g in view.bucket.acl.value or () if g.public and view.rules.granted_actions(g) & actions]
    if public:
        words = ", ".join(one.words for one in public)
        yield partial(_without_grants, public=public), f"take {words} out of the bucket's ACL"


def _leaks(view: BucketSubject, mine: Sequence[Statement], wanted: list[Requirement]) -> list[Verb]:
    """The verbs that some statements let the public use against a requirement, were they alone with the Denies."""
    policy = view.rules.policy
    alone = tuple(s for s in policy.statements if s in mine or s.effect != "Allow")
    kept = msgspec.structs.replace(view.rules, policy=msgspec.structs.replace(policy, statements=alone))
    opened = msgspec.structs.replace(view, supposed=msgspec.structs.replace(kept, acl=(), rights=()))
    return list(dict.fromkeys(EXPOSURE_FACTS[r.fact] for r in wanted if not holds(opened, r)))


def _but(view: BucketSubject, bucket: Any) -> BucketSubject:
    return msgspec.structs.replace(view, bucket=bucket)


def _restriction(view: BucketSubject) -> list[str]:
    """The accounts that a statement is restricted to: the owner's own and those that the team trusts."""
    return sorted({account for account in (view.account, *view.trusted_accounts) if account.isdigit()})


def _with_statement(view: BucketSubject, number: int, verbs: Sequence[str]) -> BucketSubject:
    """The bucket with one statement restricted, or without it, as far as it lets these verbs through."""
    document = json.loads(view.bucket.policy.value or "{}")
    statements = statements_of(view)
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
        document["Statement"] = [*statements[:number], PLACEHOLDER, *statements[number + 1 :]]
    text = json.dumps(document, indent=1, ensure_ascii=False)
    return _but(view, msgspec.structs.replace(view.bucket, policy=Answer("known", text)))


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
    document["Statement"] = [*statements_of(view), deny]
    text = json.dumps(document, indent=1, ensure_ascii=False)
    return _but(view, msgspec.structs.replace(view.bucket, policy=Answer("known", text)))


def _without_grants(view: BucketSubject, public: list[Any]) -> BucketSubject:
    kept = [grant for grant in view.bucket.acl.value or () if grant not in public]
    return _but(view, msgspec.structs.replace(view.bucket, acl=Answer("known", kept)))
