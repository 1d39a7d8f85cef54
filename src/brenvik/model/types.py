"""The types of columns, as people declare them and as sources state them.

============================  =======================================================
declared                      values
============================  =======================================================
``text`` · ``text(n)``        text; at most n characters
``integer`` · ``integer(n)``  64-bit integers; n-bit integers (8, 16, 32) for narrow columns of existing tables
``decimal(p,s)``              exact numbers of p digits, s of them decimals (p <= 38)
``double``                    binary floating point, including NaN and infinities
``boolean``                   true or false
``date`` · ``time``           a day · a time of day, to the microsecond
``timestamp``                 a date and time without a zone, to the microsecond
``timestamp with time zone``  an instant, stored in UTC, to the microsecond
``binary``                    bytes
============================  =======================================================
"""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    import pyarrow as pa

MAX_DIGITS = 38

_PLAIN_SQL = {
    "text": "TEXT",
    "integer": "BIGINT",
    "double": "DOUBLE PRECISION",
    "boolean": "BOOLEAN",
    "date": "DATE",
    "time": "TIME",
    "timestamp": "TIMESTAMP",
    "timestamp with time zone": "TIMESTAMPTZ",
    "binary": "BYTEA",
}
_DECIMAL = re.compile(r"decimal\(\s*(\d+)\s*(?:,\s*(\d+)\s*)?\)")
_INTEGER = re.compile(r"integer\(\s*(8|16|32)\s*\)")
_TEXT = re.compile(r"text\(\s*(\d+)\s*\)")

CAN_ORDER = frozenset({"integer", "decimal", "date", "timestamp", "timestamp with time zone"})
CAN_BE_EFFECTIVE = frozenset({"integer", "date", "timestamp", "timestamp with time zone"})


@dataclass(frozen=True)
class ColumnType:
    """One of the types above. ``length`` is for text, ``precision`` and ``scale`` for decimals, ``bits`` for integers."""

    kind: str
    length: int | None = None
    precision: int = 0
    scale: int = 0
    bits: int | None = None

    def __str__(self) -> str:
        if self.kind == "decimal":
            return f"decimal({self.precision},{self.scale})"
        size = self.length or self.bits
        return self.kind if size is None else f"{self.kind}({size})"

    @property
    def wide(self) -> ColumnType:
        """The same type without a limit to the bits of an integer."""
        return replace(self, bits=None)

    @property
    def sql(self) -> str:
        """The type in PostgreSQL's dialect, in which the core is written."""
        if self.kind == "decimal":
            return f"DECIMAL({self.precision}, {self.scale})"
        return _PLAIN_SQL[self.kind]

    @property
    def is_temporal(self) -> bool:
        return self.kind in {"date", "timestamp", "timestamp with time zone"}


TEXT = ColumnType("text")
INTEGER = ColumnType("integer")
TIMESTAMP = ColumnType("timestamp")


def parse_type(declared: str) -> ColumnType:
    """The type that ``declared`` names. Raises ValueError with the valid types when it names none."""
    words = " ".join(declared.lower().split())
    if words in _PLAIN_SQL:
        return ColumnType(words)
    if (match := _TEXT.fullmatch(words)) and int(match[1]) > 0:
        return ColumnType("text", length=int(match[1]))
    if match := _INTEGER.fullmatch(words):
        return ColumnType("integer", bits=int(match[1]))
    if match := _DECIMAL.fullmatch(words):
        precision, scale = int(match[1]), int(match[2] or 0)
        if 1 <= precision <= MAX_DIGITS and scale <= precision:
            return ColumnType("decimal", precision=precision, scale=scale)
        raise ValueError(f"{declared!r} needs 1 to {MAX_DIGITS} digits, and no more decimals than digits")
    if meant := _meant(words):
        raise ValueError(f"{declared!r} is not a valid type; did you mean {meant!r}?")
    raise ValueError(
        f"{declared!r} is not a valid type; valid types are text, text(n), integer, decimal(p,s), double, boolean, "
        "date, time, timestamp, timestamp with time zone, binary"
    )


_ELSEWHERE = {
    **dict.fromkeys(("int", "int64", "bigint", "smallint", "long"), "integer"),
    **dict.fromkeys(("string", "str", "varchar", "char", "nvarchar", "character varying"), "text"),
    **dict.fromkeys(("numeric", "decimal", "number", "money"), "decimal(18,2)"),
    **dict.fromkeys(("float", "float64", "real", "double precision"), "double"),
    **dict.fromkeys(("bool", "bit"), "boolean"),
    **dict.fromkeys(("bytea", "blob", "bytes"), "binary"),
    "datetime": "timestamp",
    "timestamptz": "timestamp with time zone",
}
"""Names that other systems have for the types."""


def _meant(words: str) -> str:
    """The type that was probably meant; empty if none is similar."""
    name, bracket, size = words.partition("(")
    ours = _ELSEWHERE.get(name.strip(), "")
    if not ours:
        from difflib import get_close_matches

        return next(iter(get_close_matches(words, _PLAIN_SQL, n=1, cutoff=0.7)), "")
    sized = bracket and ours.partition("(")[0] in ("text", "decimal")
    meant = f"{ours.partition('(')[0]}({size.replace('.', ',').replace(';', ',')}" if sized else ours
    return meant if meant != words else ""


def type_of_arrow(arrow: pa.DataType) -> ColumnType | None:
    """The type for values of an Arrow type; None where there is none (lists, structs, durations, …).

    Unsigned 64-bit integers become decimal(20,0). A column of nothing but nulls becomes text.
    """
    import pyarrow.types as at

    if at.is_dictionary(arrow):
        return type_of_arrow(arrow.value_type)
    if at.is_uint64(arrow):
        return ColumnType("decimal", precision=20)
    if at.is_decimal(arrow):
        fits = arrow.precision <= MAX_DIGITS and 0 <= arrow.scale <= arrow.precision
        return ColumnType("decimal", precision=arrow.precision, scale=arrow.scale) if fits else None
    if at.is_timestamp(arrow):
        return TIMESTAMP if arrow.tz is None else ColumnType("timestamp with time zone")
    for belongs, kind in (
        (at.is_boolean, "boolean"),
        (at.is_integer, "integer"),
        (at.is_floating, "double"),
        (at.is_date, "date"),
        (at.is_time, "time"),
        (at.is_string, "text"),
        (at.is_large_string, "text"),
        (at.is_string_view, "text"),
        (at.is_null, "text"),
        (at.is_binary, "binary"),
        (at.is_large_binary, "binary"),
        (at.is_binary_view, "binary"),
        (at.is_fixed_size_binary, "binary"),
    ):
        if belongs(arrow):
            return ColumnType(kind)
    return None
