"""The right answers to the demo estate, each written down once with its reason."""

from __future__ import annotations

DRIFT: dict[tuple[str, str], tuple[str, str]] = {
    # bucket, fact: severity, observed — traps
    ("payroll-drop", "exposure.read"): ("critical", "open"),  # two halves make the whole Internet
    ("payroll-drop", "exposure.write"): ("critical", "open"),
    ("volunteer-forms", "exposure.read"): ("critical", "open"),  # a referer is whatever the sender writes
    ("contractor-drop", "exposure.write"): (
        "critical",
        "open",
    ),  # a Deny of two conditions denies only where both hold
    ("tmp-exchange", "exposure.write"): ("critical", "open"),  # a grant to every signed-in account
    ("tmp-exchange", "exposure.delete"): ("critical", "open"),  # …and a write grant deletes as well
    ("tmp-exchange", "tags.steward"): ("medium", "absent"),
    ("tmp-exchange", "grants.by-object"): ("low", "on"),
    ("gallery-prints", "exposure.list"): ("high", "open"),  # reading was meant, listing was not
    ("press-kit", "exposure.list"): ("high", "open"),  # the bucket's grant opens the list, not the objects
    ("press-kit", "grants.by-object"): ("low", "on"),
    ("survey-maps", "exposure.read"): ("high", "open"),  # guards that refuse new policies leave the old one standing
    ("season-preview", "exposure.read"): ("high", "narrow"),  # opens by itself on a date
    ("grant-ledger", "lock.keep"): ("high", "30 days"),
    ("permit-archive", "lock.mode"): ("high", "governance"),
    ("boat-logs", "versioning"): ("medium", "suspended"),
    ("tmp-exchange", "encryption.at-rest"): ("medium", "none"),
    ("camera-traps", "uploads.unfinished"): ("low", "37"),  # begun in March, and no rule clears them away
    ("tmp-exchange", "logging"): ("medium", "off"),
    ("tmp-exchange", "logging.target-is"): ("medium", "absent"),
    ("boat-logs", "logging.target-is"): ("medium", "itself"),  # a record that grows by being written
    ("press-kit", "logging.target-is"): ("medium", "missing"),  # a record that is written nowhere
    ("backups-nightly", "lifecycle.against-retention"): ("medium", "on"),  # 14 days against 35
    ("members-area", "logging.target-exposure"): ("high", "open"),  # the record lies where the public may list and read
    ("members-area", "cross-origin"): ("medium", "any"),
    ("station-inbox", "access.outside"): ("high", "read write delete"),  # a partner may read, and may do more
    ("survey-maps", "notifications.outside"): ("high", "on"),  # another account is told
}

OBJECT_DRIFT: dict[tuple[str, str], tuple[str, int, int]] = {
    # bucket, fact: severity, drifted, checked — versions that break a requirement
    ("grant-ledger", "objects.current-version"): ("critical", 197, 210),  # the default keeps 30 days, long over
    ("permit-archive", "objects.current-version"): ("critical", 193, 929),  # over, or bare above a locked version
    ("press-kit", "objects.public"): ("critical", 1, 45),  # one picture may be replaced by anyone
    ("backups-nightly", "objects.keep"): ("high", 1, 730),  # 35 years for 35 days
    ("camera-traps", "objects.encryption"): ("high", 50, 149),  # stored before the default was switched on
    ("grant-ledger", "objects.keep"): ("high", 196, 210),
    ("grant-ledger", "objects.mode"): ("high", 1, 210),  # a weaker explicit retention wins over the default
    ("permit-archive", "objects.keep"): ("high", 3, 932),
    ("permit-archive", "objects.mode"): ("high", 931, 932),  # governance where compliance is required
    ("press-kit", "objects.content-type"): ("medium", 2, 45),  # two pages among the pictures
    ("camera-traps", "objects.metadata.station"): ("low", 13, 149),
    ("drone-orthophotos", "objects.type-fits"): ("low", 19, 39),
}

ALL_VERBS = ("list", "read", "write", "delete", "govern", "unlock", "inspect")
UNKNOWN = {("drone-orthophotos", f"exposure.{verb}") for verb in ALL_VERBS} | {("drone-orthophotos", "access.outside")}
"""Its policy is refused to the audit key."""
OBJECT_UNKNOWN = {("drone-orthophotos", "objects.encryption"), ("drone-orthophotos", "objects.metadata.station")}
"""A third of it lies in an archive tier, and is not restored to be looked at."""

LOOK_ALIKES = {
    "tide-gauge-raw": "a policy for the team's own account, and one folder that a partner may read",
    "gallery-web": "public on purpose, and required to be",
    "ringing-records": "a Deny for everywhere but the office really fences",
    "partner-feed": "only two named accounts are let in",
    "old-website": "a public policy shut by a guard that shuts",
    "reedbed-notes": "a grant to anyone under an ownership mode that disables grants",
    "open-day-2024": "an Allow that ended in the past",
    "permit-scans": "kept longer than required",
    "launch-2027": "empty; expiry of old versions without retention, and one listed web page",
    "access-logs": "the log store does not log itself",
}
"""Harmless, and to be left alone."""

EXPOSED: dict[str, dict[str, str]] = {
    # bucket: verb → widest verdict, where it is not closed
    "payroll-drop": {"read": "open", "write": "open"},
    "volunteer-forms": {"read": "open"},
    "contractor-drop": {"write": "open"},
    "tmp-exchange": {"write": "open", "delete": "open"},
    "gallery-prints": {"list": "open", "read": "open"},
    "gallery-web": {"read": "open"},
    "press-kit": {"list": "open", "read": "open"},
    "survey-maps": {"read": "open"},
    "ringing-records": {"read": "narrow"},
    "partner-feed": {"read": "narrow"},
    "season-preview": {"read": "narrow"},
    "drone-orthophotos": dict.fromkeys(ALL_VERBS, "unknown"),
}
