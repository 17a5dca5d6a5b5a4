"""Many buckets set up in varied ways: what was put there, what the standard client reads back, what a survey says."""

from __future__ import annotations

import json
import random
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from botocore.exceptions import ClientError

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.bucket import Bucket, CrossOrigin, LifecycleRule
from rusty_lantern.core.value_types import DAY, YEAR
from rusty_lantern.stores.http.some_page import EVERY_METHOD
from tests.real_store import policy

NOT_OFFERED = "not offered"
REFUSED = (
    "NotImplemented",
    "MethodNotAllowed",
    "MalformedXML",
    "InvalidArgument",
    "InvalidRequest",
    "InvalidBucketState",
    "InvalidTag",
    "BucketAlreadyExists",
    "BucketAlreadyOwnedByYou",
)
"""What stores answer to a setting that they do not have, or do not take so: some take it for a new bucket."""


@dataclass(frozen=True)
class Setting:
    """One setting: what may be put (None: nothing), and how the client and the dossier tell it in the same words."""

    name: str
    variants: tuple[Any, ...]
    put: Callable[[Any, str, Any], object]
    back: Callable[[Any, str], Any]
    ours: Callable[[Bucket], Answer[Any]]


def _or_none(read: Callable[[], Any]) -> Any:
    """What is read; None where the store says that nothing is configured."""
    try:
        return read()
    except ClientError as error:
        status = error.response["ResponseMetadata"]["HTTPStatusCode"]
        if status == 404:
            return None
        if status in (405, 501):
            return NOT_OFFERED
        raise


def _lifecycle(rules: list[dict[str, Any]]) -> list[LifecycleRule]:
    return [
        LifecycleRule(
            rule.get("ID", ""),
            rule["Status"] == "Enabled",
            rule.get("Filter", {}).get("Prefix", rule.get("Prefix", "")),
            rule.get("Expiration", {}).get("Days", 0) * DAY,
            rule.get("NoncurrentVersionExpiration", {}).get("NoncurrentDays", 0) * DAY,
            rule.get("AbortIncompleteMultipartUpload", {}).get("DaysAfterInitiation", 0) * DAY,
        )
        for rule in sorted(rules, key=lambda rule: str(rule.get("ID")))
    ]


def _rule(name: str, **what: Any) -> dict[str, Any]:
    return {"ID": name, "Status": "Enabled", "Filter": {"Prefix": ""}, **what}


def _group(uri: str) -> str:
    return {"AllUsers": "anyone", "AuthenticatedUsers": "any-account"}[uri.rpartition("/")[2]]


def _public_grants(client: Any, bucket: str) -> list[tuple[str, str]]:
    acl = client.get_bucket_acl(Bucket=bucket)["Grants"]
    return sorted(
        (_group(grant["Grantee"]["URI"]), grant["Permission"].lower().replace("_", "-"))
        for grant in acl
        if "URI" in grant["Grantee"]
    )


ACLS = {
    "private": [],
    "public-read": [("anyone", "read")],
    "public-read-write": [("anyone", "read"), ("anyone", "write")],
    "authenticated-read": [("any-account", "read")],
}
STATES = {None: "never", "Enabled": "on", "Suspended": "suspended"}
GUARDS = ("BlockPublicAcls", "IgnorePublicAcls", "BlockPublicPolicy", "RestrictPublicBuckets")


SOON = {"Expiration": {"Days": 2}}
PAGES = (
    {"AllowedOrigins": ["*"], "AllowedMethods": ["GET"]},
    {"AllowedOrigins": ["https://a.example", "https://b.example"], "AllowedMethods": ["GET", "PUT"]},
)
SITES = ({"IndexDocument": {"Suffix": "index.html"}}, {"RedirectAllRequestsTo": {"HostName": "a.example"}})


def _origins(rule: dict[str, list[str]]) -> tuple[list[str], list[str]]:
    return sorted(rule["AllowedOrigins"]), sorted(rule["AllowedMethods"])


def _of_the_bucket(pages: Answer[list[CrossOrigin]]) -> Answer[Any]:
    """The bucket's own rules for pages, without what the store lets in by itself."""
    own = [rule for rule in pages.value or () if (rule.origins, rule.methods) != (["*"], EVERY_METHOD)]
    said = [(sorted(rule.origins), sorted(rule.methods)) for rule in own]
    return pages.map(lambda _: said) if said else Answer("absent" if pages.settled else pages.state, None, pages.note)


def _site(site: dict[str, Any]) -> tuple[str, str]:
    return site.get("IndexDocument", {}).get("Suffix", ""), site.get("RedirectAllRequestsTo", {}).get("HostName", "")


def _guards(client: Any, bucket: str) -> Any:
    found = _or_none(lambda: client.get_public_access_block(Bucket=bucket)["PublicAccessBlockConfiguration"])
    return found if found in (None, NOT_OFFERED) else tuple(found[name] for name in GUARDS)


SETTINGS: tuple[Setting, ...] = (
    Setting(
        "versioning", (None, "Enabled", "Suspended"),
        lambda c, b, v: c.put_bucket_versioning(Bucket=b, VersioningConfiguration={"Status": v}),
        lambda c, b: _or_none(lambda: STATES[c.get_bucket_versioning(Bucket=b).get("Status")]),
        lambda b: b.versioning.map(lambda v: v.state),
    ),
    Setting(
        "acl", tuple(ACLS),
        lambda c, b, v: c.put_bucket_acl(Bucket=b, ACL=v),
        _public_grants,
        lambda b: b.acl.map(lambda acl: sorted((g.to, g.permission) for g in acl if g.to != "named")),
    ),
    Setting(
        "tags", (None, {"steward": "hydrology"}, {"a b": " x ", "note": "<b>&=1+1 ü"}),
        lambda c, b, v: c.put_bucket_tagging(Bucket=b, Tagging={"TagSet": [{"Key": k, "Value": v[k]} for k in v]}),
        lambda c, b: _or_none(lambda: {t["Key"]: t["Value"] for t in c.get_bucket_tagging(Bucket=b)["TagSet"]}),
        lambda b: b.tags,
    ),
    Setting(
        "policy", (None, {"Action": "s3:GetObject"}, {"Action": "s3:PutObject", "Effect": "Deny"}),
        lambda c, b, v: c.put_bucket_policy(Bucket=b, Policy=policy(b, v)),
        lambda c, b: _or_none(lambda: json.loads(c.get_bucket_policy(Bucket=b)["Policy"])),
        lambda b: b.policy.map(json.loads),
    ),
    Setting(
        "lifecycle",
        (
            None,
            [_rule("a", Expiration={"Days": 30})],
            [_rule("a", NoncurrentVersionExpiration={"NoncurrentDays": 7}), _rule("b", Status="Disabled", **SOON)],
            [_rule("c", Filter={"Prefix": "tmp/"}, AbortIncompleteMultipartUpload={"DaysAfterInitiation": 3})],
        ),
        lambda c, b, v: c.put_bucket_lifecycle_configuration(Bucket=b, LifecycleConfiguration={"Rules": v}),
        lambda c, b: _or_none(lambda: _lifecycle(c.get_bucket_lifecycle_configuration(Bucket=b)["Rules"])),
        lambda b: b.lifecycle.map(lambda rules: sorted(rules, key=lambda rule: rule.name)),
    ),
    Setting(
        "cross_origin", (None, *PAGES),
        lambda c, b, v: c.put_bucket_cors(Bucket=b, CORSConfiguration={"CORSRules": [v]}),
        lambda c, b: _or_none(lambda: [_origins(rule) for rule in c.get_bucket_cors(Bucket=b)["CORSRules"]]),
        lambda b: _of_the_bucket(b.cross_origin),
    ),
    Setting(
        "public_access_guards", (None, (True, False, False, True), (False, True, True, False)),
        lambda c, b, v: c.put_public_access_block(
            Bucket=b, PublicAccessBlockConfiguration=dict(zip(GUARDS, v, strict=True))
        ),
        _guards,
        lambda b: b.public_access_guards.map(
            lambda g: (g.refuse_new_acls, g.ignore_acls, g.refuse_new_policies, g.restrict_policies)
        ),
    ),
    Setting(
        "requester_pays", (None, "Requester"),
        lambda c, b, v: c.put_bucket_request_payment(Bucket=b, RequestPaymentConfiguration={"Payer": v}),
        lambda c, b: _or_none(lambda: c.get_bucket_request_payment(Bucket=b).get("Payer", NOT_OFFERED)),
        lambda b: b.requester_pays.map(lambda on: "Requester" if on else "BucketOwner"),
    ),
    Setting(
        "website", (None, *SITES),
        lambda c, b, v: c.put_bucket_website(Bucket=b, WebsiteConfiguration=v),
        lambda c, b: _or_none(lambda: _site(c.get_bucket_website(Bucket=b))),
        lambda b: b.website.map(lambda w: (w.index, w.redirects_to)),
    ),
)  # fmt: skip

LOCKS = (None, None, "none", ("GOVERNANCE", "Days", 30), ("COMPLIANCE", "Years", 7), ("COMPLIANCE", "Days", 90))


def _lock_back(client: Any, bucket: str) -> Any:
    found = _or_none(lambda: client.get_object_lock_configuration(Bucket=bucket)["ObjectLockConfiguration"])
    if found in (None, NOT_OFFERED):
        return found
    default = found.get("Rule", {}).get("DefaultRetention", {})
    return default.get("Mode", "").lower(), default.get("Days", 0) * DAY + default.get("Years", 0) * YEAR


LOCK = Setting(
    "lock", LOCKS, lambda c, b, v: None, _lock_back, lambda b: b.lock.map(lambda lock: (lock.mode, lock.retention))
)


def build(client: Any, count: int, prefix: str = "fen", locks: tuple[Any, ...] = LOCKS) -> dict[str, dict[str, Any]]:
    """Make so many buckets; bucket → setting → what was put (only what the store took)."""
    dice = random.Random(9)
    made: dict[str, dict[str, Any]] = {}
    for number in range(count):
        name, lock = f"{prefix}-{number:03d}", locks[number % len(locks)]
        client.create_bucket(Bucket=name, ObjectLockEnabledForBucket=lock is not None)
        put = made[name] = {}
        if isinstance(lock, tuple):
            mode, unit, length = lock
            rule = {"DefaultRetention": {"Mode": mode, unit: length}}
            client.put_object_lock_configuration(
                Bucket=name, ObjectLockConfiguration={"ObjectLockEnabled": "Enabled", "Rule": rule}
            )
            put["lock"] = mode.lower(), length * (YEAR if unit == "Years" else DAY)
        for setting in SETTINGS:
            variant = dice.choice(setting.variants)
            if variant is None or (setting.name == "versioning" and lock):
                continue
            try:
                setting.put(client, name, variant)
            except ClientError as error:
                if error.response["Error"]["Code"] not in REFUSED:
                    raise
                continue
            put[setting.name] = variant
    return made


PUT_WORDS: dict[str, Callable[[Any], Any]] = {
    "versioning": lambda v: STATES[v],
    "acl": lambda v: ACLS[v],
    "lifecycle": _lifecycle,
    "cross_origin": lambda v: [_origins(v)],
    "website": _site,
}


def differences(client: Any, made: dict[str, dict[str, Any]], read: dict[str, Bucket]) -> tuple[list[str], set[str]]:
    """Where the survey says something else than the client reads back; and the settings that the store altered."""
    wrong, altered = [], set()
    for name, put in made.items():
        for setting in (*SETTINGS, LOCK):
            back, ours = setting.back(client, name), setting.ours(read[name])
            said = NOT_OFFERED if ours.state == "unsupported" else ours.value
            if ours.state in ("denied", "failed"):
                wrong.append(f"{name} {setting.name}: {ours.reason}")
            elif said != back and not (back is None and said == NOT_OFFERED):
                wrong.append(f"{name} {setting.name}: the client reads {back}, the survey says {said}")
            if setting.name in put and setting.name != "policy":
                wanted = PUT_WORDS.get(setting.name, lambda v: v)(put[setting.name])
                altered |= {setting.name} if said != wanted else set()
    return wrong, altered
