"""The first stage of a load: rows are staged, refused rows taken out, and extracts held against the table."""

from __future__ import annotations

from typing import TYPE_CHECKING

from brenvik.core import arrivals, compare, screen, sort, sql
from brenvik.core.screen import Operations
from brenvik.core.windows import KINDS, parse_mark
from brenvik.errors import DeclarationError, FeedError, StoreError, TooManyRejects
from brenvik.ledger_tables import known_rejects
from brenvik.preparing import UnderWay

if TYPE_CHECKING:
    from brenvik.feeds.base import Batch, ExtractTime, Watch


def screen_rows(
    it: UnderWay, batch: Batch, operations: Operations | None, has_ledger: bool, watch: Watch | None
) -> None:
    """Staged rows become ``screened`` changes and ``rejected`` rows.

    The rows of an extract are held against the table: those that equal it are counted, keys that are absent are deleted.
    """
    extract = batch.extract
    relation = compare.EXTRACTED if extract else "screened"
    feed = tuple(batch.columns.items())
    numbers = {carried: shape for shape, carried in it.blueprint.shapes}
    held = set(it.blueprint.carried)
    shapes = tuple((number, numbers[tuple(sorted(set(names) & held))]) for number, names in batch.carried.items())
    extract_time = None
    if extract:
        it.values["extract_at"] = _time_of(it, extract, batch.source)
        extract_time = extract.column or ""
    text = screen.screen(
        it.blueprint,
        feed,
        operations,
        shapes,
        keeps_raw=batch.keeps_raw,
        into=relation,
        extract_time=extract_time,
    )
    try:
        it.engine.stage(batch.rows(watch), text, it.values, work=it.work)
    except StoreError:
        if batch.failure:  # raised inside the stream, and wrapped by the engine that read it
            raise batch.failure from None
        raise
    derived = arrivals.count_derived("c") if batch.derives else "0"
    counts = it.row(
        f"SELECT count(*) AS n, count(c.brenvik_fault) AS faulty, {derived} AS derived FROM {sql.work(relation)} c"
    )
    it.counts["derived"] = int(counts["derived"] or 0)
    it.counts["read"] = counts["n"] - it.counts["derived"] + len(batch.broken)
    if counts["faulty"] or batch.broken:
        _take_out_rejected(it, batch, relation, derived, has_ledger)
    if extract:
        _hold_against_table(it, batch)
    if "high_effective" in it.values:
        late = it.row(f"SELECT {sort.count_late(it.blueprint)} AS n FROM {sql.work('screened')} c")
        it.late = int(late["n"] or 0)


def _take_out_rejected(it: UnderWay, batch: Batch, relation: str, derived: str, has_ledger: bool) -> None:
    it.some_rejected = True
    if batch.extract:
        it.do(compare.find_refused(it.blueprint))
    for statement in screen.take_out_rejected(derives=batch.derives, relation=relation):
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


def _time_of(it: UnderWay, extract: ExtractTime, source: str) -> str:
    """The time of an extract as far as it is known before its rows are, as text for the store."""
    kind = it.blueprint.effective_type.kind
    if kind == "integer" or kind not in KINDS:
        raise FeedError(
            f"{source} is an extract, which holds at a time; the effective column of table {it.rules.table!r} is {kind}."
        )
    if extract.moment is None:
        return str(it.values["loaded_at"])
    try:
        return str(parse_mark(extract.moment, kind, zone=it.rules.time_zone))
    except ValueError as error:
        raise DeclarationError(f"The time of the extract {source}: {error}") from None


def _hold_against_table(it: UnderWay, batch: Batch) -> None:
    """Makes ``screened`` of what an extract says anew."""
    blueprint = it.blueprint
    times = it.row(compare.times())
    if times["earliest"] != times["latest"]:
        raise FeedError(
            f"{batch.source} holds rows of {times['earliest']} and of {times['latest']}; an extract has one time. "
            "Nothing of it was taken."
        )
    it.values["extract_at"] = times["latest"] or it.values["extract_at"]
    it.do(compare.find_twice(blueprint))
    sizes = it.sizes("twice", compare.EXTRACTED)
    it.do(compare.find_differing(blueprint, some_twice=sizes["twice"] > 0))
    it.counts["unchanged"] = sizes[compare.EXTRACTED] - it.sizes("screened")["screened"]
    file = batch.files[-1].number if batch.files else 0
    it.values["absent_from"] = arrivals.numbered(file, arrivals.ABSENT) - 1
    shape = blueprint.shapes[0][0]
    if blueprint.holds == "ignore":
        return
    absent = compare.add_absent(blueprint, some_refused=it.some_rejected, some_held=it.some_held, shape=shape)
    it.counts["derived"] = it.do(absent)
