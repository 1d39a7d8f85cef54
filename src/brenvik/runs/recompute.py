"""Runs that bring no new changes: keys are recomputed from the change log, and the differences are written. What they are for
is elsewhere: ``rebuild``, ``revert``, ``pending_deletes``; questions about the past in ``past``."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

from brenvik.engines.conflicts import retry_on_conflict
from brenvik.engines.protocol import Engine
from brenvik.engines.workspace import Workspace
from brenvik.errors import DeclarationError
from brenvik.ledger.entries import now
from brenvik.ledger.ledger import Ledger
from brenvik.ledger.memory import LoadMemory
from brenvik.ledger.records import Attempt, Preview, Run, TableState
from brenvik.ledger.schema import ROW_COUNTS
from brenvik.merge import diff
from brenvik.merge.plan.kinds import LoadPlan, recompute_plan
from brenvik.merge.plan.steps import Begun, Resolved, RowChanges
from brenvik.model.decisions import DECISIONS
from brenvik.model.rules import TableRules
from brenvik.outcome import Outcome
from brenvik.runs import pipeline
from brenvik.runs.context import RunContext
from brenvik.runs.missing import explain_if_missing
from brenvik.runs.prepare import add_stamps, check_rules, schema_of

Fits = Callable[[TableRules, TableState], TableState]
"""What is known of a table under the rules; raises RulesChanged for rules under which it cannot be recomputed."""


def check_fit(rules: TableRules, state: TableState) -> TableState:
    """The same state, if nothing has changed since that needs another run first."""
    check_rules(rules, state)
    return state


@dataclass(frozen=True)
class Prepared:
    """What a kind of run prepared: ``active_changes``, and ``replay_keys`` with so many ``keys`` to recompute; or another
    ``plan``.

    ``explicit``: the changes of these relations are logged. ``begun`` has the size of the table, if the run found another one.
    ``check_log``: rows of the table must have a change in the log.
    """

    context: RunContext
    keys: int
    explicit: tuple[str, ...] = ()
    begun: Begun | None = None
    check_log: bool = True
    plan: LoadPlan | None = None

    @cached_property
    def steps(self) -> LoadPlan:
        return self.plan or recompute_plan(self.context.schema, explicit=self.explicit, check_log=self.check_log)


Prepare = Callable[[RunContext], Prepared]


def begin(
    ledger: Ledger[Engine],
    rules: TableRules,
    *,
    run: Run | Preview | None = None,
    memory: LoadMemory | None = None,
    params: Mapping[str, Any] | None = None,
    fits: Fits = check_fit,
) -> RunContext:
    """The context of a run, or of a question about the past. Raises DeclarationError for a table that was never loaded."""
    memory = memory or ledger.read_memory(rules.table)
    if memory.state is None:
        raise never_loaded(rules)
    memory = replace(memory, state=fits(rules, memory.state))
    assert memory.state
    run = run or Preview(memory.last_run + 1, rules.table, "", "question", "", now())
    given = {**pipeline.table_params(rules, memory.state), "high_effective": None, "run": run.number, **(params or {})}
    schema = schema_of(ledger.engine, rules, memory.state)
    return RunContext(Workspace(ledger.engine, given, ledger.engine.reserve()), rules, schema, memory, run)


def never_loaded(rules: TableRules) -> DeclarationError:
    return DeclarationError(f"Table {rules.table!r} has never been loaded; there is nothing to recompute.")


def check_log(rules: TableRules) -> None:
    """Raises DeclarationError when a table has no change log."""
    if not rules.is_logged:
        why = "no natural key, and so no change log" if rules.appends else "no change log (change_log = false)"
        raise DeclarationError(f"Table {rules.table!r} has {why}, so it cannot be recomputed.")


def recompute(
    ledger: Ledger[Engine],
    rules: TableRules,
    kind: str,
    source: str,
    prepare: Prepare,
    *,
    check: Callable[[], None] = lambda: None,
    reason: str | None = None,
    preview: bool,
    wait_s: float,
    fits: Fits = check_fit,
) -> Outcome:
    """One run that recomputes keys: ``prepare`` says which, and which changes are active.

    ``check`` raises when that is impossible; it is called while the table is locked, before the run is recorded.
    """
    if preview:
        check()
        preview_run, memory = ledger.preview(rules.table, kind=kind, source=source)
        return _work(ledger, rules, preview_run, memory, prepare, fits=fits)

    def work(run: Run, memory: LoadMemory) -> Outcome:
        return _work(ledger, rules, run, memory, prepare, fits=fits)

    return recorded(ledger, rules, kind, source, work, check=check, reason=reason, wait_s=wait_s)


def recorded(
    ledger: Ledger[Engine],
    rules: TableRules,
    kind: str,
    source: str,
    do: Callable[[Run, LoadMemory], Outcome],
    *,
    check: Callable[[], None] = lambda: None,
    reason: str | None,
    wait_s: float,
) -> Outcome:
    """Does something with a table that was loaded before as a run of its own, while the table is locked; ``check`` comes before
    the run is recorded."""
    if not ledger.exists():
        raise never_loaded(rules)

    def once() -> Outcome:
        with ledger.engine.lock(rules.table, wait_s=wait_s):
            check()
            run, memory = ledger.start_run(rules, feed="", kind=kind, source=source, reason=reason)
            try:
                return do(run, memory)
            except BaseException as error:
                ledger.enter_failure(run, error)
                raise

    return retry_on_conflict(once)


def _work(
    ledger: Ledger[Engine],
    rules: TableRules,
    run: Run | Preview,
    memory: LoadMemory,
    prepare: Prepare,
    *,
    fits: Fits,
) -> Outcome:
    context = begin(
        ledger, rules, run=run, memory=memory, params={"loaded_at": run.started_at, "feed": run.feed}, fits=fits
    )
    if not rules.appends:
        check_log(rules)
    engine = ledger.engine
    recording = isinstance(run, Run)
    with explain_if_missing(engine, rules, memory.state), engine.transaction(rules if recording else None):
        if isinstance(run, Run) and memory.state:
            context.carry_out(add_stamps(engine, context.schema, memory.state), Begun())
        prepared = prepare(context)
        changes, changed_keys = find_changes(prepared)
        if isinstance(run, Run):
            apply_changes(ledger, prepared, changes, run)
    context.workspace.discard()
    return outcome_of(context.run, changes.counts, changed_keys)


def find_changes(prepared: Prepared) -> tuple[RowChanges, Any]:
    """The row changes of the keys in ``replay_keys``, and per key how many rows change."""
    context, plan = prepared.context, prepared.steps
    begun = prepared.begun or pipeline.begin(context.memory, explains=False)
    resolved = replace(Resolved.after(replace(begun, first=False)), chosen_keys=prepared.keys)
    changes = pipeline.find_row_changes(context, plan, resolved)
    counts = {name: changes.counts[name] for name in ROW_COUNTS}  # no changes were read, and none decided
    if context.run.kind == "approve":
        counts["deleted"] = changes.ended_keys
    changes = replace(changes, counts=counts)
    if not changes.some_replayed:
        return changes, None
    return changes, context.workspace.ask(diff.changed_keys(context.schema), context.schema)


def apply_changes(
    ledger: Ledger[Engine], prepared: Prepared, changes: RowChanges, run: Run, *, first_run: int | None = None
) -> None:
    """Writes the row changes, and records the run as done."""
    context = prepared.context
    applied = pipeline.apply(context, prepared.steps, changes)
    state, highest = context.memory.state, pipeline.high_values(context, applied)
    if prepared.plan and state:  # no key is recomputed
        highest = state.high_order, state.high_effective
    pipeline.record_state(ledger, context, applied, highest, first_run=first_run)
    ledger.end_run(run, "done", changes.counts, "\n".join(context.notes))


def counts_without_changes(memory: LoadMemory, *, removed: int = 0) -> dict[str, int]:
    """What is counted of a run that brings no changes, but may remove rows."""
    rows = memory.state.row_count if memory.state else 0
    sizes = {"rows_before": rows, "rows_removed": removed, "rows_after": rows - removed}
    return dict.fromkeys(("read", "derived", *DECISIONS, *ROW_COUNTS), 0) | sizes


def outcome_of(run: Attempt, counts: Mapping[str, int], changed_keys: Any = None, notes: Iterable[str] = ()) -> Outcome:
    is_recorded = isinstance(run, Run)
    return Outcome(
        table=run.table,
        feed="",
        run=run.number if is_recorded else None,
        state="done" if is_recorded else "preview",
        source=run.source,
        started_at=run.started_at,
        duration_s=(now() - run.started_at).total_seconds(),
        counts=dict(counts),
        notes=[*notes],
        changed_keys=changed_keys,
    )
