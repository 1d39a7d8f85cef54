"""User-defined conditions, checked against column types and written as SQL."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

from brenvik.errors import FeedError
from brenvik.merge import expressions, sql
from brenvik.model.conditions import parse
from brenvik.model.types import ColumnType

if TYPE_CHECKING:
    from brenvik.merge.schema import TableSchema


def check(text: str, types: Mapping[str, ColumnType]) -> None:
    """Raises ValueError where an expression over columns of these types is not a condition, or is ambiguous."""
    expressions.write(parse(text), dict.fromkeys(types, "NULL"), types, untyped=False)


def type_of(text: str, types: Mapping[str, ColumnType]) -> ColumnType:
    """The type of an expression over columns of these types. Raises ValueError where it has none, or is ambiguous."""
    return expressions.write_value(parse(text), dict.fromkeys(types, "NULL"), types, untyped=False, exact=False)[1]


def of_row(text: str, alias: str, schema: TableSchema) -> str:
    """The scope of an extract, tested on a row ``alias`` of the table or of a relation with its columns, in the core's dialect.

    Raises FeedError where it does not fit the table, which may have changed since the extract was loaded.
    """
    types = {column.name: column.type for column in schema.columns}
    values = {name: f"{alias}.{sql.quote(name)}" for name in types}
    try:
        return expressions.write(parse(text), values, types, untyped=schema.untyped)
    except ValueError as error:
        raise FeedError(f"extract_scope {text!r} does not fit table {schema.table!r}: {error}") from None


def with_values(text: str, values: Mapping[str, str], types: Mapping[str, ColumnType], *, untyped: bool = False) -> str:
    """The expression over values of these types, given as expressions, in the core's dialect, which DuckDB reads as well."""
    return expressions.write(parse(text), values, types, untyped=untyped)


def value(
    text: str, values: Mapping[str, str], types: Mapping[str, ColumnType], *, untyped: bool, exact: bool
) -> tuple[str, ColumnType]:
    """The same for an expression of any type, with its type; see ``expressions.write_value``."""
    return expressions.write_value(parse(text), values, types, untyped=untyped, exact=exact)
