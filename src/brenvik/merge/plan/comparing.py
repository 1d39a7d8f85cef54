"""An extract against the table."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from brenvik.merge import classify, extract_diff, sequence, sql
from brenvik.merge.extract_diff import EXTRACT_DIFF, EXTRACT_ROWS
from brenvik.merge.plan.inputs import LedgerSql, Rows
from brenvik.merge.plan.staging import reject_invalid, stage_rows, staging_of
from brenvik.merge.plan.steps import Row, Step, Validated, When, learned
from brenvik.merge.schema import TableSchema


def compare(schema: TableSchema, rows: Rows, ledger: LedgerSql, *, first: bool) -> tuple[Step[Validated], ...]:
    """Makes ``changes`` and ``rejected`` from the rows of an extract.

    Where the store can, rows are compared while they are read. Cases that this cannot tell apart are read again and compared as
    a whole.
    """
    question = extract_diff.compare(schema, rows.scope)
    sizes = extract_diff.count_rows(schema, first=first)
    at_once = schema.store.streams and rows.can_reread and not (rows.scope or rows.time_column or rows.store_query)
    whole: When[Validated] | None = None
    steps: list[Step[Validated]] = []
    if rows.scope:
        text = extract_diff.count_current_keys(schema, rows.scope)
        within = learned(current_in_scope=lambda found: found[0]["n"])
        steps.append(Step("compare", "how many keys are current within the scope", text, "ask", within))
    if at_once:
        steps += _compare_at_once(schema, rows, ledger, question, sizes)
        whole = When(
            "when deletes are pending, or rows must be compared as a whole",
            lambda f: f.some_pending or f.compare_again,
        )
    return (
        *steps,
        *_compare_whole(schema, rows, ledger, question, sizes, whole),
        *_extract_changes(schema, rows, first=first),
    )


def _compare_at_once(
    schema: TableSchema, rows: Rows, ledger: LedgerSql, question: str, sizes: str
) -> tuple[Step[Validated], ...]:
    staging = replace(staging_of(schema, rows, EXTRACT_ROWS), through=question, kept_as=EXTRACT_DIFF)
    now: When[Validated] = When("when no deletes are pending", lambda f: not f.some_pending)
    again: When[Validated] = When("when rows must be compared as a whole", lambda f: f.compared and f.compare_again)
    good: When[Validated] = When(
        "when a row is invalid", lambda f: f.compared and not f.compare_again and f.some_invalid
    )
    return (
        replace(
            stage_rows(staging, rows, now), stage="compare", purpose="rows as they are read, and what of them differs"
        ),
        Step("compare", "how many are new, absent and invalid", sizes, "ask", _size_at_once, now),
        Step("compare", "dropped, to be compared again", f"DROP TABLE {sql.work(EXTRACT_DIFF)}", "change", when=again),
        *reject_invalid(schema, rows, ledger, EXTRACT_DIFF, good),
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
    schema: TableSchema, rows: Rows, ledger: LedgerSql, question: str, sizes: str, when: When[Validated] | None
) -> tuple[Step[Validated], ...]:
    def and_(text: str, holds: Any) -> When[Validated]:
        return When(text, lambda f: (when is None or when.holds(f)) and holds(f))

    invalid = and_("when a row is invalid", lambda f: f.some_invalid)
    duplicated = and_(
        "when a key may occur twice" if not rows.scope else "always: outside the scope nothing counts as absent",
        lambda f: f.duplicated,
    )

    def size(facts: Validated, found: Sequence[Row]) -> Validated:
        good = facts.read - facts.broken - int(facts.times["invalid"])
        twice = bool(rows.scope) or _has_duplicates(found[0], good)
        return replace(facts, sizes=found[0], duplicated=twice)

    return (
        stage_rows(staging_of(schema, rows, EXTRACT_ROWS), rows, when),
        Step("compare", "the time of the extract; all rows must have the same", extract_diff.times(), "ask", _times, when),
        *reject_invalid(schema, rows, ledger, EXTRACT_ROWS, invalid),
        Step(
            "compare",
            "rows that differ from the current version of their key, and keys that are absent",
            f"CREATE TEMP TABLE {sql.work(EXTRACT_DIFF)} AS {question}",
            when=when,
        ),
        Step("compare", "how many are new and absent; more rows than that are duplicates", sizes, "ask", size, when),
        Step(
            "compare", "all rows of duplicated keys, so that the last one counts", extract_diff.add_duplicated_keys(schema),
            "change", when=duplicated,
        ),
    )  # fmt: skip


def _times(facts: Validated, rows: Sequence[Row]) -> Validated:
    (times,) = rows
    return replace(facts, times=times, invalid=times["invalid"], extract_at=times["latest"] or facts.extract_at)


def _extract_changes(schema: TableSchema, rows: Rows, *, first: bool) -> tuple[Step[Validated], ...]:
    steps: list[Step[Validated]] = [
        Step(
            "compare",
            "a row that differs is a change; equal rows are counted",
            extract_diff.extract_changes(schema),
            "make",
            _differing,
        )
    ]
    if schema.inactive_deletes != "ignore":
        absent_from = sequence.sequence_no(rows.last_file, sequence.ABSENT) - 1
        steps.append(
            Step(
                "compare",
                "an absent key is a delete",
                lambda f: extract_diff.add_absent(
                    schema,
                    some_rejected=f.some_invalid,
                    some_pending=f.some_pending,
                    column_set=schema.column_sets[0][0],
                ),
                "change",
                learned(derived=int),
                When("when a key is absent", lambda f: f.sizes["absent"] > 0),
                params={"absent_from": absent_from},
            )
        )
    if schema.order:
        sums = classify.sums(schema, first=first, derives=False)
        steps.append(Step("compare", "how many are late", sums, "ask", _sum_up_changes))
    return tuple(steps)


def _differing(facts: Validated, count: int) -> Validated:
    return replace(facts, differing=count, equal=facts.read - facts.rejected - facts.repeated - count)


def _sum_up_changes(facts: Validated, rows: Sequence[Row]) -> Validated:
    (sums,) = rows
    return replace(facts, late=sums["late"], highest=sums if classify.HIGHEST in sums else None)


def at_one_time(facts: Validated) -> Validated:
    """The facts of an extract into a table without order: its changes have one time, so all of them are late, or none is."""
    changes, late = facts.differing + facts.derived, facts.sizes["late"]
    return replace(
        facts, late=changes * late, highest={classify.HIGHEST: facts.extract_at if changes and not late else None}
    )
