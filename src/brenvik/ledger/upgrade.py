"""Ledgers of older schema versions, brought to the one of this Brenvik."""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import ExitStack
from typing import Any, Protocol

from brenvik import __version__
from brenvik.ledger.entries import now
from brenvik.ledger.protocol import Home
from brenvik.ledger.schema import SCHEMA, SCHEMA_VERSION, TABLES, VIEWS, change_log_table, place, table_of
from brenvik.ledger.versions import UPGRADES, Upgrade, other_version, rules_after, value_of, version_of
from brenvik.merge import sql
from brenvik.merge.table_changes import TableChange

WITH_RULES = ("tables", "runs")
"""The tables that record rules."""


class Upgradable(Home, Protocol):
    """What an upgrade needs from the store besides what the ledger needs."""

    def upgrade_ledger(self, upgrade: Upgrade, logs: Mapping[str, str]) -> None:
        """Upgrades the ledger, within a transaction; ``logs`` maps old names of change logs to new ones. Stores that
        change in place: see ``upgrade_in_place``."""
        ...


class ChangesInPlace(Home, Protocol):
    """A store whose tables are changed by statements."""

    dialect: str

    def run(self, text: str, values: Mapping[str, Any] | None = None) -> int: ...

    def change_table(self, change: TableChange) -> None: ...


def upgrade_ledger(engine: Upgradable, *, wait_s: float = 30.0) -> tuple[int, int] | None:
    """Brings the ledger of a store to the schema version of this Brenvik, in one transaction; returns the version before and
    after, None where nothing was to be done.

    Rows of tables and change logs stay as they are. Raises LedgerVersionError for a version that it cannot upgrade, Busy when a
    table is locked for longer than ``wait_s`` seconds.
    """
    with ExitStack() as locks:
        locks.enter_context(engine.lock(f"{SCHEMA}.schema_version", wait_s=wait_s))
        before = version_of(engine)
        if before is None or before == SCHEMA_VERSION:
            return None
        if before not in UPGRADES:
            raise other_version(engine, before)
        tables = [row["table_name"] for row in engine.rows(f"SELECT table_name FROM {place('tables')}")]
        for table in tables:  # nothing loads meanwhile
            locks.enter_context(engine.lock(table, wait_s=wait_s))
        with engine.transaction():
            upgrade = UPGRADES[before]
            logs = {change_log_table(table, upgrade.old_log): change_log_table(table) for table in tables}
            engine.upgrade_ledger(upgrade, logs)
    return before, SCHEMA_VERSION


def upgrade_in_place(engine: ChangesInPlace, upgrade: Upgrade, logs: Mapping[str, str]) -> None:
    """Upgrades the ledger of a store with tables that change in place."""
    for view in upgrade.views:
        engine.run(f"DROP VIEW {place(view)}")
    for name, origin in upgrade.tables.items():
        engine.run(f"CREATE TEMP TABLE {sql.work(name)} AS SELECT * FROM {place(origin.table)}")
    for origin in upgrade.tables.values():
        engine.run(f"DROP TABLE {place(origin.table)}")
    for name, origin in upgrade.tables.items():
        engine.change_table(table_of(name))
        columns = ", ".join(f"{value_of(origin, column)} AS {sql.quote(column)}" for column in TABLES[name])
        engine.run(f"INSERT INTO {place(name)} ({sql.columns(TABLES[name])}) SELECT {columns} FROM {sql.work(name)} o")
        engine.run(f"DROP TABLE {sql.work(name)}")
    for view, text in VIEWS.items():
        engine.run(f"CREATE VIEW {place(view)} AS {text}")
    for old, new in logs.items():
        if engine.has_table(old):
            for column, name in upgrade.log_columns.items():
                engine.run(f"ALTER TABLE {sql.relation(old)} RENAME COLUMN {sql.quote(column)} TO {sql.quote(name)}")
            renamed = f"ALTER TABLE {sql.relation(old)} RENAME TO {sql.relation(new)}"
            engine.run(sql.translate(renamed, engine.dialect))  # some expect the bare name
    for name in WITH_RULES:
        for row in engine.rows(f"SELECT DISTINCT rules FROM {place(name)}"):
            values = {"before": row["rules"], "after": rules_after(upgrade, row["rules"])}
            engine.run(f"UPDATE {place(name)} SET rules = :after WHERE rules = :before", values)
    engine.run(
        f"UPDATE {place('schema_version')} SET schema_version = :version, written_by = :by, written_at = :at",
        {"version": SCHEMA_VERSION, "by": __version__, "at": now()},
    )
