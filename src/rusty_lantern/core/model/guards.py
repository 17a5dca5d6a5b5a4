"""Public-access guards, of an account, a bucket or an access point."""

import msgspec


class Guards(msgspec.Struct, frozen=True, omit_defaults=True):
    """The four public-access guards. The first two refuse *new* public grants; the last two shut standing ones."""

    refuse_new_acls: bool = False
    ignore_acls: bool = False
    refuse_new_policies: bool = False
    restrict_policies: bool = False
