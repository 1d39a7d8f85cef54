"""Changes to rows as values: what a store is asked to write, and how many rows that must be.

The rows of the changes of one run are disjoint, so their order does not matter to the result; versions are closed before others
are added because a store may have a unique constraint on current rows.
"""

from __future__ import annotations

from dataclasses import dataclass

Values = tuple[tuple[str, str], ...]
"""Columns of a table, each with an expression over the rows of ``source``, which is called ``s``."""


@dataclass(frozen=True)
class UpdateRows:
    """Rows of a table that get other values. ``source`` is a relation with the columns of ``row_ids`` and one row for each.

    ``columns`` may be empty: then the rows are counted and stay as they are.
    """

    table: str
    columns: Values
    source: str
    row_ids: tuple[tuple[str, str], ...]
    """The columns that identify a row: in the table, and in the source."""
    what: str = "updated"
    expected: int = 0


@dataclass(frozen=True)
class DeleteRows:
    """Rows of a table that go."""

    table: str
    source: str
    row_ids: tuple[tuple[str, str], ...]
    what: str = "removed"
    expected: int = 0


@dataclass(frozen=True)
class InsertRows:
    """New rows of a table; columns that are not named are null or filled by the store."""

    table: str
    columns: Values
    source: str
    what: str = "added"
    expected: int = 0


RowChange = UpdateRows | DeleteRows | InsertRows
