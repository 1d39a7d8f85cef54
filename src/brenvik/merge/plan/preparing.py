"""The table and its change log, made by the first load; columns added by a later one."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from typing import Any

from brenvik.merge import sql
from brenvik.merge.plan.steps import Step
from brenvik.merge.schema import TableSchema


def create(relation: str, columns: Iterable[tuple[str, str, bool]], *, temporary: bool = False) -> str:
    """Makes a table from columns: name, type, and NOT NULL."""
    given = ", ".join(f"{sql.quote(name)} {kind}{' NOT NULL' if needed else ''}" for name, kind, needed in columns)
    return f"CREATE {'TEMP ' if temporary else ''}TABLE {sql.relation(relation)} ({given})"


def make_table(schema: TableSchema) -> tuple[Step[Any], ...]:
    """Makes the table itself, empty."""
    start = schema.system_column("valid_from")
    index = (*schema.keys, *([start] if start else []))
    split_by = schema.system_column("is_current")
    text = create(schema.table, schema.table_columns())
    return (Step("prepare", "the table", text, "alter", index_table=(schema.table, index, split_by)),)


def make_log(schema: TableSchema) -> tuple[Step[Any], ...]:
    """Makes the change log, empty; nothing for a table without one."""
    if not schema.change_log:
        return ()
    text = create(schema.change_log, schema.log_columns())
    index = (schema.change_log, schema.keys, None)
    return (Step("prepare", "its change log", text, "alter", index_table=index),)


def add_columns(schema: TableSchema, new: Collection[str]) -> tuple[Step[Any], ...]:
    """Adds columns to the table and its change log."""
    return tuple(
        Step(
            "prepare",
            f"{column.name} is new in the feed",
            f"ALTER TABLE {sql.relation(relation)} ADD COLUMN {sql.quote(column.name)} {column.type.sql}",
            "alter",
        )
        for column in schema.columns
        if column.name in new
        for relation in (schema.table if column.role != "when" else None, schema.change_log)
        if relation
    )
