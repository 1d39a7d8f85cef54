"""From rows to changes: which logged changes are active, and what validation does."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from brenvik.merge import (
    change_log,
    classify,
    erase,
    extract_diff,
    pending_deletes,
    sequence,
    sql,
    ties,
    trim,
    validate,
)
from brenvik.merge.plan.inputs import EXPLAINED_UNASKED, LedgerSql, Rows
from brenvik.merge.plan.steps import SOME_INACTIVE, Row, Step, Validated, When, count_of, learned
from brenvik.merge.schema import TableSchema


def exclude(
    schema: TableSchema, runs: Sequence[int], approved: str | None, *, explicit: tuple[str, ...] = ()
) -> tuple[Step[Any], ...]:
    """Makes ``active_changes``: the log without the changes of some runs, and without deletes that have no effect by themselves
    and are not in the relation ``approved``; None where there is no ledger yet. The changes in the relations ``explicit`` are
    active, too."""
    if not schema.change_log:
        return ()
    excluded, log = tuple(sorted(runs)), sql.relation(schema.change_log)
    unreverted: Step[Any] = Step("exclude", "no run was reverted", makes="unreverted_changes", same_as=log)
    if excluded or explicit:
        text = change_log.unreverted_changes(schema, excluded, explicit=explicit)
        unreverted = Step("exclude", "the log without runs that were reverted", text, "unreverted_changes", view=True)
    if not (schema.inactive_deletes and approved):
        return unreverted, Step(
            "exclude", "all of these changes are active", **_same("active_changes", "unreverted_changes")
        )
    return (
        unreverted,
        Step("exclude", "deletes that were approved", pending_deletes.find_approved(approved), "approved"),
        Step(
            "exclude", "only these deletes are active", change_log.active_changes(schema), "active_changes", view=True
        ),
    )


def _same(makes: str, relation: str) -> dict[str, Any]:
    return {"makes": makes, "same_as": sql.work(relation)}


def find_pending(schema: TableSchema, ledger: LedgerSql) -> tuple[Step[Any], ...]:
    if schema.inactive_deletes != "review":
        return ()
    some = learned(some_pending=lambda rows: rows[0]["n"] > 0)
    text = pending_deletes.find_pending(schema, ledger.pending)
    return (
        Step("exclude", "keys whose deletes are pending", text, "pending_keys"),
        Step("exclude", "whether there are any", count_of("pending_keys"), learn=some),
    )


SOME_INVALID: When[Validated] = When("when a row is invalid", lambda f: f.some_invalid)


def stage(schema: TableSchema, rows: Rows, ledger: LedgerSql, *, first: bool) -> tuple[Step[Validated], ...]:
    """Makes ``changes`` and ``rejected`` from the rows of a feed of changes or upserts."""
    complete = rows.is_complete and not first
    sums = classify.summarize(schema, first=first, derives=rows.can_derive, of="staged")
    again: tuple[Step[Validated], ...] = ()
    if rows.can_derive:  # a rejected row brings no derived change either
        text = classify.summarize(schema, first=first, derives=True, of="accepted")
        again = (Step("validate", "what remains of them", text, learn=_sum_up_again, when=SOME_INVALID),)
    return (
        *stage_rows(schema, rows, ledger, first=first),
        Step("validate", "how many are invalid or late, and of how many keys they are", sums, learn=_sum_up),
        *reject_invalid(rows, ledger, "staged", SOME_INVALID),
        *valid_rows("staged", extract_diff.READ_ROWS if complete else "accepted", rows, SOME_INVALID),
        *again,
        *(_absent_keys(schema, rows) if complete else ()),
        *set_aside(schema),
    )


def _absent_keys(schema: TableSchema, rows: Rows) -> tuple[Step[Validated], ...]:
    """Makes ``accepted`` from the rows of a source that was read in full, and the deletes of keys that it lacks."""
    column_set = schema.column_sets[0][0]
    return (
        Step(
            "validate",
            "a current key that was not read is a delete",
            lambda f: extract_diff.find_keys_not_read(schema, some_pending=f.some_pending, column_set=column_set),
            "absent_keys",
            learned(derived=int),
            compares=("staged",),
            params={"absent_from": absent_from(rows)},
        ),
        Step("validate", "rows and deletes", extract_diff.with_absent_keys(schema), "accepted", index=True),
        Step(
            "validate",
            "how many are late, and of how many keys they are",
            classify.summarize(schema, first=False, derives=False, of="accepted"),
            learn=sum_up_changes,
        ),
    )


def absent_from(rows: Rows) -> int:
    """The number that comes right before those of the deletes of absent keys."""
    return sequence.sequence_no(rows.last_file, sequence.ABSENT) - 1  # type: ignore[no-any-return]


def _sum_up(facts: Validated, rows: Sequence[Row]) -> Validated:
    facts = _sum_up_again(facts, rows)
    return replace(facts, read=facts.read - facts.derived, invalid=rows[0]["invalid"])


_SUMMED = ("derived", "inactive", "late", "changes", "changed_keys")


def _sum_up_again(facts: Validated, rows: Sequence[Row]) -> Validated:
    counts: dict[str, Any] = {name: int(rows[0][name]) for name in _SUMMED}
    return replace(facts, highest=rows[0], **counts)


def sum_up_changes(facts: Validated, rows: Sequence[Row]) -> Validated:
    """What is learned of the changes of an extract, of which the derived ones are known."""
    return replace(_sum_up_again(facts, rows), derived=facts.derived)


def set_aside(schema: TableSchema) -> tuple[Step[Any], ...]:
    """Makes ``changes`` from ``accepted``, without the deletes that have no effect by themselves."""
    all_of_them = "all of them are changes that count"
    if schema.inactive_deletes is None:
        return (Step("validate", all_of_them, **_same("changes", "accepted")),)
    deletes, others = pending_deletes.set_deletes_aside(schema)
    none: When[Any] = When("when there is no such delete", lambda f: f.inactive == 0)
    return (
        Step("validate", "deletes that have no effect by themselves", deletes, "inactive_deletes", when=SOME_INACTIVE),
        Step("validate", "all other changes", others, "changes", view=True, when=SOME_INACTIVE, compares=("accepted",)),
        Step("validate", all_of_them, when=none, **_same("changes", "accepted")),
    )


def staging_of(schema: TableSchema, rows: Rows, into: str) -> validate.Staging:
    return validate.validate(
        schema,
        rows.columns,
        rows.operations,
        rows.column_sets,
        keeps_raw=rows.keeps_raw,
        into=into,
        extract_time=(rows.time_column or "") if rows.is_extract else None,
        scope=rows.scope,
        in_store=rows.store_query,
        some_beyond=rows.some_beyond,
    )


def stage_rows(
    schema: TableSchema, rows: Rows, ledger: LedgerSql, *, first: bool, when: When[Validated] | None = None
) -> tuple[Step[Validated], ...]:
    """Makes ``staged``: the rows with their errors. Changes that tie are invalid where the rules reject them, and those beyond a
    trimmed log; rows of erased keys are left out."""
    last = ties.ROWS if schema.rejects_ties else "staged"
    made = trim.STAGED if rows.some_beyond else last
    if rows.some_erased:
        streamed: tuple[Step[Validated], ...] = (
            stage_stream(staging_of(schema, rows, erase.STAGED), rows, when),
            Step(
                "validate", "rows of erased keys", erase.find_erased(schema, ledger.erased), erase.ERASED,
                learned(erased=int), when, index=True, compares=(erase.STAGED,),
            ),
            Step("validate", "all other rows", erase.without_erased(schema), made, when=when, index=True),
        )  # fmt: skip
    else:
        streamed = (stage_stream(staging_of(schema, rows, made), rows, when),)
    if rows.some_beyond:
        streamed += _reject_beyond(schema, last, when)
    if not schema.rejects_ties:
        return streamed
    logged = bool(schema.change_log) and not (first or rows.is_extract)
    known = "" if rows.is_extract else ledger.open_rejects
    found = ties.find_ties(schema, is_extract=rows.is_extract, logged=logged, open_rejects=known)
    text = ties.reject_ties(schema, is_extract=rows.is_extract)
    return (
        *streamed,
        Step("validate", "changes that tie", found, "ties", when=when, index=True, compares=(ties.ROWS,)),
        Step("validate", "they are invalid, too", text, "staged", when=when, index=True, compares=(ties.ROWS,)),
    )


def _reject_beyond(schema: TableSchema, makes: str, when: When[Validated] | None) -> tuple[Step[Validated], ...]:
    """Makes the staged rows, in which those are invalid that a trimmed log cannot place."""
    always: When[Any] = when or ALWAYS
    some: When[Validated] = When("when some may be", lambda f: always.holds(f) and f.possibly_beyond > 0)
    none: When[Validated] = When("when none can be", lambda f: always.holds(f) and f.possibly_beyond == 0)
    learn = learned(possibly_beyond=lambda found: found[0]["n"])
    return (
        Step(
            "validate", "how many rows may be beyond the change log", trim.count_possibly_beyond(schema),
            learn=learn, when=when,
        ),
        Step("validate", "which of them are", trim.find_beyond(schema), trim.BEYOND, when=some, compares=(trim.STAGED,)),
        Step("validate", "they are invalid, too", trim.reject_beyond(schema), makes, when=some, index=True),
        Step("validate", "all of them can be placed", when=none, **_same(makes, trim.STAGED)),
    )  # fmt: skip


def stage_stream(staging: validate.Staging, rows: Rows, when: When[Validated] | None = None) -> Step[Validated]:
    """Rows are cast and checked on their way into the store; those that are in the store already never leave it."""
    purpose = "every row, cast to the types of the table, and its error if it has one"
    if rows.store_query:
        ordered = f" ORDER BY {sql.columns(staging.order)}" if staging.order else ""
        return Step("validate", purpose, f"{staging.question}{ordered}", staging.into, _read_in_store, when, index=True)
    purpose += "; in the order of keys, chunk by chunk" if staging.order else ""
    makes = staging.kept_as if staging.through else staging.into
    return Step("validate", purpose, makes=makes, learn=_read, when=when, staging=staging, index=True)


def _explains(facts: Validated, read: int) -> bool:
    return read <= EXPLAINED_UNASKED if facts.explains is None else facts.explains


def _read_in_store(facts: Validated, count: int) -> Validated:
    return replace(facts, read=count, explains=_explains(facts, count))


def _read(facts: Validated, found: tuple[int, int]) -> Validated:
    count, broken = found
    return replace(facts, read=count + broken, broken=broken, explains=_explains(facts, count + broken))


ALWAYS: When[Any] = When("", lambda f: True)


def valid_rows(
    staged: str, makes: str, rows: Rows, some_invalid: When[Validated], when: When[Validated] = ALWAYS
) -> tuple[Step[Validated], ...]:
    """Makes the valid rows of a relation: that itself, where none is invalid."""
    text = validate.find_valid(staged, derives=rows.can_derive)
    none: When[Validated] = When("when no row is invalid", lambda f: when.holds(f) and not some_invalid.holds(f))
    return (
        Step("validate", "the valid rows", text, makes, view=True, when=some_invalid, compares=(staged,)),
        Step("validate", "all rows are valid", when=none, **_same(makes, staged)),
    )


def reject_invalid(rows: Rows, ledger: LedgerSql, relation: str, when: When[Validated]) -> tuple[Step[Validated], ...]:
    """Makes ``rejected`` from the invalid rows of a relation and the lines that are not rows."""
    broken: When[Validated] = When(f"{when.text}, and a line is not a row", lambda f: when.holds(f) and f.broken > 0)
    some = learned(
        rejected=lambda found: found[0]["n"] - int(found[0]["again"]), repeated=lambda found: int(found[0]["again"])
    )
    return (
        Step(
            "validate", "lines that are not rows, staged", makes="malformed", when=broken,
            staging=rows.malformed, broken=True,
        ),
        Step(
            "validate",
            "invalid rows, and lines that are not rows",
            lambda f: validate.find_invalid(relation, derives=rows.can_derive, malformed=f.broken > 0),
            "invalid",
            when=when,
        ),
        Step("validate", "rejects; one that equals an open reject is a duplicate", ledger.known_rejects, "rejected", when=when),
        Step(
            "validate",
            "how many rows are rejected",
            f"SELECT count(*) AS n, COALESCE(sum(brenvik_is_duplicate), 0) AS again FROM {sql.work('rejected')}",
            learn=some,
            when=when,
        ),
    )  # fmt: skip


def find_rejected_keys(schema: TableSchema, relation: str, when: When[Validated]) -> Step[Validated]:
    """Makes ``rejected_keys``: keys of an extract that are not absent, although their rows are invalid."""
    text = extract_diff.find_rejected_keys(schema, relation)
    return Step("validate", "keys with invalid rows only: they are not absent", text, "rejected_keys", when=when)
