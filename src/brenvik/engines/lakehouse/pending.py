"""What a transaction does to a table of files, as rows to delete and rows to add.

Files never change, so nothing is done to a table before its commit: new and changed rows wait in one working table, the
positions of deleted rows in another. A statement of the core that inserts, updates or deletes becomes statements that fill
these two; the table itself is a view that shows it as if they were applied.

A position is the number of a file and of a row in it; rows that came in this transaction have one beyond all files. A row that
is updated keeps its position.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache

import sqlglot
from sqlglot import exp

from brenvik.merge import sql
from brenvik.merge.prune import CurrentRows

POSITION = "brenvik_position_in_file"
MEMORY = "brenvik_lake"
"""The schema, in DuckDB's memory, of what belongs to no store."""
CHANGED = sql.quote("brenvik_lake_changed")
FIRST_NEW = 2**62
_PLACES = {"file_index", "file_row_number"}
_FILE_STEP = 40


@dataclass(frozen=True)
class Relations:
    """The relations, in memory, with the pending changes of one table."""

    relation: str
    number: int

    @property
    def added(self) -> str:
        return f"{MEMORY}.added_{self.number}"

    @property
    def deleted(self) -> str:
        return f"{MEMORY}.deleted_{self.number}"

    @property
    def current(self) -> str:
        """The rows that a transaction needs, read from the files once."""
        return f"{MEMORY}.current_{self.number}"


def position(file: str, row: str) -> str:
    return f"(CAST({file} AS BIGINT) << {_FILE_STEP}) + {row}"


def split(position: str) -> tuple[str, str]:
    """The number of a file and of a row in it, of a position."""
    return f"{position} >> {_FILE_STEP}", f"{position} & {2**_FILE_STEP - 1}"


def make_relations(relations: Relations, columns: Sequence[tuple[str, str, bool]]) -> list[str]:
    """``columns`` are names, types and whether nulls are rejected."""
    given = "".join(f"{sql.quote(name)} {kind}{' NOT NULL' if needed else ''}, " for name, kind, needed in columns)
    return [
        f"CREATE TABLE {relations.added} ({given}{POSITION} BIGINT)",
        f"CREATE TABLE {relations.deleted} ({POSITION} BIGINT)",
    ]


Column = tuple[str, str, int | None]
"""A column of a table: name, type, and its id in the format, None where no file has it yet."""
FileColumns = tuple[tuple[int | None, str, str], ...]
"""The columns of a file: the id of each in the format, its name and type."""


@dataclass(frozen=True)
class Group:
    """Files of a table with the same columns."""

    numbers: tuple[int, ...]
    paths: tuple[str, ...]
    stored_columns: FileColumns

    def rows(self, columns: Sequence[Column]) -> str:
        """A query for the rows of the files, in the columns of the table, each with its position.

        Columns are found by their ids, so that they may be named otherwise in a file; in files without ids by their names. A
        file without a column has nulls."""
        by_id = {
            field: (self._read_as(field, name), kind) for field, name, kind in self.stored_columns if field is not None
        }
        by_name = {name: (name, kind) for field, name, kind in self.stored_columns if field is None}
        shown = []
        for name, kind, field in columns:
            there, its_kind = by_id.get(field or -1) or by_name.get(name) or ("", "")
            value = f"f.{sql.quote(there)}" if there else "NULL"
            value = value if kind == its_kind else f"CAST({value} AS {kind})"
            shown.append(f"{value} AS {sql.quote(name)}")
        paths, numbers = ", ".join(map(text, self.paths)), ", ".join(map(str, self.numbers))
        at = position(f"([{numbers}])[CAST(f.file_index AS BIGINT) + 1]", "f.file_row_number")
        how = "hive_partitioning = false"
        if self._hides_positions:
            renamed = ", ".join(
                f"{field}: {{name: {text(name)}, type: {text(kind)}, default_value: NULL}}"
                for field, (name, kind) in by_id.items()
            )
            how += f", schema = MAP {{{renamed}}}"
        return f"SELECT {', '.join(shown)}, {at} AS {POSITION} FROM read_parquet([{paths}], {how}) f"

    @property
    def _hides_positions(self) -> bool:
        """Whether a column has one of DuckDB's names for the position of a row, and would be mistaken for it."""
        return any(name.casefold() in _PLACES for _, name, _ in self.stored_columns)

    def _read_as(self, field: int, name: str) -> str:
        """What a column is called when the files are read; another name than its own costs much time."""
        return f"column_{field}" if self._hides_positions else name


@dataclass(frozen=True)
class Stored:
    """The files of a table."""

    columns: tuple[Column, ...]
    groups: tuple[Group, ...]
    names: tuple[str, ...]
    """The name of each file in files of deleted positions, by its number."""
    deletes: tuple[str, ...]
    """The paths of files of deleted positions."""

    @property
    def rows(self) -> str:
        """A query for the rows of all files, each with its position, including deleted ones."""
        return " UNION ALL ".join(group.rows(self.columns) for group in self.groups) or self.nothing

    @property
    def nothing(self) -> str:
        nulls = ", ".join(f"CAST(NULL AS {kind}) AS {sql.quote(name)}" for name, kind, _ in self.columns)
        return f"SELECT {nulls}, CAST(NULL AS BIGINT) AS {POSITION} WHERE 1 = 0"

    @property
    def deleted(self) -> str:
        """A query for the positions of deleted rows."""
        if not self.deletes:
            return f"SELECT CAST(NULL AS BIGINT) AS {POSITION} WHERE 1 = 0"
        paths, names = (", ".join(map(text, each)) for each in (self.deletes, self.names))
        files = f"(SELECT unnest([{names}]) AS path, unnest(range({len(self.names)})) AS number)"
        at = position("n.number", "s.pos")
        return f"SELECT {at} AS {POSITION} FROM read_parquet([{paths}]) s JOIN {files} n ON n.path = s.file_path"

    def without_deleted(self, alias: str) -> str:
        """Excludes deleted rows."""
        return f" ANTI JOIN ({self.deleted}) d ON d.{POSITION} = {alias}.{POSITION}" if self.deletes else ""

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


def show(relations: Relations, stored: Stored, *, some_pending: bool, pruned: bool) -> str:
    """The view of a table, or of its rows after pruning."""
    names = sql.columns(name for name, _, _ in stored.columns)
    shown = f"SELECT {names}, f.{POSITION} FROM "
    shown += f"{relations.current} f" if pruned else f"({stored.rows}) f{stored.without_deleted('f')}"
    if some_pending:
        shown += f" ANTI JOIN {relations.deleted} g ON g.{POSITION} = f.{POSITION}"
        shown += f" UNION ALL SELECT {names}, {POSITION} FROM {relations.added}"
    return f"CREATE OR REPLACE VIEW {relations.relation} AS {shown}"


def make_current(relations: Relations, stored: Stored) -> str:
    """Makes the relation for the rows after pruning."""
    return f"CREATE OR REPLACE TABLE {relations.current} AS {stored.nothing}"


def current_rows(relations: Relations, stored: Stored, needed: CurrentRows) -> str:
    """Adds the rows of some keys to those after pruning."""
    found = f"SELECT t.* FROM ({stored.rows}) t SEMI JOIN {needed.of} k ON {sql.same('k', 't', needed.keys)}"
    found += f" WHERE {needed.where}" if needed.where else ""
    return (
        f"INSERT INTO {relations.current} SELECT q.* FROM ({found}) q{stored.without_deleted('q')} "
        f"ANTI JOIN {relations.current} n ON n.{POSITION} = q.{POSITION}"
    )


def rewritten(relations: Relations, stored: Stored, numbers: Collection[int]) -> str:
    """The remaining rows of some files and the new ones, as a relation."""
    names = sql.columns(name for name, _, _ in stored.columns)
    remaining = f"({stored.only(numbers).rows}) f{stored.without_deleted('f')}"
    remaining += f" ANTI JOIN {relations.deleted} g ON g.{POSITION} = f.{POSITION}"
    return f"(SELECT {names} FROM {remaining} UNION ALL SELECT {names} FROM {relations.added})"


def in_order(rows: str, names: Iterable[str], sorted_by: Sequence[str], split_by: str | None) -> list[str]:
    """Queries for rows as they are written to files: in order, and split by the values of the column ``split_by``."""
    order = f" ORDER BY {sql.columns(sorted_by)}" if sorted_by else ""
    parts = [f" WHERE {sql.quote(split_by)}", f" WHERE {sql.quote(split_by)} IS NOT TRUE"] if split_by else [""]
    return [f"SELECT {sql.columns(names)} FROM {rows}{part}{order}" for part in parts]


def by_file(positions: str) -> str:
    """A query for positions, file by file: ``file`` and its ``rows``."""
    file, row = split(POSITION)
    return f"SELECT {file} AS file, list({row} ORDER BY {row}) AS rows FROM {positions} GROUP BY ALL"


def text(value: str) -> str:
    return "'" + value.replace("'", "''") + "'"


@lru_cache(maxsize=1024)
def rewrite(statement: str, relations: Relations, names: tuple[str, ...]) -> tuple[str, ...]:
    """Statements on a table's relations in place of a statement, in DuckDB's dialect, on the table with these columns.

    The first of them counts the rows.
    """
    tree = sqlglot.parse_one(statement, read="duckdb")
    if isinstance(tree, exp.Insert):
        target, rows = tree.this, tree.expression
        given = sql.columns([column.name for column in target.expressions] or names)
        return (
            f"INSERT INTO {relations.added} ({given}, {POSITION}) "
            f"SELECT q.*, nextval('{MEMORY}.positions') FROM ({_text(rows)}) q",
        )
    at = f"{relations.relation}.{POSITION}"
    where = f" {_text(tree.args['where'])}" if tree.args.get("where") else ""
    deleted = (
        f"INSERT INTO {relations.deleted} SELECT c.{POSITION} FROM {CHANGED} c "
        f"ANTI JOIN {relations.deleted} g ON g.{POSITION} = c.{POSITION} WHERE c.{POSITION} < {FIRST_NEW}",
        f"DELETE FROM {relations.added} WHERE {POSITION} IN (SELECT c.{POSITION} FROM {CHANGED} c)",
    )
    last = f"DROP TABLE {CHANGED}"
    if isinstance(tree, exp.Delete):
        return (f"CREATE TEMP TABLE {CHANGED} AS SELECT {at} FROM {relations.relation}{where}", *deleted, last)
    assert isinstance(tree, exp.Update)
    sets = {each.this.name: _text(each.expression) for each in tree.expressions}
    values = [f"{sets.get(name, f'{relations.relation}.{sql.quote(name)}')} AS {sql.quote(name)}" for name in names]
    source = tree.args.get("from_") or tree.args.get("from")
    others = f", {_text(source.this)}" if source else ""
    shown = sql.listed(*values, f"{at} AS {POSITION}", sep=", ")
    return (
        f"CREATE TEMP TABLE {CHANGED} AS SELECT {shown} FROM {relations.relation}{others}{where}",
        *deleted,
        f"INSERT INTO {relations.added} ({sql.columns(names)}, {POSITION}) "
        f"SELECT {sql.columns(names)}, {POSITION} FROM {CHANGED}",
        last,
    )


def _text(tree: exp.Expression) -> str:
    return tree.sql(dialect="duckdb", identify=True)
