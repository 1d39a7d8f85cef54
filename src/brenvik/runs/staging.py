"""The first stage of a load: rows are staged, refused rows taken out, and extracts held against the table."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from brenvik.errors import DeclarationError, FeedError, StoreError, TooManyRejects
from brenvik.ledger.schema import known_rejects
from brenvik.merge import classify, extract_diff, sequence, sql, validate
from brenvik.model.feeds import Operations
from brenvik.model.watermarks import KINDS, parse_mark
from brenvik.runs.prepare import UnderWay

if TYPE_CHECKING:
    from brenvik.feeds.protocol import Batch, ExtractTime, Watch


def screen_rows(
    it: UnderWay, batch: Batch, operations: Operations | None, has_ledger: bool, watch: Watch | None
) -> None:
    """Staged rows become ``screened`` changes and ``rejected`` rows.

    The rows of an extract are held against the table: those that equal it are counted, keys that are absent are deleted.
    """

    def staging(into: str, *, through: str | None = None) -> validate.Staging:
        made = validate.screen(
            it.blueprint,
            tuple(batch.columns.items()),
            operations,
            tuple((number, *it.blueprint.shapes_of([names])) for number, names in batch.carried.items()),
            keeps_raw=batch.keeps_raw,
            into=into,
            extract_time=(batch.extract.column or "") if batch.extract else None,
            scope=it.scope,
            inside=f"({batch.inside})" if batch.inside else None,
        )
        return replace(made, through=through, kept_as=extract_diff.COMPARED) if through else made

    if batch.extract:
        it.values["extract_at"] = _time_of(it, batch.extract, batch.source)
        _screen_extract(it, batch, staging, has_ledger, watch)
        return
    _stage(it, batch, staging("screened"), watch)
    sums = _sum_up(it, derives=batch.derives)
    it.counts["read"] -= sums["derived"]
    if sums["faulty"] or batch.broken:
        _take_out_rejected(it, batch, "screened", has_ledger)
        sums = _sum_up(it, derives=batch.derives)  # a rejected row brings no derived change either
    it.counts["derived"] = sums["derived"]


def _sum_up(it: UnderWay, *, derives: bool = False) -> dict[str, Any]:
    """Notes how many changes of ``screened`` are late, and the highest order and time of them; see ``classify.sums``."""
    sums = it.row(classify.sums(it.blueprint, first="high_effective" not in it.values, derives=derives))
    it.late = sums["late"]
    it.highs = sums if classify.HIGH in sums else None
    return sums


def _stage(it: UnderWay, batch: Batch, staging: validate.Staging, watch: Watch | None) -> None:
    if batch.inside:
        _stage_inside(it, batch, staging)
        return
    try:
        it.engine.stage(batch.rows(watch), staging, it.values, work=it.work)
    except StoreError:
        if batch.failure:  # raised inside the stream, and wrapped by the engine that read it
            raise batch.failure from None
        raise
    it.counts["read"] = batch.count + len(batch.broken)


def _stage_inside(it: UnderWay, batch: Batch, staging: validate.Staging) -> None:
    """The same of rows that stand in the store already: they never leave it, and are not cast."""
    faults = [
        f"{column.name} is {kind} there, and {column.type} in table {it.rules.table!r}"
        for column in it.blueprint.columns
        if (kind := batch.columns.get(column.name))
        and (kind.kind != column.type.kind or (kind.kind == "decimal" and kind != column.type))
    ]
    if faults:
        raise FeedError("\n  ".join([f"{batch.source}:", *faults, "Read a query that casts them."]))
    it.values |= batch.inside_values
    ordered = f" ORDER BY {sql.columns(staging.order)}" if staging.order else ""
    batch.count = it.do(f"CREATE TEMP TABLE {sql.work(staging.into)} AS {staging.question}{ordered}")
    it.counts["read"] = batch.count


def _take_out_rejected(it: UnderWay, batch: Batch, relation: str, has_ledger: bool) -> None:
    it.some_rejected = True
    if batch.extract:
        it.do(extract_diff.find_refused(it.blueprint, relation))
    for statement in validate.take_out_rejected(derives=batch.derives, relation=relation):
        it.do(statement)
    if batch.broken:
        it.engine.stage(batch.broken_rows(), validate.broken(it.blueprint.store), it.values, work=it.work)
        it.do(validate.add_broken())
    it.do(known_rejects(has_ledger=has_ledger, retakes=batch.retakes))
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


def _screen_extract(
    it: UnderWay, batch: Batch, staging: Callable[..., validate.Staging], has_ledger: bool, watch: Watch | None
) -> None:
    """Makes ``screened`` of what an extract says anew.

    Its rows are compared while they come, where the store can do that. Then some cases cannot be told apart, for which they are
    read once more and compared as a whole.
    """
    blueprint, question = it.blueprint, extract_diff.compare(it.blueprint, it.scope)
    ask_sizes = extract_diff.sizes(blueprint, first="high_effective" not in it.values)
    it.counts["derived"] = 0
    sizes, some_twice = None, False
    assert batch.extract
    if blueprint.store.streams and batch.repeats and not (it.scope or it.some_held or batch.extract.column):
        _stage(it, batch, staging(extract_diff.EXTRACTED, through=question), watch)
        sizes = it.row(ask_sizes)
        it.values["extract_at"] = sizes["at"]
        if sizes["faulty_met"] or _some_twice(sizes, batch.count - sizes["faulty"]):
            it.do(f"DROP TABLE {sql.work(extract_diff.COMPARED)}")
            sizes = None
        elif sizes["faulty"] or batch.broken:
            _take_out_rejected(it, batch, extract_diff.COMPARED, has_ledger)
    if sizes is None:
        _stage(it, batch, staging(extract_diff.EXTRACTED), watch)
        good = batch.count - _compare_whole(it, batch, question, has_ledger)
        sizes = it.row(ask_sizes)
        some_twice = bool(it.scope) or _some_twice(sizes, good)  # outside of the scope nothing is counted as absent
        if some_twice:
            it.do(extract_diff.add_twice(blueprint))
    if blueprint.meets_living and not some_twice:
        it.met = extract_diff.met(blueprint)
    screened = it.do(extract_diff.screen_differing(blueprint))
    taken = it.counts["read"] - it.counts.get("rejected", 0) - it.counts.get("duplicate", 0)
    it.counts["unchanged"] = taken - screened
    if sizes["absent"] and blueprint.holds != "ignore":
        file = batch.files[-1].number if batch.files else 0
        it.values["absent_from"] = sequence.numbered(file, sequence.ABSENT) - 1
        shape = blueprint.shapes[0][0]
        absent = extract_diff.add_absent(blueprint, some_refused=it.some_rejected, some_held=it.some_held, shape=shape)
        it.counts["derived"] = it.do(absent)
    changes = screened + it.counts["derived"]
    if blueprint.order:
        _sum_up(it)
    else:  # all hold from one time
        it.late = changes * sizes["late"]
        it.highs = {classify.HIGH: it.values["extract_at"] if changes and not sizes["late"] else None}


def _some_twice(sizes: dict[str, int], good: int) -> bool:
    """Whether any key stands in several of the ``good`` rows, of those that a living version stands against."""
    return good - sizes["new"] + sizes["absent"] > sizes["living"]


def _compare_whole(it: UnderWay, batch: Batch, question: str, has_ledger: bool) -> int:
    """Makes ``compared`` of ``extracted``, without its faulty rows; returns how many they were."""
    found = it.row(extract_diff.times())
    if found["faulty"] or batch.broken:
        _take_out_rejected(it, batch, extract_diff.EXTRACTED, has_ledger)
    if found["earliest"] != found["latest"]:
        raise FeedError(
            f"{batch.source} holds rows of {found['earliest']} and of {found['latest']}; an extract has one time. "
            "Nothing of it was taken."
        )
    it.values["extract_at"] = found["latest"] or it.values["extract_at"]
    it.do(f"CREATE TEMP TABLE {sql.work(extract_diff.COMPARED)} AS {question}")
    return int(found["faulty"])
