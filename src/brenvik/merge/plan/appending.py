"""Rows of a feed without a natural key: validated, and appended."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from brenvik.merge import append, sql, writes
from brenvik.merge.plan.inputs import LedgerSql, Rows
from brenvik.merge.plan.staging import SOME_INVALID, reject_invalid, stage_rows, valid_rows
from brenvik.merge.plan.steps import Applied, Classified, Resolved, Row, RowChanges, Step, Validated, When, learned
from brenvik.merge.plan.writing import change_step
from brenvik.merge.schema import SEQUENCE_NO, TableSchema


def stage(schema: TableSchema, rows: Rows, ledger: LedgerSql) -> tuple[Step[Validated], ...]:
    """Makes ``accepted``, the valid rows, and ``rejected``."""
    return (
        *stage_rows(schema, rows, ledger, first=True),
        Step("validate", "how many are invalid", append.summarize("staged"), learn=_sum_up),
        *reject_invalid(rows, ledger, "staged", SOME_INVALID),
        *valid_rows("staged", "accepted", rows, SOME_INVALID),
    )


def _sum_up(facts: Validated, rows: Sequence[Row]) -> Validated:
    return replace(facts, invalid=rows[0]["invalid"], changes=rows[0]["changes"])


def find_duplicates(schema: TableSchema) -> tuple[Step[Classified], ...]:
    """Makes ``duplicates``, where the rules drop rows that equal another one."""
    if not schema.drops_duplicates:
        return ()

    def drop(facts: Classified, count: int) -> Classified:
        return replace(facts, changes=facts.changes - count, repeated=facts.repeated + count)

    return (
        Step(
            "classify",
            "rows that equal an earlier one",
            append.find_duplicates(schema),
            "duplicates",
            drop,
            index=(SEQUENCE_NO,),
        ),
    )


def choose_rows(schema: TableSchema) -> tuple[Step[Resolved], ...]:
    """Makes ``changes``: the rows that are appended."""

    def insert(facts: Resolved, _: Any) -> Resolved:
        return replace(facts, current={"inserted": {"n": facts.changes, "sets": 0}} if facts.changes else {})

    if not schema.drops_duplicates:
        return (Step("classify", "all of them are appended", "", "changes", insert, same_as=sql.work("accepted")),)
    text = append.without_duplicates(schema)
    return (Step("classify", "all others are appended", text, "changes", insert, view=True),)


def write(schema: TableSchema) -> tuple[Step[Applied], ...]:
    """Appends the rows."""
    appended = change_step(
        "rows are appended", "when there are any", lambda f: writes.append(schema), lambda f: f.rows_added
    )
    if not schema.drops_duplicates:
        return (appended,)
    some: When[Applied] = When("when rows are duplicates", lambda f: f.counts["duplicate"] > 0)
    text, found = append.count_deduplicated(), learned(deduplicated=tuple)
    return appended, Step("log", "of which runs rows are duplicates", text, learn=found, when=some)


def remove(schema: TableSchema, runs: Sequence[int]) -> tuple[tuple[Step[RowChanges], ...], tuple[Step[Applied], ...]]:
    """Finds the rows that some runs appended, and removes them."""

    def learn(facts: RowChanges, count: int) -> RowChanges:
        return replace(facts, removed_rows=count, actions={"current_change": -count})

    text = append.find_rows_of_runs(schema, runs)
    found: Step[RowChanges] = Step("diff", "the rows that the runs appended", text, "removed_rows", learn)
    removed = change_step(
        "rows are removed",
        "when there are any",
        lambda f: writes.delete(schema, current=True, replayed=False),
        lambda f: f.removed_rows,
    )
    return (found,), (removed,)
