"""Conditions over the columns of a row: which expressions are allowed.

They are SQL expressions in PostgreSQL's dialect. Only what works on the values of one row is allowed: comparisons, arithmetic,
text and null tests; no subqueries, aggregates, clocks, random numbers or functions with outside effects. For their meaning
see ``merge.expressions``.
"""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from sqlglot import exp

_ALLOWED = {
    "column", "identifier", "literal", "boolean", "null", "paren", "and", "or", "not",
    "eq", "neq", "gt", "gte", "lt", "lte", "is", "nullsafeeq", "nullsafeneq", "in", "between",
    "like", "ilike", "add", "sub", "mul", "div", "mod", "neg", "case", "if", "coalesce", "nullif",
    "lower", "upper", "trim", "length", "abs", "dpipe", "concat", "substring", "left", "right",
    "startswith", "cast", "datatype", "datatypeparam",
}  # fmt: skip
_PARTS = {
    "this", "expression", "expressions", "low", "high", "ifs", "default", "true", "false", "to", "start", "length", "position",
    "is_string", "quoted", "negate", "safe", "typed", "coalesce", "nested",
}  # fmt: skip


@lru_cache(maxsize=256)
def parse(text: str) -> exp.Expr:
    """The expression. Raises ValueError that says what is wrong with it."""
    import sqlglot  # rules without conditions do without

    try:
        found = sqlglot.parse(text, read="postgres")
    except sqlglot.errors.SqlglotError as error:
        at = next((each.get("col") for each in getattr(error, "errors", ())), None)
        where = f" at character {at}" if at else ""
        raise ValueError(
            f'{text!r} is not a valid condition: it is incomplete or malformed{where}; expected one as in "depth > 5"'
        ) from None
    if len(found) != 1 or found[0] is None:
        raise ValueError(f"{text!r} is not a single expression")
    for node in found[0].walk():
        if node.key not in _ALLOWED or any(value and part not in _PARTS for part, value in node.args.items()):
            raise ValueError(
                f"{node.sql('postgres')!r} is not allowed; a condition may compare, calculate, and test text and nulls of one row"
            )
        if node.key == "column" and node.text("table"):
            raise ValueError(f"{node.sql('postgres')!r} names a table; name the column without it")
    return found[0]


def with_names(text: str, names: Mapping[str, str]) -> str:
    """The expression with new names of columns, by their former names; the same text if it names none of them."""
    if not any(name in names for name in columns_of(text)):
        return text
    tree = parse(text).copy()
    for node in tree.walk():
        if node.key == "column" and node.name in names:
            node.this.set("this", names[node.name])
            node.this.set("quoted", True)
    return tree.sql("postgres")


def columns_of(text: str) -> tuple[str, ...]:
    """The columns that an expression names, as written."""
    return tuple(dict.fromkeys(node.name for node in parse(text).walk() if node.key == "column"))
