"""Names of condition keys: how they are compared, and how they are published."""

from __future__ import annotations

from rusty_lantern.core.access.policy.condition_keys import (
    ADDRESS_PARAMETER,
    EXISTING_TAG,
    FORWARDED,
    KEYS,
    PARAMETER,
    REFERER_HOST,
    SENT,
    SEVERAL,
    STORED_TAG,
)


def key_name(written: str) -> str:
    """A condition key by the name that it has here: lower case, but for a tag of an object, which keeps its own.

    Names of keys are compared without regard to case, object tags with it (published with object tagging).

    >>> key_name("S3:ExistingObjectTag/Team"), key_name("aws:PrincipalTag/Team")
    ('s3:existingobjecttag/Team', 'aws:principaltag/team')
    """
    family, slash, tag = written.partition("/")
    if family.lower() in NO_POLICYS:
        return f"{family} (of a policy){slash}{tag}"
    return family.lower() + slash + (tag if family.lower() in _OBJECT_TAGS else tag.lower())


NO_POLICYS = frozenset({
    REFERER_HOST, SEVERAL, FORWARDED, ADDRESS_PARAMETER, PARAMETER.rstrip("/"), STORED_TAG.rstrip("/"),
    *(name for name in KEYS if name.startswith(SENT)),
})  # fmt: skip
"""Keys that are no policy's: a document that names one means something else."""
_OBJECT_TAGS = ("s3:existingobjecttag", "s3:requestobjecttag")


def carried_key(key: str) -> str:
    """The key by which a request carries what a rule asks of it.

    >>> carried_key("sent s3:prefix"), carried_key("stored-tag/team"), carried_key("aws:referer")
    ('s3:prefix', 's3:existingobjecttag/team', 'aws:referer')
    """
    return key.removeprefix(SENT).replace(STORED_TAG, EXISTING_TAG, 1)


PUBLISHED = (
    "aws:CurrentTime", "aws:EpochTime", "aws:MultiFactorAuthPresent", "aws:PrincipalTag", "aws:PrincipalType",
    "aws:Referer", "aws:RequestTag", "aws:ResourceTag", "aws:SecureTransport", "aws:SourceIp", "aws:SourceVpc",
    "aws:TagKeys", "aws:TokenIssueTime", "aws:UserAgent", "aws:VpcSourceIp", "aws:username", "s3:BucketTag",
    "s3:ExistingObjectTag", "s3:LocationConstraint", "s3:RequestObjectTag", "s3:RequestObjectTagKeys", "s3:VersionId",
    "s3:TlsVersion", "s3:delimiter", "s3:max-keys", "s3:prefix", "s3:object-lock-legal-hold", "s3:object-lock-mode",
    "s3:object-lock-remaining-retention-days", "s3:object-lock-retain-until-date", "s3:x-amz-acl",
    "s3:x-amz-copy-source", "s3:x-amz-metadata-directive", "s3:x-amz-server-side-encryption",
    "s3:x-amz-storage-class", "s3:x-amz-server-side-encryption-aws-kms-key-id", "s3:x-amz-grant-read",
    "s3:x-amz-grant-write", "s3:x-amz-grant-read-acp", "s3:x-amz-grant-write-acp", "s3:x-amz-grant-full-control",
)  # fmt: skip
"""Condition keys, and families of them, as they are published, as far as other software carries them."""
_PUBLISHED = {name.lower(): name for name in PUBLISHED}


def is_misspelled(written: str) -> bool:
    """Whether a key is written in other letters than it is published in: `aws:SourceIP`. In the published language
    that counts for nothing.

    >>> is_misspelled("aws:SourceIP"), is_misspelled("aws:SourceIp"), is_misspelled("s3:existingObjectTag/team")
    (True, False, True)
    """
    family = written.partition("/")[0]
    return _PUBLISHED.get(family.lower(), family) != family
