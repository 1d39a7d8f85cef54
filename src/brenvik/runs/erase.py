"""A key erased for good: from the table, its change log and the ledger, and from the files of the store."""

from __future__ import annotations

import json
import secrets
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Any

from brenvik.engines.protocol import Engine
from brenvik.ledger.ledger import Ledger
from brenvik.ledger.memory import LoadMemory
from brenvik.ledger.records import Preview, Run
from brenvik.ledger.schema import ERASE, ROW_COUNTS, SALT, change_log_table, currently_pending
from brenvik.merge import erase as erasing
from brenvik.merge.stored_rows import stored_rows
from brenvik.model.rules import TableRules
from brenvik.model.text_forms import KeyForm, has_words, in_form
from brenvik.outcome import Outcome
from brenvik.runs.context import RunContext
from brenvik.runs.recompute import begin, counts_without_changes, outcome_of, recorded


@dataclass(frozen=True)
class _Found:
    """What there is of a key: rows (of which so many are current), changes in the log, rejects and pending deletes by number, and
    messages of runs, as they will be, by run."""

    key: str
    digest: str
    rows: int
    current: int
    changes: int
    rejects: tuple[int, ...]
    pending: tuple[int, ...]
    messages: Mapping[int, str]

    @property
    def in_words(self) -> str:
        counted = (
            (self.rows, "row", "rows"),
            (self.changes, "change in the log", "changes in the log"),
            (len(self.rejects), "reject", "rejects"),
            (len(self.pending), "pending delete", "pending deletes"),
            (len(self.messages), "message of a run", "messages of runs"),
        )
        parts = (f"{number:,} {one if number == 1 else many}" for number, one, many in counted if number)
        return ", ".join(parts) or "nothing"


def erase(
    ledger: Ledger[Engine],
    rules: TableRules,
    key: Mapping[str, Any],
    *,
    reason: str | None,
    preview: bool,
    wait_s: float,
) -> Outcome:
    """Erases a key (the parameters ``key_0``, …); from then on its rows are ignored when they are loaded.

    Raises DeclarationError for a table that was never loaded.
    """
    if preview:
        planned, memory = ledger.preview(rules.table, kind=ERASE, source="1 key to erase")
        return _erase(ledger, rules, key, planned, memory)

    def once(run: Run, memory: LoadMemory) -> Outcome:
        outcome = _erase(ledger, rules, key, run, memory)
        ledger.engine.scrub([rules.stored_as, change_log_table(rules.table)])
        return outcome

    return recorded(ledger, rules, ERASE, "erased 1 key", once, reason=reason, wait_s=wait_s)


def _erase(
    ledger: Ledger[Engine], rules: TableRules, key: Mapping[str, Any], run: Run | Preview, memory: LoadMemory
) -> Outcome:
    salt = ledger.salt(rules.table) or secrets.token_hex(SALT // 2)
    params = {"loaded_at": run.started_at, "feed": "", "salt": salt, **key}
    context = begin(ledger, rules, run=run, memory=memory, params=params)
    with ledger.engine.transaction(rules if isinstance(run, Run) else None):
        found = _find(ledger, context)
        counts = counts_without_changes(context.memory, removed=found.rows)
        if isinstance(run, Run):
            _apply(ledger, context, found, run, counts, salt)
    context.workspace.discard()
    what = "Erased" if isinstance(run, Run) else "To erase"
    return outcome_of(run, {name: counts[name] for name in ROW_COUNTS}, notes=[f"{what}: {found.in_words}."])


def _find(ledger: Ledger[Engine], context: RunContext) -> _Found:
    """What there is of the key."""
    schema, work, table = context.schema, context.workspace, context.rules.table
    work.make(erasing.KEY, erasing.one_key(schema))
    work.read(stored_rows(schema, "stored_of_key", erasing.KEY, all_versions=True))
    work.make(erasing.ROWS, erasing.find_rows(schema))
    about, rows = work.row(erasing.describe(schema)), work.row(erasing.count_rows())
    changes, pending = 0, ()
    if schema.change_log:
        changes = work.make(erasing.CHANGES, erasing.find_changes(schema))
        pending = tuple(row["delete_no"] for row in work.rows(erasing.find_pending(schema, currently_pending())))
    (parts,) = work.rows(erasing.parts_of_key(schema))
    rejects = tuple(ledger.rejects_with(table, partial(_mentions, key=parts, forms=context.rules.natural_key_form)))
    return _Found(
        about["key"], about["digest"], rows["n"], rows["current"], changes, rejects, pending,
        dict(ledger.messages_without(table, [*parts.values()])),
    )  # fmt: skip


def _mentions(content: str, *, key: Mapping[str, str], forms: Sequence[KeyForm]) -> bool:
    """Whether a rejected row has a key: in its columns; where it lacks those, as the feed has other names for them, among its
    values; and a line that is not a row, among its words. ``forms`` are those of the key."""
    try:
        row = json.loads(content)
    except ValueError:
        return has_words(in_form(content, forms), key.values())
    if isinstance(row, dict) and key.keys() <= row.keys():
        return all(in_form(str(row[name]).strip(), forms) == value for name, value in key.items())
    return {in_form(value, forms) for value in _values(row)}.issuperset(key.values())


def _values(value: Any) -> Iterator[str]:
    if isinstance(value, Mapping):
        value = [*value.values()]
    if isinstance(value, list):
        for each in value:
            yield from _values(each)
    elif value is not None:
        yield str(value).strip()


def _apply(
    ledger: Ledger[Engine], context: RunContext, found: _Found, run: Run, counts: Mapping[str, int], salt: str
) -> None:
    schema, work, state = context.schema, context.workspace, context.memory.state
    assert state
    if found.rows:
        context.check_count("erased", found.rows, work.apply(erasing.delete_rows(schema)))
    if found.changes:
        changed = work.apply(erasing.delete_changes(schema))
        context.check_count("erased from the change log", found.changes, changed)
    ledger.decide_pending_deletes(run, found.pending, "discarded")
    ledger.erase(run, found.key, found.digest, found.rejects, found.messages)
    ledger.set_state(
        schema, context.rules, high_order=state.high_order, high_effective=state.high_effective, last_key=state.last_key,
        row_count=counts["rows_after"], current_keys=state.current_keys - found.current, first_run=None,
    )  # fmt: skip
    ledger.end_run(run, "done", counts, f"Erased: {found.in_words}.", label=f"{salt}:{found.digest}")
