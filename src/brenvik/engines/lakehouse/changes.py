"""What a transaction does to a table of files, until its commit writes it.

Files never change, so a change is a *part*: a relation with the rows that it adds or updates, and one with the positions of the
rows that it updates or deletes. Parts are made once, in order; each hides what it updates or deletes from the files and from the
parts before it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from brenvik.engines.lakehouse.stored import FIRST_NEW, POSITION, Stored
from brenvik.merge import sql
from brenvik.merge.row_changes import DeleteRows, InsertRows, UpdateRows

Columns = Sequence[tuple[str, str]]
"""Names and types, as DuckDB calls them."""


@dataclass(frozen=True)
class Part:
    """One change. ``rows`` is a relation with the columns ``columns`` and the position of each row, '' where there are none;
    ``gone`` one with the positions of rows that are hidden, '' where there are none."""

    rows: str
    columns: tuple[str, ...]
    gone: str


def _hidden(alias: str, parts: Sequence[Part]) -> str:
    """Leaves out rows that any of the parts hides."""
    gone = (part.gone for part in parts if part.gone)
    return "".join(f" ANTI JOIN {each} g{n} ON g{n}.{POSITION} = {alias}.{POSITION}" for n, each in enumerate(gone))


def rows_of(parts: Sequence[Part], columns: Columns) -> list[str]:
    """Queries for the rows that the parts leave, in the columns of the table, each with its position."""
    found = []
    for number, part in enumerate(parts):
        if part.rows:
            shown = ", ".join(
                f"r.{sql.quote(name)}" if name in part.columns else f"CAST(NULL AS {kind}) AS {sql.quote(name)}"
                for name, kind in columns
            )
            found.append(f"SELECT {shown}, r.{POSITION} FROM {part.rows} r{_hidden('r', parts[number + 1 :])}")
    return found


def deleted_by(parts: Sequence[Part]) -> str:
    """A query for the positions of rows in files that the parts hide."""
    gone = [f"SELECT {POSITION} FROM {part.gone} WHERE {POSITION} < {FIRST_NEW}" for part in parts if part.gone]
    return " UNION ".join(gone) or f"SELECT CAST(NULL AS BIGINT) AS {POSITION} LIMIT 0"


def shown(stored: Stored, parts: Sequence[Part]) -> str:
    """A query for the rows of a table as they are after the parts, each with its position."""
    names = sql.columns((name for name, _, _ in stored.columns), "f")
    files = f"SELECT {names}, f.{POSITION} FROM ({stored.rows}) f{stored.without_deleted('f')}{_hidden('f', parts)}"
    columns = [(name, kind) for name, kind, _ in stored.columns]
    return " UNION ALL ".join([files, *rows_of(parts, columns)])


def near(stored: Stored, parts: Sequence[Part], of: str, keys: Sequence[str], where: str) -> str:
    """A query for the rows of the keys in a relation that fit ``where``; deleted rows are left out last, as they are few."""
    test = f" WHERE {where}" if where else ""
    found = f"SELECT t.* FROM ({stored.rows}) t SEMI JOIN {of} k ON {sql.same('k', 't', keys)}{test}"
    files = f"SELECT q.* FROM ({found}) q{stored.without_deleted('q')}{_hidden('q', parts)}"
    columns = [(name, kind) for name, kind, _ in stored.columns]
    added = [
        f"SELECT t.* FROM ({rows}) t SEMI JOIN {of} k ON {sql.same('k', 't', keys)}{test}"
        for rows in rows_of(parts, columns)
    ]
    return " UNION ALL ".join([files, *added])


def inserted(change: InsertRows, columns: Columns, part: int) -> str:
    """A query for the new rows, each with a position beyond all files."""
    values = dict(change.columns)
    items = ", ".join(f"CAST({values.get(name, 'NULL')} AS {kind}) AS {sql.quote(name)}" for name, kind in columns)
    first = FIRST_NEW + (part << 40)
    return f"SELECT q.*, {first} + row_number() OVER () AS {POSITION} FROM (SELECT {items} FROM {change.source} s) q"


def updated(change: UpdateRows, columns: Columns, rows: str) -> str:
    """A query for the updated rows of a relation with at least these."""
    values = dict(change.columns)
    items = ", ".join(
        f"CAST({values[name]} AS {kind}) AS {sql.quote(name)}" if name in values else f"t.{sql.quote(name)}"
        for name, kind in columns
    )
    ((_, row_id),) = change.row_ids
    return f"SELECT {items}, t.{POSITION} FROM {rows} t JOIN {change.source} s ON s.{row_id} = t.{POSITION}"


def deleted(change: DeleteRows) -> str:
    """A query for the positions of deleted rows."""
    ((_, row_id),) = change.row_ids
    return f"SELECT s.{row_id} AS {POSITION} FROM {change.source} s"
