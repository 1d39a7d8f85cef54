"""A whole table recomputed under its present rules."""

from __future__ import annotations

from typing import Any, Literal

from brenvik.engines.protocol import Engine
from brenvik.errors import DeclarationError, RulesChanged
from brenvik.ledger.ledger import Ledger
from brenvik.ledger.records import Run, TableState
from brenvik.merge import accounting, baseline, change_log, extract_diff, sql
from brenvik.model.rules import TableRules
from brenvik.outcome import Outcome
from brenvik.runs.missing import absent_columns
from brenvik.runs.pipeline import check_accounted, rows_without_changes
from brenvik.runs.prepare import CAN_REBUILD, UnderWay, changed_rules, exclude, make_table, whole_column_set
from brenvik.runs.recompute import recompute

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
    told: list[str] = []

    def prepare(it: UnderWay, run: Run) -> None:
        told[:] = _make_what_is_gone(it)
        unaccounted = _find_unaccounted(it, unlogged)
        told.extend(_fit(it, drop_columns=drop_columns))
        it.row_count = it.row(f"SELECT count(*) AS n FROM {sql.relation(it.schema.table)}")["n"]
        it.current_keys = it.row(extract_diff.count_current_keys(it.schema))["n"]
        if unaccounted and unlogged == "keep":
            _keep_unaccounted(it, ledger)
        if unaccounted:
            became = "logged as changes of this run" if unlogged == "keep" else "removed"
            told.append(f"{rows_without_changes(unaccounted)}; they are {became}.")
        exclude(it, ledger.reverted(rules.table), some_explicit=it.keeps_explicit)
        it.do(change_log.select_keys(it.schema))

    outcome = recompute(
        ledger, rules, "rebuild", "rebuilt", prepare, preview=preview, wait_s=wait_s, fits=_check_rebuild
    )
    outcome.notes += told
    return outcome


def _make_what_is_gone(it: UnderWay) -> list[str]:
    """Recreates a table that was dropped, or columns of it, empty for now; returns the notes on it."""
    engine, table, kinds = it.engine, it.schema.table, {c.name: c.type.sql for c in it.schema.columns}
    is_gone = not engine.has_table(table)
    columns = [] if is_gone else [name for name in absent_columns(engine, it.rules, it.state) if name in kinds]
    if it.preview and (is_gone or columns):
        raise DeclarationError(
            f"Table {table!r} or a column of it was dropped; a preview cannot show its recreation. To recreate it from its "
            f"change log: brenvik rebuild {it.rules.table}"
        )
    if is_gone:
        make_table(it, it.schema)
        return [f"{table} was missing; it was recreated from the change log, with new surrogate keys."]
    for name in columns:
        it.do(f"ALTER TABLE {sql.relation(table)} ADD COLUMN {sql.quote(name)} {kinds[name]}")
    return (
        [f"{table} was missing {', '.join(columns)}; the values were restored from the change log."] if columns else []
    )


def _find_unaccounted(it: UnderWay, unlogged: Unlogged | None) -> dict[str, Any] | None:
    """The rows that the change log does not account for, None where there are none, or where key or times change from now
    on. Raises ChangesMissing when there are some and nothing was decided."""
    it.unaccounted = True
    if set(it.state.rules["natural_key"]) != set(it.schema.keys) or it.schema.effective != _effective_then(it.state):
        return None
    question = accounting.count_in_table(it.schema)
    if unlogged is None:
        check_accounted(it, question)
        return None
    found = it.row(question)
    return found if found["n"] else None


def _keep_unaccounted(it: UnderWay, ledger: Ledger[Engine]) -> None:
    """Adds changes for all rows that the change log does not account for."""
    it.do(change_log.explicit_table(it.schema))
    it.values |= baseline.low_values(it.schema)
    versions, ends = accounting.log_unlogged(it.schema, whole_column_set(ledger, it))
    it.values["count"] = it.do(versions)
    it.do(ends)
    it.keeps_explicit = True


def _columns(it: UnderWay) -> tuple[set[str], set[str]]:
    """The columns that the table has, and those that the rules give it."""
    before = {column.name for column in it.state.columns if column.role != "when"}
    return before, {column.name for column in it.schema.columns if column.role != "when"}


def _count_dropped(it: UnderWay) -> list[str]:
    """The notes on columns that are dropped with their values."""
    before, today = _columns(it)
    gone = sorted(before - today)
    if not gone:
        return []
    counts = ", ".join(f"count(t.{sql.quote(name)}) AS {sql.quote(name)}" for name in gone)
    values = it.row(f"SELECT {counts} FROM {sql.relation(it.schema.table)} t")
    return [
        f"The rules exclude {name}: the column is dropped with {values[name]:,} values; the change log keeps them."
        for name in gone
    ]


def _check_rebuild(rules: TableRules, state: TableState) -> None:
    beyond = [told for what, told in changed_rules(rules, state) if what not in CAN_REBUILD]
    if rules.effective_column is None and (then := _effective_then(state)):
        beyond.append(f"effective_at: was {then!r}, is the time of the load, which was not recorded")
    if beyond:
        raise RulesChanged(
            f"Table {rules.table!r} cannot be rebuilt under these rules:\n  "
            + "\n  ".join(beyond)
            + "\nNothing was written. Load into a table with another name."
        )


def _effective_then(state: TableState) -> str | None:
    """The effective time column under the rules that the table was made with."""
    order = state.rules["order_by"]
    return state.rules["effective_at"] or (order[0] if order else None)


def _fit(it: UnderWay, *, drop_columns: bool) -> list[str]:
    """Adapts table and change log to the present rules: their columns, and the effective time of each change. Returns the notes
    on columns that are dropped."""
    before, after = _columns(it)
    today = {column.name: column for column in it.schema.columns if column.name in after}
    kept = sql.relation(str(it.schema.change_log))
    table = sql.relation(it.schema.table)
    effective = it.schema.effective if it.schema.effective != _effective_then(it.state) else None
    needed = dict.fromkeys((*it.schema.keys, *it.schema.order, *filter(None, [effective])))
    counts = it.row(
        "SELECT count(*) AS brenvik_n"
        + "".join(f", count(*) - count(k.{sql.quote(name)}) AS {sql.quote(name)}" for name in needed)
        + f" FROM {kept} k"
    )
    faults = [
        f"{name}: {counts[name]:,} of {counts['brenvik_n']:,} changes in the log have no value for it"
        for name in needed
        if counts[name]
    ]
    faults += [f"{name}: not a column of the table so far" for name in it.schema.keys if name not in before]
    if it.schema.effective_type.kind != it.state.effective_type.kind:
        faults.append(f"{effective}: is {it.schema.effective_type}, times were {it.state.effective_type}")
    if faults:
        raise RulesChanged(
            "\n  ".join([f"Table {it.rules.table!r} cannot be rebuilt, because the change log lacks values:", *faults])
        )
    if it.preview and (after - before or effective):
        raise DeclarationError(
            "The rules add columns or change the effective time, which a preview cannot show. To see what changes: "
            "brenvik check"
        )
    dropped = _count_dropped(it)
    if dropped and not (it.preview or drop_columns):
        name = it.rules.table
        raise RulesChanged(
            "\n  ".join([f"{name}: not rebuilt, nothing written", *dropped])
            + f"\nto preview  brenvik rebuild {name} --preview\nto allow    brenvik rebuild {name} --drop-columns\n"
            "in Python   rebuild(…, drop_columns=True)"
        )
    if not it.preview:
        for name in after - before:
            it.do(f"ALTER TABLE {table} ADD COLUMN {sql.quote(name)} {today[name].type.sql}")
        for name in before - after:
            it.do(f"ALTER TABLE {table} DROP COLUMN {sql.quote(name)}")
        _let_be_null(it)
    if effective:
        it.do(change_log.set_effective_at(it.schema, effective))
    return dropped


def _let_be_null(it: UnderWay) -> None:
    """Makes columns nullable that were key or order before and are values now."""
    key, order = it.state.rules["natural_key"], it.state.rules["order_by"]
    today = {column.name: column.role for column in it.schema.columns}
    for relation, names, needed in (
        (it.schema.table, key, it.schema.keys),
        (str(it.schema.change_log), dict.fromkeys((*key, *order)), (*it.schema.keys, *it.schema.order)),
    ):
        for name in names:
            if name not in needed and (relation != it.schema.table or today[name] != "when"):
                it.do(f"ALTER TABLE {sql.relation(relation)} ALTER COLUMN {sql.quote(name)} DROP NOT NULL")
