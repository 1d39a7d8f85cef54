"""An extract against the table."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from brenvik.merge import classify, extract_diff, sql
from brenvik.merge.extract_diff import DIFF_OF_STREAM, EXTRACT_DIFF, EXTRACT_ROWS
from brenvik.merge.plan.inputs import LedgerSql, Rows
from brenvik.merge.plan.staging import (
    ALWAYS,
    absent_from,
    find_rejected_keys,
    reject_invalid,
    set_aside,
    stage_rows,
    stage_stream,
    staging_of,
    sum_up_changes,
    valid_rows,
)
from brenvik.merge.plan.steps import Row, Step, Validated, When, learned
from brenvik.merge.schema import TableSchema


def compare(schema: TableSchema, rows: Rows, ledger: LedgerSql, *, first: bool) -> tuple[Step[Validated], ...]:
    """Makes ``changes`` and ``rejected`` from the rows of an extract.

    Where the store can, rows are compared while they are read. Cases that this cannot tell apart are read again and compared as
    a whole.
    """
    question = extract_diff.compare(schema, rows.scope)
    as_a_whole = (
        rows.scope or rows.time_column or rows.store_query or rows.some_erased or schema.rejects_ties or schema.marks
    )
    at_once = schema.store.streams and rows.can_reread and not as_a_whole
    whole: When[Validated] = ALWAYS
    steps: list[Step[Validated]] = []
    if rows.scope:
        text = extract_diff.count_current_keys(schema, rows.scope)
        within = learned(current_in_scope=lambda found: found[0]["n"])
        steps.append(Step("compare", "how many keys are current within the scope", text, learn=within))
    if at_once:
        steps += _compare_at_once(schema, rows, ledger, question, first=first)
        whole = When(
            "when deletes are pending, or rows must be compared as a whole",
            lambda f: f.some_pending or f.compare_again,
        )
    return (
        *steps,
        *_compare_whole(schema, rows, ledger, question, whole, first=first),
        *_extract_changes(schema, rows, first=first),
    )


def _compare_at_once(
    schema: TableSchema, rows: Rows, ledger: LedgerSql, question: str, *, first: bool
) -> tuple[Step[Validated], ...]:
    staging = replace(staging_of(schema, rows, EXTRACT_ROWS), through=question, kept_as=DIFF_OF_STREAM)
    now: When[Validated] = When("when no deletes are pending", lambda f: not f.some_pending)
    good: When[Validated] = When("when that is sufficient", lambda f: f.compared and not f.compare_again)
    invalid: When[Validated] = When("when a row is invalid", lambda f: good.holds(f) and f.some_invalid)
    return (
        replace(
            stage_stream(staging, rows, now), stage="compare", purpose="rows as they are read, and what of them differs"
        ),
        Step(
            "compare",
            "how many are new, absent and invalid",
            extract_diff.count_rows(schema, DIFF_OF_STREAM, first=first),
            learn=_size_at_once,
            when=now,
        ),
        find_rejected_keys(schema, DIFF_OF_STREAM, invalid),
        *reject_invalid(rows, ledger, DIFF_OF_STREAM, invalid),
        *valid_rows(DIFF_OF_STREAM, EXTRACT_DIFF, rows, invalid, good),
    )


def _size_at_once(facts: Validated, rows: Sequence[Row]) -> Validated:
    (sizes,) = rows
    good = facts.read - facts.broken - sizes["invalid"]
    again = bool(sizes["invalid_matched"]) or _has_duplicates(sizes, good)
    return replace(
        facts, sizes=sizes, extract_at=sizes["at"], invalid=sizes["invalid"], compared=True, compare_again=again
    )


def _has_duplicates(sizes: Row, good: int) -> bool:
    """Whether any key occurs in several of the ``good`` rows, among those that match a current version."""
    return bool(good - sizes["new"] + sizes["absent"] > sizes["current_keys"])


def _compare_whole(
    schema: TableSchema, rows: Rows, ledger: LedgerSql, question: str, when: When[Validated], *, first: bool
) -> tuple[Step[Validated], ...]:
    def and_(text: str, holds: Any) -> When[Validated]:
        return When(text, lambda f: when.holds(f) and holds(f))

    invalid = and_("when a row is invalid", lambda f: f.some_invalid)
    duplicated = and_(
        "when a key may occur twice" if not rows.scope else "always: outside the scope nothing counts as absent",
        lambda f: f.duplicated,
    )

    def size(facts: Validated, found: Sequence[Row]) -> Validated:
        good = facts.read - facts.broken - facts.erased - int(facts.times["invalid"])
        twice = bool(rows.scope) or _has_duplicates(found[0], good)
        return replace(facts, sizes=found[0], duplicated=twice)

    return (
        *stage_rows(schema, rows, ledger, first=first, when=when),
        Step(
            "compare", "the time of the extract; all rows must have the same", extract_diff.times("staged"),
            learn=_times, when=when,
        ),
        find_rejected_keys(schema, "staged", invalid),
        *reject_invalid(rows, ledger, "staged", invalid),
        *valid_rows("staged", EXTRACT_ROWS, rows, invalid, when),
        Step(
            "compare",
            "rows that differ from the current version of their key, and keys that are absent",
            question,
            EXTRACT_DIFF,
            when=when,
            compares=("staged",),
        ),
        Step(
            "compare",
            "how many are new and absent; more rows than that are duplicates",
            extract_diff.count_rows(schema, EXTRACT_DIFF, first=first),
            learn=size,
            when=when,
        ),
        Step(
            "compare",
            "all rows of duplicated keys, so that the last one counts",
            extract_diff.find_duplicated_rows(schema),
            "duplicated_rows",
            when=duplicated,
        ),
    )  # fmt: skip


def _times(facts: Validated, rows: Sequence[Row]) -> Validated:
    (times,) = rows
    return replace(facts, times=times, invalid=times["invalid"], extract_at=times["latest"] or facts.extract_at)


def _extract_changes(schema: TableSchema, rows: Rows, *, first: bool) -> tuple[Step[Validated], ...]:
    some_absent: When[Validated] = When("when a key is absent", lambda f: f.sizes["absent"] > 0)
    absent_count = schema.inactive_deletes != "ignore"
    steps: list[Step[Validated]] = []
    if absent_count:
        steps.append(
            Step(
                "compare",
                "an absent key is a delete",
                lambda f: extract_diff.find_absent_keys(
                    schema,
                    some_rejected=f.some_invalid,
                    some_pending=f.some_pending,
                    column_set=schema.column_sets[0][0],
                ),
                "absent_keys",
                learned(derived=int),
                some_absent,
                params={"absent_from": absent_from(rows)},
            )
        )
    return (
        *steps,
        Step(
            "compare",
            "a row that differs is a change; equal rows are counted",
            lambda f: extract_diff.extract_changes(
                schema, duplicated=f.duplicated, absent=absent_count and some_absent.holds(f)
            ),
            "extract_changes",
            _differing,
            index=True,
        ),
        Step("compare", "they are accepted", makes="accepted", same_as=sql.work("extract_changes")),
        Step(
            "compare",
            "how many are late, and of how many keys they are",
            classify.summarize(schema, first=first, derives=False, of="accepted"),
            learn=sum_up_changes,
        ),
        *set_aside(schema),
    )


def _differing(facts: Validated, count: int) -> Validated:
    return replace(facts, equal=facts.read - facts.rejected - facts.repeated - facts.erased - (count - facts.derived))
