"""The demo estate: the Saltmarsh Trust, a made-up nature charity, at one fixed moment.

Every trap that the tool must catch is here once, and next to each a harmless look-alike. The right answers
are written down once, in `tests/saltmarsh_answers.py`.
"""

from __future__ import annotations

import json
from datetime import UTC, datetime
from functools import cache
from typing import Any, Literal

import msgspec

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.access_point import AccessPoint
from rusty_lantern.core.model.acl import Grant, Grantee, Permission
from rusty_lantern.core.model.bucket import (
    Bucket,
    CrossOrigin,
    Encryption,
    LifecycleRule,
    Lock,
    Logging,
    ReplicationRule,
    Versioning,
    Website,
)
from rusty_lantern.core.model.bucket_contents import Uploads, Usage, Versions
from rusty_lantern.core.model.capabilities import S3
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.core.model.guards import Guards
from rusty_lantern.core.model.object_version import ObjectVersion
from rusty_lantern.core.value_types import DAY, YEAR
from rusty_lantern.simulator.contents import StandinKey, StoreContents
from rusty_lantern.simulator.demo.harbour_identities import identities
from rusty_lantern.simulator.demo.harbour_objects import versions_in
from rusty_lantern.simulator.demo.skerry import skerry as second_site

MOMENT = datetime(2026, 11, 2, 6, 0, tzinfo=UTC)
ACCOUNT = "400100200300"
OFFICE = "198.51.100.0/24"
PARTNER = "500600700800"
CONTRACTOR = "600700800900"
KEY_ID, SECRET = "SALTMARSHAUDITKEY001", "demo/only/never/a/real/secret/0000000000"
"""The demo's own audit key; it opens nothing but the stand-in."""

BOTH_OFF = Guards()
SHUT = Guards(refuse_new_acls=True, ignore_acls=True, refuse_new_policies=True, restrict_policies=True)
REFUSE_ONLY = Guards(refuse_new_acls=True, refuse_new_policies=True)


def _policy(bucket: str, *statements: dict[str, Any]) -> str:
    filled = []
    for number, statement in enumerate(statements, 1):
        whole = {"Sid": f"S{number}", "Effect": "Allow", "Principal": "*", **statement}
        resources = whole.pop("to", ["objects"])
        names = {"bucket": f"arn:aws:s3:::{bucket}", "objects": f"arn:aws:s3:::{bucket}/*"}
        whole["Resource"] = [names.get(r, f"arn:aws:s3:::{bucket}/{r}") for r in resources]
        filled.append(whole)
    return json.dumps({"Version": "2012-10-17", "Statement": filled}, indent=1)


BY_PROVIDER = Encryption("provider-managed", "AES256")
GET, PUT, LIST = "s3:GetObject", "s3:PutObject", "s3:ListBucket"


def _bucket(
    name: str,
    created: str,
    objects: tuple[int, int],
    steward: str | None = "records-office",
    *,
    sort: str = "working",
    policy: tuple[dict[str, Any], ...] = (),
    acl: tuple[tuple[Grantee, Permission], ...] = (),
    ownership: Literal["bucket-owner-enforced", "object-writer"] = "bucket-owner-enforced",
    public_access_guards: Guards | None = None,
    versioning: Literal["never", "suspended", "on"] = "on",
    encryption: Encryption | None = BY_PROVIDER,
    lock: Lock | None = None,
    tags: dict[str, str] | None = None,
    logs_to: str | None = "access-logs",
    **settings: Answer[Any],
) -> Bucket:
    listed = ({"steward": steward} if steward else {}) | {"class": sort} | (tags or {})
    return Bucket(
        name=name,
        created=Answer("known", datetime.fromisoformat(created).replace(tzinfo=UTC)),
        region=Answer("known", "north-shore"),
        acl=Answer(
            "known",
            [Grant("named", "full-control", ACCOUNT), *(Grant(to, permission) for to, permission in acl)],
        ),
        ownership=Answer("known", ownership),
        policy=Answer("known", _policy(name, *policy)) if policy else Answer("absent"),
        public_status=Answer("unsupported"),
        public_access_guards=Answer("known", public_access_guards) if public_access_guards else Answer("absent"),
        versioning=Answer("known", Versioning(versioning)),
        encryption=Answer("known", encryption) if encryption else Answer("absent"),
        lock=Answer("known", lock) if lock else Answer("absent"),
        tags=Answer("known", listed),
        usage=Answer("known", Usage(*objects)),
        owner=Answer("known", ACCOUNT),
        logging=Answer("known", Logging(logs_to, f"{name}/")) if logs_to else Answer("absent"),
        **(_PLAIN_SETTINGS | settings),
    )


_PLAIN_SETTINGS: dict[str, Answer[Any]] = {
    "tenant": Answer("absent"),
    "counters": Answer("unsupported"),
    "quota": Answer("unsupported"),
    "uploads": Answer("known", Uploads(0, bytes=0)),
    "lifecycle": Answer("absent"),
    "website": Answer("absent"),
    "cross_origin": Answer("absent"),
    "replication": Answer("absent"),
    "notifications": Answer("absent"),
    "requester_pays": Answer("known", False),
    "transfer_endpoint": Answer("known", False),
    **S3.of_bucket(),
    "container_acl": Answer("unsupported"),
    "access_points": Answer("absent"),
}


def _within(*networks: str) -> dict[str, Any]:
    return {"IpAddress": {"aws:SourceIp": list(networks)}}


_BY_OWN_POINTS = {"StringEquals": {"s3:DataAccessPointAccount": ACCOUNT}}
"""Of requests through the account's access points, whose own policies say whom they let in."""


def _point(name: str, statement: dict[str, Any] | None, guards: Guards = SHUT) -> AccessPoint:
    arn = f"arn:aws:s3:north-shore:{ACCOUNT}:accesspoint/{name}"
    shown = Answer("known", guards)
    if statement is None:
        return AccessPoint(name, arn, "internet", "", Answer("absent"), shown)
    written = {"Sid": "S1", "Effect": "Allow", "Principal": "*", **statement}
    written["Resource"] = [f"{arn}/object/{key}" for key in written.pop("to", ["*"])]
    policy = json.dumps({"Version": "2012-10-17", "Statement": [written]}, indent=1)
    return AccessPoint(name, arn, "internet", "", Answer("known", policy), shown)


def _points(*points: AccessPoint) -> Answer[list[AccessPoint]]:
    return Answer("known", list(points))


def _buckets() -> list[Bucket]:
    return [
        _bucket(
            "tide-gauge-raw", "2019-03-04", (620, 2_350_000_000), "hydrology",
            policy=(
                {"Principal": {"AWS": ACCOUNT}, "Action": [GET, PUT]},
                {"Principal": {"AWS": PARTNER}, "Action": GET, "to": ["shared/*"]},
            ),
            encryption=Encryption("provider-managed", "AES256", customer_provided_refused=True),
        ),
        _bucket("gallery-web", "2020-05-11", (306, 940_000_000), "outreach", policy=({"Action": GET},)),
        _bucket(
            "gallery-prints", "2021-02-01", (44, 310_000_000), "outreach",
            policy=({"Action": [GET, LIST], "to": ["bucket", "objects"]},),
        ),
        _bucket(
            "press-kit", "2020-06-30", (24, 220_000_000), "outreach", policy=({"Action": GET},),
            ownership="object-writer", acl=(("anyone", "read"),), logs_to="web-logs-2019",
        ),
        _bucket(
            "permit-archive", "2018-01-15", (62, 137_000_000), sort="permit",
            lock=Lock(True, "governance", 7 * YEAR), encryption=Encryption("customer-managed", "aws:kms", "permit-key"),
        ),
        _bucket(
            "permit-scans", "2022-01-10", (24, 40_000_000), sort="permit",
            lock=Lock(True, "compliance", 10 * YEAR), encryption=Encryption("customer-managed", "aws:kms",
            "permit-key"),
            policy=(
                {"Effect": "Deny", "Action": "s3:*", "to": ["bucket", "objects"],
                 "Condition": {"Bool": {"aws:SecureTransport": "false"}}},
                {"Effect": "Deny", "Action": [PUT, "s3:PutObjectRetention"],
                 "Condition": {"NumericLessThan": {"s3:object-lock-remaining-retention-days": str(7 * 365)}}},
            ),
        ),
        _bucket(
            "grant-ledger", "2019-09-01", (42, 13_200_000), "finance", sort="permit",
            lock=Lock(True, "compliance", 30 * DAY), encryption=Encryption("customer-managed", "aws:kms", "ledger-key"),
        ),
        _bucket(
            "payroll-drop", "2023-04-17", (24, 6_100_000), "finance", sort="personal",
            policy=({"Action": [GET, PUT], "Condition": _within("0.0.0.0/1", "128.0.0.0/1")},),
        ),
        _bucket(
            "volunteer-forms", "2022-08-02", (106, 71_000_000), "outreach", sort="personal",
            policy=({"Action": GET, "Condition": {"StringLike": {"aws:Referer": "https://forms.saltmarsh.example/*"}}},),
        ),
        _bucket(
            "ringing-records", "2017-11-20", (172, 88_000_000), "field-station",
            policy=(
                {"Action": GET},
                {"Effect": "Deny", "Action": "s3:*", "to": ["bucket", "objects"],
                 "Condition": {"NotIpAddress": {"aws:SourceIp": OFFICE}}},
            ),
        ),
        _bucket(
            "contractor-drop", "2024-02-12", (61, 480_000_000), "field-station",
            replication=Answer("known", [ReplicationRule("station-inbox", account=ACCOUNT)]),
            policy=(
                {"Action": PUT},
                {"Effect": "Deny", "Action": "s3:*", "to": ["bucket", "objects"],
                 "Condition": {"NotIpAddress": {"aws:SourceIp": OFFICE},
                               "StringNotEquals": {"aws:UserAgent": "contractor-uploader"}}},
            ),
        ),
        _bucket(
            "tmp-exchange", "2021-07-07", (9, 1_200_000), None, versioning="never", encryption=None,
            ownership="object-writer", acl=(("any-account", "write"),), logs_to=None,
        ),
        _bucket(
            "survey-maps", "2018-05-05", (72, 1_900_000_000), "hydrology", public_access_guards=REFUSE_ONLY,
            policy=({"Action": GET, "to": ["published/*"]},),
            notifications=Answer("known", [f"arn:aws:sns:north-shore:{PARTNER}:map-changes"]),
        ),
        _bucket(
            "old-website", "2016-02-29", (67, 150_000_000), "outreach", public_access_guards=SHUT,
            policy=({"Action": [GET, LIST], "to": ["bucket", "objects"]},),
            website=Answer("known", Website(redirects_to="saltmarsh.example")),
        ),
        _bucket("reedbed-notes", "2020-10-10", (14, 9_000_000), "field-station"),
        _bucket(
            "boat-logs", "2019-06-01", (42, 9_000_000), "field-station", versioning="suspended", logs_to="boat-logs",
            lifecycle=Answer("known", [LifecycleRule("old trips", expires_old=365 * DAY)]),
            encryption=Encryption("customer-managed", "aws:kms", "boat-key"),
        ),
        _bucket(
            "camera-traps", "2019-04-22", (1999, 5_600_000_000), "field-station",
            replication=Answer(
                "known", [ReplicationRule("backups-nightly"), ReplicationRule("traps-copy", account=CONTRACTOR)]
            ),
            uploads=Answer("known", Uploads(37, datetime(2026, 3, 1, tzinfo=UTC), bytes=1_480_000_000)),
        ),
        _bucket(
            "drone-orthophotos", "2023-09-14", (58, 9_900_000_000), "hydrology", policy=({"Action": GET},),
        ),
        _bucket(
            "open-day-2024", "2024-06-01", (31, 64_000_000), "outreach",
            policy=({"Action": GET, "Condition": {"DateLessThan": {"aws:CurrentTime": "2024-07-01T00:00:00Z"}}},),
        ),
        _bucket(
            "season-preview", "2026-09-15", (12, 48_000_000), "outreach",
            policy=(
                {"Action": GET, "Condition": {"DateGreaterThanEquals": {"aws:CurrentTime": "2027-03-01T00:00:00Z"}}},
            ),
        ),
        _bucket(
            "partner-feed", "2022-03-03", (120, 18_000_000), "hydrology",
            policy=(
                {"Action": GET},
                {"Effect": "Deny", "Action": "s3:*", "to": ["bucket", "objects"],
                 "Condition": {"StringNotEquals": {"aws:PrincipalAccount": [ACCOUNT, PARTNER]}}},
            ),
        ),
        _bucket(
            "backups-nightly", "2018-08-08", (42, 22_000_000_000), lock=Lock(True, "governance", 35 * DAY),
            lifecycle=Answer("known", [LifecycleRule("thin", expires_old=14 * DAY)]),
        ),
        _bucket(
            "members-area", "2025-01-20", (3, 90_000), "outreach", logs_to="gallery-prints",
            cross_origin=Answer("known", [CrossOrigin(["*"], ["GET", "PUT"])]),
            tags={"note": "=HYPERLINK(\"https://evil.example\") <script>alert(1)</script> \x9b31m[bold]red"},
        ),
        _bucket(
            "station-inbox", "2023-01-09", (16, 4_000_000), "field-station",
            policy=({"Principal": {"AWS": PARTNER}, "Action": [GET, PUT, "s3:DeleteObject"]},),
        ),
        _bucket(
            "launch-2027", "2026-10-28", (0, 0), "outreach",
            lifecycle=Answer("known", [LifecycleRule("tidy", expires_old=90 * DAY, clears_uploads=7 * DAY)]),
            cross_origin=Answer("known", [CrossOrigin(["https://saltmarsh.example"], ["GET"])]),
        ),
        _bucket(  # what its access point lets everybody in to, no setting of the bucket shows
            "tide-displays", "2025-03-17", (18, 2_400_000), "outreach",
            policy=({"Action": "s3:*", "to": ["bucket", "objects"], "Condition": _BY_OWN_POINTS},),
            access_points=_points(_point("quay-display", {"Action": GET, "to": ["today/*"]}, guards=BOTH_OFF)),
        ),
        _bucket(  # its look-alike: the same policy, and points that let in no stranger
            "reef-plans", "2025-03-17", (12, 5_100_000), "hydrology",
            policy=({"Action": "s3:*", "to": ["bucket", "objects"], "Condition": _BY_OWN_POINTS},),
            access_points=_points(
                _point("reef-partner", {"Principal": {"AWS": PARTNER}, "Action": GET}),
                _point("reef-review", None),
            ),
        ),
        _bucket("access-logs", "2018-01-15", (365, 610_000_000), logs_to=None),
    ]  # fmt: skip


def _counted(bucket: Bucket, versions: list[ObjectVersion]) -> Bucket:
    """The bucket with what is in it counted."""
    current = [v.size for v in versions if v.current and not v.marker]
    old = [v.size for v in versions if not v.current and not v.marker]
    newest = max((v.written for v in versions if v.written and not v.marker), default=None)
    return msgspec.structs.replace(
        bucket,
        usage=Answer("known", Usage(len(current), sum(current))),
        versions=Answer("known", Versions(len(old), sum(old), sum(v.marker for v in versions), newest=newest)),
    )


@cache
def _lying() -> dict[str, list[ObjectVersion]]:
    """Bucket → what is in it. The versions never change."""
    return {bucket.name: versions_in(bucket, MOMENT) for bucket in _buckets()}


def harbour() -> StoreContents:
    """The store `harbour`: the trust's own gateway on the north shore."""
    versions = _lying()
    buckets = [_counted(bucket, versions[bucket.name]) for bucket in _buckets()]
    dossier = Dossier(
        store="harbour",
        taken=MOMENT,
        transport="plain",
        account=Answer("known", ACCOUNT),
        public_access_guards=Answer("known", BOTH_OFF),
        network=Answer("unsupported"),
        listing=Answer("known", len(buckets)),
        buckets=buckets,
    )
    dossier = msgspec.structs.replace(dossier, **identities(MOMENT))
    audit = StandinKey(SECRET, ACCOUNT, refused=frozenset({("drone-orthophotos", "policy")}))
    return StoreContents(dossier, {KEY_ID: audit}, versions, believes_headers=True)


def skerry() -> StoreContents:
    """The second site, which is to mirror part of `harbour`."""
    return second_site(harbour(), MOMENT)
