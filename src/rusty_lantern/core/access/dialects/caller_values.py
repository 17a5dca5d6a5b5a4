"""Values of condition keys that whoever asks adds to their request, where a parameter of a key's own name counts as one
more value of that key: `?SourceIp=10.1.2.3` (measured on a JuiceFS gateway 1.4.2)."""

from __future__ import annotations

import msgspec

from rusty_lantern.core.access.policy.condition_keys import ADDRESS_PARAMETER, PARAMETER, context_key
from rusty_lantern.core.access.policy.document import Condition

_ADDRESS = "aws:sourceip"


def parameter_of(key: str) -> str:
    """What stands for the parameter that adds a value to a condition key; empty for a key of which only the first value
    counts (numbers, moments, switches), or whose name has a part that a policy chooses.

    >>> parameter_of("aws:username"), parameter_of("aws:sourceip"), parameter_of("s3:max-keys")
    ('parameter/username', 'address parameter', '')
    """
    if key == _ADDRESS:
        return ADDRESS_PARAMETER
    row = context_key(key)
    if row is None or row.kind not in ("text", "name") or "/" in key:
        return ""
    return PARAMETER + key.partition(":")[2]


def with_further_value(
    condition: Condition, carried: list[tuple[Condition, ...]], parameter: str
) -> list[tuple[Condition, ...]]:
    """A condition on a key that has the values of a parameter as well. `carried`: what it becomes without them.

    A plain operator holds if one of the values fits, a negated one if none does.
    """
    added = msgspec.structs.replace(condition, key=parameter)
    narrows = "not" in condition.operator or (condition.operator == "null" and "true" in condition.values)
    if narrows:
        return [(*together, added) for together in carried]
    return carried if () in carried else [*carried, (msgspec.structs.replace(added, if_exists=False),)]
