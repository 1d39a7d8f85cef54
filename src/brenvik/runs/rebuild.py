"""A whole table recomputed under its present rules."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import replace
from typing import Any, Literal

from brenvik.engines.protocol import Engine
from brenvik.errors import DeclarationError, RulesChanged
from brenvik.ledger.ledger import Ledger
from brenvik.ledger.records import TableState
from brenvik.ledger.schema import approved_deletes
from brenvik.merge import accounting, baseline, change_log, extract_diff, sql
from brenvik.merge.column_changes import NO_CHANGES, ColumnChanges, stood_in
from brenvik.merge.plan.preparing import make_table
from brenvik.merge.plan.steps import Begun
from brenvik.merge.table_changes import AddColumns, AllowNulls, DropColumns
from brenvik.model.rules import TableRules
from brenvik.outcome import Outcome
from brenvik.runs.context import RunContext
from brenvik.runs.missing import absent_columns
from brenvik.runs.pipeline import check_logged, rows_without_changes
from brenvik.runs.prepare import CAN_REBUILD, changed_rules, stand_in, whole_column_set
from brenvik.runs.recompute import Prepared, check_log, recompute
from brenvik.runs.schema_changes import check_values, effective_then, follow, previous_then, steps

Unlogged = Literal["keep", "remove"]


def rebuild(
    ledger: Ledger[Engine],
    rules: TableRules,
    *,
    preview: bool = False,
    drop_columns: bool = False,
    unlogged: Unlogged | None = None,
    wait_s: float = 30.0,
) -> Outcome:
    """Recomputes the whole table from its change log under its present rules.

    Rows that do not change are not touched, and surrogate keys stay. ``drop_columns`` allows dropping columns that the rules now
    exclude; the change log keeps their values. ``unlogged`` decides on rows that the change log does not account for: ``"keep"``
    adds changes of this run that do, ``"remove"`` removes the rows.

    Raises RulesChanged for rules that it cannot follow and for columns that it may not drop; ChangesMissing where there are such
    rows and ``unlogged`` is None; DeclarationError for a table without a change log.
    """
    if unlogged not in (None, "keep", "remove"):
        raise DeclarationError(f"unlogged is {unlogged!r}; expected 'keep' or 'remove'")
    check_log(rules)
    notes: list[str] = []
    changes = NO_CHANGES

    def fits(rules: TableRules, state: TableState) -> TableState:
        nonlocal changes
        state, changes = follow(rules, state, rebuilds=True)
        _check_rebuild(rules, state)
        return state

    def prepare(context: RunContext) -> Prepared:
        is_new, notes[:] = _recreate(context, changes)
        context, dropped = _change_columns(context, ledger, changes, is_new=is_new, drop_columns=drop_columns)
        notes.extend([*changes.sentences, *dropped])
        context = replace(context, notes=tuple(changes.sentences))
        unlogged_rows = _find_unlogged(context, unlogged)
        work, schema = context.workspace, context.schema
        rows = work.row(f"SELECT count(*) AS n FROM {sql.relation(schema.table)}")["n"]
        begun = Begun(row_count=rows, current_keys=work.row(extract_diff.count_current_keys(schema))["n"])
        explicit: tuple[str, ...] = ()
        if unlogged_rows and unlogged == "keep":
            context, explicit = _log_unlogged(context, ledger)
        if unlogged_rows:
            became = "logged as changes of this run" if explicit else "removed"
            notes.append(f"{rows_without_changes(unlogged_rows)}; they are {became}.")
        context.exclude(context.memory.reverted, approved=approved_deletes(), explicit=explicit)
        keys = context.workspace.make("replay_keys", change_log.select_keys(context.schema))
        context.workspace.index("replay_keys", context.schema.keys)
        return Prepared(context, keys, explicit, begun, check_log=False)  # that was done above

    outcome = recompute(ledger, rules, "rebuild", "rebuilt", prepare, preview=preview, wait_s=wait_s, fits=fits)
    outcome.notes += notes
    return outcome


def _recreate(context: RunContext, changes: ColumnChanges) -> tuple[bool, list[str]]:
    """Recreates a table that was dropped, or columns of it, empty for now; returns whether the table was gone, and the notes."""
    work, schema, state = context.workspace, context.schema, context.memory.state
    engine, table, kinds = work.engine, schema.table, {c.name: c.type.sql for c in schema.columns}
    assert state
    is_gone = not engine.has_table(table)
    renamed = {new for _, new in changes.renamed}
    columns = [] if is_gone else [name for name in absent_columns(engine, context.rules, state) if name in kinds]
    columns = [name for name in columns if name not in renamed]
    if context.is_preview and (is_gone or columns):
        raise DeclarationError(
            f"Table {table!r} or a column of it was dropped; a preview cannot show its recreation. To recreate it from its "
            f"change log: brenvik rebuild {context.rules.table}"
        )
    if is_gone:
        context.carry_out(make_table(schema), Begun())
        keys = "" if schema.surrogate_key == "hash" else ", with new surrogate keys"
        return True, [f"{table} was missing; it was recreated from the change log{keys}."]
    if not columns:
        return False, []
    engine.change_table(AddColumns(table, tuple((name, kinds[name]) for name in columns)))
    return False, [f"{table} was missing {', '.join(columns)}; the values were restored from the change log."]


def _find_unlogged(context: RunContext, unlogged: Unlogged | None) -> dict[str, Any] | None:
    """The rows that have no change in the log; None where there are none, or where key or times change from now on. Raises
    ChangesMissing when there are some and nothing was decided."""
    state, schema = context.memory.state, context.schema
    assert state
    if set(state.rules["natural_key"]) != set(schema.keys) or schema.effective != effective_then(state):
        return None
    found = context.workspace.row(accounting.count_in_table(schema))
    if unlogged is None:
        check_logged(context, found)
    return found if found["n"] else None


def _log_unlogged(context: RunContext, ledger: Ledger[Engine]) -> tuple[RunContext, tuple[str, ...]]:
    """Makes changes for all rows that have none in the log; returns the relations."""
    context, column_set = whole_column_set(ledger, context)
    versions, ends = accounting.unlogged_rows(context.schema, column_set)
    low, work = baseline.low_values(context.schema), context.workspace
    count = work.make("explicit_versions", versions, params=low)
    work.make("explicit_ends", ends, params={**low, "count": count})
    return context, tuple(work.name(relation) for relation in ("explicit_versions", "explicit_ends"))


def _columns(context: RunContext) -> tuple[set[str], set[str]]:
    """The columns that the table has, and those that the rules give it."""
    assert context.memory.state
    state, schema = context.memory.state, context.schema
    before = {column.name for column in state.columns if column.role != "when"}
    after = {column.name for column in schema.columns if column.role != "when"}
    return before | {*previous_then(state).values()}, after | {name for _, name in schema.previous}


def _count_dropped(context: RunContext, values: Mapping[str, str]) -> list[str]:
    """The notes on columns that are dropped with their ``values``, expressions over a row ``t`` of the table; by default the
    columns themselves."""
    before, today = _columns(context)
    gone = sorted(before - today)
    if not gone:
        return []
    counts = ", ".join(f"count({values.get(name, f't.{sql.quote(name)}')}) AS {sql.quote(name)}" for name in gone)
    counted = context.workspace.row(f"SELECT {counts} FROM {sql.relation(context.rules.stored_as)} t")
    return [
        f"The rules exclude {name}: the column is dropped with {counted[name]:,} values; the change log keeps them."
        if name in context.schema.change_columns
        else f"The rules no longer have {name}: the column is dropped with {counted[name]:,} values."
        for name in gone
    ]


def _check_rebuild(rules: TableRules, state: TableState) -> None:
    beyond = [sentence for what, sentence in changed_rules(rules, state) if what not in CAN_REBUILD]
    if rules.effective_column is None and (then := effective_then(state)):
        beyond.append(f"effective_at: was {then!r}, is the time of the load, which was not recorded")
    if beyond:
        raise RulesChanged(
            f"Table {rules.table!r} cannot be rebuilt under these rules:\n  "
            + "\n  ".join(beyond)
            + "\nNothing was written. Load into a table with another name."
        )


def _change_columns(
    context: RunContext, ledger: Ledger[Engine], changes: ColumnChanges, *, is_new: bool, drop_columns: bool
) -> tuple[RunContext, list[str]]:
    """Adapts table and change log to the present rules: their columns, and the effective time of each change; a preview has
    relations that stand in for them. Returns the notes on columns that are dropped. ``is_new``: the table has these columns."""
    before, after = _columns(context)
    work, schema, state = context.workspace, context.schema, context.memory.state
    assert state
    effective = schema.effective if schema.effective != effective_then(state) else None
    check_values(work, schema, changes, only_log=is_new)
    if not context.is_preview:
        context.carry_out(tuple(steps(work.engine, schema, changes, only_log=is_new)), Begun())
        if changes.names:
            ledger.rename_columns(context.rules.table, state.column_sets, changes.names)
    elif changes or effective or after - before:
        context = context.with_schema(stand_in(work, schema, changes, exists=True, effective=effective))
    _check_log(context, before, effective)
    dropped = _count_dropped(context, stood_in(schema, changes, of_log=False) if context.is_preview else {})
    if context.is_preview:
        return context, dropped
    if dropped and not drop_columns:
        name = context.rules.table
        raise RulesChanged(
            "\n  ".join([f"{name}: not rebuilt, nothing written", *dropped])
            + f"\nto preview  brenvik rebuild {name} --preview\nto allow    brenvik rebuild {name} --drop-columns\n"
            "in Python   rebuild(…, drop_columns=True)"
        )
    if new := sorted(after - before):
        work.engine.change_table(AddColumns(schema.table, tuple((name, schema.type_of(name).sql) for name in new)))
    if gone := sorted(before - after):
        work.engine.change_table(DropColumns(schema.table, tuple(gone)))
    _allow_nulls(context)
    if effective:
        work.engine.change_table(change_log.set_effective_at(schema, effective))
    return context, dropped


def _check_log(context: RunContext, before: Collection[str], effective: str | None) -> None:
    """Raises RulesChanged when the change log, or the table with the columns ``before``, lacks values that the rules need."""
    schema, state = context.schema, context.memory.state
    assert state
    needed = dict.fromkeys((*schema.keys, *schema.order, *filter(None, [effective])))
    counts = context.workspace.row(
        "SELECT count(*) AS brenvik_n"
        + "".join(f", count(*) - count(k.{sql.quote(name)}) AS {sql.quote(name)}" for name in needed)
        + f" FROM {sql.relation(str(schema.change_log))} k"
    )
    faults = [
        f"{name}: {counts[name]:,} of {counts['brenvik_n']:,} changes in the log have no value for it"
        for name in needed
        if counts[name]
    ]
    faults += [f"{name}: not a column of the table so far" for name in schema.keys if name not in before]
    if schema.effective_type.kind != state.effective_type.kind:
        faults.append(f"{effective}: is {schema.effective_type}, times were {state.effective_type}")
    if faults:
        raise RulesChanged(
            "\n  ".join(
                [f"Table {context.rules.table!r} cannot be rebuilt, because the change log lacks values:", *faults]
            )
        )


def _allow_nulls(context: RunContext) -> None:
    """Makes columns nullable that were key or order before and are values now."""
    engine, schema, state = context.workspace.engine, context.schema, context.memory.state
    assert state
    key, order = state.rules["natural_key"], state.rules["order_by"]
    today = {column.name: column.role for column in schema.columns}
    for relation, names, needed in (
        (schema.table, key, schema.keys),
        (str(schema.change_log), dict.fromkeys((*key, *order)), (*schema.keys, *schema.order)),
    ):
        columns = [name for name in names if name not in needed and (relation != schema.table or today[name] != "when")]
        if columns:
            engine.change_table(AllowNulls(relation, tuple(columns)))
