"""What can become of a change, and of a run."""

from __future__ import annotations

from typing import Literal, NamedTuple


class Decision(NamedTuple):
    """A decision: when it is made, what it does to the table, and whether the change is logged."""

    when: str
    table: str
    log: str


DECISIONS = {
    "inserted": Decision("the first change of a lifetime", "a row is added or reopened", "yes"),
    "versioned": Decision(
        "a type 2 column differs, or boundaries of versions shift", "versions are closed, added, split or merged", "yes"
    ),
    "overwritten": Decision(
        "only type 1 or 3 columns differ, or a type 0 column gets its first value", "values are overwritten", "yes"
    ),
    "deleted": Decision("a delete of a current version", "the version is closed, or the rows are removed", "yes"),
    "pending": Decision(
        "a delete of a current key, where deletes await approval", "none", "yes; without effect until approved"
    ),
    "protected": Decision("only type 0 columns differ: the first value stays", "none", "yes"),
    "unchanged": Decision(
        "the change equals the state before; or a delete of a key that is deleted or pending already",
        "none",
        "yes; from an extract no",
    ),
    "superseded": Decision(
        "another change of the key wins at the same effective time; or a later delete ends a lifetime that the table does "
        "not keep",
        "none",
        "yes",
    ),
    "ignored": Decision(
        "a delete of a key that never existed, or in a table that ignores deletes; a row of a key that was erased",
        "none",
        "yes, without effect where deletes are ignored; of erased keys no",
    ),
    "duplicate": Decision(
        "the same change (key, effective time, order, operation, columns) comes earlier in the batch or is in the change "
        "log; or the row equals an open reject",
        "none",
        "no",
    ),
    "rejected": Decision(
        "a value has the wrong type or is too long; key, order or effective time is empty; the operation is unknown; a "
        "condition of `reject_if` is true; a row of an extract is outside of its `extract_scope`; a line has too few or too "
        "many fields, or is not a JSON object; a change lies beyond a trimmed change log",
        "none",
        "no; the row is kept as a reject",
    ),
}
"""In the order in which they are shown."""

RunState = Literal["running", "done", "failed", "blocked", "crashed"]
STATES: dict[RunState, str] = {
    "running": "In progress; or its process ended and the table was not loaded since.",
    "done": "Data, watermark and ledger are written, in one transaction.",
    "failed": "Nothing was written except the run and its message.",
    "blocked": "A limit or a rule stopped it; nothing was written.",
    "crashed": "Its process ended before it did; nothing was written. The next load of the table marks it.",
}
"""The states of a run, as the ledger has them. A run that was reverted is done."""
