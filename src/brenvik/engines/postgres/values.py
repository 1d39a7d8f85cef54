"""PostgreSQL's types and values, and ours."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any

import psycopg
import pyarrow as pa

from brenvik.engines.arrays import of_values
from brenvik.merge import sql
from brenvik.model.types import ColumnType, parse_type

_ARROW = {
    16: pa.bool_(),
    17: pa.binary(),
    20: pa.int64(),
    21: pa.int32(),
    23: pa.int32(),
    700: pa.float64(),
    701: pa.float64(),
    1082: pa.date32(),
    1083: pa.time64("us"),
    1114: pa.timestamp("us"),
    1184: pa.timestamp("us", tz="UTC"),
}
_NUMERIC = 1700

DOUBLE_AS_TEXT = """CASE WHEN {0} = 'NaN' THEN 'nan' WHEN {0} = 'Infinity' THEN 'inf' WHEN {0} = '-Infinity' THEN '-inf'
  WHEN abs({0}) >= 1e15 AND abs({0}) < 1e16 THEN CAST(CAST(CAST({0} AS TEXT) AS NUMERIC) AS TEXT)
    || CASE WHEN strpos(CAST(CAST(CAST({0} AS TEXT) AS NUMERIC) AS TEXT), '.') = 0 THEN '.0' ELSE '' END
  WHEN {0} = 0 THEN '0.0'
  WHEN strpos(CAST({0} AS TEXT), 'e') = 0 AND strpos(CAST({0} AS TEXT), '.') = 0 THEN CAST({0} AS TEXT) || '.0'
  ELSE CAST({0} AS TEXT) END"""
"""PostgreSQL itself writes 1 for 1.0, and 1e+15 for 1000000000000000.0."""


def definition(value: str | None) -> str:
    """The definition of a column whose values are not transferred."""
    if value is None:
        return ""
    return f" DEFAULT {value}" if value.isdecimal() else f" GENERATED ALWAYS AS ({sql.quote(value)}) STORED"


def written(name: str, kind: str) -> str:
    """A column as it is written to CSV: bytes in hex, and texts about rows without NUL."""
    value = sql.quote(name)
    if kind == "BYTEA":
        return f"'\\x' || hex({value}) AS {value}"
    if name == "brenvik_error":
        return rf"regexp_replace({value}, '((?:^|[^\\])(?:\\\\)*)\\u0000', '\1␀', 'g') AS {value}"
    if name in ("brenvik_row", "brenvik_reason"):
        return f"replace({value}, chr(0), '␀') AS {value}"
    return value


_TYPES = {
    "text": "text", "character varying": "text", "bigint": "integer", "integer": "integer(32)", "smallint": "integer(16)",
    "double precision": "double", "boolean": "boolean", "date": "date", "time without time zone": "time",
    "timestamp without time zone": "timestamp", "timestamp with time zone": "timestamp with time zone", "bytea": "binary",
}  # fmt: skip


def type_of(type_name: str) -> ColumnType | None:
    """The type for what PostgreSQL calls one; None where there is none, or one of less digits of a second."""
    if type_name in _TYPES:
        return parse_type(_TYPES[type_name])
    sized = re.fullmatch(r"(character varying|numeric)\((\d+)(?:,(\d+))?\)", type_name)
    if not sized:
        return None
    kind, size, scale = sized.groups()
    return parse_type(f"text({size})" if kind == "character varying" else f"decimal({size},{scale or 0})")


def arrow_type(column: psycopg.Column, known: ColumnType | None) -> pa.DataType | None:
    if (
        column.type_code == _NUMERIC and known and known.kind == "decimal"
    ):  # an expression's answer has no scale of its own
        return pa.decimal128(known.precision, known.scale)
    if column.type_code == _NUMERIC:
        return pa.decimal128(column.precision or 38, column.scale or 0)
    return _ARROW.get(column.type_code)


def as_text(value: str | bytes) -> str:
    return value if isinstance(value, str) else value.decode()


def as_arrow(values: Sequence[Any], kind: pa.DataType | None) -> pa.Array:
    """What of a column was fetched; types that have no match in Arrow come as the texts that they have here."""
    if kind is None:
        return of_values([None if value is None else str(value) for value in values], pa.string())
    return of_values(values, kind)
