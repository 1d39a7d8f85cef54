"""The table, and what is recorded beside it."""

from __future__ import annotations

from collections.abc import Sequence

from brenvik.merge import change_log, classify, current_path, diff, pending_deletes
from brenvik.merge.plan.inputs import LedgerSql, Rows
from brenvik.merge.plan.replaying import logged_changes
from brenvik.merge.plan.steps import SOME_INACTIVE, Applied, Row, Step, When, learned
from brenvik.merge.schema import EFFECTIVE_AT, TableSchema


def write(schema: TableSchema) -> tuple[Step[Applied], ...]:
    """Applies the row changes; versions are closed before others begin."""
    steps = [
        Step[Applied](
            "write",
            "versions are closed before others are added",
            lambda f: diff.close_rows(schema, deletes=f.some_replayed or "deleted" in f.current),
            "write",
            when=When("when rows are closed", lambda f: f.to_close > 0),
            expects=("closed", lambda f: f.to_close),
        )
    ]
    if schema.type_1:
        steps += _overwrite(schema)
    changes: When[Applied] = When("when rows get other values", lambda f: f.to_update > 0)
    return (
        *steps,
        Step(
            "write",
            "which columns differ",
            diff.changed_columns(schema),
            "ask",
            learned(updated_columns=_flagged),
            changes,
        ),
        Step(
            "write",
            "rows of replayed keys are updated",
            lambda f: diff.update_rows(
                schema, _or_all(f.updated_columns, (EFFECTIVE_AT, "brenvik_valid_to", *schema.values))
            ),
            "write",
            when=changes,
            expects=("updated", lambda f: f.to_update),
        ),
        Step(
            "write",
            "rows are deleted",
            diff.delete_rows(schema),
            "write",
            when=When("when rows are deleted", lambda f: f.to_delete > 0),
            expects=("removed", lambda f: f.to_delete),
        ),
        Step(
            "write",
            "rows are added",
            lambda f: diff.insert_rows(schema, current=f.inserted_on_path > 0, replayed=f.to_insert > 0),
            "write",
            when=When("when rows are added", lambda f: f.rows_added > 0),
            expects=("added", lambda f: f.rows_added),
        ),
    )


def _flagged(rows: Sequence[Row]) -> tuple[str, ...]:
    return tuple(name for name, some in rows[0].items() if some)


def _or_all(found: tuple[str, ...] | None, every: tuple[str, ...]) -> tuple[str, ...]:
    return every if found is None else found


def _overwrite(schema: TableSchema) -> list[Step[Applied]]:
    some: When[Applied] = When("when type 1 values change", lambda f: f.sets_type_1 > 0)
    steps: list[Step[Applied]] = []
    if schema.store.moves_rows:
        both: When[Applied] = When("when such rows were closed before", lambda f: f.closed_and_overwritten > 0)
        text = current_path.refresh_row_ids(schema)
        steps.append(Step("write", "where rows are now that were closed", text, "change", when=both))
    if not schema.store.whole_rows:
        text = current_path.touched_type_1(schema)
        steps.append(Step("write", "which type 1 columns change", text, "ask", learned(type_1=_flagged), some))
    return [
        *steps,
        Step(
            "write",
            "type 1 values are overwritten",
            lambda f: diff.overwrite_type_1(
                schema, _or_all(f.type_1, schema.type_1), spreads=f.closed_to_overwrite > 0
            ),
            "write",
            when=some,
            expects=("overwritten", lambda f: f.sets_type_1 + f.closed_to_overwrite),
        ),
    ]


def log(schema: TableSchema, rows: Rows, ledger: LedgerSql, *, first: bool) -> tuple[Step[Applied], ...]:
    """Appends to the change log, and records rejects and pending deletes."""
    steps: list[Step[Applied]] = []
    if schema.change_log:
        steps.append(
            Step(
                "log",
                "every accepted change",
                lambda f: classify.log_changes(schema, some_duplicates=f.some_replayed),
                "write",
                expects=("logged", logged_changes),
            )
        )
    if schema.inactive_deletes:
        text = pending_deletes.log_deletes(schema)
        steps.append(Step("log", "deletes without effect, too", text, "write", when=SOME_INACTIVE))
    if schema.inactive_deletes == "review":
        steps += _log_pending(schema, rows, ledger)
    rejected: When[Applied] = When("when rows are rejected", lambda f: f.rejected > 0)
    steps.append(
        Step(
            "log",
            "rejects",
            ledger.record_rejects,
            "write",
            when=rejected,
            expects=("recorded as rejects", lambda f: f.rejected),
        )
    )
    if schema.change_log:
        again: When[Applied] = When(
            "when replayed changes are duplicates", lambda f: f.some_replayed and f.counts["duplicate"] > 0
        )
        text = classify.count_deduplicated(schema)
        steps.append(
            Step(
                "log", "of which runs replayed changes are duplicates", text, "ask", learned(deduplicated=tuple), again
            )
        )
    if rows.is_extract:
        invalid: When[Applied] = When("when rows are invalid", lambda f: f.some_invalid)
        steps.append(
            Step(
                "log", "keys of rejected rows, which are not absent", ledger.record_rejected_keys, "write", when=invalid
            )
        )
    unknown: When[Applied] = When("when the classification does not know them", lambda f: f.highest is None)
    text = classify.highest(schema, first=first)
    steps.append(
        Step(
            "log", "the highest order and effective time", text, "ask", learned(highest=lambda found: found[0]), unknown
        )
    )
    return tuple(steps)


def _log_pending(schema: TableSchema, rows: Rows, ledger: LedgerSql) -> list[Step[Applied]]:
    pending: When[Applied] = When("when deletes await approval", lambda f: f.counts["pending"] > 0)
    steps: list[Step[Applied]] = [
        Step("log", "deletes that await approval", ledger.record_pending, "write", when=pending)
    ]
    if rows.is_extract:
        some: When[Applied] = When("when deletes were pending", lambda f: f.some_pending)
        lapsed = learned(lapsed=lambda found: tuple(row["delete_no"] for row in found))
        text = pending_deletes.lapsed(schema)
        steps.append(
            Step("log", "pending deletes of keys that are in the extract again lapse", text, "ask", lapsed, some)
        )
    return steps


def log_explicit(schema: TableSchema) -> tuple[Step[Applied], ...]:
    return (Step("log", "changes that are now explicit", change_log.log_explicit(schema), "write"),)


def highest_in_log(schema: TableSchema) -> Step[Applied]:
    """The highest order and effective time of all active changes in the log."""
    highest = learned(highest=lambda rows: rows[0])
    return Step(
        "log", "the highest order and effective time in the log", change_log.highest_in_log(schema), "ask", highest
    )
