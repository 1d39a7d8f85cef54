"""Statements that someone runs in a store by hand."""

from __future__ import annotations

import re
import warnings
from typing import Any

import duckdb

import brenvik
from brenvik.engines.lakehouse.engine import LakehouseEngine

_ABOUT = re.compile(r"(?:TABLE|INTO|FROM|UPDATE) (?:(\"?)(\w+)\1\.)?(\"?)(\w+)\3")


def execute(store: brenvik.Store, *statements: str) -> None:
    """Runs statements as they stand; in a lakehouse, which has none, each becomes a snapshot of somebody else's."""
    engine: Any = store.engine
    for statement in statements:
        if isinstance(engine, LakehouseEngine):
            _write_elsewhere(engine, statement)
        elif engine.dialect == "sqlite" and '"."' not in statement:
            engine._execute(statement)
        else:
            engine.run(statement)


def _write_elsewhere(engine: Any, statement: str) -> None:
    """Does to a table of a lakehouse what a statement does to a table of DuckDB."""
    about = _ABOUT.search(statement)
    assert about
    space, name = about[2] or "main", about[4]
    catalog = engine._lake.catalog
    with duckdb.connect() as scratch:
        if space != "main":
            scratch.execute(f'CREATE SCHEMA "{space}"')
        place = f'"{space}"."{name}"'
        there = catalog.load_table((space, name)) if catalog.table_exists((space, name)) else None
        if there:
            scratch.register("rows_there", there.scan().to_arrow())
            scratch.execute(f"CREATE TABLE {place} AS SELECT * FROM rows_there")
        scratch.execute(statement)
        rows = scratch.sql(f"SELECT * FROM {place}").to_arrow_table()
    if there is None:
        catalog.create_namespace_if_not_exists(space)
        there = catalog.create_table((space, name), rows.schema, location=engine._lake.home.location((space, name)))
    with there.update_schema() as schema:
        names = {field.name for field in there.schema().fields}
        for column in names - {*rows.column_names}:
            schema.delete_column(column)
        for field in there.schema().fields:
            if field.required:
                schema.make_column_optional(field.name)
        schema.union_by_name(rows.select([each for each in rows.column_names if each not in names]).schema)
    there = catalog.load_table((space, name))
    with warnings.catch_warnings(action="ignore"):  # where there is nothing to overwrite
        there.overwrite(rows.select(there.schema().column_names).cast(there.schema().as_arrow()))


def is_lakehouse(store: brenvik.Store) -> bool:
    return isinstance(store.engine, LakehouseEngine)
