"""What must be there before the first stage: rules that a load can follow, the schema, the table and its column sets."""

from __future__ import annotations

import json
from collections.abc import Collection, Iterable, Mapping
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from brenvik.errors import DeclarationError, FeedError, ForeignTable, RulesChanged, SchemaMismatch
from brenvik.ledger.ledger import Ledger
from brenvik.ledger.memory import LoadMemory
from brenvik.ledger.records import Preview, Run, TableState
from brenvik.ledger.schema import change_log_table
from brenvik.merge import sql
from brenvik.merge.change_log import effective_time
from brenvik.merge.column_changes import ColumnChanges, stood_in
from brenvik.merge.conditions import check
from brenvik.merge.plan.preparing import add_columns, make_log, make_table
from brenvik.merge.plan.steps import Begun, Step
from brenvik.merge.resolve import resolve
from brenvik.merge.row_ids import PseudoColumn
from brenvik.merge.schema import EFFECTIVE_AT, TableSchema
from brenvik.merge.table_changes import AddColumns
from brenvik.model.conditions import columns_of
from brenvik.model.feeds import Operations
from brenvik.model.rules import NEED_REBUILD, TableRules
from brenvik.runs.context import RunContext
from brenvik.runs.schema_changes import check_values, follow, steps

if TYPE_CHECKING:
    from brenvik.engines.protocol import Engine
    from brenvik.engines.workspace import Workspace
    from brenvik.feeds.protocol import Batch
    from brenvik.model.types import ColumnType


def schema_of(engine: Engine, rules: TableRules, state: TableState) -> TableSchema:
    """The schema of a table that was loaded before, by the columns that it has."""
    return resolve(
        rules,
        {column.name: column.type for column in state.columns},
        known=state.columns,
        numbered_by_store=state.numbered_by_store,
        store=engine.capabilities,
        change_log=change_log_table(rules.table),
        source=f"table {rules.table!r}",
        has_feed=False,
    ).with_column_sets(state.column_sets)


def whole_column_set(ledger: Ledger[Engine], context: RunContext) -> tuple[RunContext, int]:
    """The number of the column set with all columns of the table; it is added where it is new."""
    schema = context.schema
    whole = tuple(sorted((*schema.keys, *schema.values)))
    column_sets = dict(schema.column_sets)
    column_set = next((number for number, names in column_sets.items() if names == whole), None)
    if column_set is not None:
        return context, column_set
    column_set = max(column_sets) + 1
    if not context.is_preview:
        ledger.add_column_sets(context.rules.table, {column_set: whole})
    return context.with_schema(schema.with_column_sets({**column_sets, column_set: whole})), column_set


_ROLES = {
    "key": "natural key", "type_0": "type 0", "type_1": "type 1", "type_2": "type 2", "type_3": "type 3",
    "not_compared": "not compared", "appended": "appended",
    "when": "not in the table",
}  # fmt: skip
CAN_REBUILD = ("natural_key", "order_by", "effective_at", "deletes", "role", "type_0_changes")
"""The changed rules that a rebuild can follow; any other change needs a table of another name."""


def changed_rules(rules: TableRules, state: TableState) -> list[tuple[str, str]]:
    """How the rules differ from those the table was made with, as far as its rows depend on it: the rule, and a sentence."""
    then, today = state.rules, json.loads(json.dumps(rules._for_ledger(), default=str))
    changed = [
        (name, f"{name}: was {then.get(name)!r}, is {today[name]!r}")
        for name in NEED_REBUILD
        if then.get(name) != today[name]
    ]
    arrival = {then.get("type_0_changes"), rules.type_0_changes}
    if rules.type_0 and len(arrival) > 1 and "first_arrived" in arrival:
        was = then.get("type_0_changes")
        changed.append(("type_0_changes", f"type_0_changes: was {was!r}, is {rules.type_0_changes!r}"))
    there = {column.name for column in state.columns}
    for old, new in rules.renamed.items():
        if old in there and new in there:
            changed.append(("renamed", f"{old} and {new}: the table has both; renamed merges them"))
        elif old in there:
            changed.append(("renamed", f"{old}: was renamed to {new}"))
    for column in state.columns:
        if column.name in rules.renamed:
            continue
        role = "key" if column.name in rules.natural_key else rules.role_of(column.name) or "when"
        if role != column.role:
            changed.append(("role", f"{column.name}: was {_ROLES[column.role]}, is {_ROLES[role]}"))
        declared = rules.declared_type(column.name)
        if declared is not None and declared not in (column.type, column.type.wide):
            changed.append(("types", f"{column.name}: was {column.type}, is {declared}"))
    return changed


def check_rules(rules: TableRules, state: TableState | None) -> None:
    """Raises RulesChanged when the table was made with rules that a load can no longer follow."""
    changed = changed_rules(rules, state) if state else []
    if state and changed:
        differences = "\n  ".join(sentence for _, sentence in changed)
        after, _ = follow(rules, state, rebuilds=True)
        is_logged = rules.is_logged and bool(state.rules["natural_key"])
        can = is_logged and all(what in CAN_REBUILD for what, _ in changed_rules(rules, after))
        rebuild = f", recompute the table (brenvik rebuild {rules.table})" if can else ""
        raise RulesChanged(
            f"Table {rules.table!r} was made with other rules:\n  {differences}\n"
            f"Nothing was written. Restore the rules{rebuild}, or load into a table with another name."
        )


def schema_for(
    engine: Engine, rules: TableRules, batch: Batch, state: TableState | None, operations: Operations | None
) -> TableSchema:
    """The schema of a table with the columns of a batch. Raises FeedError for a batch that does not match the rules."""
    if operations and operations.column not in batch.columns:
        raise FeedError(
            f"{batch.source} has no column {operations.column!r}, which is declared as the operation; "
            f"it has {', '.join(batch.columns)}."
        )
    _check_files(rules, batch, operations)
    if state and rules.missing_columns == "refuse":
        _check_missing(rules, batch, state)
    schema = resolve(
        rules,
        taken_columns(rules, batch.types, state, operations, batch.source),
        known=state.columns if state else (),
        numbered_by_store=state.numbered_by_store if state else False,
        store=engine.capabilities,
        change_log=change_log_table(rules.table),
        source=batch.source,
    )
    column_sets = state.column_sets if state else {}
    return schema.with_column_sets({**column_sets, **new_column_sets(schema, batch, state)})


def undeclared(rules: TableRules, columns: Iterable[str], state: TableState | None) -> list[str]:
    """The columns of a feed that neither an existing table nor its rules have."""
    if state is None:
        return []
    known = {column.name for column in state.columns}
    known |= {*rules._named_columns(), *rules._columns_of_expressions(), *filter(None, [rules.effective_column])}
    return [name for name in columns if name not in known]


def taken_columns(
    rules: TableRules,
    columns: Mapping[str, ColumnType],
    state: TableState | None,
    operations: Operations | None,
    source: str,
) -> dict[str, ColumnType]:
    """The columns of a feed that can be the table's. Raises FeedError for new ones where the rules refuse them."""
    found = {name: kind for name, kind in columns.items() if not operations or name != operations.column}
    new = undeclared(rules, found, state) if rules.new_columns != "add" else []
    if new and rules.new_columns == "refuse":
        raise FeedError(
            f"{source} has new columns: {', '.join(new)}. Table {rules.table!r} refuses them (new_columns), and nothing was "
            f"loaded. To add one, name it in the rules, as in {_naming(rules, new[0])}; to leave it out, exclude it."
        )
    return {name: kind for name, kind in found.items() if name not in new}


def _naming(rules: TableRules, column: str) -> str:
    return f'types = {{ {column} = "text" }}' if rules.appends else f"type_1 = {json.dumps([column])}"


def notes_on_new_columns(
    rules: TableRules, schema: TableSchema, batch: Batch, state: TableState | None, operations: Operations | None
) -> list[str]:
    """Which columns of a batch an existing table did not have, and what becomes of them."""
    if state is None:
        return []
    added = [column for column in schema.columns if column.name in new_columns(schema, state) and column.role != "when"]
    role = "" if schema.appends else " as {role}"
    notes = [
        f"New column {its.name} ({its.type}) is added{role.format(role=its.role.replace('_', ' '))}." for its in added
    ]
    if rules.new_columns == "ignore":
        own = {operations.column} if operations else set()
        left = [name for name in undeclared(rules, batch.columns, state) if name not in own]
        notes += [f'New column {name} is left out (new_columns = "ignore").' for name in left]
    return notes


def _check_missing(rules: TableRules, batch: Batch, state: TableState) -> None:
    """Raises FeedError when a part of a batch lacks a column of the table."""
    there = [column.name for column in state.columns if column.role != "when"]
    faults = [
        f"{part} has no column {', '.join(missing)}"
        for part, columns in batch.parts.items()
        if (missing := [name for name in there if name not in columns])
    ]
    if faults:
        about = f"Table {rules.table!r} refuses rows that lack columns (missing_columns), and nothing was loaded:"
        raise FeedError("\n  ".join([about, *faults]))


def new_column_sets(schema: TableSchema, batch: Batch, state: TableState | None) -> dict[int, tuple[str, ...]]:
    """The column sets of a batch that the table does not have yet, by number."""
    known = state.column_sets if state else {}
    added: dict[int, tuple[str, ...]] = {}
    columns = {*schema.change_columns}
    for names in dict.fromkeys(tuple(sorted(columns.intersection(names))) for names in batch.column_sets.values()):
        if names not in known.values():
            added[max((*known, *added), default=0) + 1] = names
    return added


def new_columns(schema: TableSchema, state: TableState | None) -> list[str]:
    """The columns that a table does not have yet."""
    known = {column.name for column in state.columns} if state else set()
    return [column.name for column in schema.columns if column.name not in known]


def preparation(
    engine: Engine, schema: TableSchema, state: TableState | None, changes: ColumnChanges
) -> tuple[Step[Any], ...]:
    """The steps that make the table, or change its columns and add new ones as needed."""
    if state is None:
        return make_table(schema) + make_log(schema)
    return (
        *steps(engine, schema, changes),
        *add_columns(schema, new_columns(schema, state)),
        *add_stamps(engine, schema, state),
    )


def add_stamps(engine: Engine, schema: TableSchema, state: TableState) -> tuple[Step[Any], ...]:
    """The step that adds the stamps that are new in the rules, unless the table has them from before."""
    new = [stamp for stamp in schema.stamps if stamp.name not in state.rules.get("stamps", {})]
    there = {column.name for column in engine.columns_of(schema.table)} if new else set()
    columns = tuple((stamp.name, stamp.type.sql) for stamp in new if stamp.name not in there)
    return (Step("prepare", "stamps that are new", alter=AddColumns(schema.table, columns)),) if columns else ()


def prepare(
    work: Workspace,
    ledger: Ledger[Engine],
    rules: TableRules,
    run: Run | Preview,
    batch: Batch,
    memory: LoadMemory,
    changes: ColumnChanges,
    operations: Operations | None,
) -> TableSchema:
    """Resolves the rules against feed and table, and makes the table, or changes its columns and adds new ones as needed."""
    state = memory.state
    schema = schema_for(ledger.engine, rules, batch, state, operations)
    if state is None:
        _check_foreign(ledger, rules)
        check_log_name(ledger.engine, rules)
    elif new := set(new_columns(schema, state)):
        in_table = {column.name for column in schema.columns if column.role != "when"}
        _check_new_columns(ledger.engine, rules, sorted(new & in_table))
    if changes:
        check_values(work, schema, changes)
    if isinstance(run, Preview):
        seen = bool(changes or new_columns(schema, state))
        return stand_in(work, schema, changes, exists=state is not None) if seen else schema
    RunContext(work, rules, schema, memory, run).carry_out(preparation(ledger.engine, schema, state, changes), Begun())
    if state and changes.names:
        ledger.rename_columns(rules.table, state.column_sets, changes.names)
    ledger.add_column_sets(rules.table, new_column_sets(schema, batch, state))
    return schema


def _check_new_columns(engine: Engine, rules: TableRules, new: Collection[str]) -> None:
    """Raises SchemaMismatch when a table that was adopted has columns of its own that would be added."""
    own = {column.name.casefold() for column in engine.columns_of(rules.stored_as)}
    taken = [name for name in new if name.casefold() in own]
    if taken:
        names = ", ".join(taken)
        raise SchemaMismatch(
            f"Table {rules.stored_as!r} already has the column {names}, which was not adopted and which loads leave unchanged. "
            f"Nothing was written. Exclude it from the rules (exclude = {json.dumps(taken)}), or rename it in the feed."
        )


def _check_foreign(ledger: Ledger[Engine], rules: TableRules) -> None:
    """Raises ForeignTable when the store has another table where a new one would be."""
    engine = ledger.engine
    if not engine.has_table(rules.stored_as):
        return

    if owner := ledger.owner_of(rules.stored_as):
        raise ForeignTable(
            f"{rules.stored_as!r} in {engine.address} is the table of {owner!r}. Nothing was written; choose another "
            f"table_name for {rules.table!r}."
        )
    raise ForeignTable(
        f"{engine.address} has a table {rules.stored_as!r} that is not in the ledger. Nothing was written. To take it over: "
        f"brenvik check {rules.table}, then brenvik adopt {rules.table}; or choose another table_name."
    )


def check_log_name(engine: Engine, rules: TableRules) -> None:
    """Raises ForeignTable when the change log of a new table exists already: that of a table with a similar name."""
    kept = change_log_table(rules.table)
    if rules.is_logged and engine.has_table(kept):
        raise ForeignTable(
            f"The change log of table {rules.table!r} would be {kept}, which already exists in {engine.address}. Nothing was "
            "written; choose another name for the table."
        )


def check_scope(schema: TableSchema, scope: str | None, feed: Iterable[str]) -> None:
    """Raises FeedError when the scope of an extract is not a condition over columns that the table and the rows have."""
    if scope is None:
        return
    there = [name for name in (*schema.keys, *schema.values) if name not in schema.type_0 and name in feed]
    try:
        unknown = [name for name in columns_of(scope) if name not in there]
    except ValueError as error:
        raise DeclarationError(f"extract_scope: {error}") from None
    if unknown:
        raise FeedError(
            f"extract_scope names {', '.join(unknown)}; it may only name columns that both the extract and table "
            f"{schema.table!r} have, and that are not type 0: {', '.join(there)}."
        )
    try:
        check(scope, {column.name: column.type for column in schema.columns})
    except ValueError as error:
        raise FeedError(f"extract_scope: {error}") from None


def _check_files(rules: TableRules, batch: Batch, operations: Operations | None) -> None:
    """Raises FeedError when one of several files lacks a column that every change needs."""
    needed = [*rules.natural_key, *rules.order_by, *filter(None, [rules.effective_column])]
    needed += [operations.column] if operations else []
    faults = [
        f"{part} has no column {name}; it has {', '.join(columns)}"
        for part, columns in batch.parts.items()
        for name in dict.fromkeys(needed)
        if name in batch.columns and name not in columns
    ]
    if faults:
        raise FeedError("\n  ".join([f"Not all files match the rules of table {rules.table!r}:", *faults]))


_STAND_IN_ROW = "brenvik_row"


def stand_in(
    work: Workspace,
    schema: TableSchema,
    changes: ColumnChanges,
    *,
    exists: bool,
    effective: str | None = None,
) -> TableSchema:
    """A preview alters nothing: where the table is missing, or its columns change, a working relation stands in for it; where
    columns change, a copy: their former names and types may be gone when the preview is still to be explained.
    ``effective``: the column from which the effective times of all logged changes are set."""
    seen = replace(schema, table=f"{sql.WORK}table", change_log=f"{sql.WORK}kept" if schema.change_log else None)
    pseudo = schema.store.row_id.name
    if pseudo:
        seen = replace(seen, store=replace(seen.store, row_id=PseudoColumn(_STAND_IN_ROW)))
    values = stood_in(schema, changes, of_log=False)
    view = exists and not (changes or effective)
    _make_stand_in(work, schema.table, "table", schema.table_columns(), values, exists, view=view, pseudo=pseudo)
    if schema.change_log:
        values = stood_in(schema, changes, of_log=True)
        if effective:
            values[EFFECTIVE_AT] = effective_time(schema, values.get(effective, f"t.{sql.quote(effective)}"))
        _make_stand_in(work, schema.change_log, "kept", schema.log_columns(), values, exists, view=view)
    return seen


def _make_stand_in(
    work: Workspace,
    relation: str,
    stand_in: str,
    columns: Iterable[tuple[str, str, bool]],
    values: Mapping[str, str],
    exists: bool,
    *,
    view: bool,
    pseudo: str = "",
) -> None:
    """A view or copy of a table with some ``values``, in which missing columns are null; or a relation without rows."""
    found = set(work.ask(f"SELECT * FROM {sql.relation(relation)} LIMIT 0").column_names) if exists else set()
    known = {name: f"t.{sql.quote(name)}" for name in found} | (dict(values) if exists else {})
    shown = [f"{known.get(name, f'CAST(NULL AS {kind})')} AS {sql.quote(name)}" for name, kind, _ in columns]
    if pseudo:
        row = f"t.{sql.quote(pseudo)}" if exists else "CAST(NULL AS BIGINT)"
        shown.append(f"{row} AS {_STAND_IN_ROW}")
    rows = f"FROM {sql.relation(relation)} t" if exists else "LIMIT 0"
    work.make(stand_in, f"SELECT {', '.join(shown)} {rows}", view=view)
