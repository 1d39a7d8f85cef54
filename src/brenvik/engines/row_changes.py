"""Row and table changes as statements, for stores that change their tables in place."""

from __future__ import annotations

from brenvik.merge import sql
from brenvik.merge.row_changes import DeleteRows, InsertRows, RowChange, UpdateRows
from brenvik.merge.table_changes import (
    AddColumns,
    AllowNulls,
    ChangeTypes,
    CreateTable,
    DropColumns,
    RenameColumns,
    SetColumns,
    TableChange,
)


def row_statement(change: RowChange) -> str:
    """The statement, in the core's dialect, that changes rows of a table; for an update of no columns a query for how many rows
    it is about (``n``)."""
    target = sql.relation(change.table)
    match change:
        case UpdateRows():
            found = _found(change.row_ids, target)
            if not change.columns:
                return f"SELECT count(*) AS n FROM {target} JOIN {change.source} s ON {found}"
            given = ", ".join(f"{sql.quote(name)} = {value}" for name, value in change.columns)
            return f"UPDATE {target} SET {given} FROM {change.source} s WHERE {found}"
        case DeleteRows():
            if len(change.row_ids) == 1:
                ((column, name),) = change.row_ids
                return f"DELETE FROM {target} WHERE {target}.{sql.quote(column)} IN (SELECT s.{name} FROM {change.source} s)"
            found = _found(change.row_ids, target)
            return f"DELETE FROM {target} WHERE EXISTS (SELECT 1 FROM {change.source} s WHERE {found})"
        case InsertRows():
            names = sql.columns(name for name, _ in change.columns)
            values = ", ".join(value for _, value in change.columns)
            return f"INSERT INTO {target} ({names}) SELECT {values} FROM {change.source} s"


def _found(row_ids: tuple[tuple[str, str], ...], target: str) -> str:
    return " AND ".join(f"{target}.{sql.quote(column)} = s.{name}" for column, name in row_ids)


def table_statements(change: TableChange) -> list[str]:
    """The statements that make or alter a table."""
    table = sql.relation(change.table)
    match change:
        case CreateTable():
            given = [
                f"{sql.quote(name)} {kind}{' NOT NULL' if needed else ''}" for name, kind, needed in change.columns
            ]
            given += [f"PRIMARY KEY ({sql.columns(change.key)})"] if change.key else []
            return [f"CREATE TABLE {table} ({', '.join(given)})"]
        case AddColumns():
            return [f"ALTER TABLE {table} ADD COLUMN {sql.quote(name)} {kind}" for name, kind in change.columns]
        case DropColumns():
            return [f"ALTER TABLE {table} DROP COLUMN {sql.quote(name)}" for name in change.columns]
        case AllowNulls():
            return [f"ALTER TABLE {table} ALTER COLUMN {sql.quote(name)} DROP NOT NULL" for name in change.columns]
        case SetColumns():
            given = [f"{sql.quote(name)} = {value}" for name, value in change.columns]
            return [f"UPDATE {table} SET {', '.join(given)}"]
        case RenameColumns():
            return [
                f"ALTER TABLE {table} RENAME COLUMN {sql.quote(old)} TO {sql.quote(new)}" for old, new in change.columns
            ]
        case ChangeTypes():
            return [
                f"ALTER TABLE {table} ALTER COLUMN {sql.quote(name)} TYPE {kind} USING {value}"
                for name, kind, value in change.columns
            ]
