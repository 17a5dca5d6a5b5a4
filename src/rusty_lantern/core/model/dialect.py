"""A dialect: which constructs of policies a store's software reads otherwise, and on which releases it was measured."""

import msgspec

GATEWAY_16 = "gateway-16"
"""The dialect of the object gateway."""
SEAWEED_4 = "seaweed-4"
"""The dialect of the SeaweedFS server."""
MINIO_2021 = "minio-2021"
"""The dialect of the MinIO engine that a JuiceFS gateway has."""


class Readings(msgspec.Struct, frozen=True, omit_defaults=True, rename="kebab", forbid_unknown_fields=True):
    """The constructs that are read otherwise. What is left out is read as the published language has it.

    `core.access.dialects.readings` has the words for each.
    """

    not_action_matches_nothing: bool = False
    leading_star_is_every_action: bool = False
    negated_on_absent_key_is_false: bool = False
    negated_with_several_values_takes_any: bool = False
    null_asks_for_absence: bool = False
    condition_keys_are_case_sensitive: bool = False
    transport_is_known_over_tls_only: bool = False
    binary_is_decoded_on_both_sides: bool = False
    moments_are_no_numbers: bool = False
    other_numbers_and_moments_are_left_out: bool = False
    networks_are_numbers: bool = False
    empty_is_absent: tuple[str, ...] = ()
    """Condition keys of which an empty value is none."""
    usual_and_most: tuple[tuple[str, str], ...] = ()
    """Condition keys that every listing carries there, with the number that counts where it is not sent, or is more."""
    tags_decide_more: tuple[str, ...] = ()
    """Actions whose requests carry the tags of the object there, beside those that are published."""
    never_carried: tuple[str, ...] = ()
    """Condition keys that no request carries there."""
    carried_by_all: tuple[str, ...] = ()
    """Condition keys that every request carries there, each with a value of its own."""
    always_carried: tuple[tuple[str, str], ...] = ()
    """Condition keys that every request carries there, with their one value."""
    name_of_nobody: str = ""
    """The user name that requests without credentials carry."""
    root_of_no_account_is_everybody: bool = False
    ids_are_user_names: bool = False
    resources_are_of_the_buckets_account: bool = False
    own_permissions_stay_in_their_account: bool = False
    partitions_tell_names_apart: bool = False
    principals_go_by_account_and_name: bool = False
    wildcards_in_names_name_nobody: bool = False
    logins_go_by_their_user: bool = False
    user_names_are_given: bool = False
    """Whether the store's administrators name its users, so that no caller chooses the name."""
    canonical_ids_name_nobody: bool = False
    services_name_nobody: bool = False
    federated_names_are_users: bool = False
    not_principal_goes_by_name: bool = False
    acl_permissions_are_wider: bool = False
    bypass_goes_with_deletion: bool = False
    public_policies_count_under_their_guard: bool = False
    """Whether the guard on public policies does not keep a standing policy from counting. Not sure for all releases."""
    principals_are_patterns: bool = False
    decided_as: tuple[tuple[str, str], ...] = ()
    """Actions of which statements say nothing there, each with the action by which its requests are decided."""
    covered_by: tuple[tuple[str, str], ...] = ()
    """Actions, each with another one: a statement that has that one has both there."""
    values_of_another_form_fit_nothing: bool = False
    policies_let_unsigned_callers_only_read: bool = False
    acls_let_unsigned_callers_read: bool = False
    carried_by_signed: tuple[str, ...] = ()
    """Condition keys that requests without credentials do not carry there."""
    filer_takes_no_policy: bool = False
    """Whether the server has a filer at another port, which gives objects to whoever reaches it."""
    unsigned_callers_are_the_user: str = ""
    """The user whose own permissions hold for requests without credentials."""
    policies_are_for_unsigned_callers: bool = False
    acls_grant_nothing: bool = False
    addresses_are_what_is_said: bool = False
    parameters_are_values: bool = False
    absent_is_empty: tuple[str, ...] = ()
    """Condition keys that count as carried and empty where a request does not carry them."""
    empty_of_unsigned: tuple[str, ...] = ()
    """Condition keys that requests without credentials carry there, and empty."""
    own_covered_by: tuple[tuple[str, str], ...] = ()
    """Actions, each with another one: a permission of a user's own that has that one has both there."""
    disabled_users_are_refused: bool = False
    stars_end_early: bool = False
    variables_are_whole_values: bool = False
    unfilled_variables_are_text: bool = False
    resource_names_fit_nothing: bool = False
    own_buckets_end_in_slash: bool = False
    sent_with_any: tuple[str, ...] = ()
    """Condition keys that any request carries there which sends them, not only those that they are published for."""
    payer_not_asked: tuple[str, ...] = ()
    """Actions that a policy allows without credentials where the requester pays."""


class Dialect(msgspec.Struct, frozen=True, omit_defaults=True, rename="kebab", forbid_unknown_fields=True):
    """One dialect."""

    dialect: str
    """Its name, as estate.yaml names it."""
    title: str
    measured_on: tuple[str, ...] = ()
    """Releases that it was measured on, or beginnings of their numbers that end in a dot."""
    readings: Readings = Readings()

    def was_measured_on(self, release: str) -> bool:
        """Whether its differences were measured on a release."""
        return any(release == one or (one.endswith(".") and release.startswith(one)) for one in self.measured_on)
