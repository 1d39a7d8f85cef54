"""What a transaction does to a table of files, told as rows that go and rows that come.

Files never change, so nothing is done to a table before its commit: rows that come (or come back changed) wait in one
working table, the places of rows that go in another. A statement of the core that inserts, updates or deletes becomes some
that fill these two; the table itself is a view that shows it as if all was done.

A place is the number of a file and of a row in it; rows that came in this transaction have one beyond all files. A row that
is updated keeps its place.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache

import sqlglot
from sqlglot import exp

from brenvik.merge import sql
from brenvik.merge.prune import CurrentRows

PLACE = "brenvik_place"
ROOM = "brenvik_lake"
"""The schema, in DuckDB's memory, of what belongs to no store."""
CHANGED = sql.quote("brenvik_lake_changed")
FIRST_NEW = 2**62
_PLACES = {"file_index", "file_row_number"}
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
    def near(self) -> str:
        """The rows that a transaction has to do with, read out of the files once."""
        return f"{ROOM}.near_{self.number}"


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


Column = tuple[str, str, int | None]
"""A column of a table: name, type, and its id in the format, None where no file can hold it yet."""
Held = tuple[tuple[int | None, str, str], ...]
"""The columns that a file holds: the id of each in the format, its name and type."""


@dataclass(frozen=True)
class Group:
    """Files of a table that hold the same columns."""

    numbers: tuple[int, ...]
    paths: tuple[str, ...]
    held: Held

    def rows(self, columns: Sequence[Column]) -> str:
        """A question for the rows of the files, as the table has them, each with its place.

        Columns are found by their ids, so that they may be named otherwise in a file; in files without ids by their names. A
        file that does not hold a column has nulls."""
        by_id = {field: (self._read_as(field, name), kind) for field, name, kind in self.held if field is not None}
        by_name = {name: (name, kind) for field, name, kind in self.held if field is None}
        shown = []
        for name, kind, field in columns:
            there, its_kind = by_id.get(field or -1) or by_name.get(name) or ("", "")
            value = f"f.{sql.quote(there)}" if there else "NULL"
            value = value if kind == its_kind else f"CAST({value} AS {kind})"
            shown.append(f"{value} AS {sql.quote(name)}")
        paths, numbers = ", ".join(map(text, self.paths)), ", ".join(map(str, self.numbers))
        at = place(f"([{numbers}])[CAST(f.file_index AS BIGINT) + 1]", "f.file_row_number")
        how = "hive_partitioning = false"
        if self._hides_places:
            renamed = ", ".join(
                f"{field}: {{name: {text(name)}, type: {text(kind)}, default_value: NULL}}"
                for field, (name, kind) in by_id.items()
            )
            how += f", schema = MAP {{{renamed}}}"
        return f"SELECT {', '.join(shown)}, {at} AS {PLACE} FROM read_parquet([{paths}], {how}) f"

    @property
    def _hides_places(self) -> bool:
        """Whether a column has one of the names by which DuckDB tells where a row stands: it would be taken for that."""
        return any(name.casefold() in _PLACES for _, name, _ in self.held)

    def _read_as(self, field: int, name: str) -> str:
        """What a column is called when the files are read; another name than its own costs much time."""
        return f"column_{field}" if self._hides_places else name


@dataclass(frozen=True)
class Stored:
    """What a table's files hold."""

    columns: tuple[Column, ...]
    groups: tuple[Group, ...]
    names: tuple[str, ...]
    """What each file is called where rows of it are said to be gone, by its number."""
    deletes: tuple[str, ...]
    """The paths of the files that say it."""

    @property
    def rows(self) -> str:
        """A question for the rows of all files, each with its place; those that are gone as well."""
        return " UNION ALL ".join(group.rows(self.columns) for group in self.groups) or self.nothing

    @property
    def nothing(self) -> str:
        nulls = ", ".join(f"CAST(NULL AS {kind}) AS {sql.quote(name)}" for name, kind, _ in self.columns)
        return f"SELECT {nulls}, CAST(NULL AS BIGINT) AS {PLACE} WHERE 1 = 0"

    @property
    def gone(self) -> str:
        """A question for the places of rows that are gone."""
        if not self.deletes:
            return f"SELECT CAST(NULL AS BIGINT) AS {PLACE} WHERE 1 = 0"
        said, names = (", ".join(map(text, each)) for each in (self.deletes, self.names))
        files = f"(SELECT unnest([{names}]) AS path, unnest(range({len(self.names)})) AS number)"
        at = place("n.number", "s.pos")
        return f"SELECT {at} AS {PLACE} FROM read_parquet([{said}]) s JOIN {files} n ON n.path = s.file_path"

    def without_gone(self, alias: str) -> str:
        """What leaves out of some rows those that are gone."""
        return f" ANTI JOIN ({self.gone}) d ON d.{PLACE} = {alias}.{PLACE}" if self.deletes else ""

    def only(self, numbers: Collection[int]) -> Stored:
        """The same with some of the files."""
        groups = (
            replace(
                group,
                numbers=tuple(number for number in group.numbers if number in numbers),
                paths=tuple(path for number, path in zip(group.numbers, group.paths, strict=True) if number in numbers),
            )
            for group in self.groups
        )
        return replace(self, groups=tuple(group for group in groups if group.numbers))


def show(rooms: Rooms, stored: Stored, *, some_pending: bool, near: bool) -> str:
    """The view of a table; or, of its rows, of those that were brought near."""
    names = sql.columns(name for name, _, _ in stored.columns)
    shown = f"SELECT {names}, f.{PLACE} FROM "
    shown += f"{rooms.near} f" if near else f"({stored.rows}) f{stored.without_gone('f')}"
    if some_pending:
        shown += f" ANTI JOIN {rooms.gone} g ON g.{PLACE} = f.{PLACE}"
        shown += f" UNION ALL SELECT {names}, {PLACE} FROM {rooms.added}"
    return f"CREATE OR REPLACE VIEW {rooms.relation} AS {shown}"


def make_near(rooms: Rooms, stored: Stored) -> str:
    """Makes the room for rows that are near."""
    return f"CREATE OR REPLACE TABLE {rooms.near} AS {stored.nothing}"


def current_rows(rooms: Rooms, stored: Stored, near: CurrentRows) -> str:
    """Adds rows to those that are near."""
    found = f"SELECT t.* FROM ({stored.rows}) t SEMI JOIN {near.of} k ON {sql.same('k', 't', near.keys)}"
    found += f" WHERE {near.where}" if near.where else ""
    return (
        f"INSERT INTO {rooms.near} SELECT q.* FROM ({found}) q{stored.without_gone('q')} "
        f"ANTI JOIN {rooms.near} n ON n.{PLACE} = q.{PLACE}"
    )


def anew(rooms: Rooms, stored: Stored, numbers: Collection[int]) -> str:
    """The rows that stay of some files, and those that come, as a relation."""
    names = sql.columns(name for name, _, _ in stored.columns)
    stays = (
        f"({stored.only(numbers).rows}) f{stored.without_gone('f')} ANTI JOIN {rooms.gone} g ON g.{PLACE} = f.{PLACE}"
    )
    return f"(SELECT {names} FROM {stays} UNION ALL SELECT {names} FROM {rooms.added})"


def in_order(rows: str, names: Iterable[str], sorted_by: Sequence[str], apart: str | None) -> list[str]:
    """Questions for rows as they shall lie in files: in order, and true and false of the column ``apart`` each by themselves."""
    order = f" ORDER BY {sql.columns(sorted_by)}" if sorted_by else ""
    parts = [f" WHERE {sql.quote(apart)}", f" WHERE {sql.quote(apart)} IS NOT TRUE"] if apart else [""]
    return [f"SELECT {sql.columns(names)} FROM {rows}{part}{order}" for part in parts]


def by_file(places: str) -> str:
    """A question for places, file by file: ``file`` and its ``rows``."""
    file, row = split(PLACE)
    return f"SELECT {file} AS file, list({row} ORDER BY {row}) AS rows FROM {places} GROUP BY ALL"


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
