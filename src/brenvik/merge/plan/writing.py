"""The table, and what is recorded beside it."""

from __future__ import annotations

from collections.abc import Callable

from brenvik.merge import classify, pending_deletes, sql, writes
from brenvik.merge.extract_diff import EXTRACT_ROWS
from brenvik.merge.plan.inputs import LedgerSql, Rows
from brenvik.merge.plan.replaying import closing, logged_changes, updated_columns
from brenvik.merge.plan.steps import SOME_INACTIVE, Applied, Step, When, learned
from brenvik.merge.row_changes import RowChange
from brenvik.merge.schema import TableSchema


def write(schema: TableSchema) -> tuple[Step[Applied], ...]:
    """Applies the row changes; versions are closed before others begin."""
    overwritten = change_step(
        "type 1 values are overwritten",
        "when type 1 values change",
        lambda f: writes.overwrite(schema, _overwritten(schema, f), spreads=f.closed_versions > 0),
        lambda f: f.overwritten_rows,
    )
    return (
        *_close(schema),
        *((overwritten,) if schema.type_1 else ()),
        change_step(
            "rows of replayed keys are updated",
            "when rows get other values",
            lambda f: writes.update(schema, updated_columns(schema, f.actions)),
            lambda f: f.action("update"),
        ),
        change_step(
            "rows are deleted",
            "when rows are deleted",
            lambda f: writes.delete(schema, current=f.removed_rows > 0, replayed=f.action("delete") > 0),
            lambda f: f.removed_rows + f.action("delete"),
        ),
        change_step(
            "rows are added",
            "when rows are added",
            lambda f: writes.insert(
                schema,
                current=f.inserted_on_path > 0,
                replayed=f.action("insert") > 0,
                some_returning=f.returning > 0,
            ),
            lambda f: f.rows_added,
        ),
    )


def change_step(
    purpose: str, when: str, change: Callable[[Applied], RowChange], expected: Callable[[Applied], int]
) -> Step[Applied]:
    """A step that writes a change, when it is about any rows."""
    return Step("write", purpose, change=change, expected=expected, when=When(when, lambda facts: expected(facts) > 0))


def _close(schema: TableSchema) -> tuple[Step[Applied], ...]:
    def alone(facts: Applied) -> int:
        """How many rows of the current path are closed, and nothing else."""
        return facts.n(*closing(schema)) - facts.closed_and_overwritten

    closed = change_step(
        "versions are closed before others are added",
        "when rows are closed",
        lambda f: writes.close(
            schema,
            current=alone(f) > 0,
            replayed=f.action("close") > 0,
            deletes=f.action("close") > 0 or (schema.deletes == "close" and "deleted" in f.current),
            some_overwritten=f.closed_and_overwritten > 0,
        ),
        lambda f: alone(f) + f.action("close"),
    )
    if not (schema.type_1 and schema.has_versions):
        return (closed,)
    both = change_step(
        "versions are closed, and type 1 values in them overwritten",
        "when a change closes a version and overwrites",
        lambda f: writes.close_and_overwrite(schema, _overwritten(schema, f)),
        lambda f: f.closed_and_overwritten,
    )
    return closed, both


def _overwritten(schema: TableSchema, facts: Applied) -> tuple[str, ...]:
    names = schema.type_1 if facts.overwritten is None else facts.overwritten
    return names if schema.has_versions else (*names, *schema.not_compared)


def log(schema: TableSchema, rows: Rows, ledger: LedgerSql) -> tuple[Step[Applied], ...]:
    """Appends to the change log, and records rejects and pending deletes."""
    steps: list[Step[Applied]] = []
    if schema.change_log:
        steps.append(
            Step(
                "log",
                "every accepted change",
                change=lambda f: writes.log_changes(schema, some_duplicates=f.action("duplicates") > 0),
                when=When("when there are changes", lambda f: logged_changes(f) > 0),
                expected=logged_changes,
            )
        )
    if schema.inactive_deletes:
        steps.append(Step("log", "these deletes, too", change=lambda f: writes.log_deletes(schema), when=SOME_INACTIVE))
    if schema.inactive_deletes == "review":
        steps += _log_pending(schema, rows, ledger)
    rejected: When[Applied] = When("when rows are rejected", lambda f: f.rejected > 0)
    steps.append(
        Step(
            "log", "rejects", ledger.record_rejects, record="rejects", when=rejected, what="recorded as rejects",
            expected=lambda f: f.rejected,
        )
    )  # fmt: skip
    if schema.change_log and schema.order:
        again: When[Applied] = When("when replayed changes are duplicates", lambda f: f.action("duplicates") > 0)
        text, found = classify.count_deduplicated(schema), learned(deduplicated=tuple)
        steps.append(Step("log", "of which runs replayed changes are duplicates", text, learn=found, when=again))
    if rows.is_extract:
        invalid: When[Applied] = When("when rows are invalid", lambda f: f.some_invalid)
        text, purpose = ledger.record_rejected_keys, "keys of rejected rows, which are not absent"
        steps.append(Step("log", purpose, text, record="rejected_keys", when=invalid))
    return tuple(steps)


def _log_pending(schema: TableSchema, rows: Rows, ledger: LedgerSql) -> list[Step[Applied]]:
    pending: When[Applied] = When("when deletes await approval", lambda f: f.counts["pending"] > 0)
    steps: list[Step[Applied]] = [
        Step("log", "deletes that await approval", ledger.record_pending, record="pending_deletes", when=pending)
    ]
    if rows.is_extract or rows.is_complete:
        some: When[Applied] = When("when deletes were pending", lambda f: f.some_pending)
        lapsed = learned(lapsed=lambda found: tuple(row["delete_no"] for row in found))
        text = pending_deletes.lapsed(schema, "staged" if rows.is_complete else EXTRACT_ROWS)
        purpose = "pending deletes of keys that are in the extract again lapse"
        steps.append(Step("log", purpose, text, learn=lapsed, when=some))
    return steps


def log_explicit(schema: TableSchema, relations: tuple[str, ...]) -> tuple[Step[Applied], ...]:
    """Appends explicit changes to the change log."""
    return (Step("log", "changes that are now explicit", change=lambda f: writes.log_explicit(schema, relations)),)


def highest_in_log(schema: TableSchema) -> Step[Applied]:
    """The highest order and effective time of all active changes in the log."""
    text = classify.highest(schema, sql.work("active_changes"))
    return Step(
        "log", "the highest order and effective time in the log", text, learn=learned(highest=lambda rows: rows[0])
    )
