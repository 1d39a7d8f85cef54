"""How a row of the table is found again within one transaction.

Working relations hold what identifies a stored row in ``brenvik_row_id``, or where that takes several columns, in
``brenvik_row_id_0``, ``brenvik_row_id_1``, …
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

from brenvik.merge import sql


@dataclass(frozen=True)
class PseudoColumn:
    """A column that the store adds to every table, under this name."""

    name: str

    def columns(self, keys: tuple[str, ...], start: str | None, surrogate_key: str | None) -> tuple[str, ...]:
        return (self.name,)


@dataclass(frozen=True)
class KeyAndStart:
    """The natural key and the beginning of the version; for stores without a pseudo column."""

    name = ""

    def columns(self, keys: tuple[str, ...], start: str | None, surrogate_key: str | None) -> tuple[str, ...]:
        return (*keys, *([start] if start else []))


@dataclass(frozen=True)
class SurrogateKeyColumn:
    """The surrogate key, or for tables without one the natural key and the beginning of the version."""

    name = ""

    def columns(self, keys: tuple[str, ...], start: str | None, surrogate_key: str | None) -> tuple[str, ...]:
        return (surrogate_key,) if surrogate_key else KeyAndStart().columns(keys, start, None)


RowId = PseudoColumn | SurrogateKeyColumn | KeyAndStart


class HasRowId(Protocol):
    """A table of which it is known how a row is found again."""

    @property
    def row_id(self) -> tuple[str, ...]: ...


def names(schema: HasRowId) -> tuple[str, ...]:
    """The columns of working relations that identify a stored row."""
    columns = schema.row_id
    return ("brenvik_row_id",) if len(columns) == 1 else tuple(f"brenvik_row_id_{n}" for n in range(len(columns)))


def taken(schema: HasRowId, alias: str) -> str:
    """Select items: the columns that identify a stored row, of a row of the table."""
    pairs = zip(schema.row_id, names(schema), strict=True)
    return ", ".join(f"{alias}.{sql.quote(column)} AS {name}" for column, name in pairs)


def listed(schema: HasRowId, alias: str) -> str:
    """Select items: the same of a row of a working relation."""
    return ", ".join(f"{alias}.{name}" for name in names(schema))


def is_none(schema: HasRowId, alias: str) -> str:
    """A test: whether a row of a working relation has no stored row."""
    return f"{alias}.{names(schema)[0]} IS NULL"


def same(schema: HasRowId, left: str, right: str) -> str:
    """A test: whether two rows of working relations have the same stored row."""
    return " AND ".join(f"{left}.{name} = {right}.{name}" for name in names(schema))
