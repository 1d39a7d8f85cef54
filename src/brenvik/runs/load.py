"""One load, from a feed to the table:

    record the run · open the feed · validate · classify · decide · check · write, together with the ledger

Everything from validation on happens in one transaction. A preview stops before the write.
"""

from __future__ import annotations

import logging
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from brenvik.engines.conflicts import retry_on_conflict
from brenvik.engines.protocol import Engine
from brenvik.errors import (
    InputError,
    LimitExceeded,
    Temporary,
)
from brenvik.ledger.entries import now
from brenvik.ledger.ledger import Ledger
from brenvik.ledger.records import Run, TableState
from brenvik.ledger.schema import record_rejected_keys, record_rejects
from brenvik.merge import classify, extract_diff, pending_deletes
from brenvik.merge.schema import TableSchema
from brenvik.model.feeds import Operations
from brenvik.model.rules import TableRules
from brenvik.model.suggest import suggestion
from brenvik.outcome import DecisionLog, Outcome
from brenvik.runs.guards import NOTHING_MORE, Allowed, check_age, check_guards, check_kind
from brenvik.runs.missing import explain_if_missing
from brenvik.runs.pending_deletes import decide_inactive_deletes, find_pending, log_inactive_deletes, set_deletes_aside
from brenvik.runs.pipeline import (
    check_count,
    count_decisions,
    decide_changes,
    enter_state,
    expect_row_counts,
    new_high_values,
    set_high_values,
    write_table,
)
from brenvik.runs.prepare import LATER_THAN_ALL, UnderWay, check_rules, check_scope, exclude, next_work, prepare
from brenvik.runs.staging import stage_changes

if TYPE_CHECKING:
    from brenvik.feeds.protocol import Batch, LoadRequest, Source, Watch

_log = logging.getLogger("brenvik")

TOLD_UNASKED = 100_000
"""Up to this many rows a load keeps old values for ``Outcome.decisions`` unless told otherwise."""


def load(
    ledger: Ledger[Engine],
    rules: TableRules,
    source: Source,
    *,
    operations: Operations | None,
    request: LoadRequest | None = None,
    label: str | None = None,
    preview: bool = False,
    explain: bool | None = None,
    wait_s: float = 30.0,
    watch: Watch | None = None,
    allowed: Allowed = NOTHING_MORE,
    extract_scope: str | None = None,
) -> Outcome:
    """Loads what is new in a feed, completely or not at all; a preview only says what would happen.

    ``wanted`` asks for something other than what is new; ``label`` is kept with the run. ``explain`` says whether to keep
    what ``Outcome.decisions`` needs; None: for up to ``TOLD_UNASKED`` rows. ``allowed`` is what a person allows once.
    ``extract_scope`` is a condition over the table's columns: current rows outside of it are not missing from an extract.

    Raises Busy when another load holds the table for longer than ``wait_s`` seconds, and any other error of ``errors``;
    the run is then recorded as ``failed`` or ``blocked`` and nothing else is written.
    """
    how = _How(operations, explain, watch, allowed, extract_scope)
    if preview:
        return _preview(ledger, rules, source, request, how)
    ledger.prepare()

    def once() -> Outcome:
        return _load(ledger, rules, source, request, how, label=label, wait_s=wait_s)

    return retry_on_conflict(once) if source.can_reopen else once()


@dataclass(frozen=True)
class _How:
    """The options of a load besides its rules and its source."""

    operations: Operations | None
    explain: bool | None
    watch: Watch | None
    allowed: Allowed
    extract_scope: str | None


def _preview(
    ledger: Ledger[Engine], rules: TableRules, source: Source, request: LoadRequest | None, how: _How
) -> Outcome:
    batch = source.open(ledger.memory(rules.table, source.name), request)
    try:
        if not batch.columns:
            return Outcome.nothing_new(rules.table, source.name, notes=batch.notes)
        run = Run(0, rules.table, source.name, source.kind, batch.source, now())
        outcome = _work_through(ledger, rules, batch, run, how)
        if outcome.more:
            first = "the first extract" if batch.extract else "the first window"
            outcome.notes.append(f"This shows {first} only; a load continues until nothing is left.")
        return outcome
    finally:
        batch.close()


def _load(
    ledger: Ledger[Engine],
    rules: TableRules,
    source: Source,
    request: LoadRequest | None,
    how: _How,
    *,
    label: str | None,
    wait_s: float,
) -> Outcome:
    with ledger.engine.lock(rules.table, wait_s=wait_s):
        try:
            batch = source.open(ledger.memory(rules.table, source.name), request)
        except (InputError, Temporary) as error:
            run, _ = ledger.start_run(rules, feed=source.name, kind=source.kind, source="", label=label)
            ledger.enter_failure(run, error)
            raise
        try:
            if not batch.columns:
                return Outcome.nothing_new(rules.table, source.name, notes=[*batch.notes, *batch.after_commit()])
            run, crashed = ledger.start_run(
                rules,
                feed=source.name,
                kind=source.kind,
                source=batch.source,
                window=batch.window,
                seen=batch.rows_skipped,
                label=label,
                extract_scope=how.extract_scope if batch.extract else None,
            )
            _log.info("started: %s", batch.source, extra=run.about())
            try:
                outcome = _work_through(ledger, rules, batch, run, how)
            except BaseException as error:
                ledger.enter_failure(run, error)
                raise
            _log.info("done: %s", outcome.sums()[0], extra=run.about() | {"counts": dict(outcome.counts)})
            outcome.notes += batch.after_commit()
        finally:
            batch.close()
        if crashed:
            _log.warning("%d earlier run of this table is marked as crashed", crashed, extra=run.about())
            outcome.notes.append(
                f"{crashed} earlier run of this table ended without an outcome; it is marked as crashed."
            )
        return outcome


def _work_through(ledger: Ledger[Engine], rules: TableRules, batch: Batch, run: Run, how: _How) -> Outcome:
    """From validation to the end; a run without a number is a preview."""
    engine = ledger.engine
    has_ledger = ledger.exists()
    state = ledger.state(rules.table) if has_ledger else None
    with explain_if_missing(engine, rules, state):
        return _with_state(ledger, rules, batch, run, how, state, has_ledger=has_ledger)


def _with_state(
    ledger: Ledger[Engine],
    rules: TableRules,
    batch: Batch,
    run: Run,
    how: _How,
    state: TableState | None,
    *,
    has_ledger: bool,
) -> Outcome:
    engine = ledger.engine
    check_rules(rules, state)
    reverted = ledger.reverted(rules.table)
    if has_ledger:
        check_kind(ledger, rules, run, reverted, is_extract=batch.extract is not None)
    it = UnderWay(
        engine,
        rules,
        values={
            "run": run.number or LATER_THAN_ALL,
            "loaded_at": run.started_at,
            "table_name": rules.table,
            "feed": run.feed,
        },
        work=next_work(),
        preview=run.number == 0,
        scope=how.extract_scope,
    )
    with engine.transaction(None if it.preview else rules):
        it.schema = prepare(it, ledger, batch, state, how.operations)
        check_scope(it.schema, how.extract_scope, batch.columns)
        if has_ledger:
            exclude(it, reverted)
            find_pending(it)
        set_high_values(it, state)
        if batch.extract and how.extract_scope:
            it.current_in_scope = it.row(extract_diff.count_current_keys(it.schema, how.extract_scope))["n"]
        stage_changes(it, batch, how.operations, has_ledger, how.watch)
        if batch.extract and has_ledger:
            check_age(ledger, it, run, batch.source, reverted)
        set_deletes_aside(it)
        it.told = it.counts["read"] <= TOLD_UNASKED if how.explain is None else how.explain
        first = state is None or state.high_effective is None
        some_replayed = decide_changes(it, first=first)
        decide_inactive_deletes(it, some_replayed=some_replayed)
        counts = count_decisions(it, some_replayed=some_replayed)
        if it.late and counts["duplicate"]:
            question = classify.count_late_duplicates(
                it.schema, some_replayed=some_replayed, some_inactive_deletes=it.some_inactive_deletes
            )
            it.late -= it.row(question)["n"]
        blocked_by = check_guards(it, batch.source, how.allowed, is_extract=batch.extract is not None)
        if blocked_by and not it.preview:
            raise blocked_by
        expect_row_counts(it, some_replayed=some_replayed)
        if not it.preview:
            _write(it, ledger, run, batch, state, first=first, some_replayed=some_replayed)
            ledger.end_run(run, "done", counts, **_of_extract(it, batch))
    return _outcome(it, run, batch, counts, blocked_by, some_replayed=some_replayed)


def _outcome(
    it: UnderWay,
    run: Run,
    batch: Batch,
    counts: dict[str, int],
    blocked_by: LimitExceeded | None,
    *,
    some_replayed: bool,
) -> Outcome:
    """The outcome, with what it takes to explain the decisions while the store is open."""
    decision_log = DecisionLog(
        engine=it.engine,
        work=it.work,
        schema=it.schema,
        some_replayed=some_replayed,
        some_rejected=it.some_rejected,
        some_inactive_deletes=it.some_inactive_deletes,
        files=tuple((file.number, file.file) for file in batch.files),
        key_places=batch.key_places,
    )
    return Outcome(
        table=it.rules.table,
        feed=run.feed,
        run=run.number or None,
        state="preview" if it.preview else "done",
        source=batch.source,
        started_at=run.started_at,
        duration_s=(now() - run.started_at).total_seconds(),
        counts=counts,
        window=batch.window,
        seen=batch.rows_skipped,
        notes=[
            *batch.notes,
            *_notes_on_columns(it.schema, batch),
            *_notes_on_types(it.schema, it.rules, batch),
            *_notes_on_late(it),
        ],
        decision_log=decision_log if it.told else None,
        blocked_by=blocked_by,
        more=batch.more or bool(batch.window and batch.window.more),
    )


def _write(
    it: UnderWay,
    ledger: Ledger[Engine],
    run: Run,
    batch: Batch,
    state: TableState | None,
    *,
    first: bool,
    some_replayed: bool,
) -> None:
    """Applies the row changes, appends to the change log, and records everything in the ledger."""
    write_table(it, some_replayed=some_replayed)
    schema, asked = it.schema, it.expected_counts
    if schema.change_log:
        check_count(it, "logged", asked["logged"], it.do(classify.log_changes(schema, some_duplicates=some_replayed)))
    if it.some_inactive_deletes:
        log_inactive_deletes(it, ledger, is_extract=batch.extract is not None)
    if it.some_pending and batch.extract:
        ledger.decide_pending_deletes(run, it.ask(pending_deletes.lapsed(schema)).column(0).to_pylist(), "lapsed")
    if it.counts["rejected"]:
        last = ledger.last_reject(it.rules.table)
        files = tuple((file.number, file.file) for file in batch.files)
        file_names = {f"file_{number}": name for number, name in files}
        check_count(
            it,
            "recorded as rejects",
            it.counts["rejected"],
            it.do(record_rejects(files), last_reject=last, **file_names),
        )
    if batch.retries:
        ledger.decide_rejects(run, batch.retries, "retried")
        ledger.place_rejects(run)
    if schema.change_log and some_replayed and it.counts["duplicate"]:
        ledger.record_duplicates(run, {row["of_run"]: row["n"] for row in it.rows(classify.count_deduplicated(schema))})
    ledger.enter_files(run, batch.files)
    if batch.extract and it.some_rejected:
        it.do(record_rejected_keys(schema.key_text("r")))
    if batch.window and batch.window.moves and batch.window.high is not None:
        ledger.set_watermark(run, batch.window.kind, batch.window.high)
    enter_state(ledger, it, new_high_values(it, state, first=first), first_run=run.number if state is None else None)


def _of_extract(it: UnderWay, batch: Batch) -> dict[str, Any]:
    """What is recorded with an extract: its time, and the column set of its rows where they share one."""
    if not batch.extract:
        return {}
    column_sets = it.schema.column_sets_of(batch.column_sets.values())
    return {
        "window_high": it.values["extract_at"],
        "extract_column_set": column_sets[0] if len(column_sets) == 1 else None,
    }


def _notes_on_late(it: UnderWay) -> list[str]:
    """How many changes were late, and what that means for a table without a change log."""
    if not it.late:
        return []
    late = "1 change was late" if it.late == 1 else f"{it.late:,} changes were late"
    if it.schema.change_log:
        return [f"{late}; recomputed from the change log."]
    return [f"{late}; spliced into the stored versions as well as possible, as there is no change log."]


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
            notes.append(f"{part} has no {', '.join(missing)}: existing values are kept.")
    return notes
