"""Rows that a full extract lacks, where deletes are ignored."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from brenvik.merge import missing_rows
from brenvik.merge.plan.inputs import Rows
from brenvik.merge.plan.steps import Applied, Row, RowChanges, Step, When
from brenvik.merge.plan.writing import change_step
from brenvik.merge.schema import TableSchema


def marks_rows(schema: TableSchema, rows: Rows) -> bool:
    """Whether rows can be missing: these are all there are, and the table has a stamp for those that are not among them."""
    return bool(schema.marks) and (rows.is_extract or rows.is_complete)


def find_marks(schema: TableSchema, rows: Rows) -> tuple[Step[RowChanges], ...]:
    """Makes ``marks``."""
    if not marks_rows(schema, rows):
        return ()

    def learn(facts: RowChanges, found: Sequence[Row]) -> RowChanges:
        return replace(facts, missing=int(found[0]["missing"]), back=int(found[0]["back"]))

    return (
        Step(
            "diff",
            "rows that the extract lacks, and those that it has again",
            lambda f: missing_rows.find_marks(
                schema, rows.scope, some_current=f.some_current, some_replayed=f.some_replayed
            ),
            missing_rows.MARKS,
            index=True,
        ),
        Step("diff", "how many there are of either", missing_rows.count_marks(), learn=learn),
        Step(
            "diff", "the rows of the table", makes="stored_of_marks", stored=(missing_rows.MARKS, False),
            when=When("when there are any", lambda f: f.marked > 0),
        ),
    )  # fmt: skip


def mark(schema: TableSchema, rows: Rows) -> tuple[Step[Applied], ...]:
    """Writes and removes the marks."""
    if not marks_rows(schema, rows):
        return ()
    marked = change_step(
        "rows are marked as missing, or no longer",
        "when there are any",
        lambda f: missing_rows.mark(schema),
        lambda f: f.marked,
    )
    return (marked,)
