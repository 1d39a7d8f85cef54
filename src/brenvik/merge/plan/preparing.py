"""The table and its change log, made by the first load; columns added by a later one."""

from __future__ import annotations

from collections.abc import Collection
from typing import Any

from brenvik.merge.plan.steps import Step
from brenvik.merge.schema import TableSchema
from brenvik.merge.table_changes import AddColumns, CreateTable


def make_table(schema: TableSchema) -> tuple[Step[Any], ...]:
    """Makes the table itself, empty."""
    start = schema.system_column("valid_from")
    table = CreateTable(
        schema.table,
        tuple(schema.table_columns()),
        (*schema.keys, *([start] if start else [])),
        schema.system_column("is_current"),
        numbered=schema.system_column("surrogate_key") if schema.surrogate_key == "identity" else None,
    )
    return (Step("prepare", "the table", alter=table),)


def make_log(schema: TableSchema) -> tuple[Step[Any], ...]:
    """Makes the change log, empty; nothing for a table without one."""
    if not schema.change_log:
        return ()
    log = CreateTable(schema.change_log, tuple(schema.log_columns()), schema.keys)
    return (Step("prepare", "its change log", alter=log),)


def add_columns(schema: TableSchema, new: Collection[str]) -> tuple[Step[Any], ...]:
    """Adds columns to the table and its change log."""
    return tuple(
        Step(
            "prepare",
            f"{column.name} is new in the feed",
            alter=AddColumns(relation, ((column.name, column.type.sql),)),
        )
        for column in schema.columns
        if column.name in new
        for relation in (schema.table if column.role != "when" else None, schema.change_log)
        if relation
    )
