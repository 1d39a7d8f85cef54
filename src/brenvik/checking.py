"""Holds a declared table against its feeds and the store, without reading the feeds' rows."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from brenvik.core.blueprint import Blueprint, draw
from brenvik.errors import BrenvikError, FeedError, Refused
from brenvik.preparing import check_rules
from brenvik.project import Project, ProjectTable
from brenvik.store import Store

WHAT = {
    "key": "natural key",
    "type_0": "type 0, keeps its first value",
    "type_1": "type 1, overwritten",
    "type_2": "type 2, opens a new version",
    "when": "orders, not in the table",
}


@dataclass
class FeedFinding:
    feed: str
    kind: str
    reads: str
    waiting: int
    unit: str


@dataclass
class Finding:
    """What a check found about one table; without faults it can be loaded."""

    table: str
    is_new: bool
    columns: list[dict[str, Any]] = field(default_factory=list)
    feeds: list[FeedFinding] = field(default_factory=list)
    faults: list[str] = field(default_factory=list)


def check_table(project: Project, name: str, store: Store) -> Finding:
    """Checks one table; every fault becomes an entry of the finding, none an error."""
    table = project.table(name)
    state = store.ledger.state(table.rules.table) if store.ledger.exists() else None
    finding = Finding(table.rules.table, is_new=state is None)
    try:
        check_rules(table.rules, state)
    except Refused as error:
        finding.faults.append(str(error))
    if state is None and store.engine.has_table(table.rules.table):
        finding.faults.append(f"{store.address} has a table {table.rules.table!r} that Brenvik did not make.")
    for feed in table.feeds:
        source = project.source(table, feed)
        try:
            waiting = source.waiting(store.ledger.memory(table.rules.table, feed.name))
            finding.feeds.append(FeedFinding(feed.name, feed.kind, feed.reads, waiting.count, waiting.unit))
            parts = source.columns()
        except BrenvikError as error:
            finding.faults.append(f"feed {feed.name}: {error}")
            continue
        for part, columns in parts.items():
            try:
                if feed.operations and columns.pop(feed.operations.column, None) is None:
                    raise FeedError(f"{part} has no column {feed.operations.column!r}, which shall tell the operation")
                known = state.columns if state else ()
                drawn = draw(table.rules, columns, known=known, locator=store.engine.locator, kept=None, source=part)
            except BrenvikError as error:
                finding.faults.append(f"feed {feed.name}: {error}")
                continue
            finding.columns = finding.columns or _columns(table, drawn)
    return finding


def _columns(table: ProjectTable, drawn: Blueprint) -> list[dict[str, Any]]:
    rows = []
    for column in drawn.columns:
        what = WHAT[column.role]
        if column.name in drawn.order and column.role != "when":
            what += ", orders"
        if column.name == drawn.effective:
            what = "effective, becomes valid_from" if column.role == "when" else f"{what}, effective"
        declared = "declared" if column.name in table.rules.types else "from the feed"
        rows.append({"column": column.name, "type": str(column.type), "given": declared, "what": what})
    return rows
