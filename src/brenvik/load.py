"""The way of one load, from a feed to the table, as one story:

    enter the run · take what the feed has · screen · sort · work out · check · write with the ledger

Everything from the screening on happens in one transaction. A preview goes the same way up to the write and stops.
"""

from __future__ import annotations

import itertools
import logging
from typing import TYPE_CHECKING

from brenvik.core import arrivals, diff, plain, screen, sort, sql, versions
from brenvik.core.blueprint import Blueprint
from brenvik.core.screen import Operations
from brenvik.errors import (
    BrenvikError,
    BrokenLaw,
    ForeignTable,
    InputError,
    RulesChanged,
    StoreError,
    Temporary,
    TooManyRejects,
)
from brenvik.ledger import DECISIONS, Ledger, Run, TableState, enter_rejects, known_rejects, now
from brenvik.outcome import Outcome, Telling
from brenvik.preparing import UnderWay, check_rules, prepare
from brenvik.rules import TableRules

if TYPE_CHECKING:
    from brenvik.feeds.base import Batch, Source, Wanted, Watch

_log = logging.getLogger("brenvik")

TOLD_UNASKED = 100_000
"""Up to how many rows the old values of a load are kept for ``Outcome.decisions`` without being asked for."""

_works = itertools.count(1)
_NEXT_RUN = 2**62
"""Stands for the number of the run that a preview foresees: later than all that were."""


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
            _enter_failure(ledger, run, error)
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
            _log.info("started: %s", batch.source, extra=_about(run))
            try:
                outcome = _work_through(ledger, rules, batch, operations, run, explain, watch)
            except BaseException as error:
                _enter_failure(ledger, run, error)
                raise
            _log.info("done: %s", outcome.sums()[0], extra=_about(run) | {"counts": dict(outcome.counts)})
            outcome.notes += batch.after_commit()
        finally:
            batch.close()
        if lost:
            _log.warning("%d earlier run of this table is marked as lost", lost, extra=_about(run))
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
            "run": run.number or _NEXT_RUN,
            "loaded_at": run.started_at,
            "table_name": rules.table,
            "feed": run.feed,
        },
        work=f"brenvik_w{next(_works)}_",
        preview=run.number == 0,
    )
    with engine.transaction():
        it.blueprint = prepare(it, ledger, batch, state, operations, has_ledger)
        _set_highs(it, state)
        _screen(it, batch, operations, has_ledger, watch)
        it.told = it.counts["read"] <= TOLD_UNASKED if explain is None else explain
        first = state is None or state.high_effective is None
        some_busy = _sort_and_decide(it, first=first)
        counts = _count(it, some_busy=some_busy)
        _foresee(it, some_busy=some_busy)
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


def _enter_failure(ledger: Ledger, run: Run, error: BaseException) -> None:
    """Says in the ledger how a run failed. The transaction of the data is undone already."""
    state = "refused" if isinstance(error, (RulesChanged, ForeignTable)) else "failed"
    message = str(error) if isinstance(error, BrenvikError) else type(error).__name__
    _log.error("%s: %s", state, message, extra=_about(run))
    try:
        with ledger.engine.transaction():
            ledger.end_run(run, state, {}, message)
    except BrenvikError as second:  # the store is gone: the first error is the one to tell
        error.add_note(f"The run could not be entered as {state} either: {second}")


def _about(run: Run) -> dict[str, object]:
    """What every log record of a run carries."""
    return {"run": run.number, "table": run.table, "feed": run.feed}


def _set_highs(it: UnderWay, state: TableState | None) -> None:
    """The two highest values ever taken, and where surrogate keys go on, as parameters of the statements."""
    it.values["open_end"] = str(it.rules.open_end) if it.rules.open_end is not None else None
    it.values["last_key"] = state.last_key if state else 0
    if state is None or state.high_effective is None:
        return
    it.values["high_effective"] = state.high_effective
    for index, value in enumerate(state.high_order or ()):
        it.values[f"high_order_{index}"] = value


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


def _sort_and_decide(it: UnderWay, *, first: bool) -> bool:
    """Works out what has to happen to which row; returns whether any key went through the windows."""
    blueprint = it.blueprint
    it.do(sort.mark_busy(blueprint, some_late=it.late > 0))
    some_busy = it.sizes("busy")["busy"] > 0
    it.do(plain.decide(blueprint, some_busy=some_busy, told=it.told))
    if not first and blueprint.type_1 and blueprint.keeps_lives:
        it.do(plain.returning_keys(blueprint))
    it.plain = {row["brenvik_decision"]: row for row in it.ask(plain.summary()).to_pylist()}
    if it.plain.pop(plain.FULL, None):
        for statement in plain.send_on(blueprint):
            it.do(statement)
        some_busy = True
    for statement in diff.plain_effects(blueprint, some_busy=some_busy):
        it.do(statement)
    if not some_busy:
        return False
    it.do(sort.find_duplicates(blueprint, first=first))
    if not first:
        it.do(sort.widen_busy(blueprint))
    it.do(versions.judge(blueprint, first=first))
    it.do(versions.draw_up(blueprint))
    it.do(diff.find_stored(blueprint))
    it.do(diff.pair(blueprint))
    for statement in diff.busy_effects(blueprint):
        it.do(statement)
    return True


def _count(it: UnderWay, *, some_busy: bool) -> dict[str, int]:
    """Counts the decisions; raises BrokenLaw when they do not add up to the rows read and the changes derived."""
    counts = dict.fromkeys(("read", "derived", *DECISIONS), 0) | it.counts
    for decision, row in it.plain.items():
        counts[decision] += row["n"]
    if some_busy:
        judged = it.ask(versions.summary()).to_pylist()
        sizes = it.sizes("screened", "plain", "duplicates")
        for row in judged:
            counts[row["brenvik_decision"]] += row["n"]
        counts["duplicate"] += sizes["duplicates"]
        passed = sizes["screened"] - sizes["plain"] - sizes["duplicates"] - sum(row["n"] for row in judged)
        counts["superseded"] += passed
        it.asked_for["kept"] = sizes["screened"] - sizes["duplicates"]
    else:
        it.asked_for["kept"] = sum(row["n"] for row in it.plain.values())
    told = sum(counts[decision] for decision in DECISIONS)
    if told != counts["read"] + counts["derived"] or min(counts.values()) < 0:
        raise BrokenLaw(
            f"{counts['read']} rows were read, {counts['derived']} changes derived, and {told} decided ({counts}). "
            "Nothing was written; please report this."
        )
    it.counts = counts
    return counts


def _foresee(it: UnderWay, *, some_busy: bool) -> None:
    """Notes what the diff asks for: how many rows each statement must touch."""
    asked = it.asked_for
    asked["plain_adds"] = sum(it.plain[name]["n"] for name in ("inserted", "versioned") if name in it.plain)
    asked["type_1"] = sum(row["sets"] for row in it.plain.values())
    also_closed = it.plain["versioned"]["sets"] if "versioned" in it.plain else 0
    asked |= {"spread": 0, "sets": 0, "adds": 0}
    if asked["type_1"] and it.blueprint.has_versions:
        it.do(plain.spread(it.blueprint))
        asked |= it.sizes("spread")
    asked |= it.sizes("closes", "removes", *(("sets", "adds") if some_busy else ()))
    before = it.row(f"SELECT count(*) AS n FROM {sql.relation(it.blueprint.table)}")["n"]
    it.counts["rows_before"] = before
    it.counts["rows_added"] = asked["plain_adds"] + asked["adds"]
    it.counts["rows_removed"] = asked["removes"]
    it.counts["rows_updated"] = asked["closes"] + asked["type_1"] - also_closed + asked["spread"] + asked["sets"]
    it.counts["rows_after"] = before + it.counts["rows_added"] - it.counts["rows_removed"]


def _write(
    it: UnderWay, ledger: Ledger, run: Run, batch: Batch, state: TableState | None, *, first: bool, some_busy: bool
) -> None:
    """Writes the diff, the kept changes and the ledger; closes before it opens."""
    blueprint, asked = it.blueprint, it.asked_for
    if asked["closes"]:
        deletes = some_busy or "deleted" in it.plain
        _exactly(it, "ended", asked["closes"], it.do(diff.write_closes(blueprint, deletes=deletes)))
    if asked["type_1"]:
        names = tuple(name for name, any_ in it.ask(plain.touched_type_1(blueprint)).to_pylist()[0].items() if any_)
        wrote = it.do(diff.write_type_1(blueprint, names, spreads=asked["spread"] > 0))
        _exactly(it, "overwritten", asked["type_1"] + asked["spread"], wrote)
    if asked["sets"]:
        names = tuple(name for name, any_ in it.ask(diff.touched(blueprint)).to_pylist()[0].items() if any_)
        _exactly(it, "given new content", asked["sets"], it.do(diff.write_sets(blueprint, names)))
    if asked["removes"]:
        _exactly(it, "removed", asked["removes"], it.do(diff.write_removes(blueprint)))
    if added := it.counts["rows_added"]:
        text = diff.write_adds(blueprint, plain=asked["plain_adds"] > 0, busy=asked["adds"] > 0)
        _exactly(it, "added", added, it.do(text))
    after = it.row(f"SELECT count(*) AS n FROM {sql.relation(blueprint.table)}")["n"]
    _exactly(it, "in the table afterwards", it.counts["rows_after"], after)
    if blueprint.kept:
        _exactly(it, "kept", asked["kept"], it.do(sort.keep(blueprint, some_duplicates=some_busy)))
    if it.counts["rejected"]:
        last = ledger.last_reject(it.rules.table)
        files = tuple((file.number, file.file) for file in batch.files)
        file_names = {f"file_{number}": name for number, name in files}
        _exactly(
            it, "entered as rejects", it.counts["rejected"], it.do(enter_rejects(files), last_reject=last, **file_names)
        )
    ledger.take_files(run, batch.files)
    if batch.window and batch.window.moves and batch.window.high is not None:
        ledger.set_watermark(run, batch.window.kind, batch.window.high)
    high_order, high_effective = _new_highs(it, state, first=first)
    last_key = it.values["last_key"] + it.counts["rows_added"]
    ledger.set_state(
        blueprint,
        it.rules,
        high_order=high_order,
        high_effective=high_effective,
        last_key=last_key,
        first_run=run.number if state is None else None,
    )


def _exactly(it: UnderWay, what: str, asked: int, did: int) -> None:
    if asked != did:
        raise BrokenLaw(
            f"The load of {it.rules.table!r} asked for {asked} rows to be {what}, the store says {did}. "
            "It was undone; if nobody else writes to this table, please report this."
        )


def _new_highs(it: UnderWay, state: TableState | None, *, first: bool) -> tuple[tuple[str, ...] | None, str | None]:
    order, effective = sort.highest(it.blueprint, first=first)
    high_order = state.high_order if state else None
    if order and (rows := it.ask(order).to_pylist()):
        high_order = tuple(rows[0][name] for name in it.blueprint.order)
    high_effective = it.ask(effective).column(0)[0].as_py()
    return high_order, high_effective or (state.high_effective if state else None)


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
