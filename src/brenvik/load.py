"""The way of one load, from a feed to the table, as one story:

    enter the run · take what the feed has · screen · sort · work out · check · write with the ledger

Everything from the screening on happens in one transaction. A preview goes the same way up to the write and stops.
"""

from __future__ import annotations

import logging
from typing import TYPE_CHECKING

from brenvik.core import arrivals, screen, sort, sql
from brenvik.core.blueprint import Blueprint
from brenvik.core.screen import Operations
from brenvik.errors import (
    InputError,
    StoreError,
    Temporary,
    TooManyRejects,
)
from brenvik.ledger import Ledger, Run, TableState, enter_rejects, known_rejects, now
from brenvik.outcome import Outcome, Telling
from brenvik.preparing import LATER_THAN_ALL, UnderWay, check_rules, leave_out, next_work, prepare
from brenvik.rules import TableRules
from brenvik.working import count_decisions, exactly, foresee, new_highs, set_highs, work_out, write_table

if TYPE_CHECKING:
    from brenvik.feeds.base import Batch, Source, Wanted, Watch

_log = logging.getLogger("brenvik")

TOLD_UNASKED = 100_000
"""Up to how many rows the old values of a load are kept for ``Outcome.decisions`` without being asked for."""


def load(
    ledger: Ledger,
    rules: TableRules,
    source: Source,
    *,
    operations: Operations | None,
    wanted: Wanted | None = None,
    label: str | None = None,
    preview: bool = False,
    explain: bool | None = None,
    wait_s: float = 30.0,
    watch: Watch | None = None,
) -> Outcome:
    """Takes what a feed has new into its table, wholly or not at all; a preview only says what would happen.

    ``wanted`` asks for something else than what is new; ``label`` is kept with the run. ``explain`` says whether to keep
    what ``Outcome.decisions`` needs; None: for up to ``TOLD_UNASKED`` rows.

    Raises Busy when another load holds the table for longer than ``wait_s`` seconds, and whatever else ``errors``
    names; the run is then entered as ``failed`` or ``refused`` and nothing else is written.
    """
    memory = ledger.memory(rules.table, source.name)
    if preview:
        batch = source.open(memory, wanted)
        try:
            if not batch.columns:
                return Outcome.nothing_new(rules.table, source.name, notes=batch.notes)
            run = Run(0, rules.table, source.name, source.kind, batch.source, now())
            outcome = _work_through(ledger, rules, batch, operations, run, explain, watch)
            if batch.window and batch.window.more:
                outcome.notes.append("This is the first piece; a load goes on with the next until nothing is left.")
            return outcome
        finally:
            batch.close()
    ledger.prepare()
    with ledger.engine.hold(rules.table, wait_s=wait_s):
        try:
            batch = source.open(memory, wanted)
        except (InputError, Temporary) as error:
            run, _ = ledger.start_run(rules, feed=source.name, kind=source.kind, source="", label=label)
            ledger.enter_failure(run, error)
            raise
        try:
            if not batch.columns:
                return Outcome.nothing_new(rules.table, source.name, notes=[*batch.notes, *batch.after_commit()])
            run, lost = ledger.start_run(
                rules,
                feed=source.name,
                kind=source.kind,
                source=batch.source,
                window=batch.window,
                seen=batch.seen,
                label=label,
            )
            _log.info("started: %s", batch.source, extra=run.about())
            try:
                outcome = _work_through(ledger, rules, batch, operations, run, explain, watch)
            except BaseException as error:
                ledger.enter_failure(run, error)
                raise
            _log.info("done: %s", outcome.sums()[0], extra=run.about() | {"counts": dict(outcome.counts)})
            outcome.notes += batch.after_commit()
        finally:
            batch.close()
        if lost:
            _log.warning("%d earlier run of this table is marked as lost", lost, extra=run.about())
            outcome.notes.append(f"{lost} earlier run of this table ended without a word; marked as lost.")
        return outcome


def _work_through(
    ledger: Ledger,
    rules: TableRules,
    batch: Batch,
    operations: Operations | None,
    run: Run,
    explain: bool | None,
    watch: Watch | None,
) -> Outcome:
    """From the screening to the end; a run without a number is a preview."""
    engine = ledger.engine
    has_ledger = ledger.exists()
    state = ledger.state(rules.table) if has_ledger else None
    check_rules(rules, state)
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
    )
    with engine.transaction():
        it.blueprint = prepare(it, ledger, batch, state, operations, has_ledger)
        leave_out(it, ledger.withdrawn(rules.table))
        set_highs(it, state)
        _screen(it, batch, operations, has_ledger, watch)
        it.told = it.counts["read"] <= TOLD_UNASKED if explain is None else explain
        first = state is None or state.high_effective is None
        some_busy = work_out(it, first=first)
        counts = count_decisions(it, some_busy=some_busy)
        foresee(it, some_busy=some_busy)
        if not it.preview:
            _write(it, ledger, run, batch, state, first=first, some_busy=some_busy)
            ledger.end_run(run, "done", counts)
    telling = Telling(
        engine=engine,
        work=it.work,
        blueprint=it.blueprint,
        some_busy=some_busy,
        some_rejected=it.some_rejected,
        files=tuple((file.number, file.file) for file in batch.files),
    )
    return Outcome(
        table=rules.table,
        feed=run.feed,
        run=run.number or None,
        state="preview" if it.preview else "done",
        source=batch.source,
        started_at=run.started_at,
        duration_s=(now() - run.started_at).total_seconds(),
        counts=counts,
        window=batch.window,
        seen=batch.seen,
        notes=[*batch.notes, *_notes_on_columns(it.blueprint, batch), *_notes_on_late(it)],
        telling=telling if it.told else None,
    )


def _screen(it: UnderWay, batch: Batch, operations: Operations | None, has_ledger: bool, watch: Watch | None) -> None:
    """Staged rows become ``screened`` changes and ``rejected`` rows."""
    feed = tuple(batch.columns.items())
    numbers = {carried: shape for shape, carried in it.blueprint.shapes}
    held = set(it.blueprint.carried)
    shapes = tuple((number, numbers[tuple(sorted(set(names) & held))]) for number, names in batch.carried.items())
    text = screen.screen(it.blueprint, feed, operations, shapes, keeps_raw=batch.keeps_raw)
    try:
        it.engine.stage(batch.rows(watch), text, it.values, work=it.work)
    except StoreError:
        if batch.failure:  # raised inside the stream, and wrapped by the engine that read it
            raise batch.failure from None
        raise
    late = sort.count_late(it.blueprint) if "high_effective" in it.values else "0"
    derived = arrivals.count_derived("c") if batch.derives else "0"
    counts = it.row(
        f"SELECT count(*) AS n, count(c.brenvik_fault) AS faulty, {late} AS late, {derived} AS derived "
        f"FROM {sql.work('screened')} c"
    )
    it.counts["derived"] = int(counts["derived"] or 0)
    it.counts["read"] = counts["n"] - it.counts["derived"] + len(batch.broken)
    it.late = int(counts["late"] or 0)
    if not counts["faulty"] and not batch.broken:
        return
    it.some_rejected = True
    for statement in screen.take_out_rejected(derives=batch.derives):
        it.do(statement)
    if batch.derives:  # a rejected row brings no derived change either
        it.counts["derived"] = int(it.row(f"SELECT {derived} AS n FROM {sql.work('screened')} c")["n"] or 0)
    if batch.broken:
        it.engine.stage(batch.broken_rows(), screen.add_broken(), it.values, work=it.work)
    it.do(known_rejects(has_ledger=has_ledger))
    again = it.row(f"SELECT count(*) AS n, COALESCE(sum(brenvik_again), 0) AS again FROM {sql.work('rejected')}")
    it.counts["duplicate"] = int(again["again"])
    it.counts["rejected"] = again["n"] - int(again["again"])
    _check_rejects(it, batch)


def _check_rejects(it: UnderWay, batch: Batch) -> None:
    limit, rejected, read = it.rules.max_rejects, it.counts["rejected"], it.counts["read"]
    if limit is None:
        return
    allowed = limit if isinstance(limit, int) else int(limit * read)
    if rejected > allowed:
        told = f"{limit}" if isinstance(limit, int) else f"{limit:.0%} of the rows, {allowed}"
        examples = it.ask(
            f"SELECT brenvik_reason FROM {sql.work('rejected')} WHERE brenvik_again = 0 ORDER BY brenvik_arrival LIMIT 3"
        ).column(0)
        raise TooManyRejects(
            f"{batch.source}: {rejected} of {read} rows would be rejected; max_rejects allows {told}. Nothing was written. "
            f"The first: {'; '.join(reason.as_py() for reason in examples)}. "
            "Mend the source or the declared types, or raise max_rejects.",
            rejected=rejected,
            read=read,
        )


def _write(
    it: UnderWay, ledger: Ledger, run: Run, batch: Batch, state: TableState | None, *, first: bool, some_busy: bool
) -> None:
    """Writes the diff, the kept changes and the ledger."""
    write_table(it, some_busy=some_busy)
    blueprint, asked = it.blueprint, it.asked_for
    if blueprint.kept:
        exactly(it, "kept", asked["kept"], it.do(sort.keep(blueprint, some_duplicates=some_busy)))
    if it.counts["rejected"]:
        last = ledger.last_reject(it.rules.table)
        files = tuple((file.number, file.file) for file in batch.files)
        file_names = {f"file_{number}": name for number, name in files}
        exactly(
            it, "entered as rejects", it.counts["rejected"], it.do(enter_rejects(files), last_reject=last, **file_names)
        )
    if blueprint.kept and some_busy and it.counts["duplicate"]:
        ledger.fold(run, {row["of_run"]: row["n"] for row in it.ask(sort.folded(blueprint)).to_pylist()})
    ledger.take_files(run, batch.files)
    if batch.window and batch.window.moves and batch.window.high is not None:
        ledger.set_watermark(run, batch.window.kind, batch.window.high)
    high_order, high_effective = new_highs(it, state, first=first)
    last_key = it.values["last_key"] + it.counts["rows_added"]
    ledger.set_state(
        blueprint,
        it.rules,
        high_order=high_order,
        high_effective=high_effective,
        last_key=last_key,
        first_run=run.number if state is None else None,
    )


def _notes_on_late(it: UnderWay) -> list[str]:
    """Says how many changes were late, and what that means where none are kept."""
    if not it.late:
        return []
    late = "1 change came late" if it.late == 1 else f"{it.late:,} changes came late"
    if it.blueprint.kept:
        return [f"{late}; worked out with all changes kept before."]
    return [f"{late}; spliced into the stored versions as well as can be, as no changes are kept."]


def _notes_on_columns(blueprint: Blueprint, batch: Batch) -> list[str]:
    """Says which columns of the table the batch did not carry."""
    notes = []
    for part, columns in batch.parts.items():
        missing = [name for name in blueprint.values if name not in columns]
        if missing:
            notes.append(f"{part} has no {', '.join(missing)}: what is known of it stays.")
    return notes
