"""Ledgers of older schema versions, brought to the one of this Brenvik.

Each upgrade leads from one version to the next and is data: from which tables and columns the new ones come, which values have
other names, and how change logs and recorded rules change. A further version adds an entry to ``UPGRADES``.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable, Mapping
from contextlib import ExitStack
from dataclasses import dataclass, field
from typing import Any, Protocol

from brenvik import __version__
from brenvik.ledger.entries import now
from brenvik.ledger.protocol import Home
from brenvik.ledger.schema import (
    LONGEST_NAME,
    SCHEMA,
    SCHEMA_VERSION,
    TABLES,
    VIEWS,
    change_log_table,
    make_table,
    place,
)
from brenvik.merge import sql


class Upgradable(Home, Protocol):
    """What an upgrade needs from the store besides what the ledger needs."""

    def upgrade_ledger(self, upgrade: Upgrade, version: int, logs: Mapping[str, str]) -> None:
        """Brings the ledger to ``version``, within a transaction; ``logs`` maps old names of change logs to new ones. Stores that
        change in place: see ``upgrade_in_place``."""
        ...


class WithDialect(Home, Protocol):
    """A store with SQL of its own."""

    dialect: str


@dataclass(frozen=True)
class From:
    """Where a table of the new version comes from: the table of the old one, the old names of columns, and values that have
    another name now, by (new) column."""

    table: str
    columns: Mapping[str, str] = field(default_factory=dict)
    values: Mapping[str, Mapping[str, str]] = field(default_factory=dict)


@dataclass(frozen=True)
class Upgrade:
    """The way from one schema version to the next. ``tables`` has those that change, by their new name; all others stay.

    ``old_log`` is the old name of a table's change log, ``log_columns`` maps old to new columns of it. ``rules`` changes the
    recorded rules of a table.
    """

    version_table: str
    version_column: str
    tables: Mapping[str, From]
    views: tuple[str, ...]
    old_log: Callable[[str], str]
    log_columns: Mapping[str, str]
    rules: Callable[[dict[str, Any]], dict[str, Any]]


def _log_of_6(table: str) -> str:
    name = f"changes_of_{table.replace('.', '_')}"
    if len(name.encode()) > LONGEST_NAME:
        mark = hashlib.blake2b(table.encode(), digest_size=5).hexdigest()
        name = f"{name.encode()[: LONGEST_NAME - 11].decode(errors='ignore')}_{mark}"
    return f"{SCHEMA}.{name}"


_RULES_OF_6 = {
    "effective": "effective_at",
    "grain": "time_precision",
    "leave_out": "exclude",
    "keep_changes": "change_log",
    "housekeeping": "system_columns",
    "changed_files": "write_mode",
}
_VALUES_OF_6 = {"hold": "review", "marked": "merge_on_read", "rewritten": "copy_on_write"}


def _rules_of_6(rules: dict[str, Any]) -> dict[str, Any]:
    renamed = {_RULES_OF_6.get(name, name): value for name, value in rules.items()}
    return renamed | {name: _VALUES_OF_6.get(renamed[name], renamed[name]) for name in ("deletes", "write_mode")}


UPGRADES: dict[int, Upgrade] = {
    6: Upgrade(
        version_table="layout",
        version_column="layout",
        tables={
            "schema_version": From("layout", {"schema_version": "layout", "written_at": "since"}),
            "tables": From("tables", {"current_keys": "living"}),
            "column_sets": From("shapes", {"column_set": "shape"}),
            "runs": From(
                "runs",
                {"extract_column_set": "extract_shape", "future_rows": "ahead", "pending": "held"},
                {
                    "state": {"refused": "blocked", "lost": "crashed"},
                    "kind": {
                        "extract": "full_extract",
                        "withdrawal": "revert",
                        "put back": "undo revert",
                        "release": "approve",
                        "drop": "discard",
                    },
                },
            ),
            "loaded_files": From("taken_files", {"loaded_at": "taken_at"}),
            "watermarks": From("watermarks", {"advanced_at": "moved_at"}),
            "reverted_runs": From("withdrawals", {"reverted_by": "by_run", "undone_by": "put_back_by"}),
            "pending_deletes": From(
                "held_deletes",
                {"delete_no": "hold", "sequence_no": "arrival", "pending_since": "held_since"},
                {"state": {"held": "pending", "released": "approved", "dropped": "discarded"}},
            ),
            "rejected_keys": From("refused_keys"),
            "deduplicated": From("folded"),
            "rejects": From("rejects", {}, {"state": {"retaken": "retried", "dropped": "discarded"}}),
        },
        views=("table_status", "feed_progress"),
        old_log=_log_of_6,
        log_columns={
            "brenvik_arrival": "brenvik_sequence_no",
            "brenvik_shape": "brenvik_column_set",
            "brenvik_effective": "brenvik_effective_at",
        },
        rules=_rules_of_6,
    ),
}
"""The upgrades by the version that they start from."""
WITH_RULES = ("tables", "runs")
"""The tables that record rules."""


def version_of(engine: Home) -> int | None:
    """The schema version of an older ledger in a store; None where there is none."""
    for upgrade in UPGRADES.values():
        if engine.has_table(f"{SCHEMA}.{upgrade.version_table}"):
            rows = engine.rows(
                f"SELECT {sql.quote(upgrade.version_column)} AS version FROM {place(upgrade.version_table)}"
            )
            return rows[0]["version"] if rows else None
    return None


def upgrade_ledger(engine: Upgradable, *, wait_s: float = 30.0) -> tuple[int, int] | None:
    """Brings the ledger of a store to the schema version of this Brenvik, in one transaction; returns the version before and
    after, None where nothing was to be done.

    Rows of tables and change logs stay as they are. Raises Busy when a table is locked for longer than ``wait_s``
    seconds.
    """
    with ExitStack() as locks:
        locks.enter_context(engine.lock(f"{SCHEMA}.schema_version", wait_s=wait_s))
        before = version_of(engine)
        if before is None:
            return None
        tables = [row["table_name"] for row in engine.rows(f"SELECT table_name FROM {place('tables')}")]
        for table in tables:  # nothing loads meanwhile
            locks.enter_context(engine.lock(table, wait_s=wait_s))
        with engine.transaction():
            for version in range(before, SCHEMA_VERSION):
                upgrade = UPGRADES[version]
                logs = {upgrade.old_log(table): change_log_table(table) for table in tables}
                engine.upgrade_ledger(upgrade, version + 1, logs)
    return before, SCHEMA_VERSION


def upgrade_in_place(engine: WithDialect, upgrade: Upgrade, version: int, logs: Mapping[str, str]) -> None:
    """Brings the ledger of a store with tables that change in place to ``version``."""
    for view in upgrade.views:
        engine.run(f"DROP VIEW {place(view)}")
    for name, origin in upgrade.tables.items():
        engine.run(f"CREATE TEMP TABLE {sql.work(name)} AS SELECT * FROM {place(origin.table)}")
    for origin in upgrade.tables.values():
        engine.run(f"DROP TABLE {place(origin.table)}")
    for name, origin in upgrade.tables.items():
        engine.run(make_table(name))
        columns = ", ".join(f"{value_of(origin, column)} AS {sql.quote(column)}" for column in TABLES[name])
        engine.run(f"INSERT INTO {place(name)} ({sql.columns(TABLES[name])}) SELECT {columns} FROM {sql.work(name)} o")
        engine.run(f"DROP TABLE {sql.work(name)}")
    engine.index(f"{SCHEMA}.runs", ("table_name", "state", "run", "kind"))
    for name, text in VIEWS.items():
        engine.run(f"CREATE VIEW {place(name)} AS {text}")
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
        {"version": version, "by": __version__, "at": now()},
    )


def rules_after(upgrade: Upgrade, recorded: str) -> str:
    """Rules as the next version records them."""
    return json.dumps(upgrade.rules(json.loads(recorded)))


def value_of(origin: From, column: str) -> str:
    """A new column as an expression over a row ``o`` of the old table."""
    value = f"o.{sql.quote(origin.columns.get(column, column))}"
    renamed = origin.values.get(column)
    if not renamed:
        return value
    cases = " ".join(f"WHEN {sql.literal(old)} THEN {sql.literal(new)}" for old, new in renamed.items())
    return f"CASE {value} {cases} ELSE {value} END"
