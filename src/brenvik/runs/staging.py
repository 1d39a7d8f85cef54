"""What a batch means for the plan of its load, and what must hold once its rows are validated."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any

from brenvik.errors import DeclarationError, FeedError, TooManyRejects
from brenvik.ledger.entries import now
from brenvik.ledger.schema import (
    approved_deletes,
    currently_pending,
    erased_keys,
    known_rejects,
    open_rejects,
    record_pending,
    record_rejected_keys,
    record_rejects,
)
from brenvik.merge import sql
from brenvik.merge.extract_diff import absent_at
from brenvik.merge.plan.inputs import LedgerSql, Rows
from brenvik.merge.plan.steps import Validated
from brenvik.merge.row_errors import derived_columns
from brenvik.merge.schema import TableSchema
from brenvik.merge.validate import malformed
from brenvik.model.feeds import Operations
from brenvik.model.positions import KINDS, kind_of
from brenvik.model.value_formats import with_formats
from brenvik.runs.context import RunContext

if TYPE_CHECKING:
    from collections.abc import Mapping

    from brenvik.feeds.protocol import Batch, ExtractTime
    from brenvik.model.rules import TableRules
    from brenvik.model.types import ColumnType


def rows_of(
    schema: TableSchema,
    batch: Batch,
    operations: Operations | None,
    scope: str | None,
    *,
    some_erased: bool,
    trimmed: bool,
) -> Rows:
    """The rows of a batch as its plan sees them. Raises FeedError for rows in the store that have other types than the table."""
    if batch.store_query:
        derived = derived_columns(schema, batch.columns, in_store=True)
        _check_types(schema, batch.source, {**batch.columns} | {name: kind for name, (_, kind) in derived.items()})
    return Rows(
        tuple((name, with_formats(kind, batch.value_formats.get(name))) for name, kind in batch.columns.items()),
        malformed(schema.store),
        operations,
        tuple((number, schema.column_sets_of([names])[0]) for number, names in batch.column_sets.items()),
        keeps_raw=batch.keeps_raw,
        can_derive=batch.can_derive,
        can_reread=batch.can_reread,
        store_query=f"({batch.store_query})" if batch.store_query else None,
        is_extract=batch.extract is not None,
        is_complete=batch.complete_at is not None,
        time_column=batch.extract.column if batch.extract else None,
        scope=scope,
        last_file=batch.files[-1].number if batch.files else 0,
        some_erased=some_erased,
        some_beyond=trimmed and not batch.extract,
    )


def ledger_sql(schema: TableSchema, batch: Batch, *, has_ledger: bool) -> LedgerSql:
    """The statements of the ledger that are part of the plan."""
    files = tuple((file.number, file.file) for file in batch.files)
    return LedgerSql(
        approved=approved_deletes(),
        pending=currently_pending(),
        known_rejects=known_rejects(has_ledger=has_ledger, retries=tuple(batch.retries)),
        record_pending=record_pending(),
        record_rejects=record_rejects(files, tuple(batch.retries)),
        record_rejected_keys=record_rejected_keys(schema.key_text("r")),
        erased=erased_keys(),
        open_rejects=open_rejects(tuple(batch.retries)) if has_ledger else "",
        has_ledger=has_ledger,
    )


def _check_types(schema: TableSchema, source: str, columns: Mapping[str, ColumnType]) -> None:
    faults = [
        f"{column.name} is {kind} there, and {column.type} in table {schema.table!r}"
        for column in schema.columns
        if (kind := columns.get(column.name))
        and (kind.kind != column.type.kind or (kind.kind == "decimal" and kind != column.type))
    ]
    if faults:
        raise FeedError("\n  ".join([f"{source}:", *faults, "Read a query that casts them."]))


def extract_time(context: RunContext, extract: ExtractTime) -> str:
    """The time of an extract, as far as it is known before its rows are read, as text."""
    kind, source = context.schema.effective_type.kind, context.run.source
    if kind == "integer" or kind not in KINDS:
        raise FeedError(
            f"{source} is an extract, so its effective time must be a date or timestamp; "
            f"in table {context.rules.table!r} it is {kind}."
        )
    if extract.moment is None:
        return str(context.run.started_at)
    zone, open_end = context.rules.time_zone, context.rules.open_end
    try:
        moment = kind_of(kind).parse(extract.moment, zone=zone)
        if open_end is not None and moment >= kind_of(kind).parse(open_end, zone=zone):
            raise ValueError(f"expected a time before open_end, got {extract.moment}")
    except ValueError as error:
        raise DeclarationError(f"{source}: extract time: {error}") from None
    return str(moment)


def absence_times(context: RunContext, moment: datetime) -> dict[str, Any]:
    """The effective time and order of the deletes of keys that a source lacks, as parameters. Raises DeclarationError where a
    time is no order."""
    schema, zone = context.schema, context.rules.time_zone
    for name in (*filter(None, [schema.effective]), *schema.order[:1]):
        kind = schema.type_of(name)
        if not kind.is_temporal or kind.kind == "time":
            raise DeclarationError(
                f"{context.run.source}: a key that is absent is deleted as of now, so the effective time and the first order "
                f"column must be timestamps or dates; {name} is {kind}. Load the table as a full extract, or without --full."
            )
    if schema.effective is None:
        moment = context.run.started_at.replace(tzinfo=UTC)
    found = [(schema.effective_type, moment), *((schema.type_of(name), moment) for name in schema.order)]
    at = [kind_of(kind.kind).at(when, zone) if kind.kind in KINDS else None for kind, when in found]
    return {absent_at(index): "0" if each is None else str(each) for index, each in enumerate(at)}


def time_of_rows(rules: TableRules, batch: Batch, at: str | None) -> datetime | None:
    """The time that was given for the rows of a load, in UTC; None where none was. Raises DeclarationError where the rows have
    times of their own, and for one in the future."""
    if at is None:
        return None
    if rules.appends:
        raise DeclarationError(
            "at is for tables with a natural key; rows that are only appended have no effective time."
        )
    own = (batch.extract.column or batch.extract.moment) if batch.extract else rules.effective_column
    if own is not None:
        raise DeclarationError(f"at is for rows without a time; those of {batch.source} have theirs: {own}.")
    try:
        moment = kind_of("timestamp").parse(at, zone=rules.time_zone)
    except ValueError as error:
        raise DeclarationError(f"at: {error}") from None
    assert isinstance(moment, datetime)
    if moment > now():
        raise DeclarationError(f"at: {moment} is in the future; nothing was loaded.")
    return moment


def check_rejects(context: RunContext, validated: Validated) -> None:
    """Raises TooManyRejects when more rows were rejected than the rules allow."""
    limit, rejected, read = context.rules.max_rejects, validated.rejected, validated.read
    if limit is None:
        return
    allowed = limit if isinstance(limit, int) else int(limit * read)
    if rejected > allowed:
        share = f"{limit}" if isinstance(limit, int) else f"{limit:.0%} of the rows, {allowed}"
        first = "WHERE brenvik_is_duplicate = 0 ORDER BY brenvik_sequence_no LIMIT 3"
        examples = context.workspace.rows(f"SELECT brenvik_reason AS reason FROM {sql.work('rejected')} {first}")
        raise TooManyRejects(
            f"{context.run.source}: {rejected} of {read} rows would be rejected; max_rejects allows {share}. Nothing was "
            f"written. The first: {'; '.join(row['reason'] for row in examples)}. "
            "Fix the source or the declared types, or raise max_rejects.",
            rejected=rejected,
            read=read,
        )


def check_times(batch: Batch, validated: Validated) -> None:
    """Raises FeedError when the rows of an extract have several times."""
    times = validated.times
    if times and times["earliest"] != times["latest"]:
        raise FeedError(
            f"{batch.source} has rows of {times['earliest']} and of {times['latest']}; an extract must have one time. "
            "Nothing was loaded."
        )
