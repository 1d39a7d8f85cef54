"""How ledgers of older schema versions differ from those of this one.

Each upgrade leads from an older version to this one and is data: from which tables and columns the new ones come, which values
have other names, and how change logs and recorded rules change. A further version adds an entry to ``UPGRADES`` and extends the
others.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

from brenvik import __version__
from brenvik.errors import LedgerVersionError
from brenvik.ledger.protocol import Home
from brenvik.ledger.schema import SCHEMA, SCHEMA_VERSION, place
from brenvik.merge import sql


@dataclass(frozen=True)
class From:
    """Where a table of the new version comes from: the table of the old one, the old names of columns, and values that have
    another name now, by (new) column."""

    table: str
    columns: Mapping[str, str] = field(default_factory=dict)
    values: Mapping[str, Mapping[str, str]] = field(default_factory=dict)


@dataclass(frozen=True)
class Upgrade:
    """The way from an older schema version to this one. ``tables`` has those that change, by their new name; all others stay.

    ``old_log`` is what the names of change logs began with, ``log_columns`` maps old to new columns of it. ``rules`` changes the
    recorded rules of a table.
    """

    version_table: str
    version_column: str
    tables: Mapping[str, From]
    views: tuple[str, ...]
    old_log: str
    log_columns: Mapping[str, str]
    rules: Callable[[dict[str, Any]], dict[str, Any]]


_RULES_OF_6 = {
    "effective": "effective_at",
    "grain": "time_precision",
    "leave_out": "exclude",
    "keep_changes": "change_log",
    "housekeeping": "system_columns",
    "changed_files": "write_mode",
}
_VALUES_OF_6 = {"hold": "review", "marked": "merge_on_read", "rewritten": "copy_on_write"}


_ADDED_SINCE_6: dict[str, dict[str, Any]] = {
    "natural_key": {"natural_key_form": []},
    "time_precision": {"ties": "latest_arrival", "exact_duplicates": "keep"},
    "type_2": {"type_0_changes": "protect", "type_3": {}},
    "other_columns": {"not_compared": [], "ignored_differences": {}},
    "exclude": {"derive": {}, "new_columns": "add", "missing_columns": "keep", "renamed": {}},
    "types": {"surrogate_key": "counter"},
    "system_columns": {"stamps": {}},
}
"""Rules that there were not yet, with what they say of a table of then; by the rule that they follow."""


def _rules_of_6(rules: dict[str, Any]) -> dict[str, Any]:
    renamed: dict[str, Any] = {}
    for old, value in rules.items():
        name = _RULES_OF_6.get(old, old)
        renamed |= {name: value, **_ADDED_SINCE_6.get(name, {})}
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
        old_log="changes_of_",
        log_columns={
            "brenvik_arrival": "brenvik_sequence_no",
            "brenvik_shape": "brenvik_column_set",
            "brenvik_effective": "brenvik_effective_at",
        },
        rules=_rules_of_6,
    ),
}
"""The upgrades by the older version."""


def version_of(engine: Home) -> int | None:
    """The schema version of the ledger in a store; None where there is none. Raises LedgerVersionError when it is damaged."""
    older = ((upgrade.version_table, upgrade.version_column) for upgrade in UPGRADES.values())
    for table, column in (("schema_version", "schema_version"), *older):
        if engine.has_table(f"{SCHEMA}.{table}"):
            found = engine.rows(f"SELECT {sql.quote(column)} AS version FROM {place(table)}")
            if len(found) != 1:
                raise LedgerVersionError(
                    f"The ledger in {engine.address} is damaged: {SCHEMA}.{table} has {len(found)} rows, expected 1. "
                    "Nothing was written; restore the store from a backup."
                )
            return int(found[0]["version"])
    return None


def other_version(engine: Home, version: int) -> LedgerVersionError:
    """The error for a ledger that this Brenvik can neither read nor write."""
    next_step = "Use the version of Brenvik that wrote it."
    if version in UPGRADES:
        next_step = "Nothing was read or written. Make a backup of the store, then: brenvik upgrade"
    return LedgerVersionError(
        f"The ledger in {engine.address} has schema version {version}; Brenvik {__version__} needs version {SCHEMA_VERSION}. "
        f"{next_step}"
    )


def rules_after(upgrade: Upgrade, recorded: str) -> str:
    """Recorded rules as this version records them."""
    return json.dumps(upgrade.rules(json.loads(recorded)))


def value_of(origin: From, column: str) -> str:
    """A new column as an expression over a row ``o`` of the old table."""
    value = f"o.{sql.quote(origin.columns.get(column, column))}"
    renamed = origin.values.get(column)
    if not renamed:
        return value
    cases = " ".join(f"WHEN {sql.literal(old)} THEN {sql.literal(new)}" for old, new in renamed.items())
    return f"CASE {value} {cases} ELSE {value} END"
