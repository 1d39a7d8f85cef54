"""The core's statements in SQLite's language."""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache
from typing import Any

import sqlglot
import sqlglot.dialects.sqlite
from sqlglot import exp

from brenvik.engines.sqlite.values import of_kind, plain
from brenvik.merge import sql

_TYPES = {
    exp.DataType.Type.DATE: "DATE",
    exp.DataType.Type.TIME: "TIME",
    exp.DataType.Type.TIMESTAMP: "TIMESTAMP",
    exp.DataType.Type.TIMESTAMPTZ: "TIMESTAMPTZ",
    exp.DataType.Type.DECIMAL: "DECIMAL_TEXT",  # with TEXT in its name, else SQLite makes floating point numbers of them
    exp.DataType.Type.BOOLEAN: "BOOLEAN",
}


def compiled(text: str, values: Mapping[str, Any] | None, work: str) -> tuple[str, dict[str, Any]]:
    """A statement in SQLite's language, and the values that it names in the form in which they are kept."""
    statement, casts = transpiled(text)
    given = {name: plain(value) for name, value in (values or {}).items()}
    for name, parameter, kind in casts:
        if parameter in given:
            given[name] = of_kind((values or {})[parameter], kind)
    return statement.replace(f'"{sql.WORK}', f'"{work}'), given


@lru_cache(maxsize=4096)
def transpiled(text: str, *, pretty: bool = False) -> tuple[str, tuple[tuple[str, str, str], ...]]:
    """The statement, and each parameter that is cast: the name it has then, its own, and the type."""
    casts: dict[str, tuple[str, str, str]] = {}

    def placed(node: exp.Expr) -> Any:  # what takes the place of a node is not walked through any more
        if isinstance(node, exp.Table) and node.args.get("db"):
            return exp.Table(this=_dotted(node.db, node.name), alias=node.args.get("alias"))
        if isinstance(node, exp.Column) and node.args.get("db"):
            return exp.Column(this=node.this, table=_dotted(node.text("db"), node.table))
        if isinstance(node, exp.ColumnDef):
            kind, numbered = node.args["kind"], node.find(exp.GeneratedAsIdentityColumnConstraint)
            node.set("constraints", [])
            if numbered:  # what makes a column of SQLite's fill itself
                node.set(
                    "kind", exp.DataType(this=exp.DataType.Type.USERDEFINED, kind="INTEGER PRIMARY KEY AUTOINCREMENT")
                )
                return node
            if kind.this in _TYPES:
                name = _TYPES[kind.this] + (
                    f"({', '.join(e.sql() for e in kind.expressions)})" if kind.expressions else ""
                )
                node.set("kind", exp.DataType(this=exp.DataType.Type.USERDEFINED, kind=name))
            return node
        if isinstance(node, exp.TimestampTrunc):
            return exp.Anonymous(
                this="brenvik_trunc", expressions=[exp.Literal.string(str(node.args["unit"].name)), node.this]
            )
        if isinstance(node, exp.Cast):
            return cast(node)
        if isinstance(node, exp.Collate):  # texts are compared by their code points anyway
            return node.this.transform(placed)
        return node

    def cast(node: exp.Cast) -> Any:
        inner, kind = node.this, node.to
        if isinstance(inner, exp.Placeholder):
            type_name = kind.sql("postgres")
            name = f"{inner.name}_as_{len(casts)}"
            casts[name] = (name, inner.name, type_name)
            return exp.Placeholder(this=name)
        if kind.this in _TYPES or kind.this == exp.DataType.Type.JSON:  # kept in that form already
            return inner.transform(placed)
        return node

    tree = sqlglot.parse_one(text, read="postgres").transform(placed)
    statement: str = tree.sql("sqlite", identify=True, pretty=pretty)
    return statement, tuple(casts.values())


def _dotted(schema: str, name: str) -> exp.Identifier:
    return exp.to_identifier(f"{schema}.{name}", quoted=True)
