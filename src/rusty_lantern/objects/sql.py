"""Object facts and requirements as expressions over a version table.

Every fact is three expressions: which rows it applies to, where it is known, and its value (null: absent). A
requirement becomes one small number a row: 1 held, 0 drifted, 2 unknown, 3 left out by the sample, null where it does
not apply. Whatever a person wrote in a baseline is bound as a parameter and never becomes part of the text; regular
expressions run in linear time.
"""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from typing import Any

import msgspec

from rusty_lantern.core.baseline.comparisons import MAX_TEXT, Comparison
from rusty_lantern.core.baseline.loader import Requirement
from rusty_lantern.core.facts.objects import KEEPERS, SCOPES
from rusty_lantern.core.facts.registry import family, lookup
from rusty_lantern.core.value_types import Levels, Scale
from rusty_lantern.objects.duckdb_engine import microseconds

BINDS = "(mode <> '' AND until > $moment)"
_PROTECTED_BENEATH = "(coalesce(beneath_until > $moment, false) OR coalesce(beneath_hold, false))"
SOURCE = f"""(SELECT *,
  CASE WHEN NOT current THEN NULL
    WHEN marker THEN CASE WHEN {_PROTECTED_BENEATH} THEN 'marker-over-protected' WHEN beneath_unknown THEN 'unknown' END
    WHEN coalesce({BINDS}, false) OR coalesce(hold, false) THEN 'protected'
    WHEN deletable_by = 'unknown' THEN 'unknown'
    WHEN {_PROTECTED_BENEATH} THEN 'unprotected-over-protected' WHEN beneath_unknown THEN 'unknown'
    ELSE 'unprotected' END AS key_state
FROM (SELECT *,
  CASE WHEN marker OR NOT locks_hold THEN 'delete-permission'
    WHEN locks_hold IS NULL AND (coalesce(hold, false) OR coalesce({BINDS}, false)) THEN 'unknown'
    WHEN coalesce(hold, false) OR coalesce(mode = 'compliance' AND until > $moment, false) THEN 'nobody'
    WHEN mode IS NULL OR hold IS NULL THEN 'unknown'
    WHEN {BINDS} THEN 'bypass-retention' ELSE 'delete-permission' END AS deletable_by,
  lower(nullif(regexp_extract(key, '\\.([^./]+)$', 1), '')) AS extension,
  rtrim(string_split(content_type, ';')[1]) AS media_type
FROM (SELECT * REPLACE (
  epoch_us(written) AS written, epoch_us(until) AS until, epoch_us(beneath_until) AS beneath_until
) FROM {{rows}})))"""
"""The rows of tables (`table_set.Source.rows`) with what follows from them: `deletable_by` and `key_state` as
`core.object_rules.retention` has them, the key's `extension`, the content type without its parameters. Moments become
whole microseconds since 1970, so that they compare and subtract without a calendar; what a query does not use is not
worked out."""

FITTING: dict[str, tuple[str, ...]] = {
    "jpg": ("image/jpeg",), "jpeg": ("image/jpeg",), "png": ("image/png",), "gif": ("image/gif",),
    "webp": ("image/webp",), "svg": ("image/svg+xml",), "tif": ("image/tiff",), "tiff": ("image/tiff",),
    "pdf": ("application/pdf",), "txt": ("text/plain",), "csv": ("text/csv",), "html": ("text/html",),
    "htm": ("text/html",), "css": ("text/css",), "js": ("text/javascript", "application/javascript"),
    "json": ("application/json",), "xml": ("application/xml", "text/xml"), "zip": ("application/zip",),
    "gz": ("application/gzip", "application/x-gzip"), "tar": ("application/x-tar",), "mp4": ("video/mp4",),
    "mp3": ("audio/mpeg",), "wav": ("audio/wav", "audio/x-wav"), "parquet": ("application/vnd.apache.parquet",),
}  # fmt: skip
"""Common extensions and the media types registered for them."""
_FITS = " ".join(f"WHEN '{e}' THEN media_type IN {(*t, t[0])}" for e, t in FITTING.items())
_OBJECT = "current AND NOT marker"


def _is_among(names: str) -> str:
    """Whether a version's encryption key is one of some names, itself or without what leads to it."""
    return " OR ".join(
        f"contains({names}, chr(10) || {name} || chr(10))"
        for name in ("encryption_key", "string_split(encryption_key, '/')[-1]")
    )


_OF_THE_STORE = f"coalesce(({_is_among('store_keys')}) OR contains(encryption_key, 'alias/aws/'), false)"
_OF_THE_TEAM = f"({_is_among('team_keys')} OR default_encryption = 'customer-managed' AND ({_is_among('default_key')}))"
_KEEPER = f"CASE WHEN encryption = 'customer-managed' AND {_OF_THE_STORE} THEN 'provider-managed' ELSE encryption END"
_OR_ELSE = (
    f"CASE WHEN encryption = 'customer-managed' AND NOT {_OF_THE_STORE} "
    f"AND NOT coalesce({_OF_THE_TEAM}, false) THEN 'provider-managed' END"
)
"""Who else may manage the key: a key service's own default key shows an id like any other."""
_LOOKED = "inspected = 'yes'"


def _rank(expression: str) -> str:
    return f"list_position({list(KEEPERS.levels)}, {expression})"


class Column(msgspec.Struct, frozen=True):
    """A fact as expressions."""

    value: str
    known: str = _LOOKED
    rows: str = _OBJECT
    or_else: str = ""
    """Another value that it may have as well; null where there is none."""


def _against_default(keeper: str) -> str:
    return (
        f"CASE sign({_rank(keeper)} - {_rank('default_encryption')}) "
        "WHEN -1 THEN 'weaker' WHEN 0 THEN 'equal' WHEN 1 THEN 'stronger' END"
    )


_COLUMNS: dict[str, Column] = {
    "objects.name": Column("key", "true"),
    "objects.extension": Column("extension", "true"),
    "objects.size": Column("size", "true"),
    "objects.age": Column("($moment - written) // 1000000", "written IS NOT NULL"),
    "objects.tier": Column("nullif(tier, '')", "true"),
    "objects.content-type": Column("content_type", f"{_LOOKED} OR content_type IS NOT NULL"),
    "objects.content-type-matches-extension": Column(
        f"CASE WHEN CASE extension {_FITS} END THEN 'on' ELSE 'off' END",
        f"{_LOOKED} OR content_type IS NOT NULL",
        f"{_OBJECT} AND extension IN {tuple(FITTING)}",
    ),
    "objects.cache-control": Column("cache_control", f"{_LOOKED} OR cache_control IS NOT NULL"),
    "objects.metadata": Column("metadata[$name]", "metadata IS NOT NULL"),
    "objects.tags": Column("tags[$name]", "tags IS NOT NULL"),
    "objects.public": Column("public", "public IS NOT NULL"),
    "objects.checksum": Column("nullif(checksum, '')", "checksum IS NOT NULL"),
    "objects.expires-in": Column(
        "CASE WHEN expires IS NOT NULL THEN greatest(epoch_us(expires) - $moment, 0) // 1000000 END",
        f"{_LOOKED} AND (expires IS NOT NULL OR NOT hides_expiry)",
    ),
    "objects.points-to": Column("nullif(points_to, '')"),
    "objects.encryption": Column(_KEEPER, "encryption IS NOT NULL", or_else=_OR_ELSE),
    "objects.encryption-against-default": Column(
        _against_default(_KEEPER),
        "encryption IS NOT NULL AND default_encryption IS NOT NULL",
        or_else=_against_default(_OR_ELSE),
    ),
    "objects.encryption-key": Column("nullif(encryption_key, '')", "encryption_key IS NOT NULL"),
    "objects.under-default-key": Column(
        f"CASE WHEN {_is_among('default_key')} THEN 'on' ELSE 'off' END",
        "encryption_key IS NOT NULL AND encryption IS NOT NULL AND default_key IS NOT NULL",
    ),
    "objects.mode": Column("nullif(mode, '')", "mode IS NOT NULL"),
    "objects.retention": Column(
        "CASE WHEN mode <> '' THEN (until - written) // 1000000 END",
        "mode IS NOT NULL AND (mode = '' OR (until IS NOT NULL AND written IS NOT NULL))",
    ),
    "objects.legal-hold": Column("CASE WHEN hold THEN 'on' ELSE 'off' END", "hold IS NOT NULL"),
    "objects.deletable-by": Column("deletable_by", "deletable_by <> 'unknown'"),
    "objects.current-version": Column("key_state", "key_state <> 'unknown'", "key_state IS NOT NULL"),
}
for _name, _column in list(_COLUMNS.items()):
    if SCOPES.get(_name, SCOPES.get(f"{_name}.*")) == "versions":
        _COLUMNS[_name] = msgspec.structs.replace(_column, rows="NOT marker")


class Compiled(msgspec.Struct):
    """Requirements as columns: their expressions, and what is bound to them."""

    moment: datetime
    states: list[str] = msgspec.field(default_factory=list)
    values: list[str] = msgspec.field(default_factory=list)
    """Per requirement, the fact's value."""
    bound: dict[str, Any] = msgspec.field(default_factory=dict)

    def __post_init__(self) -> None:
        self.bound["moment"] = microseconds(self.moment)

    def add(self, requirement: Requirement) -> None:
        """Add a requirement on an object fact."""
        comparison = requirement.comparison
        assert comparison is not None
        column = _COLUMNS[family(requirement.fact)]
        rows, known, value = (
            self._filled(text, requirement.fact) for text in (column.rows, column.known, column.value)
        )
        scale = lookup(requirement.fact).scale
        holds = self._holds(comparison, scale, value)
        if column.or_else:
            other = self._holds(comparison, scale, column.or_else)
            known = f"({known}) AND (({column.or_else}) IS NULL OR ({other}) = ({holds}))"
        self.values.append(value)
        absent = 1 if comparison.accepts_absent else 0
        self.states.append(
            f"CASE WHEN NOT ({rows}) THEN NULL WHEN NOT coalesce({known}, false) "
            "THEN CASE inspected WHEN 'not sampled' THEN 3 ELSE 2 END "
            f"WHEN ({value}) IS NULL THEN {absent} WHEN {holds} THEN 1 ELSE 0 END::TINYINT"
        )

    def _filled(self, text: str, fact: str) -> str:
        if "$name" in text:
            text = text.replace("$name", self._bind(fact.split(".", 2)[2]))
        return text

    def _bind(self, value: Any) -> str:
        name = f"p{len(self.bound)}"
        self.bound[name] = value
        return f"${name}"

    def _holds(self, comparison: Comparison, scale: Scale, value: str) -> str:
        def ranked(expression: str) -> str:
            return f"list_position({list(scale.levels)}, {expression})" if isinstance(scale, Levels) else expression

        bound = [self._bind(v) for v in comparison.values]
        make: dict[str, Callable[[], str]] = {
            "is": lambda: f"({value}) = {bound[0]}",
            "present": lambda: "true",
            "absent": lambda: "false",
            "at least": lambda: f"{ranked(f'({value})')} >= {ranked(bound[0])}",
            "at most": lambda: f"{ranked(f'({value})')} <= {ranked(bound[0])}",
            "between": lambda: f"{ranked(f'({value})')} BETWEEN {ranked(bound[0])} AND {ranked(bound[1])}",
            "one of": lambda: f"({value}) IN ({', '.join(bound)})",
            "none of": lambda: f"({value}) NOT IN ({', '.join(bound)})",
            "matches": lambda: f"length({value}) <= {MAX_TEXT} AND regexp_full_match({value}, {bound[0]})",
        }
        return make[comparison.how]()
