"""One load, from a feed to the table:

    record the run · open the feed · validate · classify · resolve · find row changes · guard · apply, together with the ledger

Everything from validation on happens in one transaction. A preview stops before the write.
"""

from __future__ import annotations

import logging
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

from brenvik.engines.conflicts import retry_on_conflict
from brenvik.engines.protocol import Engine
from brenvik.engines.workspace import Workspace
from brenvik.errors import InputError, LimitExceeded, Temporary, UnreadableFile
from brenvik.feeds.columns import as_declared
from brenvik.feeds.protocol import CanQuarantine, ExtractTime
from brenvik.ledger.entries import now
from brenvik.ledger.ledger import Ledger
from brenvik.ledger.memory import LoadMemory
from brenvik.ledger.records import Preview, Run
from brenvik.merge.column_changes import NO_CHANGES
from brenvik.merge.plan.kinds import LoadPlan, load_plan
from brenvik.merge.plan.steps import Applied, RowChanges
from brenvik.merge.schema import TableSchema
from brenvik.model.feeds import AS_THEY_ARE, FeedColumns, Operations
from brenvik.model.rules import TableRules
from brenvik.model.suggest import suggestion
from brenvik.outcome import DecisionLog, Outcome
from brenvik.runs import pipeline
from brenvik.runs.context import RunContext
from brenvik.runs.guards import (
    NOTHING_MORE,
    Allowed,
    check_age,
    check_guards,
    check_kind,
    check_new,
    check_only_feed,
    check_reach,
)
from brenvik.runs.missing import explain_if_missing
from brenvik.runs.prepare import check_rules, check_scope, notes_on_new_columns, prepare
from brenvik.runs.schema_changes import follow
from brenvik.runs.staging import (
    absence_times,
    check_rejects,
    check_times,
    extract_time,
    ledger_sql,
    rows_of,
    time_of_rows,
)
from brenvik.runs.trim import trim_if_due

if TYPE_CHECKING:
    from brenvik.feeds.protocol import Batch, LoadRequest, Source, Watch

_log = logging.getLogger("brenvik")


@dataclass(frozen=True)
class LoadOptions:
    """The options of a load besides its rules and its source.

    ``columns`` says how the columns of the feed become those of the table. ``request`` asks for something other than new data;
    ``at`` is the time of rows that have none, neither in a column nor as an extract; None: now. ``label`` is recorded with the
    run. ``explain`` says whether to keep what ``Outcome.decisions`` needs; None: for loads of limited size. ``allowed`` is what
    was approved, once. ``extract_scope`` is a condition over the table's columns: current rows outside of it are not absent from
    an extract. ``wait_s`` is how many seconds to wait for a locked table.
    """

    operations: Operations | None = None
    columns: FeedColumns = AS_THEY_ARE
    request: LoadRequest | None = None
    at: str | None = None
    label: str | None = None
    explain: bool | None = None
    wait_s: float = 30.0
    watch: Watch | None = None
    allowed: Allowed = NOTHING_MORE
    extract_scope: str | None = None
    preview: bool = False


def load(ledger: Ledger[Engine], rules: TableRules, source: Source, options: LoadOptions) -> Outcome:
    """Loads new data from a feed, completely or not at all; a preview only shows what would happen.

    Raises Busy when another run has locked the table for longer than ``wait_s`` seconds, and any other error of ``errors``;
    the run is then recorded as ``failed`` or ``blocked`` and nothing else is written.
    """
    if options.preview:
        return _preview(ledger, rules, source, options)
    ledger.prepare()

    def once() -> Outcome:
        return _load(ledger, rules, source, options)

    outcome = retry_on_conflict(once) if source.can_reopen else once()
    if outcome.run is not None and (note := trim_if_due(ledger, rules, wait_s=options.wait_s)):
        outcome.notes.append(note)
    return outcome


def _preview(ledger: Ledger[Engine], rules: TableRules, source: Source, options: LoadOptions) -> Outcome:
    batch = source.open(ledger.memory(rules.table, source.name), options.request)
    try:
        if not batch.columns:
            return Outcome.nothing_new(rules.table, source.name, notes=batch.notes)
        run, memory = ledger.preview(rules.table, feed=source.name, kind=source.kind, source=batch.source)
        outcome = _work_through(ledger, rules, batch, run, memory, options)
        if outcome.more:
            first = "the first extract" if batch.extract else "the first file" if batch.files else "the first window"
            outcome.notes.append(f"This shows {first} only; a load continues until nothing is left.")
        return outcome
    finally:
        batch.close()


def _load(ledger: Ledger[Engine], rules: TableRules, source: Source, options: LoadOptions) -> Outcome:
    with ledger.engine.lock(rules.table, wait_s=options.wait_s):
        try:
            batch = source.open(ledger.memory(rules.table, source.name), options.request)
        except (InputError, Temporary) as error:
            _quarantine(source, error)
            run, _ = ledger.start_run(rules, feed=source.name, kind=source.kind, source="", label=options.label)
            ledger.enter_failure(run, error)
            raise
        try:
            if not batch.columns:
                return Outcome.nothing_new(rules.table, source.name, notes=[*batch.notes, *batch.after_commit()])
            run, memory = ledger.start_run(
                rules,
                feed=source.name,
                kind=source.kind,
                source=batch.source,
                window=batch.window,
                rows_skipped=batch.rows_skipped,
                label=options.label,
                extract_scope=options.extract_scope if batch.extract else None,
            )
            _log.info("started: %s", batch.source, extra=run.about())
            try:
                outcome = _work_through(ledger, rules, batch, run, memory, options)
            except BaseException as error:
                _quarantine(source, error)
                ledger.enter_failure(run, error)
                raise
            _log.info("done: %s", outcome.sums()[0], extra=run.about() | {"counts": dict(outcome.counts)})
            outcome.notes += batch.after_commit()
        finally:
            batch.close()
        if crashed := memory.running:
            _log.warning("%d earlier run of this table is marked as crashed", crashed, extra=run.about())
            outcome.notes.append(
                f"{crashed} earlier run of this table ended without an outcome; it is marked as crashed."
            )
        return outcome


def _quarantine(source: Source, error: BaseException) -> None:
    """Moves an unreadable file away, if its feed says so; the error then says where."""
    if isinstance(error, UnreadableFile) and isinstance(source, CanQuarantine):
        error.moved_to = source.quarantine(error.file)


def _work_through(
    ledger: Ledger[Engine],
    rules: TableRules,
    batch: Batch,
    run: Run | Preview,
    memory: LoadMemory,
    options: LoadOptions,
) -> Outcome:
    """From validation to the end."""
    before = memory.state
    state, changes = follow(rules, before) if before else (None, NO_CHANGES)
    memory = replace(memory, state=state)
    at = time_of_rows(rules, batch, options.at)
    if batch.extract and at:
        batch = replace(batch, extract=ExtractTime(options.at))
    batch = as_declared(batch, options.columns, rules, options.operations, state, feed=run.feed)
    if batch.extract and memory.has_ledger:
        memory = replace(memory, newest_extract=ledger.newest_extract(rules.table, run.feed))
    with explain_if_missing(ledger.engine, rules, before):
        check_rules(rules, state)
        check_kind(rules, run, memory, is_extract=batch.extract is not None)
        params = {
            "run": run.number, "loaded_at": run.started_at, "feed": run.feed, "changed_at": at or run.started_at,
        }  # fmt: skip
        given = {**params, **pipeline.table_params(rules, state)}
        work = Workspace(ledger.engine, given, ledger.engine.reserve())
        with ledger.engine.transaction(rules if isinstance(run, Run) else None):
            schema = prepare(work, ledger, rules, run, batch, memory, changes, options.operations)
            check_scope(schema, options.extract_scope, batch.columns)
            notes = changes.sentences + notes_on_new_columns(rules, schema, batch, state, options.operations)
            notes += [f"The rows are dated {at}."] if at and not batch.extract else []
            context = RunContext(work, rules, schema, memory, run, batch, options.watch, tuple(notes))
            done = _carry_out(ledger, context, options)
        return _outcome(*done)  # whatever goes wrong from here on, the run is done


def _carry_out(
    ledger: Ledger[Engine], context: RunContext, options: LoadOptions
) -> tuple[RunContext, RowChanges, LimitExceeded | None]:
    """Carries out the stages; returns the context as they left it, the row changes, and why a preview would be blocked."""
    batch, memory, run = context.batch, context.memory, context.run
    assert batch
    check_new(ledger, context)
    if batch.extract:
        context = context.with_params(extract_at=extract_time(context, batch.extract))
    if batch.complete_at:
        check_only_feed(ledger, context)
        context = context.with_params(**absence_times(context, batch.complete_at))
    if batch.store_query:
        context = context.with_params(**batch.store_query_values)
    if memory.erased:
        context = context.with_params(salt=ledger.salt(run.table))
    trimmed = ledger.trimmed(run.table) if memory.trims else None
    if trimmed:
        context = context.with_params(settled_before=trimmed.before)
    plan = load_plan(
        context.schema,
        rows_of(
            context.schema,
            batch,
            options.operations,
            options.extract_scope,
            some_erased=memory.erased > 0,
            trimmed=trimmed is not None,
        ),
        ledger_sql(context.schema, batch, has_ledger=memory.has_ledger),
        excluded=tuple(memory.reverted),
        first=memory.is_first,
    )
    validated = pipeline.validate(context, plan, pipeline.begin(memory, explains=options.explain))
    check_rejects(context, validated)
    if batch.extract:
        check_times(batch, validated)
        check_age(context, str(validated.extract_at))
        check_reach(context, str(validated.extract_at), trimmed)
    classified = pipeline.classify_changes(context, plan, validated)
    resolved = pipeline.resolve_current(context, plan, classified)
    changes = pipeline.find_row_changes(context, plan, resolved)
    context = replace(context, notes=(*context.notes, *_notes_on_ties(context.rules, changes)))
    blocked_by = check_guards(context, changes, options.allowed)
    if isinstance(run, Run):
        if blocked_by:
            raise blocked_by
        _apply(ledger, context, plan, changes, run)
    return context, changes, blocked_by


def _apply(ledger: Ledger[Engine], context: RunContext, plan: LoadPlan, changes: RowChanges, run: Run) -> None:
    """Applies the row changes, appends to the change log, and records everything in the ledger."""
    batch, memory, counts = context.batch, context.memory, changes.counts
    assert batch
    if counts["rejected"]:
        names = {f"file_{file.number}": file.file for file in batch.files}
        context = context.with_params(last_reject=ledger.last_reject(run.table), **names)
    if counts["pending"]:
        last = ledger.last_delete_no(run.table)
        context = context.with_params(last_delete_no=last, from_extract=int(bool(batch.extract or batch.complete_at)))
    applied = pipeline.apply(context, plan, changes)
    ledger.decide_pending_deletes(run, applied.lapsed, "lapsed")
    if batch.retries:
        ledger.decide_rejects(run, tuple(batch.retries), "retried")
    ledger.record_duplicates(run, {row["of_run"]: row["n"] for row in applied.deduplicated})
    ledger.enter_files(run, batch.files)
    if batch.window and batch.window.advances and batch.window.high is not None:
        ledger.set_watermark(run, batch.window.kind, batch.window.high)
    order, effective = pipeline.high_values(context, applied)
    if memory.state:
        order, effective = order or memory.state.high_order, effective or memory.state.high_effective
    first_run = run.number if memory.state is None else None
    pipeline.record_state(ledger, context, applied, (order, effective), first_run=first_run)
    ledger.end_run(run, "done", counts, "\n".join(context.notes), **_of_extract(context.schema, batch, applied))


def _of_extract(schema: TableSchema, batch: Batch, applied: Applied) -> dict[str, Any]:
    """What is recorded with an extract: its time, and the column set of its rows where they share one."""
    if not batch.extract:
        return {}
    column_sets = schema.column_sets_of(batch.column_sets.values())
    return {
        "window_high": applied.extract_at,
        "extract_column_set": column_sets[0] if len(column_sets) == 1 else None,
    }


def _outcome(context: RunContext, changes: RowChanges, blocked_by: LimitExceeded | None) -> Outcome:
    """The outcome, with what it takes to explain the decisions while the store is open."""
    batch, run, schema = context.batch, context.run, context.schema
    assert batch
    decision_log = DecisionLog(
        workspace=context.workspace,
        schema=schema,
        some_current=changes.some_current,
        some_replayed=changes.some_replayed,
        some_returning=changes.returning > 0,
        some_rejected=changes.some_invalid,
        some_decided_deletes=changes.inactive > 0,
        some_erased=changes.erased > 0,
        files=tuple((file.number, file.file) for file in batch.files),
        key_places=batch.key_places,
    )
    return Outcome(
        table=context.rules.table,
        feed=run.feed,
        run=None if context.is_preview else run.number,
        state="preview" if context.is_preview else "done",
        source=batch.source,
        started_at=run.started_at,
        duration_s=(now() - run.started_at).total_seconds(),
        counts=dict(changes.counts),
        window=batch.window,
        rows_skipped=batch.rows_skipped,
        notes=[
            *batch.notes,
            *_notes_on_columns(schema, batch),
            *context.notes,
            *_notes_on_types(schema, context.rules, batch),
            *_notes_on_late(schema, changes.late - changes.late_duplicates),
            *_notes_on_marks(changes),
            *_notes_on_erased(changes),
        ],
        decision_log=decision_log if changes.explains else None,
        blocked_by=blocked_by,
        more=batch.more or bool(batch.window and batch.window.more),
    )


def _notes_on_ties(rules: TableRules, changes: RowChanges) -> list[str]:
    """How many keys have changes that contradict each other, the first of them, and which of their changes counts."""
    keys, first = changes.action("tied"), changes.actions.get("tied_key")
    if not keys:
        return []
    have = f"1 key ({first}) has" if keys == 1 else f"{keys:,} keys ({first}, …) have"
    order = " and ".join(rules.order_by)
    same = f"with the same {order}" if order else "of one extract"
    return [f'{have} contradictory changes {same}: the last to arrive counts (ties = "latest_arrival").']


def _notes_on_late(schema: TableSchema, late: int) -> list[str]:
    """How many changes were late, and what that means for a table without a change log."""
    if not late:
        return []
    count = "1 change was late" if late == 1 else f"{late:,} changes were late"
    if schema.change_log:
        return [f"{count}; recomputed from the change log."]
    return [f"{count}; spliced into the stored versions as well as possible, as there is no change log."]


def _notes_on_marks(changes: RowChanges) -> list[str]:
    """How many rows are missing in an extract since then, and how many are back."""
    notes = []
    if changes.missing:
        notes.append(
            f"{'1 row is' if changes.missing == 1 else f'{changes.missing:,} rows are'} missing now, and marked."
        )
    if changes.back:
        notes.append(f"{'1 row is' if changes.back == 1 else f'{changes.back:,} rows are'} back, and no longer marked.")
    return notes


def _notes_on_erased(changes: RowChanges) -> list[str]:
    """How many rows were of keys that were erased."""
    if not changes.erased:
        return []
    rows = "1 row is of a key that was" if changes.erased == 1 else f"{changes.erased:,} rows are of keys that were"
    return [f"{rows} erased; ignored."]


def _notes_on_types(schema: TableSchema, rules: TableRules, batch: Batch) -> list[str]:
    """Which columns have a declared type and occur nowhere else."""
    there = {*batch.columns, *(column.name for column in schema.columns)}
    return [
        f"types names {name}, which is a column of neither {batch.source} nor the table{suggestion(name, there)}"
        for name in rules.types
        if name not in there
    ]


def _notes_on_columns(schema: TableSchema, batch: Batch) -> list[str]:
    """Which columns of the table the batch lacks."""
    notes = []
    for part, columns in batch.parts.items():
        missing = [name for name in schema.values if name not in columns]
        if missing:
            then = "null in its rows" if schema.appends else "existing values are kept"
            notes.append(f"{part} has no {', '.join(missing)}: {then}.")
    return notes
