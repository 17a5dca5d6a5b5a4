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
    ("tmp-exchange", "object-acls.enabled"): ("low", "on"),
    ("gallery-prints", "exposure.list"): ("high", "open"),  # reading was meant, listing was not
    ("press-kit", "exposure.list"): ("high", "open"),  # the bucket's grant opens the list, not the objects
    ("press-kit", "object-acls.enabled"): ("low", "on"),
    ("press-kit", "exposure.change-settings"): (
        "critical",
        "open",
    ),  # one picture's own access list may be changed by anyone
    ("survey-maps", "exposure.read"): ("high", "open"),  # guards that refuse new policies leave the old one standing
    ("season-preview", "exposure.read"): ("high", "restricted"),  # opens by itself on a date
    ("tide-displays", "exposure.read"): ("high", "open"),  # its access point's own policy lets everybody in
    ("grant-ledger", "lock.default-retention"): ("high", "30 days"),
    ("permit-archive", "lock.mode"): ("high", "governance"),
    ("boat-logs", "versioning"): ("medium", "suspended"),
    ("tmp-exchange", "encryption.at-rest"): ("medium", "none"),
    ("camera-traps", "uploads.unfinished"): ("low", "37"),  # begun in March, and no rule clears them away
    ("camera-traps", "encryption.customer-provided"): ("high", "allowed"),  # who uploads could lock everybody else out
    ("tmp-exchange", "logging"): ("medium", "off"),
    ("tmp-exchange", "logging.target-kind"): ("medium", "absent"),
    ("boat-logs", "logging.target-kind"): ("medium", "itself"),  # a record that grows by being written
    ("press-kit", "logging.target-kind"): ("medium", "missing"),  # a record that is written nowhere
    ("backups-nightly", "lifecycle.against-retention"): ("medium", "on"),  # 14 days against 35
    ("members-area", "logging.target-exposure"): ("high", "open"),  # the record lies where the public may list and read
    ("members-area", "cross-origin"): ("medium", "any"),
    ("station-inbox", "access.outside"): ("high", "read write delete"),  # a partner may read, and may do more
    ("survey-maps", "notifications.outside"): ("high", "on"),  # another account is told
    ("camera-traps", "replication.outside"): ("critical", "on"),  # everything is copied to a contractor's account too
    # closed by its own rules; what anyone may store in contractor-drop is copied here
    ("station-inbox", "replication.source-exposure"): ("critical", "open"),
}

OBJECT_DRIFT: dict[tuple[str, str], tuple[str, int, int]] = {
    # bucket, fact: severity, drifted, checked — versions that break a requirement
    ("grant-ledger", "objects.current-version"): ("critical", 40, 42),  # the default keeps 30 days, long over
    ("permit-archive", "objects.current-version"): ("critical", 15, 61),  # over, or bare above a locked version
    ("press-kit", "objects.public"): ("critical", 1, 24),  # one picture may be replaced by anyone
    ("backups-nightly", "objects.retention"): ("high", 1, 42),  # 35 years for 35 days
    ("camera-traps", "objects.encryption"): ("high", 21, 59),  # stored before the default was switched on
    ("grant-ledger", "objects.retention"): ("high", 39, 42),
    ("grant-ledger", "objects.mode"): ("high", 1, 42),  # a weaker explicit retention wins over the default
    ("permit-archive", "objects.retention"): ("high", 3, 64),
    ("permit-archive", "objects.mode"): ("high", 63, 64),  # governance where compliance is required
    ("press-kit", "objects.content-type"): ("medium", 2, 24),  # two pages among the pictures
    ("camera-traps", "objects.metadata.station"): ("low", 4, 59),
    ("drone-orthophotos", "objects.content-type-matches-extension"): ("low", 19, 39),
}

ALL_VERBS = ("list", "read", "write", "delete", "change-settings", "bypass-retention", "read-settings")
UNKNOWN = {("drone-orthophotos", f"exposure.{verb}") for verb in ALL_VERBS}
UNKNOWN |= {("drone-orthophotos", name) for name in ("access.outside", "encryption.customer-provided")}
"""Its policy is refused to the audit key."""
UNKNOWN |= {("tmp-exchange", f"exposure.{verb}") for verb in ("read", "change-settings", "read-settings")}
UNKNOWN |= {("tmp-exchange", "access.outside")}  # whom objects' own ACLs name
"""Its objects may have ACLs of their own, and were not looked at."""
UNKNOWN |= {("camera-traps", "replication.target-exposure")}
"""One of its copies is in another account, whose rules no answer shows."""
MAY_HAVE_LISTS = {"press-kit", "tmp-exchange"}
"""Buckets whose objects may have their own ACLs: unknown to a survey that does not look at objects."""
OBJECT_UNKNOWN = {("drone-orthophotos", "objects.encryption"), ("drone-orthophotos", "objects.metadata.station")}
"""A third of it lies in an archive tier, and is not restored to be looked at."""

LOOK_ALIKES = {
    "tide-gauge-raw": "a policy for the team's own account, one folder that a partner may read, keys of others refused",
    "gallery-web": "public on purpose, and required to be",
    "ringing-records": "a Deny for everywhere but the office really fences",
    "partner-feed": "only two named accounts are let in",
    "old-website": "a public policy shut by a guard that shuts",
    "reef-plans": "access points that let in a partner by name, and nobody",
    "reedbed-notes": "an object that its own ACL opens, under an ownership mode that disables ACLs",
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
    "tmp-exchange": {"write": "open", "delete": "open"}
    | dict.fromkeys(("read", "change-settings", "read-settings"), "unknown"),
    "gallery-prints": {"list": "open", "read": "open"},
    "gallery-web": {"read": "open"},
    "tide-displays": {"read": "open"},
    "press-kit": {"list": "open", "read": "open", "change-settings": "open"},
    "survey-maps": {"read": "open"},
    "ringing-records": {"read": "restricted"},
    "partner-feed": {"read": "restricted"},
    "season-preview": {"read": "restricted"},
    "drone-orthophotos": dict.fromkeys(ALL_VERBS, "unknown"),
}

OTHER_DRIFT: dict[tuple[str, str, str], tuple[str, str]] = {
    # store, name, fact: severity, observed — the other stores, and whatever is no bucket
    ("attic", "donor-scans", "exposure.write"): ("critical", "open"),  # anybody may create
    ("attic", "donor-scans", "network.from"): ("high", "everywhere"),
    ("attic", "site-photos", "network.from"): ("high", "everywhere"),  # a list of networks with "all" in it
    ("attic", "site-photos", "uploads.scanned"): ("medium", "off"),
    ("attic", "trustee-papers", "versioning"): ("medium", "never"),
    ("attic", "trustee-papers", "soft-delete"): ("high", "7 days"),
    ("attic", "trustee-papers", "logging.excluded-identities"): ("high", "1"),  # the administrator leaves no trace
    ("attic", "summer-intern", "identity.excess-permissions"): ("high", "write delete"),  # through the crew
    ("attic", "boat-app at…01", "credential.shared-by-admin-and-app"): ("high", "on"),
    ("attic", "ghost-importer at…03", "credential.owner-state"): ("high", "missing"),
    ("attic", "season-helper at…02", "credential.owner-state"): ("high", "disabled"),
    ("attic", "meeting-minutes/2026/", "link.allows"): ("critical", "list read"),
    ("attic", "meeting-minutes/2026/", "link.scope"): ("medium", "prefix"),
    ("attic", "meeting-minutes/2026/", "link.lifetime"): ("high", "210 days"),
    ("attic", "attic", "store.legacy-signatures"): ("medium", "on"),
    ("undercroft", "undercroft", "store.dossier-age"): ("low", "9 days"),
    ("undercroft", "chart-masters", "scheduled-deletion"): ("medium", "2026-11-14T06:00:00Z"),
    ("harbour", "account root ro…-1", "credential.owner-kind"): ("critical", "root"),
    ("harbour", "admin", "identity.password-without-mfa"): ("high", "on"),
    ("harbour", "role species-lab", "identity.assumable-by"): ("high", "other-accounts"),
    ("harbour", "role log-shipper", "identity.assumable-by"): ("high", "own-account"),
    ("harbour", "tide-reader", "identity.excess-permissions"): ("high", "at least write"),  # by that role
    ("harbour", "admin SMTA…0901", "credential.age"): ("medium", "901 days"),
    ("harbour", "admin SMTA…0901", "credential.owner-well-known-name"): ("low", "on"),
    ("harbour", "permit-clerk", "identity.password-idle"): ("low", "410 days"),
    # all that is in the account reads old-website, which a guard keeps from everybody else
    # it changes its own key, and may make one for the administrator; ringing-sync may for itself alone
    ("harbour", "tide-reader", "identity.administers"): ("high", "iam:CreateAccessKey"),
    ("harbour", "backup-runner", "identity.excess-permissions"): ("high", "at least read"),
    ("harbour", "camera-uploader", "identity.excess-permissions"): ("high", "at least list read"),
    ("harbour", "permit-clerk", "identity.excess-permissions"): ("high", "at least list read"),
    ("harbour", "gallery-publisher", "identity.excess-permissions"): (
        "high",
        "delete change-settings bypass-retention read-settings",
    ),
    ("harbour", "camera-uploader SMTC…0090", "credential.active-keys-of-owner"): ("medium", "2"),
    ("harbour", "camera-uploader SMTC…0330", "credential.active-keys-of-owner"): ("medium", "2"),
    ("harbour", "old-importer SMTI…1400", "credential.age"): ("medium", "1,400 days"),
    ("harbour", "old-importer SMTI…1400", "credential.idle"): ("medium", "1,400 days"),  # since it was made: never used
    ("harbour", "boat-key", "encryption-key.state"): ("critical", "pending-deletion"),
    ("harbour", "spare-key", "encryption-key.state"): ("critical", "disabled"),
    ("harbour", "ledger-key", "encryption-key.age"): ("medium", "2,000 days"),
    ("harbour", "grant-ledger", "encryption.key-region"): ("high", "elsewhere"),
    ("harbour", "grant-ledger", "encryption.key-usable-by-store"): ("high", "off"),
    ("harbour", "contractor-drop/maps/", "link.allows"): ("critical", "read write"),
    ("harbour", "contractor-drop/maps/", "link.scope"): ("medium", "prefix"),
    ("harbour", "contractor-drop/maps/", "link.lifetime"): ("high", "absent"),  # it never ends
    ("harbour", "grant-ledger → skerry", "mirror.content"): ("high", "objects-missing"),
    ("harbour", "permit-archive → skerry", "mirror.settings"): (
        "high",
        "lock.enabled, lock.mode, lock.default-retention",
    ),
    # what only a second door opens, and what opens by container ACLs
    ("harbour", "boat-logs", "exposure.read"): ("high", "open"),  # no S3 answer shows it
    ("harbour", "boat-logs", "exposure.list"): ("high", "open"),
    ("harbour", "boat-logs", "logging.target-exposure"): ("high", "open"),  # its record lies in itself
    ("lagoon", "seal-pictures", "exposure.read"): ("high", "open"),  # one host is left out, all others are let in
    ("lagoon", "volunteer-rotas", "exposure.read"): ("critical", "open"),  # whoever sends no Referer
    ("lagoon", "boat-manuals", "exposure.read"): ("high", "open"),  # a Referer is whatever the sender writes
    ("lagoon", "boat-manuals", "exposure.list"): ("high", "open"),
    ("lagoon", "nest-counts", "access.outside"): ("high", "write delete"),  # who may write may delete
    ("lagoon", "eelgrass-survey", "access.outside"): ("high", "write delete"),  # it keeps the versions of nest-counts
    ("lagoon", "old-minutes", "versioning"): ("medium", "never"),
    ("lagoon", "old-minutes", "temporary-url-key"): ("medium", "on"),
    ("lagoon", "tide-films", "synchronization-key"): ("high", "on"),
    ("lagoon", "lagoon", "store.temporary-url-key"): ("high", "on"),
    ("cove", "wreck-charts", "exposure.read"): ("high", "open"),  # any token of the identity service will do
    ("cove", "wreck-charts", "exposure.list"): ("high", "open"),
    ("cove", "slip-rotas", "access.outside"): ("high", "write delete"),  # everybody of another project
    ("cove", "cove-warden@trust", "identity.administers"): ("high", "project cove"),
    ("cove", "yard-owner@trust", "identity.administers"): ("high", "project boatyard"),  # one project is enough
    ("cove", "cove-warden@trust a991…0002", "credential.makes-more"): ("high", "on"),
    ("cove", "cove-warden@trust a991…0002", "credential.expires"): ("medium", "absent"),
    ("cove", "cove-warden@trust 7205…0001", "credential.expires"): ("medium", "absent"),
    ("cove", "former-clerk@trust a991…0003", "credential.owner-state"): ("high", "disabled"),
    ("cove", "former-clerk@trust a991…0003", "credential.expires"): ("medium", "absent"),
    ("cove", "yard-owner@trust ec20…0001", "credential.expires"): ("medium", "absent"),
    ("skerry", "ferry-lists", "exposure.read"): ("high", "open"),  # its software skips a statement with NotAction
    ("skerry", "permit-archive", "principals.delete"): ("high", "old-importer (and 1 as required)"),
    ("skerry", "permit-scans", "principals.delete"): ("high", "old-importer (and 1 as required)"),
    ("skerry", "grant-ledger", "principals.delete"): (
        "high",
        "ledger-reader, mirror-runner, old-importer (and 1 as required)",
    ),
    ("skerry", "permit-archive", "lock.enabled"): ("high", "off"),
    ("skerry", "permit-archive", "lock.mode"): ("high", "absent"),
    ("skerry", "permit-archive", "lock.default-retention"): ("high", "absent"),
    ("skerry", "grant-ledger", "lock.default-retention"): ("high", "30 days"),
    ("skerry", "ledger-reader", "identity.excess-permissions"): (
        "high",
        "write delete change-settings read-settings",
    ),  # by its name it only reads; all but deleting objects is allowed to it, and unfinished uploads may be deleted
    ("skerry", "mirror-runner", "identity.excess-permissions"): (
        "high",
        "delete change-settings bypass-retention",
    ),  # an ACL's `write` at a gateway deletes versions too, under governance as well
    ("skerry", "old-importer", "identity.administers"): ("critical", "system user"),  # for whom no refusal counts
    ("skerry", "old-importer SKER…R001", "credential.owner-kind"): ("critical", "root"),
    ("boathouse", "slip-drafts/", "link.allows"): (
        "critical",
        "write",
    ),  # a pre-authenticated link that lets anybody write
    ("boathouse", "tide-posters", "exposure.list"): ("high", "open"),
    ("boathouse", "tide-posters", "exposure.read"): ("high", "open"),
    ("boathouse", "chart-tiles", "exposure.read"): ("high", "open"),  # reading without listing is still reading
    ("slipway", "$web", "exposure.read"): (
        "high",
        "open",
    ),  # the static site serves it, whatever the account's switch says
    ("dunes", "dune-counts", "exposure.read"): ("high", "open"),  # a legacy role, given to everyone
    ("dunes", "dune-drafts", "exposure.list"): ("high", "open"),  # access is not uniform, and its ACL counts
    ("dunes", "dune-drafts", "logging.excluded-identities"): ("high", "1"),
    ("boathouse", "crew-papers", "lock.mode"): ("high", "governance"),  # a rule that is not locked yet can be removed
    ("slipway", "yard-photos", "link-policies.allow"): ("high", "list read write"),
    ("slipway", "yard-photos", "link-policies.without-end"): ("high", "1"),  # links by it never end
    ("boathouse", "slip-drafts/", "link.lifetime"): ("high", "1 year"),
    ("dunes", "dune-archive", "logging.excluded-identities"): ("high", "1"),
    ("dunes", "dune-logs", "logging.excluded-identities"): ("high", "1"),
    ("dunes", "dune-pictures", "logging.excluded-identities"): ("high", "1"),
    ("slipway", "slipway", "store.minimum-tls"): ("high", "1.0"),
    ("slipway", "the account acco…ey-2", "credential.age"): ("high", "1,645 days"),
    ("boathouse", "tide-posters", "versioning"): ("medium", "never"),
    ("dunes", "dune-counts", "versioning"): ("medium", "suspended"),
    ("dunes", "dune-drafts", "versioning"): ("medium", "never"),
    ("boathouse", "slip-drafts", "versioning"): ("medium", "suspended"),
    ("boathouse", "slip-drafts/", "link.scope"): ("medium", "bucket"),
    ("dunes", "dune-logs", "versioning"): ("medium", "never"),
    ("dunes", "dune-pictures", "cross-origin"): ("medium", "any"),
    ("dunes", "dune-pictures", "versioning"): ("medium", "never"),
    ("slipway", "slipway", "store.shared-keys"): ("medium", "on"),
    ("dunes", "dune-drafts", "object-acls.enabled"): ("low", "on"),
}
"""Look-alikes that are not in it: the two keys of ringing-sync, of which one is disabled; the keeper's young key; links
that ended, or whose signer is disabled; lecture-slides, public but for the account's switch; permit-scans, whose newest
object is twelve minutes late; permit-key and what hangs on it; launch-2027 and reed-guide, whose ACL grants listing and
no reading; specimen-labels, whose ACL names nobody where the server has its own users; tide-films, whose ACL only
leaves out; the account's reading service, which is one of the store's own; of the second site's users: who is allowed
everything in its own tenant, who is suspended, and who has a capability that shows no secret."""

WAIVED = {("gallery-prints", "exposure.list"), ("press-kit", "logging.target-kind")}
"""What the demo's waivers accept, where the whole estate is served."""

# --- the month between the demo's two moments

GAINED = {
    ("harbour/boat-logs", "list"): None,  # done through the Swift door, whose log nobody keeps
    ("harbour/boat-logs", "read"): None,
    ("cove/wreck-charts", "list"): None,
    ("cove/wreck-charts", "read"): None,
    ("attic/donor-scans", "write"): None,  # no event tells: nothing is recorded there for anybody to read
    ("harbour/contractor-drop", "write"): None,  # done by an identity that is exempted from the record
    ("harbour/payroll-drop", "read"): "storage-keeper",
    ("harbour/payroll-drop", "write"): "storage-keeper",
}
"""Bucket and verb → who did it, as far as the record tells."""
IDENTITIES_GAINED = {
    # its permission leaves out one bucket, and so takes in all of everybody else's
    ("skerry", "ferry$ticket-counter", "list read"): ("closed", "open", 6),
    ("skerry", "ferry$ticket-counter", "list"): ("closed", "open", 1),  # ferry-lists, which anybody could read before
    # a second condition made the restriction to the office a way round for them as well
    ("harbour", "account root", "all"): ("restricted", "open", 1),
    ("harbour", "admin", "all"): ("restricted", "open", 1),
    ("harbour", "storage-keeper", "all"): ("restricted", "open", 1),
    ("harbour", "auditor", "list read read-settings"): ("restricted", "open", 1),
}
"""Store, identity and verbs → from what to what, on how many buckets. None lost any: old-website, which a guard shut to
everybody else, is open to the account's own still."""
LOST = {("harbour/old-website", "list"): "admin", ("harbour/old-website", "read"): "admin"}
CAME_AND_WENT = {
    ("new", "bucket", "launch-2027"): "gallery-publisher",
    ("gone", "bucket", "open-day-2023"): "admin",
    ("new", "bucket", "volunteer-forms"): "admin",
    ("gone", "bucket", "volunteer-sheets"): "admin",
    ("new", "credential", "ringing-sync SMTR…0020"): "storage-keeper",
    ("gone", "credential", "ringing-sync SMTR…0700"): "storage-keeper",
    ("gone", "identity", "summer-helper"): "storage-keeper",
}
WEAKENED = {
    ("grant-ledger", "retention shortened"): (1, "admin"),
    ("permit-archive", "deleted while under retention"): (1, "admin"),
    ("permit-archive", "legal hold lifted"): (2, "permit-clerk"),
}
TURNS = {
    ("new", "harbour", "volunteer-forms", "exposure.read"),
    ("new", "harbour", "boat-logs", "versioning"),
    ("new", "harbour", "boat-key", "encryption-key.state"),
    ("new", "attic", "donor-scans", "exposure.write"),
    ("worse", "harbour", "payroll-drop", "exposure.read"),
    ("worse", "harbour", "contractor-drop", "exposure.write"),
    ("worse", "harbour", "station-inbox", "replication.source-exposure"),
    ("resolved", "harbour", "old-website", "exposure.list"),
    ("resolved", "harbour", "old-website", "exposure.read"),
    ("resolved", "harbour", "tide-gauge-raw", "encryption.at-rest"),
    ("resolved", "harbour", "storage-keeper", "identity.password-without-mfa"),
    ("waived", "harbour", "gallery-prints", "exposure.list"),
    ("now known", "harbour", "survey-maps", "notifications.outside"),
    ("no longer known", "harbour", "drone-orthophotos", "exposure.read"),
}
"""Among all turns of drift; those that only the passing of time brings are not listed."""
