"""Runs that bring no new changes: keys are recomputed from the change log, and the differences are written. What they are for
is elsewhere: ``rebuild``, ``revert``, ``pending_deletes``; questions about the past in ``past``."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from brenvik.engines.conflicts import retry_on_conflict
from brenvik.engines.protocol import Engine
from brenvik.errors import DeclarationError
from brenvik.ledger.entries import now
from brenvik.ledger.ledger import Ledger
from brenvik.ledger.records import Run, TableState
from brenvik.ledger.schema import change_log_table
from brenvik.merge import change_log
from brenvik.merge.resolve import resolve
from brenvik.model.rules import TableRules
from brenvik.outcome import Outcome
from brenvik.runs.missing import explain_if_missing
from brenvik.runs.pipeline import (
    decide_changes,
    enter_state,
    expect_row_counts,
    highest_in_log,
    set_high_values,
    write_table,
)
from brenvik.runs.prepare import LATER_THAN_ALL, UnderWay, check_rules, next_work

Fits = Callable[[TableRules, TableState], None]
"""Raises RulesChanged for rules under which a table cannot be recomputed."""


def begin(
    ledger: Ledger[Engine],
    rules: TableRules,
    *,
    values: Mapping[str, Any],
    fits: Fits = check_rules,
    preview: bool = True,
) -> UnderWay:
    """A table with what the ledger knows of it. Raises DeclarationError when it was never loaded."""
    state = ledger.state(rules.table) if ledger.exists() else None
    if state is None:
        raise DeclarationError(f"Table {rules.table!r} has never been loaded; there is nothing to recompute.")
    fits(rules, state)
    it = UnderWay(
        ledger.engine, rules, values={"table_name": rules.table, **values}, work=next_work(), preview=preview, told=True
    )
    it.schema = resolve(
        rules,
        {column.name: column.type for column in state.columns},
        known=state.columns,
        numbered_by_store=state.numbered_by_store,
        store=ledger.engine.capabilities,
        change_log=change_log_table(rules.table),
        source=f"table {rules.table!r}",
    ).with_column_sets(state.column_sets)
    set_high_values(it, state)
    it.values = {"run": LATER_THAN_ALL, "high_effective": None, **it.values}
    it.state = state
    return it


def check_kept(rules: TableRules) -> None:
    """Raises DeclarationError when a table has no change log."""
    if not rules.change_log:
        raise DeclarationError(
            f"Table {rules.table!r} has no change log (change_log = false), so it cannot be recomputed."
        )


def recompute(
    ledger: Ledger[Engine],
    rules: TableRules,
    kind: str,
    source: str,
    prepare: Callable[[UnderWay, Run], None],
    *,
    check: Callable[[], None] = lambda: None,
    reason: str | None = None,
    preview: bool,
    wait_s: float,
    fits: Fits = check_rules,
) -> Outcome:
    """One run that recomputes keys: ``prepare`` says which (``replay_keys``) and what is active.

    ``check`` raises when that is impossible; it is called while the table is locked, before the run is recorded.
    """
    if preview:
        check()
        return _work(ledger, rules, Run(0, rules.table, "", kind, source, now()), prepare, fits=fits)
    if not ledger.exists():
        raise DeclarationError(f"Table {rules.table!r} has never been loaded; there is nothing to recompute.")

    def once() -> Outcome:
        with ledger.engine.lock(rules.table, wait_s=wait_s):
            check()
            run, _ = ledger.start_run(rules, feed="", kind=kind, source=source, reason=reason)
            try:
                return _work(ledger, rules, run, prepare, fits=fits)
            except BaseException as error:
                ledger.enter_failure(run, error)
                raise

    return retry_on_conflict(once)


def _work(
    ledger: Ledger[Engine], rules: TableRules, run: Run, prepare: Callable[[UnderWay, Run], None], *, fits: Fits
) -> Outcome:
    values = {"run": run.number or LATER_THAN_ALL, "loaded_at": run.started_at}
    it = begin(ledger, rules, values=values, fits=fits, preview=run.number == 0)
    check_kept(rules)
    with explain_if_missing(it.engine, rules, it.state), it.engine.transaction(None if it.preview else rules):
        prepare(it, run)
        it.do(change_log.no_changes(it.schema))
        it.told = False
        some_replayed = decide_changes(it, first=False, chosen=True)
        expect_row_counts(it, some_replayed=some_replayed)
        if run.kind == "approve":  # the other kinds decide on nothing
            it.counts["deleted"] = it.ended_keys
        changed = it.ask_values(change_log.changed_keys(it.schema)) if some_replayed else None
        if not it.preview:
            write_table(it, some_replayed=some_replayed)
            if it.keeps_explicit:
                it.do(change_log.log_explicit(it.schema))
            enter_state(ledger, it, highest_in_log(it))
            ledger.end_run(run, "done", it.counts)
    it.engine.on_discard(it.work)()
    return Outcome(
        table=rules.table,
        feed="",
        run=run.number or None,
        state="preview" if it.preview else "done",
        source=run.source,
        started_at=run.started_at,
        duration_s=(now() - run.started_at).total_seconds(),
        counts=it.counts,
        changed_keys=changed,
    )
