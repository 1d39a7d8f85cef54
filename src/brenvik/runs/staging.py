"""The first stage of a load: rows are staged and validated, invalid rows removed, and extracts compared with the table."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from brenvik.errors import DeclarationError, FeedError, StoreError, TooManyRejects
from brenvik.ledger.schema import known_rejects
from brenvik.merge import classify, extract_diff, sequence, sql, validate
from brenvik.model.feeds import Operations
from brenvik.model.watermarks import KINDS, parse_value
from brenvik.runs.prepare import UnderWay

if TYPE_CHECKING:
    from brenvik.feeds.protocol import Batch, ExtractTime, Watch


def stage_changes(
    it: UnderWay, batch: Batch, operations: Operations | None, has_ledger: bool, watch: Watch | None
) -> None:
    """Turns staged rows into ``changes`` and rejects.

    The rows of an extract are compared with the table: equal rows are counted, absent keys become deletes.
    """

    def staging(into: str, *, through: str | None = None) -> validate.Staging:
        made = validate.validate(
            it.schema,
            tuple(batch.columns.items()),
            operations,
            tuple((number, *it.schema.column_sets_of([names])) for number, names in batch.column_sets.items()),
            keeps_raw=batch.keeps_raw,
            into=into,
            extract_time=(batch.extract.column or "") if batch.extract else None,
            scope=it.scope,
            in_store=f"({batch.store_query})" if batch.store_query else None,
        )
        return replace(made, through=through, kept_as=extract_diff.EXTRACT_DIFF) if through else made

    if batch.extract:
        it.values["extract_at"] = _time_of(it, batch.extract, batch.source)
        _stage_extract(it, batch, staging, has_ledger, watch)
        return
    _stage(it, batch, staging("changes"), watch)
    sums = _sum_up(it, derives=batch.can_derive)
    it.counts["read"] -= sums["derived"]
    if sums["faulty"] or batch.broken:
        _remove_invalid(it, batch, "changes", has_ledger)
        sums = _sum_up(it, derives=batch.can_derive)  # a rejected row brings no derived change either
    it.counts["derived"] = sums["derived"]


def _sum_up(it: UnderWay, *, derives: bool = False) -> dict[str, Any]:
    """Notes how many of the ``changes`` are late, and their highest order and time; see ``classify.sums``."""
    sums = it.row(classify.sums(it.schema, first="high_effective" not in it.values, derives=derives))
    it.late = sums["late"]
    it.high_values = sums if classify.HIGHEST in sums else None
    return sums


def _stage(it: UnderWay, batch: Batch, staging: validate.Staging, watch: Watch | None) -> None:
    if batch.store_query:
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
    """The same for rows that are in the store already: they never leave it and are not cast."""
    faults = [
        f"{column.name} is {kind} there, and {column.type} in table {it.rules.table!r}"
        for column in it.schema.columns
        if (kind := batch.columns.get(column.name))
        and (kind.kind != column.type.kind or (kind.kind == "decimal" and kind != column.type))
    ]
    if faults:
        raise FeedError("\n  ".join([f"{batch.source}:", *faults, "Read a query that casts them."]))
    it.values |= batch.store_query_values
    ordered = f" ORDER BY {sql.columns(staging.order)}" if staging.order else ""
    batch.count = it.do(f"CREATE TEMP TABLE {sql.work(staging.into)} AS {staging.question}{ordered}")
    it.counts["read"] = batch.count


def _remove_invalid(it: UnderWay, batch: Batch, relation: str, has_ledger: bool) -> None:
    it.some_rejected = True
    if batch.extract:
        it.do(extract_diff.find_rejected_keys(it.schema, relation))
    for statement in validate.remove_invalid(derives=batch.can_derive, relation=relation):
        it.do(statement)
    if batch.broken:
        it.engine.stage(batch.broken_rows(), validate.malformed(it.schema.store), it.values, work=it.work)
        it.do(validate.add_malformed())
    it.do(known_rejects(has_ledger=has_ledger, retries=batch.retries))
    again = it.row(f"SELECT count(*) AS n, COALESCE(sum(brenvik_is_duplicate), 0) AS again FROM {sql.work('rejected')}")
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
        first = "WHERE brenvik_is_duplicate = 0 ORDER BY brenvik_sequence_no LIMIT 3"
        examples = it.ask(f"SELECT brenvik_reason FROM {sql.work('rejected')} {first}").column(0)
        raise TooManyRejects(
            f"{batch.source}: {rejected} of {read} rows would be rejected; max_rejects allows {told}. Nothing was written. "
            f"The first: {'; '.join(reason.as_py() for reason in examples)}. "
            "Fix the source or the declared types, or raise max_rejects.",
            rejected=rejected,
            read=read,
        )


def _time_of(it: UnderWay, extract: ExtractTime, source: str) -> str:
    """The time of an extract, as far as it is known before its rows are read, as text."""
    kind = it.schema.effective_type.kind
    if kind == "integer" or kind not in KINDS:
        raise FeedError(
            f"{source} is an extract, so its effective time must be a date or timestamp; "
            f"in table {it.rules.table!r} it is {kind}."
        )
    if extract.moment is None:
        return str(it.values["loaded_at"])
    try:
        return str(parse_value(extract.moment, kind, zone=it.rules.time_zone))
    except ValueError as error:
        raise DeclarationError(f"{source}: extract time: {error}") from None


def _stage_extract(
    it: UnderWay, batch: Batch, staging: Callable[..., validate.Staging], has_ledger: bool, watch: Watch | None
) -> None:
    """Makes ``changes`` from what an extract says.

    Where the store can, rows are compared while they are read. Cases that this cannot tell apart are read once more and compared
    as a whole.
    """
    schema, question = it.schema, extract_diff.compare(it.schema, it.scope)
    ask_sizes = extract_diff.count_rows(schema, first="high_effective" not in it.values)
    it.counts["derived"] = 0
    sizes, some_duplicated = None, False
    assert batch.extract
    if schema.store.streams and batch.can_reread and not (it.scope or it.some_pending or batch.extract.column):
        _stage(it, batch, staging(extract_diff.EXTRACT_ROWS, through=question), watch)
        sizes = it.row(ask_sizes)
        it.values["extract_at"] = sizes["at"]
        if sizes["faulty_met"] or _some_duplicated(sizes, batch.count - sizes["faulty"]):
            it.do(f"DROP TABLE {sql.work(extract_diff.EXTRACT_DIFF)}")
            sizes = None
        elif sizes["faulty"] or batch.broken:
            _remove_invalid(it, batch, extract_diff.EXTRACT_DIFF, has_ledger)
    if sizes is None:
        _stage(it, batch, staging(extract_diff.EXTRACT_ROWS), watch)
        good = batch.count - _compare_whole(it, batch, question, has_ledger)
        sizes = it.row(ask_sizes)
        # Outside of the scope nothing is counted as absent.
        some_duplicated = bool(it.scope) or _some_duplicated(sizes, good)
        if some_duplicated:
            it.do(extract_diff.add_duplicated_keys(schema))
    if schema.meets_current_only and not some_duplicated:
        it.met = extract_diff.matched_versions(schema)
    differing = it.do(extract_diff.extract_changes(schema))
    taken = it.counts["read"] - it.counts.get("rejected", 0) - it.counts.get("duplicate", 0)
    it.counts["unchanged"] = taken - differing
    if sizes["absent"] and schema.inactive_deletes != "ignore":
        file = batch.files[-1].number if batch.files else 0
        it.values["absent_from"] = sequence.sequence_no(file, sequence.ABSENT) - 1
        column_set = schema.column_sets[0][0]
        absent = extract_diff.add_absent(
            schema, some_rejected=it.some_rejected, some_pending=it.some_pending, column_set=column_set
        )
        it.counts["derived"] = it.do(absent)
    changes = differing + it.counts["derived"]
    if schema.order:
        _sum_up(it)
    else:  # all hold from one time
        it.late = changes * sizes["late"]
        it.high_values = {classify.HIGHEST: it.values["extract_at"] if changes and not sizes["late"] else None}


def _some_duplicated(sizes: dict[str, int], good: int) -> bool:
    """Whether any key occurs in several of the ``good`` rows, among those that match a current version."""
    return good - sizes["new"] + sizes["absent"] > sizes["current_keys"]


def _compare_whole(it: UnderWay, batch: Batch, question: str, has_ledger: bool) -> int:
    """Makes ``extract_diff`` from ``extract_rows``, without invalid rows; returns how many those were."""
    found = it.row(extract_diff.times())
    if found["faulty"] or batch.broken:
        _remove_invalid(it, batch, extract_diff.EXTRACT_ROWS, has_ledger)
    if found["earliest"] != found["latest"]:
        raise FeedError(
            f"{batch.source} has rows of {found['earliest']} and of {found['latest']}; an extract must have one time. "
            "Nothing was loaded."
        )
    it.values["extract_at"] = found["latest"] or it.values["extract_at"]
    it.do(f"CREATE TEMP TABLE {sql.work(extract_diff.EXTRACT_DIFF)} AS {question}")
    return int(found["faulty"])
