"""Conditions of a person's own over the columns of a row: parsed, checked, and put into the language of the screening.

They are SQL expressions in the PostgreSQL flavour. Only what works on the values of one row is let in: comparisons,
arithmetic, text and null tests; no subqueries, aggregates, clocks, random numbers or functions that reach outside.
"""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from sqlglot import exp

_ALLOWED = {
    "column", "identifier", "literal", "boolean", "null", "paren", "tuple", "and", "or", "not",
    "eq", "neq", "gt", "gte", "lt", "lte", "is", "nullsafeeq", "nullsafeneq", "in", "between",
    "like", "ilike", "add", "sub", "mul", "div", "mod", "neg", "case", "if", "coalesce", "nullif",
    "lower", "upper", "trim", "length", "abs", "round", "dpipe", "concat", "concatws", "substring", "left", "right",
    "startswith", "cast", "datatype", "datatypeparam",
}  # fmt: skip


@lru_cache(maxsize=256)
def parse(text: str) -> exp.Expr:
    """The expression. Raises ValueError that says what is wrong with it."""
    import sqlglot  # rules without conditions do without

    try:
        found = sqlglot.parse(text, read="postgres")
    except sqlglot.errors.SqlglotError as error:
        raise ValueError(f"{text!r} cannot be read: {str(error).partition(chr(10))[0]}") from None
    if len(found) != 1 or found[0] is None:
        raise ValueError(f"{text!r} is no single expression")
    for node in found[0].walk():
        if node.key not in _ALLOWED:
            raise ValueError(
                f"{node.sql('postgres')!r} is not let in; a condition compares, calculates, and tests text and nulls of one row"
            )
        if node.key == "column" and node.text("table"):
            raise ValueError(f"{node.sql('postgres')!r} names a table; name the column alone")
    return found[0]


def columns_of(text: str) -> tuple[str, ...]:
    """The columns that an expression names, as they are written."""
    return tuple(dict.fromkeys(node.name for node in parse(text).walk() if node.key == "column"))


def of_row(text: str, alias: str) -> str:
    """The expression over a row ``alias`` of a relation that has its columns, in the core's flavour."""
    return _written(text, {name: name for name in columns_of(text)}, "postgres", alias)


def with_values(text: str, values: Mapping[str, str], flavour: str = "duckdb") -> str:
    """The expression in a flavour, DuckDB's or the core's, each column replaced by the expression that gives its value."""
    names = {name: f"brenvik_value_{index}" for index, name in enumerate(columns_of(text))}
    written = _written(text, names, flavour)
    for name, place in names.items():
        written = written.replace(f'"{place}"', f"({values[name]})")
    return written


def _written(text: str, names: Mapping[str, str], flavour: str, alias: str | None = None) -> str:
    """The expression in a flavour, its columns under other names."""
    from sqlglot.expressions import column

    def named(node: exp.Expr) -> exp.Expr:
        return column(names[node.name], table=alias, quoted=True) if node.key == "column" else node

    return parse(text).transform(named).sql(flavour)
