"""Settings of a bucket as the documents of the S3-compatible protocol that hold them.

The stand-in stores answer with them; a remedy shows the one to apply.
"""

from __future__ import annotations

import re
from html import escape

from rusty_lantern.core.model.acl import Grant
from rusty_lantern.core.model.bucket import Encryption, Lock, Versioning
from rusty_lantern.core.model.guards import Guards
from rusty_lantern.core.value_types import DAY, YEAR

NAMESPACE = "http://s3.amazonaws.com/doc/2006-03-01/"
GROUPS = "http://acs.amazonaws.com/groups/"


def document(root: str, body: str) -> bytes:
    """An answer with this root element."""
    return f'<?xml version="1.0" encoding="UTF-8"?>\n<{root} xmlns="{NAMESPACE}">{body}</{root}>'.encode()


def laid_out(written: bytes) -> str:
    """A document with each element on a line of its own. Texts stay as they are.

    >>> print(laid_out(b"<Tags><Tag><Key>a b</Key><Value></Value></Tag></Tags>"))
    <Tags>
     <Tag>
      <Key>a b</Key>
      <Value></Value>
     </Tag>
    </Tags>
    """
    rows: list[str] = []
    depth = 0
    for part in _PARTS.findall(written.decode()):
        closes = part.startswith("</")
        depth -= closes
        rows.append(" " * depth + part)
        depth += not closes and not part.startswith("<?") and "</" not in part
    return "\n".join(rows)


_PARTS = re.compile(r"<\?[^>]*>|<\w+[^>]*>[^<]+</\w+>|<(?:\w+)></\w+>|<[^>]*>")
"""A declaration; an element with text alone; an empty one; a tag by itself. No text holds a bracket: it is escaped."""


def element(tag: str, value: object) -> str:
    """One element with text in it."""
    return f"<{tag}>{escape(str(value), quote=False)}</{tag}>"


INSTANCE = "http://www.w3.org/2001/XMLSchema-instance"


def grants_document(acl: list[Grant], owner: str = "") -> bytes:
    """An ACL of this owner, by default the first who is named in it. Each grantee says of what type it is: stores take
    no ACL without that."""
    uris = {"anyone": "global/AllUsers", "any-account": "global/AuthenticatedUsers", "log-delivery": "s3/LogDelivery"}
    entries = ""
    for grant in acl:
        kind, who = (
            ("Group", element("URI", GROUPS + uris[grant.to]))
            if grant.to in uris
            else ("CanonicalUser", element("ID", grant.identity))
        )
        permission = element("Permission", grant.permission.upper().replace("-", "_"))
        entries += f'<Grant><Grantee xmlns:xsi="{INSTANCE}" xsi:type="{kind}">{who}</Grantee>{permission}</Grant>'
    owner = owner or next((grant.identity for grant in acl if grant.to == "named"), "")
    return document(
        "AccessControlPolicy", f"<Owner>{element('ID', owner)}</Owner><AccessControlList>{entries}</AccessControlList>"
    )


def guards_document(public_access_guards: Guards) -> bytes:
    """The four public-access guards."""
    switches = {
        "BlockPublicAcls": public_access_guards.refuse_new_acls,
        "IgnorePublicAcls": public_access_guards.ignore_acls,
        "BlockPublicPolicy": public_access_guards.refuse_new_policies,
        "RestrictPublicBuckets": public_access_guards.restrict_policies,
    }
    body = "".join(element(tag, str(on).lower()) for tag, on in switches.items())
    return document("PublicAccessBlockConfiguration", body)


def ownership_document(mode: str) -> bytes:
    """How objects are owned."""
    name = "".join(part.capitalize() for part in mode.split("-"))
    return document("OwnershipControls", f"<Rule>{element('ObjectOwnership', name)}</Rule>")


def versioning_document(versioning: Versioning) -> bytes:
    """Versioning."""
    words = {"never": "", "on": element("Status", "Enabled"), "suspended": element("Status", "Suspended")}
    second = element("MfaDelete", "Enabled") if versioning.mfa else ""
    return document("VersioningConfiguration", words[versioning.state] + second)


def encryption_document(encryption: Encryption) -> bytes:
    """Default encryption."""
    body = element("SSEAlgorithm", encryption.algorithm)
    body += element("KMSMasterKeyID", encryption.key) if encryption.key else ""
    default = f"<ApplyServerSideEncryptionByDefault>{body}</ApplyServerSideEncryptionByDefault>"
    if encryption.customer_provided_refused:
        default += "<BlockedEncryptionTypes><EncryptionType>SSE-C</EncryptionType></BlockedEncryptionTypes>"
    return document("ServerSideEncryptionConfiguration", f"<Rule>{default}</Rule>")


def lock_document(lock: Lock) -> bytes:
    """Object lock and the retention that new versions inherit."""
    body = element("ObjectLockEnabled", "Enabled") if lock.enabled else ""
    if lock.mode:
        years, days = divmod(lock.retention, YEAR)
        period = element("Years", years) if not days else element("Days", lock.retention // DAY)
        default = element("Mode", lock.mode.upper()) + period
        body += f"<Rule><DefaultRetention>{default}</DefaultRetention></Rule>"
    return document("ObjectLockConfiguration", body)


def tags_document(tags: dict[str, str]) -> bytes:
    """Tags of a bucket or an object."""
    entries = "".join(f"<Tag>{element('Key', key)}{element('Value', value)}</Tag>" for key, value in tags.items())
    return document("Tagging", f"<TagSet>{entries}</TagSet>")
