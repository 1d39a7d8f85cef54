"""Queries on a table as it is: all of it, one key, one moment."""

from __future__ import annotations

from collections.abc import Mapping

from brenvik.merge import sql
from brenvik.model.rules import TableRules
from brenvik.model.types import ColumnType


def rows(rules: TableRules, where: str) -> str:
    """The rows that fit, ordered by natural key and valid_from; without a natural key by run and surrogate key."""
    own = ("first_run", "surrogate_key") if rules.appends else ("valid_from",)
    names = (*rules.natural_key, *filter(None, map(rules.system_column_name, own)))
    order = f" ORDER BY {sql.columns(names, 't')}" if names else ""
    return f"SELECT * FROM {sql.relation(rules.stored_as)} t {where}{order}"


def of_key(rules: TableRules, types: Mapping[str, ColumnType]) -> str:
    """A test for one key; needs the parameters ``key_0``, …, as text."""
    tests = [
        f"t.{sql.quote(name)} = CAST(:key_{index} AS {types[name].sql})" for index, name in enumerate(rules.natural_key)
    ]
    return "WHERE " + " AND ".join(tests)


def at_moment(rules: TableRules, effective: ColumnType) -> str:
    """A test for one moment; needs the parameters ``moment`` and ``open_end``, as text."""
    moment = f"CAST(:moment AS {effective.sql})"
    start, end = (sql.quote(str(rules.system_column_name(name))) for name in ("valid_from", "valid_to"))
    return f"WHERE t.{start} <= {moment} AND (t.{end} IS NULL OR t.{end} > {moment})"
