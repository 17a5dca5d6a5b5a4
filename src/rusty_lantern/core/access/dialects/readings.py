"""The words for each construct that a dialect may read otherwise: what it is, the common reading, and the other one."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator
from functools import lru_cache

import msgspec

from rusty_lantern.core.access.dialects.policy_as_read import as_read
from rusty_lantern.core.access.policy.document import Policy
from rusty_lantern.core.model.dialect import Dialect, Readings


class Reading(msgspec.Struct, frozen=True):
    """One construct. `source`: where the published language says how it is read."""

    construct: str
    common: str
    otherwise: str
    """What such software does. `{value}` is replaced by the value that the dialect has for it."""
    source: str


_OPERATORS = "the policy language's reference, condition operators"
_KEYS = "the policy language's reference, global condition keys"
_RESOURCE = "the policy language's reference, Resource and NotResource"
_PRINCIPAL = "the policy language's reference, Principal and NotPrincipal"
READINGS: dict[str, Reading] = {
    "not_action_matches_nothing": Reading(
        "a statement with `NotAction`", "covers every action but those",
        "matches nothing: an Allow lets in nobody, a Deny never denies", "the policy language's reference, NotAction",
    ),
    "leading_star_is_every_action": Reading(
        "an action that begins with `*` (`*:GetObject`)", "is the actions that it fits", "is every action",
        "the policy language's reference, Action",
    ),
    "negated_on_absent_key_is_false": Reading(
        "a negated operator on a key that the request does not carry", "true: the value is not the one named",
        "false: a Deny does not hold, an Allow does not open", f"{_OPERATORS}, IfExists",
    ),
    "negated_with_several_values_takes_any": Reading(
        "a negated operator on texts, numbers or moments with several values", "true if the value is none of them",
        "true as soon as one of them differs, so of two values always", f"{_OPERATORS}, several values",
    ),
    "null_asks_for_absence": Reading(
        "`Null`", '`"true"` asks that the key is absent, `"false"` that it is there',
        "asks that the key is absent, whatever its value", f"{_OPERATORS}, Null",
    ),
    "condition_keys_are_case_sensitive": Reading(
        "a condition key in other letters than published (`aws:SourceIP`)", "is the same key",
        "is a key that no request carries: what it is to refuse is never refused", _KEYS,
    ),
    "transport_is_known_over_tls_only": Reading(
        "`aws:SecureTransport` over plain http", "is `false`",
        "is not there: `Bool` matches neither value", f"{_KEYS}, aws:SecureTransport",
    ),
    "binary_is_decoded_on_both_sides": Reading(
        "`BinaryEquals`", "compares with the base64 form of the value",
        "compares with a value that is written in base64 as well: what is no base64 text fits nothing",
        f"{_OPERATORS}, BinaryEquals",
    ),
    "moments_are_no_numbers": Reading(
        "a numeric operator on `aws:EpochTime`", "compares seconds since 1970", "never holds",
        f"{_KEYS}, aws:EpochTime",
    ),
    "other_numbers_and_moments_are_left_out": Reading(
        "a value of a numeric or date operator that is no number, or a time without a zone or with an offset "
        "(`2027-01-01T00:00:00`, `…+02:00`)", "is that moment, or has no agreed meaning",
        "is left out: with no other value the condition never holds. Moments before 1970 are left out too, and past "
        "2554-07-21 the calendar begins anew", f"{_OPERATORS}, dates and numbers",
    ),
    "networks_are_numbers": Reading(
        "an address or network of one family", "takes in no address of the other; what is no address has no meaning",
        "is compared as a number: `::/0` takes in every address, as `10.0.0.1/` does; what is no address is left out",
        f"{_OPERATORS}, addresses",
    ),
    "empty_is_absent": Reading(
        "an empty value of a parameter ({value})", "is a value", "is no value: the key is absent", _KEYS
    ),
    "usual_and_most": Reading(
        "a listing that does not say how much it asks for, or asks for more", "carries no such key, or that number",
        "carries the most that it can get: {value}", _KEYS,
    ),
    "tags_decide_more": Reading(
        "`s3:ExistingObjectTag` of some requests ({value})", "is not there", "is the tag that the object has",
        f"{_KEYS}, s3:ExistingObjectTag",
    ),
    "never_carried": Reading(
        "some keys ({value})", "are carried, or known to be absent", "are carried by no request", _KEYS
    ),
    "carried_by_all": Reading(
        "some keys ({value})", "may be absent: an address, through a private endpoint", "are carried by every request",
        _KEYS,
    ),
    "always_carried": Reading(
        "some keys", "tell requests apart", "are the same for every request, signed or not: {value}", _KEYS
    ),
    "name_of_nobody": Reading(
        "`aws:username`", "is there where a user asks", 'is there for every caller, and "{value}" without credentials',
        f"{_KEYS}, aws:username",
    ),
    "root_of_no_account_is_everybody": Reading(
        "the principal `arn:aws:iam:::root`, or an empty one", "names an account",
        "is everybody who is of no account, without credentials too", _PRINCIPAL
    ),
    "ids_are_user_names": Reading(
        "a user's id in an ACL, and its resource name in a policy", "tell nothing of each other",
        "tell each other: `deck` is `arn:aws:iam:::user/deck`, `marsh$warden` is `arn:aws:iam::marsh:user/warden`",
        _PRINCIPAL,
    ),
    "resources_are_of_the_buckets_account": Reading(
        "an account in a resource's name", "is none of a bucket's name",
        "is the bucket's own tenant, whether it is written there or not", _RESOURCE,
    ),
    "own_permissions_stay_in_their_account": Reading(
        "a resource in a user's own permission", "is a bucket of that name, whosever it is",
        "is a bucket of the user's own tenant, whatever account is written there", _RESOURCE,
    ),
    "partitions_tell_names_apart": Reading(
        "a resource of another partition (`arn:aws-cn:…`)", "is the same resource",
        "is no resource of this store", _RESOURCE,
    ),
    "principals_go_by_account_and_name": Reading(
        "partition, service and region in a principal's name", "are part of the name", "do not count", _PRINCIPAL
    ),
    "wildcards_in_names_name_nobody": Reading(
        "a wildcard inside a principal's name", "has no agreed meaning", "names nobody", _PRINCIPAL
    ),
    "logins_go_by_their_user": Reading(
        "a further login of a user (`deck:night`)", "is a user of that name",
        "goes by its user's name as well as its own; `deck:*` names the user with all its logins", _PRINCIPAL,
    ),
    "user_names_are_given": Reading(
        "a condition on `aws:username`, for any account", "is met by whoever names a user of theirs so",
        "is met by that user of the store alone: its administrators name all of them", _KEYS,
    ),
    "canonical_ids_name_nobody": Reading(
        "a `CanonicalUser` principal", "names the owner of that id", "names nobody", _PRINCIPAL
    ),
    "services_name_nobody": Reading("a `Service` principal", "names a service", "names nobody", _PRINCIPAL),
    "federated_names_are_users": Reading(
        "a `Federated` principal", "names who signs in elsewhere", "names whom an `AWS` principal of that name does",
        _PRINCIPAL,
    ),
    "not_principal_goes_by_name": Reading(
        "`NotPrincipal` with the name of a user, or of an account", "leaves a user out if its account is named as well",
        "leaves out the user, or everybody in the account; with names of nobody alone it applies to nobody", _PRINCIPAL,
    ),
    "acl_permissions_are_wider": Reading(
        "a permission in an ACL", "allows what the published table has",
        "`write` on a bucket also deletes versions, bypasses governance and deletes the bucket; `read-acp` also reads "
        "policy, lifecycle, replication, guards and tags, `write-acp` replaces policy, lifecycle and guards; on an "
        "object `read` also reads tags, retention and hold, and `write` sets retention and hold",
        "the S3 family's documentation of ACLs, mapping of permissions",
    ),
    "bypass_goes_with_deletion": Reading(
        "`s3:BypassGovernanceRetention`", "is a permission of its own",
        "goes with deleting a version, unless a Deny names it: on the object for a deletion of one, on the bucket for "
        "one of several at once", "the S3 family's documentation of object lock, governance mode",
    ),
    "public_policies_count_under_their_guard": Reading(
        "the guard on public policies", "keeps a public policy from counting",
        "lets a policy count that was there before", "the S3 family's documentation of public-access guards",
    ),
    "principals_are_patterns": Reading(
        "a principal, of whatever kind (`AWS`, `Federated`, `Service`, `CanonicalUser`)", "names whom its kind says",
        "is a pattern for the resource names of users: `arn:aws:iam::*:user/*` is everybody with credentials, a star "
        "of any kind everybody, and an account or its root is nobody", _PRINCIPAL,
    ),
    "decided_as": Reading(
        "some actions", "are permissions of their own", "are decided as another action is: {value}",
        "the S3 family's reference of actions",
    ),
    "covered_by": Reading(
        "some actions", "are permissions of their own", "are covered by another action as well as by their own: "
        "{value}", "the S3 family's reference of actions",
    ),
    "values_of_another_form_fit_nothing": Reading(
        "a value of a numeric, date or address operator that is no number, no time as in RFC 3339 "
        "(`2027-01-01T00:00:00Z`), or no address", "has no agreed meaning, or the one of its form (`2027-01-01`)",
        "fits nothing: the condition does not hold, and one with a negated operator does",
        f"{_OPERATORS}, dates, numbers and addresses",
    ),
    "policies_let_unsigned_callers_only_read": Reading(
        "an Allow to everybody", "lets in who sends no credentials to all of its actions",
        "lets in who sends no credentials to `s3:ListBucket`, `s3:GetObject` and `s3:GetObjectVersion` alone, unless "
        "there is a user that such requests are",
        _PRINCIPAL,
    ),
    "acls_let_unsigned_callers_read": Reading(
        "an ACL", "grants what the published table has, unless the ownership mode disables ACLs",
        "whatever the ownership mode, lets in who sends no credentials to list the bucket and to read its objects, if "
        "it grants everybody `read` or `full-control` of the bucket. No other grant, and no object's own ACL, counts",
        "the S3 family's documentation of ACLs, and of object ownership",
    ),
    "carried_by_signed": Reading(
        "some keys ({value}) of a request without credentials", "say that it is one", "are not there", _KEYS
    ),
    "filer_takes_no_policy": Reading(
        "the server's filer, at a port of its own", "gives nobody what the store's protocols refuse",
        "reads and writes every object for whoever reaches it, whatever policies say, unless it is set up to ask for a "
        "token",
        "the S3 family's documentation names no such door",
    ),
    "unsigned_callers_are_the_user": Reading(
        "the permissions of a user `{value}`", "are that user's", "hold for whoever sends no credentials",
        "the S3 family's documentation of anonymous requests",
    ),
    "policies_are_for_unsigned_callers": Reading(
        "a policy of a bucket", "decides of every caller, together with their own permissions",
        "decides of requests without credentials alone: it lets in no user by name, and refuses no user anything",
        _PRINCIPAL,
    ),
    "acls_grant_nothing": Reading(
        "an ACL", "grants what the published table has", "grants nobody anything",
        "the S3 family's documentation of ACLs",
    ),
    "addresses_are_what_is_said": Reading(
        "`aws:SourceIp`", "is the address that a request comes from",
        "is what the request says in a header (`X-Forwarded-For`, `X-Real-Ip`, `Forwarded`), where it has one: whoever "
        "asks writes it", f"{_KEYS}, aws:SourceIp",
    ),
    "parameters_are_values": Reading(
        "a parameter with the name of a condition key (`?SourceIp=10.1.2.3`)", "means nothing to conditions",
        "is one more value of a key of texts or addresses: whoever asks makes conditions hold",
        _KEYS,
    ),
    "absent_is_empty": Reading(
        "a header that is not sent ({value})", "is no value: the key is absent", "is an empty value", _KEYS
    ),
    "empty_of_unsigned": Reading(
        "some keys ({value}) of a request without credentials", "are not there, or say that it is one", "are empty",
        _KEYS,
    ),
    "own_covered_by": Reading(
        "some actions in a user's own permissions", "are permissions of their own",
        "are covered by another action as well as by their own: {value}", "the S3 family's reference of actions",
    ),
    "disabled_users_are_refused": Reading(
        "a user who is disabled", "may have keys that go on working", "is refused everything",
        "the policy language's reference says nothing of it",
    ),
    "stars_end_early": Reading(
        "a star that is followed by something (`*.jpg`)", "takes whatever it must for the rest to fit",
        "ends where the next character first comes: `a.jpg` fits and `a.b.jpg` does not. Before a question mark, or "
        "another star, it ends at that character itself", f"{_RESOURCE}, and {_OPERATORS}, texts",
    ),
    "variables_are_whole_values": Reading(
        "a variable (`${aws:username}`)", "is filled in wherever it stands",
        "is filled in where it is the whole value of a condition, and of several values the last one alone counts "
        "then; anywhere else it is text", "the policy language's reference, variables",
    ),
    "unfilled_variables_are_text": Reading(
        "a variable of which a request has no value (`${aws:username}` without credentials), and `${*}`",
        "fits nothing, and is a star", "is the text that is written: whoever names an object so fits it",
        "the policy language's reference, variables",
    ),
    "resource_names_fit_nothing": Reading(
        "`ArnEquals`, `ArnLike` and their negated forms", "compare a resource name part by part", "never hold",
        f"{_OPERATORS}, resource names",
    ),
    "sent_with_any": Reading(
        "a parameter or header ({value}) of a request that it means nothing to", "is no value of a condition key",
        "is one: `?prefix=notes/` makes a condition hold for a read as well as for a listing", _KEYS,
    ),
    "payer_not_asked": Reading(
        "a request without credentials that the policy allows, where the requester pays", "is refused",
        "is let in, for some actions: {value}", "the S3 family's reference, requester pays",
    ),
    "own_buckets_end_in_slash": Reading(
        "a resource in a user's own permission, for what is asked of a bucket", "is the bucket's name",
        "is the bucket's name with a slash behind it: `notes/*` names the bucket `notes` as well, and so does `notes?`",
        _RESOURCE,
    ),
}  # fmt: skip
"""Field of `Readings` → its words, in the order of the page."""


def otherwise(dialect: Dialect) -> Iterator[tuple[str, Reading, str]]:
    """What a dialect reads otherwise: the field, its words, and what the dialect says of it, in words."""
    for field, words in READINGS.items():
        value = getattr(dialect.readings, field)
        if value:
            yield field, words, _words(value)


def _words(value: object) -> str:
    if isinstance(value, tuple):
        return ", ".join(" = ".join(one) if isinstance(one, tuple) else str(one) for one in value)
    return str(value)


OF_EVERY_POLICY = ("decided_as", "covered_by", "own_covered_by", "policies_are_for_unsigned_callers")
"""Readings that bear on nearly every policy, in whichever way it is written."""


def bearing(policy: Policy, dialect: Dialect, leaving_out: Collection[str] = ()) -> tuple[str, ...]:
    """Sentences for what in a policy the dialect reads otherwise. Few resources make a difference, and none by its
    bucket's name: policies that differ in others alone are worked out once. `leaving_out`: fields of `Readings` of
    which nothing is said."""
    alike = tuple(msgspec.structs.replace(one, resources=_odd(one.resources)) for one in policy.statements)
    differences = _bearing(msgspec.structs.replace(policy, statements=alike), dialect)
    return tuple(sentence for field, sentence in differences if field not in leaving_out)


def _odd(resources: tuple[str, ...]) -> tuple[str, ...]:
    """Of some resources, those with a variable, or with a star that something follows; all of one bucket."""
    return tuple(_BUCKET.sub("arn:aws:s3:::bucket/", one, count=1) for one in resources if _ODD.search(one))


_ODD = re.compile(r"\$\{|\*+[^*]")
_BUCKET = re.compile(r"^arn:[^/*?$]*/")


@lru_cache(maxsize=4096)
def _bearing(policy: Policy, dialect: Dialect) -> tuple[tuple[str, str], ...]:
    if as_read(policy, dialect) is policy:
        return ()
    differences = []
    for field, words, _ in otherwise(dialect):
        value = getattr(dialect.readings, field)
        if _bears(policy, field, value):
            if isinstance(value, tuple):
                value = tuple(one for one in value if _bears(policy, field, (one,)))
            differences.append((field, sentence_of(words, value)))
    return tuple(differences)


def sentence_of(words: Reading, value: object) -> str:
    """What a dialect reads otherwise, for whoever wonders at a verdict."""
    return f"{words.construct}: {words.otherwise}".replace("{value}", _words(value)).replace("`", "")


def _bears(policy: Policy, field: str, value: object) -> bool:
    """Whether a policy would be read otherwise for this reading alone."""
    alone = msgspec.structs.replace(Readings(), **{field: value})
    return as_read(policy, Dialect("", "", (), alone)) is not policy
