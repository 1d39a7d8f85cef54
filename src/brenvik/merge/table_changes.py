"""Changes to tables as values: what a store is asked to make or alter."""

from __future__ import annotations

from dataclasses import dataclass

from brenvik.merge.row_changes import Values


@dataclass(frozen=True)
class CreateTable:
    """A new table. ``columns`` are names, types in the core's dialect, and whether nulls are rejected.

    Its rows are looked up by the columns ``found_by``; ``split_by`` is a boolean column that tells those that are looked up from
    the others, None where there is none. ``key``: columns whose values together occur once;
    ``numbered``: the column that the store fills with consecutive numbers.
    """

    table: str
    columns: tuple[tuple[str, str, bool], ...]
    found_by: tuple[str, ...] = ()
    split_by: str | None = None
    key: tuple[str, ...] = ()
    numbered: str | None = None


@dataclass(frozen=True)
class AddColumns:
    """New columns of a table, null in all of its rows: names and types in the core's dialect."""

    table: str
    columns: tuple[tuple[str, str], ...]


@dataclass(frozen=True)
class DropColumns:
    """Columns of a table that go with their values."""

    table: str
    columns: tuple[str, ...]


@dataclass(frozen=True)
class AllowNulls:
    """Columns of a table that may be null from now on."""

    table: str
    columns: tuple[str, ...]


@dataclass(frozen=True)
class SetColumns:
    """Columns of a table that are set in all rows, each by an expression over the columns of the row."""

    table: str
    columns: Values


@dataclass(frozen=True)
class RenameColumns:
    """Columns of a table that keep their values under other names: the old and the new name of each."""

    table: str
    columns: tuple[tuple[str, str], ...]


@dataclass(frozen=True)
class ChangeTypes:
    """Columns of a table that get another type: the name, the type in the core's dialect, and the new value as an expression
    over the columns of the row."""

    table: str
    columns: tuple[tuple[str, str, str], ...]


TableChange = CreateTable | AddColumns | DropColumns | AllowNulls | SetColumns | RenameColumns | ChangeTypes
