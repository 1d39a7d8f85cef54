"""The files of a table as queries for DuckDB: their rows, and the positions of deleted ones.

A position is the number of a file and of a row in it. A row that a transaction adds has one beyond all files; a row that it
updates keeps its own.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass, replace

from brenvik.merge import sql

POSITION = "brenvik_position_in_file"
FIRST_NEW = 2**62
_PLACES = {"file_index", "file_row_number"}
_FILE_STEP = 40


def position(file: str, row: str) -> str:
    return f"(CAST({file} AS BIGINT) << {_FILE_STEP}) + {row}"


def split(position: str) -> tuple[str, str]:
    """The number of a file and of a row in it, of a position."""
    return f"{position} >> {_FILE_STEP}", f"{position} & {2**_FILE_STEP - 1}"


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
