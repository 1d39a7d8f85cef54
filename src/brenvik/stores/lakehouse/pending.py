"""What a transaction does to a table of files, told as rows that go and rows that come.

Files never change, so nothing is done to a table before its commit: rows that come (or come back changed) wait in one
working table, the places of rows that go in another. A statement of the core that inserts, updates or deletes becomes some
that fill these two; the table itself is a view that shows it as if all was done.

A place is the number of a file and of a row in it; rows that came in this transaction have one beyond all files. A row that
is updated keeps its place.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import sqlglot
from sqlglot import exp

from brenvik.core import sql

PLACE = "brenvik_place"
ROOM = "brenvik_lake"
"""The schema, in DuckDB's memory, of what belongs to no store."""
CHANGED = sql.quote("brenvik_lake_changed")
FIRST_NEW = 2**62
_FILE_STEP = 40


@dataclass(frozen=True)
class Rooms:
    """Where the rows of one table wait."""

    relation: str
    number: int

    @property
    def added(self) -> str:
        return f"{ROOM}.added_{self.number}"

    @property
    def gone(self) -> str:
        return f"{ROOM}.gone_{self.number}"

    @property
    def dead(self) -> str:
        """The places of rows that were deleted before."""
        return f"{ROOM}.dead_{self.number}"


def place(file: str, row: str) -> str:
    return f"(CAST({file} AS BIGINT) << {_FILE_STEP}) + {row}"


def split(place: str) -> tuple[str, str]:
    """The number of a file and of a row in it, of a place."""
    return f"{place} >> {_FILE_STEP}", f"{place} & {2**_FILE_STEP - 1}"


def make_rooms(rooms: Rooms, columns: Sequence[tuple[str, str, bool]]) -> list[str]:
    """``columns`` are names, types and whether nulls are refused."""
    given = "".join(f"{sql.quote(name)} {kind}{' NOT NULL' if needed else ''}, " for name, kind, needed in columns)
    return [
        f"CREATE TABLE {rooms.added} ({given}{PLACE} BIGINT)",
        f"CREATE TABLE {rooms.gone} ({PLACE} BIGINT)",
    ]


def show(
    rooms: Rooms,
    columns: Sequence[tuple[str, str, int | None]],
    files: Sequence[str],
    *,
    some_dead: bool,
    some_pending: bool,
) -> str:
    """The view of a table; ``columns`` are names, types, and ids in the format of those that files can hold."""
    names = sql.columns(name for name, _, _ in columns)
    if files:
        fields = [(field, name, kind) for name, kind, field in columns if field is not None]
        known = ", ".join(
            f"{field}: {{name: {text(name)}, type: {text(kind)}, default_value: NULL}}" for field, name, kind in fields
        )
        shown = ", ".join(
            f"f.{sql.quote(name)}" if field is not None else f"CAST(NULL AS {kind}) AS {sql.quote(name)}"
            for name, kind, field in columns
        )
        at = place("f.file_index", "f.file_row_number")
        paths = ", ".join(map(text, files))
        stored = f"SELECT {shown}, {at} AS {PLACE} "
        stored += f"FROM read_parquet([{paths}], schema = MAP {{{known}}}, hive_partitioning = false) f"
        stored += f" ANTI JOIN {rooms.dead} d ON d.{PLACE} = {at}" if some_dead else ""
        stored += f" ANTI JOIN {rooms.gone} g ON g.{PLACE} = {at}" if some_pending else ""
    else:
        nothing = ", ".join(f"CAST(NULL AS {kind}) AS {sql.quote(name)}" for name, kind, _ in columns)
        stored = f"SELECT {nothing}, CAST(NULL AS BIGINT) AS {PLACE} WHERE 1 = 0"
    waiting = f" UNION ALL SELECT {names}, {PLACE} FROM {rooms.added}" if some_pending else ""
    return f"CREATE OR REPLACE VIEW {rooms.relation} AS {stored}{waiting}"


def text(value: str) -> str:
    return "'" + value.replace("'", "''") + "'"


@lru_cache(maxsize=1024)
def rewrite(statement: str, rooms: Rooms, names: tuple[str, ...]) -> tuple[str, ...]:
    """Statements that do to a table's rooms what a statement, in DuckDB's language, says of the table with these columns.

    The first of them counts the rows.
    """
    tree = sqlglot.parse_one(statement, read="duckdb")
    if isinstance(tree, exp.Insert):
        target, rows = tree.this, tree.expression
        given = sql.columns([column.name for column in target.expressions] or names)
        return (
            f"INSERT INTO {rooms.added} ({given}, {PLACE}) SELECT q.*, nextval('{ROOM}.places') FROM ({_text(rows)}) q",
        )
    at = f"{rooms.relation}.{PLACE}"
    where = f" {_text(tree.args['where'])}" if tree.args.get("where") else ""
    gone = (
        f"INSERT INTO {rooms.gone} SELECT c.{PLACE} FROM {CHANGED} c "
        f"ANTI JOIN {rooms.gone} g ON g.{PLACE} = c.{PLACE} WHERE c.{PLACE} < {FIRST_NEW}",
        f"DELETE FROM {rooms.added} WHERE {PLACE} IN (SELECT c.{PLACE} FROM {CHANGED} c)",
    )
    last = f"DROP TABLE {CHANGED}"
    if isinstance(tree, exp.Delete):
        return (f"CREATE TEMP TABLE {CHANGED} AS SELECT {at} FROM {rooms.relation}{where}", *gone, last)
    assert isinstance(tree, exp.Update)
    sets = {each.this.name: _text(each.expression) for each in tree.expressions}
    values = [f"{sets.get(name, f'{rooms.relation}.{sql.quote(name)}')} AS {sql.quote(name)}" for name in names]
    source = tree.args.get("from_") or tree.args.get("from")
    others = f", {_text(source.this)}" if source else ""
    shown = sql.listed(*values, f"{at} AS {PLACE}", sep=", ")
    return (
        f"CREATE TEMP TABLE {CHANGED} AS SELECT {shown} FROM {rooms.relation}{others}{where}",
        *gone,
        f"INSERT INTO {rooms.added} ({sql.columns(names)}, {PLACE}) SELECT {sql.columns(names)}, {PLACE} FROM {CHANGED}",
        last,
    )


def _text(tree: exp.Expression) -> str:
    return tree.sql(dialect="duckdb", identify=True)
