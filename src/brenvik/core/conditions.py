"""Conditions of a person's own over the columns of a row: parsed, checked, and put into the language of the screening.

They are SQL expressions in the PostgreSQL flavour. Only what works on the values of one row is let in: comparisons,
arithmetic, text and null tests; no subqueries, aggregates, clocks, random numbers or functions that reach outside.
"""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache

import sqlglot
from sqlglot import exp

_ALLOWED = (
    exp.Column, exp.Identifier, exp.Literal, exp.Boolean, exp.Null, exp.Paren, exp.Tuple, exp.And, exp.Or, exp.Not,
    exp.EQ, exp.NEQ, exp.GT, exp.GTE, exp.LT, exp.LTE, exp.Is, exp.NullSafeEQ, exp.NullSafeNEQ, exp.In, exp.Between,
    exp.Like, exp.ILike, exp.Add, exp.Sub, exp.Mul, exp.Div, exp.Mod, exp.Neg, exp.Case, exp.If, exp.Coalesce, exp.Nullif,
    exp.Lower, exp.Upper, exp.Trim, exp.Length, exp.Abs, exp.Round, exp.DPipe, exp.Concat, exp.Substring, exp.Left, exp.Right,
    exp.StartsWith, exp.Cast, exp.DataType, exp.DataTypeParam,
)  # fmt: skip


@lru_cache(maxsize=256)
def parse(text: str) -> exp.Expr:
    """The expression. Raises ValueError that says what is wrong with it."""
    try:
        found = sqlglot.parse(text, read="postgres")
    except sqlglot.errors.SqlglotError as error:
        raise ValueError(f"{text!r} cannot be read: {str(error).partition(chr(10))[0]}") from None
    if len(found) != 1 or found[0] is None:
        raise ValueError(f"{text!r} is no single expression")
    for node in found[0].walk():
        if not isinstance(node, _ALLOWED):
            said = node.sql("postgres") if isinstance(node, exp.Expr) else str(node)
            raise ValueError(
                f"{said!r} is not let in; a condition compares, calculates, and tests text and nulls of one row"
            )
        if isinstance(node, exp.Column) and node.table:
            raise ValueError(f"{node.sql('postgres')!r} names a table; name the column alone")
    return found[0]


def columns_of(text: str) -> tuple[str, ...]:
    """The columns that an expression names, as they are written."""
    return tuple(dict.fromkeys(column.name for column in parse(text).find_all(exp.Column)))


def of_row(text: str, alias: str) -> str:
    """The expression over a row ``alias`` of a relation that has its columns, in the core's flavour."""

    def placed(node: exp.Expr) -> exp.Expr:
        return exp.column(node.name, table=alias, quoted=True) if isinstance(node, exp.Column) else node

    return parse(text).transform(placed).sql("postgres")


def with_values(text: str, values: Mapping[str, str], flavour: str = "duckdb") -> str:
    """The expression in a flavour, DuckDB's or the core's, each column replaced by the expression that gives its value."""
    names = {name: f"brenvik_value_{index}" for index, name in enumerate(columns_of(text))}

    def stand_in(node: exp.Expr) -> exp.Expr:
        return exp.column(names[node.name], quoted=True) if isinstance(node, exp.Column) else node

    written = parse(text).transform(stand_in).sql(flavour)
    for name, place in names.items():
        written = written.replace(f'"{place}"', f"({values[name]})")
    return written
