"""Checks a declared table against its feeds and the store, without reading the feeds' rows."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from brenvik.errors import Blocked, BrenvikError, FeedError, UnreadableFile
from brenvik.feeds.columns import known_columns, mapped_columns, under_new_names
from brenvik.feeds.protocol import ProjectSource, skip_unreadable
from brenvik.ledger.records import TableState
from brenvik.ledger.schema import SCHEMA, change_log_table
from brenvik.merge import accounting, baseline, sql
from brenvik.merge.column_changes import NO_CHANGES
from brenvik.merge.resolve import resolve
from brenvik.merge.schema import TableSchema
from brenvik.merge.stamps import faults_of
from brenvik.model.feeds import FeedRules
from brenvik.model.rules import TableRules
from brenvik.model.suggest import suggestion
from brenvik.model.types import ColumnType
from brenvik.project.project import Project, ProjectTable
from brenvik.project.rule_changes import notes_on_changed_rules
from brenvik.runs.missing import missing
from brenvik.runs.pipeline import rows_without_changes
from brenvik.runs.prepare import check_rules, check_scope, undeclared
from brenvik.runs.schema_changes import follow
from brenvik.store import Store

WHAT = {
    "key": "natural key",
    "type_0": "type 0, keep the first value",
    "type_1": "type 1, overwrite",
    "type_2": "type 2, new version",
    "type_3": "type 3, overwrite and keep the previous value",
    "not_compared": "not compared",
    "appended": "appended",
    "when": "order column, not in the table",
}
_PART = "\0"  # stands for the name of a file in what is told of several


@dataclass
class FeedFinding:
    feed: str
    kind: str
    reads: str
    waiting: int
    unit: str


@dataclass
class Finding:
    """What a check found about one table; without faults it can be loaded, or adopted if it is ``foreign``.

    A foreign table exists in the store with ``rows`` rows, but is not in the ledger.
    """

    table: str
    is_new: bool
    foreign: bool = False
    rows: int = 0
    columns: list[dict[str, Any]] = field(default_factory=list)
    feeds: list[FeedFinding] = field(default_factory=list)
    faults: list[str] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    attention: list[str] = field(default_factory=list)


def check_rights(project: Project, store: Store, tables: Sequence[str] | None = None) -> list[str]:
    """Statements that grant the rights which loads of some tables (all when None) need and this user lacks."""
    chosen = project.chosen(tables)
    return store.engine.missing_rights([table.rules.stored_as for table in chosen], own_schema=SCHEMA)


def check_table(project: Project, name: str, store: Store) -> Finding:
    """Checks one table; every fault becomes an entry of the finding, never an exception."""
    table = project.table(name)
    state = store.ledger.state(table.rules.table) if store.ledger.exists() else None
    finding = Finding(table.rules.table, is_new=state is None)
    state, changes = follow(table.rules, state) if state else (None, NO_CHANGES)
    finding.notes += [f"With the next load or rebuild: {sentence}" for sentence in changes.sentences]
    finding.faults += faults_of(table.rules)
    if finding.faults:
        return finding
    known = state.rules.get("stamps", {}) if state else table.rules.stamps
    finding.notes += [f"With the next load: stamp {name} is added." for name in table.rules.stamps if name not in known]
    finding.notes += notes_on_changed_rules(table.rules, state)
    try:
        check_rules(table.rules, state)
    except Blocked as error:
        finding.faults.append(str(error))
    present: dict[str, ColumnType] = {}
    for feed in table.feeds:
        if maker := _maker_of(project, feed, store):
            finding.notes.append(f"feed {feed.name}: reads {feed.reads}, which the first load of {maker} creates")
            continue
        source = project.source(table, feed, store)
        try:
            waiting = source.waiting(store.ledger.memory(table.rules.table, feed.name))
            finding.feeds.append(FeedFinding(feed.name, feed.kind, feed.reads, waiting.count, waiting.unit))
            parts = _columns_in(source, feed, finding)
            notes = finding.attention if parts else finding.faults
            notes += [f"feed {feed.name}: {text}" for text in waiting.attention]
        except BrenvikError as error:
            finding.faults.append(f"feed {feed.name}: {error}")
            continue
        present |= _check_parts(table, feed, parts, state, store, finding)
    there = {*present, *table.rules.derive, *(state.types if state else ())}
    if there and not finding.faults:
        finding.attention += [
            f"types names {name}, which is not a column of any feed{suggestion(name, there)}"
            for name in table.rules.types
            if name not in there
        ]
    if state and not changes:
        finding.attention += _faults_of_rows(store, table.rules, state)
    if state is None and (owner := store.ledger.owner_of(table.rules.stored_as)):
        finding.faults.append(f"table_name: {table.rules.stored_as!r} is the table of {owner!r} in the store")
    elif state is None and store.engine.has_table(table.rules.stored_as):
        _hold_against(store, table.rules, present, finding)
    if state and not finding.columns and not finding.faults:  # all that was there is taken and gone
        columns = {column.name: column.type for column in state.columns}
        resolved = resolve(
            table.rules,
            columns,
            known=state.columns,
            store=store.engine.capabilities,
            change_log=None,
            source="the table",
            has_feed=False,
        )
        finding.columns = _columns(table, resolved)
    return finding


def _check_parts(
    table: ProjectTable,
    feed: FeedRules,
    parts: Mapping[str, dict[str, ColumnType]],
    state: TableState | None,
    store: Store,
    finding: Finding,
) -> dict[str, ColumnType]:
    """Checks the columns of each part of a feed; returns those that any part has."""
    present: dict[str, ColumnType] = {}
    alike: dict[str, list[str]] = {}
    refused: dict[str, list[str]] = {}
    names = known_columns(table.rules, feed.operations, state)
    for part, columns in parts.items():
        try:
            mapping = under_new_names(feed.columns, table.rules.renamed)
            columns = mapped_columns(columns, mapping, (*names, *present), part)
            present |= {name: kind for name, kind in columns.items() if not _tells_operation(feed, name)}
            if feed.operations and columns.pop(feed.operations.column, None) is None:
                raise FeedError(f"{part} has no column {feed.operations.column!r}, which is declared as the operation")
            if table.rules.new_columns != "add":
                new = [name for name in undeclared(table.rules, columns, state) if not _tells_operation(feed, name)]
                columns = {name: kind for name, kind in columns.items() if name not in new}
                if new and table.rules.new_columns == "refuse":  # what was loaded before is among the parts
                    refused.setdefault(", ".join(new), []).append(part)
            known = state.columns if state else ()
            resolved = resolve(
                table.rules, columns, known=known, store=store.engine.capabilities, change_log=None, source=part
            )
            check_scope(resolved, feed.extract_scope, columns)
        except BrenvikError as error:
            alike.setdefault(str(error).replace(part, _PART), []).append(part)
            continue
        there = {each["column"] for each in finding.columns}
        finding.columns += [each for each in _columns(table, resolved) if each["column"] not in there]
    finding.attention += [
        f"feed {feed.name}: {', '.join(of)} {'has' if len(of) == 1 else 'have'} new columns: {new}; a load would refuse them"
        for new, of in refused.items()
    ]
    for fault, (first, *others) in alike.items():
        same = f"\n  The same applies to {', '.join(others)}." if others else ""
        finding.faults.append(f"feed {feed.name}: {fault.replace(_PART, first)}{same}")
    return present


def _faults_of_rows(store: Store, rules: TableRules, state: TableState) -> Iterator[str]:
    """What was done to a table outside of Brenvik: its rows are not a valid timeline any more, or not those of the ledger."""
    if gone := missing(store.engine, rules, state):
        yield from gone
        return
    right = f"to repair it: brenvik rebuild {rules.table}" if rules.is_logged else "repair it by hand"
    types = {column.name: column.type for column in state.columns}
    resolved = resolve(
        rules,
        types,
        known=state.columns,
        store=store.engine.capabilities,
        change_log=change_log_table(rules.table),
        source="the table",
        has_feed=False,
    )
    open_end = str(rules.open_end) if rules.open_end is not None else None
    counts = {}
    if resolved.keys:
        (counts,) = store.engine.rows(baseline.count_timeline_errors(resolved), {"open_end": open_end})
    for name, count in counts.items():
        if count:
            yield f"{rules.stored_as}: {baseline.TIMELINE_ERRORS[name].format(n=f'{count:,}')}; {right}"
    if resolved.change_log and (found := store.engine.rows(accounting.count_in_table(resolved))[0])["n"]:
        yield f"{rules.stored_as}: {rows_without_changes(found)}; for the choices: brenvik rebuild {rules.table} --preview"
    rows = store.engine.rows(f"SELECT count(*) AS n FROM {sql.relation(rules.stored_as)}")[0]["n"]
    if rows != state.row_count:
        yield f"{rules.stored_as}: has {rows:,} rows; after the last run it had {state.row_count:,}; {right}"


def _maker_of(project: Project, feed: FeedRules, store: Store) -> str | None:
    """The table of the project that a feed reads in the store, while it does not exist."""
    stored = ((name, project.tables[name].rules.stored_as) for name in project.tables_read(feed, store))
    return next((name for name, place in stored if not store.engine.has_table(place)), None)


def _columns_in(source: ProjectSource, feed: FeedRules, finding: Finding) -> dict[str, dict[str, ColumnType]]:
    """The columns of each part of a source, without unreadable files that a load moves away."""
    while True:
        try:
            return source.columns()
        except UnreadableFile as error:
            if not skip_unreadable(source, error):
                raise
            finding.attention.append(f"feed {feed.name}: {error}")


def _tells_operation(feed: FeedRules, name: str) -> bool:
    return bool(feed.operations and feed.operations.column == name)


def carried_by(project: Project, table: ProjectTable, store: Store) -> dict[str, ColumnType]:
    """The columns of the feeds of a table, without operation columns. Raises what opening a feed raises."""
    return {
        name: kind
        for feed in table.feeds
        for part, columns in project.source(table, feed, store).columns().items()
        for name, kind in mapped_columns(
            columns, feed.columns, known_columns(table.rules, feed.operations, None), part
        ).items()
        if not _tells_operation(feed, name)
    }


def _hold_against(store: Store, rules: TableRules, present: Mapping[str, ColumnType], finding: Finding) -> None:
    """Checks an existing table that is not in the ledger."""
    from brenvik.runs.adopt import fit

    found = fit(store.engine, rules, present)
    finding.is_new, finding.foreign, finding.rows = False, True, found.rows
    finding.faults += [f"table {rules.stored_as}: {fault}" for fault in found.faults]
    finding.notes += found.notes


def _columns(table: ProjectTable, resolved: TableSchema) -> list[dict[str, Any]]:
    rows = []
    for column in resolved.columns:
        what = WHAT[column.role]
        if column.name in resolved.order and column.role != "when":
            what += ", order column"
        if column.name == resolved.effective:
            what = "effective, becomes valid_from" if column.role == "when" else f"{what}, effective"
        declared = "declared" if column.name in table.rules.types else "from the feed"
        declared = "derived" if column.name in table.rules.derive else declared
        rows.append({"column": column.name, "type": str(column.type), "given": declared, "what": what})
    return rows
