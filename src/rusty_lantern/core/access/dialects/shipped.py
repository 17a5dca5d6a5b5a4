"""The dialects that come with the program: each difference was measured, and a test measures it again."""

from __future__ import annotations

from typing import Protocol

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.dialect import GATEWAY_16, MINIO_2021, SEAWEED_4, Dialect, Readings
from rusty_lantern.core.model.dossier import Software

COMMON = Dialect("common", "the published policy language")
GATEWAY = Dialect(
    GATEWAY_16,
    "the object gateway, release 16",
    ("16.2.",),
    Readings(
        not_action_matches_nothing=True,
        leading_star_is_every_action=True,
        negated_on_absent_key_is_false=True,
        negated_with_several_values_takes_any=True,
        null_asks_for_absence=True,
        condition_keys_are_case_sensitive=True,
        transport_is_known_over_tls_only=True,
        binary_is_decoded_on_both_sides=True,
        moments_are_no_numbers=True,
        other_numbers_and_moments_are_left_out=True,
        networks_are_numbers=True,
        empty_is_absent=("s3:prefix", "s3:delimiter"),
        usual_and_most=(("s3:max-keys", "1000"),),
        tags_decide_more=(
            "s3:AbortMultipartUpload", "s3:DeleteObject", "s3:DeleteObjectVersion", "s3:GetObjectLegalHold",
            "s3:GetObjectRetention", "s3:PutObjectLegalHold", "s3:PutObjectRetention",
        ),
        never_carried=(
            "aws:userid", "aws:principalarn", "aws:principalaccount", "aws:principalorgid", "s3:authtype",
            "s3:signatureversion", "s3:resourceaccount", "aws:requestedregion", "aws:sourcevpce",
            "aws:sourcevpc", "aws:sourcevpcarn", "aws:vpcsourceip", "aws:sourcearn", "aws:sourceaccount",
            "aws:sourceowner", "aws:sourceorgid", "aws:sourceorgpaths", "aws:viaawsservice", "aws:calledvia",
            "aws:calledviafirst", "aws:calledvialast", "aws:principalorgpaths", "aws:principalisawsservice",
            "aws:principalservicename", "aws:principalservicenameslist", "aws:resourceaccount",
            "aws:resourceorgid", "aws:resourceorgpaths", "aws:vpceaccount", "aws:vpceorgid", "aws:vpceorgpaths",
            "aws:resourcetag/", "s3:buckettag/", "s3:versionid", "s3:x-amz-storage-class", "s3:object-lock-mode",
            "s3:object-lock-legal-hold", "s3:object-lock-retain-until-date", "s3:x-amz-content-sha256",
            "s3:x-amz-website-redirect-location", "s3:requestobjecttagkeys", "s3:signatureage",
            "s3:object-lock-remaining-retention-days", "s3:x-amz-server-side-encryption-customer-algorithm",
            "s3:if-match", "s3:if-none-match", "s3:objectcreationoperation", "s3:dataaccesspointarn",
            "s3:dataaccesspointaccount", "s3:accesspointnetworkorigin", "s3:accesspointtag/", "aws:requesttag/",
            "aws:tagkeys",
        ),
        carried_by_all=("aws:sourceip",),
        always_carried=(("aws:principaltype", "User"),),
        name_of_nobody="anonymous",
        root_of_no_account_is_everybody=True,
        ids_are_user_names=True,
        resources_are_of_the_buckets_account=True,
        own_permissions_stay_in_their_account=True,
        partitions_tell_names_apart=True,
        principals_go_by_account_and_name=True,
        wildcards_in_names_name_nobody=True,
        logins_go_by_their_user=True,
        user_names_are_given=True,
        canonical_ids_name_nobody=True,
        services_name_nobody=True,
        federated_names_are_users=True,
        not_principal_goes_by_name=True,
        acl_permissions_are_wider=True,
        bypass_goes_with_deletion=True,
        public_policies_count_under_their_guard=True,
        stars_end_early=True,
        variables_are_whole_values=True,
        resource_names_fit_nothing=True,
        payer_not_asked=(
            "s3:AbortMultipartUpload", "s3:BypassGovernanceRetention", "s3:DeleteBucketWebsite", "s3:DeleteObject",
            "s3:DeleteObjectVersion", "s3:GetBucketCORS", "s3:GetBucketLocation", "s3:GetBucketLogging",
            "s3:GetBucketObjectLockConfiguration", "s3:GetBucketRequestPayment", "s3:GetBucketVersioning",
            "s3:GetBucketWebsite", "s3:PutBucketCORS", "s3:PutBucketObjectLockConfiguration",
            "s3:PutBucketRequestPayment", "s3:PutBucketTagging", "s3:PutBucketVersioning", "s3:PutBucketWebsite",
            "s3:PutObject",
        ),
    ),
)  # fmt: skip
SEAWEED = Dialect(
    SEAWEED_4,
    "the SeaweedFS server, release 4.48",
    ("4.48",),
    Readings(
        condition_keys_are_case_sensitive=True,
        empty_is_absent=("s3:prefix", "s3:delimiter"),
        never_carried=(
            "aws:epochtime", "aws:principalarn", "aws:principaltype", "s3:signatureversion", "s3:signatureage",
            "s3:resourceaccount", "aws:requestedregion", "aws:principalorgid", "aws:sourcevpce", "aws:sourcevpc",
            "aws:sourcevpcarn", "aws:vpcsourceip", "aws:sourcearn", "aws:sourceaccount", "aws:sourceowner",
            "aws:sourceorgid", "aws:sourceorgpaths", "aws:viaawsservice", "aws:calledvia", "aws:calledviafirst",
            "aws:calledvialast", "aws:principalorgpaths", "aws:principalisawsservice", "aws:principalservicename",
            "aws:principalservicenameslist", "aws:resourceaccount", "aws:resourceorgid", "aws:resourceorgpaths",
            "aws:vpceaccount", "aws:vpceorgid", "aws:vpceorgpaths", "s3:object-lock-mode", "s3:object-lock-legal-hold",
            "s3:object-lock-retain-until-date", "s3:object-lock-remaining-retention-days", "s3:requestobjecttag/",
            "s3:tlsversion", "s3:if-match", "s3:if-none-match", "s3:objectcreationoperation", "s3:dataaccesspointarn",
            "s3:dataaccesspointaccount", "s3:accesspointnetworkorigin", "s3:accesspointtag/",
        ),
        principals_are_patterns=True,
        user_names_are_given=True,
        decided_as=(
            ("s3:GetObjectVersionTagging", "s3:GetObjectTagging"),
            ("s3:PutObjectVersionTagging", "s3:PutObjectTagging"),
            ("s3:DeleteObjectVersionTagging", "s3:DeleteObjectTagging"),
            ("s3:GetObjectVersionAcl", "s3:GetObjectAcl"), ("s3:PutObjectVersionAcl", "s3:PutObjectAcl"),
            ("s3:GetObjectVersionAttributes", "s3:GetObjectAttributes"),
            ("s3:GetObjectTorrent", "s3:GetObject"), ("s3:GetObjectVersionTorrent", "s3:GetObjectVersion"),
            ("s3:GetBucketPolicyStatus", "s3:ListBucket"),
        ),
        covered_by=(
            ("s3:ListBucketMultipartUploads", "s3:PutObject"), ("s3:ListMultipartUploadParts", "s3:PutObject"),
            ("s3:AbortMultipartUpload", "s3:PutObject"),
        ),
        values_of_another_form_fit_nothing=True,
        policies_let_unsigned_callers_only_read=True,
        acls_let_unsigned_callers_read=True,
        carried_by_signed=("aws:userid", "aws:principalaccount"),
        filer_takes_no_policy=True,
        unsigned_callers_are_the_user="anonymous",
        unfilled_variables_are_text=True,
        sent_with_any=(
            "s3:prefix", "s3:delimiter", "s3:max-keys", "s3:x-amz-acl", "s3:x-amz-grant-read", "s3:x-amz-grant-write",
            "s3:x-amz-grant-read-acp", "s3:x-amz-grant-write-acp", "s3:x-amz-grant-full-control",
            "s3:x-amz-copy-source", "s3:x-amz-metadata-directive", "s3:x-amz-storage-class",
            "s3:x-amz-server-side-encryption", "s3:x-amz-server-side-encryption-aws-kms-key-id",
            "s3:x-amz-server-side-encryption-customer-algorithm", "s3:x-amz-website-redirect-location",
            "s3:x-amz-object-ownership",
        ),
    ),
)  # fmt: skip
UNSIGNED_READS = (
    "s3:GetObject", "s3:GetObjectTorrent", "s3:GetObjectVersion", "s3:GetObjectVersionTorrent", "s3:ListBucket",
)  # fmt: skip
"""What a policy or an ACL may let whoever sends no credentials do there (measured on SeaweedFS 4.48)."""
MINIO = Dialect(
    MINIO_2021,
    "the MinIO engine of 2021, as a JuiceFS gateway 1.4.2 has it",
    ("1.4.2",),
    Readings(
        decided_as=(
            ("s3:GetObjectVersion", "s3:GetObject"), ("s3:DeleteObjectVersion", "s3:DeleteObject"),
            ("s3:GetObjectVersionTagging", "s3:GetObjectTagging"),
            ("s3:PutObjectVersionTagging", "s3:PutObjectTagging"),
            ("s3:DeleteObjectVersionTagging", "s3:DeleteObjectTagging"),
            ("s3:GetBucketAcl", "s3:GetBucketPolicy"), ("s3:GetBucketLogging", "s3:GetBucketPolicy"),
            ("s3:GetBucketWebsite", "s3:GetBucketPolicy"), ("s3:GetBucketCORS", "s3:GetBucketPolicy"),
            ("s3:GetBucketRequestPayment", "s3:GetBucketPolicy"),
            ("s3:GetAccelerateConfiguration", "s3:GetBucketPolicy"), ("s3:GetObjectAcl", "s3:GetBucketPolicy"),
            ("s3:GetObjectVersionAcl", "s3:GetBucketPolicy"),
        ),
        policies_are_for_unsigned_callers=True,
        acls_grant_nothing=True,
        addresses_are_what_is_said=True,
        parameters_are_values=True,
        absent_is_empty=("aws:referer", "aws:useragent"),
        empty_of_unsigned=("aws:userid", "aws:username", "s3:signatureversion", "s3:authtype"),
        own_covered_by=(("s3:GetObject", "s3:GetObjectVersion"),),
        disabled_users_are_refused=True,
        unfilled_variables_are_text=True,
        own_buckets_end_in_slash=True,
        sent_with_any=(
            "s3:max-keys", "s3:x-amz-storage-class", "s3:x-amz-copy-source", "s3:x-amz-metadata-directive",
            "s3:x-amz-server-side-encryption", "s3:object-lock-mode", "s3:object-lock-legal-hold",
            "s3:object-lock-retain-until-date",
        ),
    ),
)  # fmt: skip
SHIPPED: dict[str, Dialect] = {dialect.dialect: dialect for dialect in (COMMON, GATEWAY, SEAWEED, MINIO)}
"""The dialects that come with the program, by name."""


class Answering(Protocol):
    """What is known of the software that answers for a store."""

    @property
    def dialect(self) -> Dialect | None:
        """Its dialect, where that does not come with the program."""

    @property
    def software(self) -> Answer[Software]:
        """What it is."""


def dialect_of(store: Answering) -> Dialect:
    """How a store's software reads policies: its own dialect where one is known, the common reading where not."""
    if store.dialect is not None:
        return store.dialect
    software = store.software.value
    return SHIPPED.get(software.dialect, COMMON) if software is not None else COMMON
