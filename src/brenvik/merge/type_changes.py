"""Existing columns that get another type: which types can follow which, and what becomes of the values.

A column changes its type only if every value it has, in the table and in the change log, stays what it is. Texts of other types
are those that DuckDB's casts make, as for a feed whose values have types and whose column in the table is text.
"""

from __future__ import annotations

from decimal import Decimal
from typing import TYPE_CHECKING

from brenvik.merge import sql
from brenvik.model.types import ColumnType

if TYPE_CHECKING:
    from brenvik.merge.capabilities import Capabilities

_EXACT = 2**53
"""Up to here double precision has every whole number."""
_MOST_DECIMALS = 22
"""Up to here it has the power of ten, so that a division by it is exact to the last bit."""


def can_become(of: ColumnType, to: ColumnType) -> bool:
    """Whether a column of one type can become one of another, as far as its values allow it."""
    match of.kind, to.kind:
        case ("text", "text") | ("decimal" | "integer", "decimal") | ("integer", "double") | ("date", "timestamp"):
            return True
        case "decimal", "double":
            return of.scale <= _MOST_DECIMALS
        case _, "text":
            return of.kind != "binary"
    return False


def converted(value: str, of: ColumnType, to: ColumnType, store: Capabilities) -> str:
    """A stored value in the new type, in the core's dialect."""
    if of.sql == to.sql:
        return value
    if "comparing" in store.lacks:
        return _kept_as(value, of, to)
    if (of.kind, to.kind) == ("double", "text"):
        return store.text_of_double.format(value)
    return f"CAST({value} AS {to.sql})"


def in_the_way(value: str, of: ColumnType, to: ColumnType, store: Capabilities) -> str:
    """A test for stored values that the new type cannot hold; '' where it can hold all of them."""
    tests = _tests(value, of, to, store)
    if tests and "comparing" in store.lacks and of.sql != to.sql:
        return f"({value} IS NOT NULL AND {_kept_as(value, of, to)} IS NULL)"
    return sql.any_of(tests) if tests else ""


def _tests(value: str, of: ColumnType, to: ColumnType, store: Capabilities) -> list[str]:
    """The tests, for a store that compares decimals."""
    match to.kind:
        case "text":
            longer = to.length is not None and (of.kind != "text" or of.length is None or of.length > to.length)
            return [f"length({converted(value, of, to, store)}) > {to.length}"] if longer else []
        case "decimal":
            before, behind = (19, 0) if of.kind == "integer" else (of.precision - of.scale, of.scale)
            kept = to.precision - to.scale
            tests = [f"{value} >= {10**kept} OR {value} <= -{10**kept}"] if kept < before else []
            return tests + ([f"round({value}, {to.scale}) <> {value}"] if to.scale < behind else [])
        case "double":
            most = f"{Decimal(_EXACT).scaleb(-of.scale):f}"
            return [f"{value} > {most} OR {value} < -{most}"]  # the lowest integer has no absolute value
    return []


def _kept_as(value: str, of: ColumnType, to: ColumnType) -> str:
    """For a store that keeps decimals and times as text: the value as it keeps the new type; null where that cannot hold it."""
    return f"brenvik_as({value}, {sql.literal(str(of))}, {sql.literal(str(to))})"
