"""From rows to changes: which logged changes are active, and what validation does."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from brenvik.merge import change_log, classify, extract_diff, pending_deletes, sql, validate
from brenvik.merge.plan.inputs import EXPLAINED_UNASKED, LedgerSql, Rows
from brenvik.merge.plan.steps import Row, Step, Validated, When, count_of, learned
from brenvik.merge.schema import TableSchema


def exclude(
    schema: TableSchema, runs: Sequence[int], approved: str, *, explicit: bool = False
) -> tuple[Step[Any], ...]:
    """Makes ``active_changes``, where some logged changes are not active: those of some runs, and deletes that have no effect by
    themselves and are not in the relation ``approved``. Explicit changes are active. Afterwards ``schema.some_excluded``."""
    if not (runs or explicit or schema.inactive_deletes) or not schema.change_log:
        return ()
    steps: list[Step[Any]] = []
    if schema.inactive_deletes:
        steps.append(Step("exclude", "deletes that were approved", pending_deletes.find_approved(approved)))
    steps.append(Step("exclude", "runs that were reverted", change_log.EXCLUDED_RUNS))
    excluded = sorted(runs)
    for start in range(0, len(excluded), change_log.AT_ONCE):
        part = excluded[start : start + change_log.AT_ONCE]
        numbers = {f"excluded_{n}": run for n, run in enumerate(part)}
        steps.append(Step("exclude", "their numbers", change_log.exclude_runs(len(part)), "change", params=numbers))
    text = change_log.active_changes(replace(schema, some_excluded=True), some_explicit=explicit)
    steps.append(Step("exclude", "the other changes are active", text))
    return tuple(steps)


def find_pending(schema: TableSchema, ledger: LedgerSql) -> tuple[Step[Any], ...]:
    if schema.inactive_deletes != "review":
        return ()
    some = learned(some_pending=lambda rows: rows[0]["n"] > 0)
    return (
        Step("exclude", "keys whose deletes are pending", pending_deletes.find_pending(schema, ledger.pending)),
        Step("exclude", "whether there are any", count_of("pending_keys"), "ask", some),
    )


SOME_INVALID: When[Validated] = When("when a row is invalid", lambda f: f.some_invalid)
_SOME_BROKEN: When[Validated] = When("when a line is not a row", lambda f: f.broken > 0)


def stage(schema: TableSchema, rows: Rows, ledger: LedgerSql, *, first: bool) -> tuple[Step[Validated], ...]:
    """Makes ``changes`` and ``rejected`` from the rows of a feed of changes or upserts."""
    sums = classify.sums(schema, first=first, derives=rows.can_derive)
    again: tuple[Step[Validated], ...] = ()
    if rows.can_derive:  # a rejected row brings no derived change either
        purpose = "how many of the valid changes are derived and late"
        again = (Step("validate", purpose, sums, "ask", _sum_up_again, SOME_INVALID),)
    return (
        stage_rows(staging_of(schema, rows, "changes"), rows),
        Step("validate", "how many are invalid, derived and late", sums, "ask", _sum_up),
        *reject_invalid(schema, rows, ledger, "changes", SOME_INVALID),
        *again,
    )


def _sum_up(facts: Validated, rows: Sequence[Row]) -> Validated:
    (sums,) = rows
    read, highest = facts.read - sums["derived"], sums if classify.HIGHEST in sums else None
    return replace(
        facts, read=read, invalid=sums["invalid"], derived=sums["derived"], late=sums["late"], highest=highest
    )


def _sum_up_again(facts: Validated, rows: Sequence[Row]) -> Validated:
    (sums,) = rows
    return replace(
        facts, derived=sums["derived"], late=sums["late"], highest=sums if classify.HIGHEST in sums else None
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
    )


def stage_rows(staging: validate.Staging, rows: Rows, when: When[Validated] | None = None) -> Step[Validated]:
    """Rows are cast and checked on their way into the store; those that are in the store already never leave it."""
    purpose = "every row, cast to the types of the table, and its error if it has one"
    if rows.store_query:
        ordered = f" ORDER BY {sql.columns(staging.order)}" if staging.order else ""
        text = f"CREATE TEMP TABLE {sql.work(staging.into)} AS {staging.question}{ordered}"
        return Step("validate", purpose, text, "make", _read_in_store, when)
    purpose += "; in the order of keys, chunk by chunk" if staging.order else ""
    into = staging.kept_as if staging.through else staging.into
    return Step("validate", purpose, sql.work(into), "stage", _read, when, staging=staging)


def _explains(facts: Validated, read: int) -> bool:
    return read <= EXPLAINED_UNASKED if facts.explains is None else facts.explains


def _read_in_store(facts: Validated, count: int) -> Validated:
    return replace(facts, read=count, explains=_explains(facts, count))


def _read(facts: Validated, found: tuple[int, int]) -> Validated:
    count, broken = found
    return replace(facts, read=count + broken, broken=broken, explains=_explains(facts, count + broken))


def reject_invalid(
    schema: TableSchema, rows: Rows, ledger: LedgerSql, relation: str, when: When[Validated]
) -> tuple[Step[Validated], ...]:
    """Moves invalid rows from a relation into ``rejected``, with the lines that are not rows."""
    broken: When[Validated] = When(
        when.text + ", and " + _SOME_BROKEN.text.removeprefix("when "), lambda f: when.holds(f) and f.broken > 0
    )
    into, out = validate.remove_invalid(derives=rows.can_derive, relation=relation)
    some = learned(
        rejected=lambda found: found[0]["n"] - int(found[0]["again"]), repeated=lambda found: int(found[0]["again"])
    )
    keys: tuple[Step[Validated], ...] = ()
    if rows.is_extract:
        text = extract_diff.find_rejected_keys(schema, relation)
        keys = (Step("validate", "keys with invalid rows only: they are not absent", text, when=when),)
    return (
        *keys,
        Step("validate", "invalid rows", into, when=when),
        Step("validate", "invalid rows are removed from the changes", out, "change", when=when),
        Step(
            "validate", "lines that are not rows, staged", sql.work("malformed"), "stage", when=broken,
            staging=validate.malformed(schema.store), broken=True,
        ),
        Step("validate", "lines that are not rows become invalid rows", validate.add_malformed(), "change", when=broken),
        Step("validate", "rejects; one that equals an open reject is a duplicate", ledger.known_rejects, when=when),
        Step(
            "validate",
            "how many rows are rejected",
            f"SELECT count(*) AS n, COALESCE(sum(brenvik_is_duplicate), 0) AS again FROM {sql.work('rejected')}",
            "ask",
            some,
            when,
        ),
    )  # fmt: skip
