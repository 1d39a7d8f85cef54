"""Conditions of a person's own, checked against the types of columns and put into the text they are asked in."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

from brenvik.errors import FeedError
from brenvik.merge import expressions, sql
from brenvik.model.conditions import parse
from brenvik.model.types import ColumnType

if TYPE_CHECKING:
    from brenvik.merge.schema import Blueprint


def check(text: str, types: Mapping[str, ColumnType]) -> None:
    """Raises ValueError where an expression over columns of these types is no condition, or cannot mean one thing."""
    expressions.write(parse(text), dict.fromkeys(types, "NULL"), types, untyped=False)


def of_row(text: str, alias: str, blueprint: Blueprint) -> str:
    """The scope of an extract over a row ``alias`` of the table or of a relation that has its columns, in the core's flavour.

    Raises FeedError where it does not fit the table, which may have changed since the extract came."""
    types = {column.name: column.type for column in blueprint.columns}
    values = {name: f"{alias}.{sql.quote(name)}" for name in types}
    try:
        return expressions.write(parse(text), values, types, untyped=blueprint.untyped)
    except ValueError as error:
        raise FeedError(f"extract_scope {text!r} does not fit table {blueprint.table!r}: {error}") from None


def with_values(text: str, values: Mapping[str, str], types: Mapping[str, ColumnType], *, untyped: bool = False) -> str:
    """The expression over values of these types, given as expressions, in the core's flavour, which DuckDB reads too."""
    return expressions.write(parse(text), values, types, untyped=untyped)
