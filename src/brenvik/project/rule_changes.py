"""Which rules of a table have changed since its last load, and what that means; those that need a rebuild are faults."""

from __future__ import annotations

import json

from brenvik.ledger.records import TableState
from brenvik.model.rules import TableRules

FREE = ("max_rejects", "max_deletes", "max_changes", "new_columns", "missing_columns", "write_mode")
"""Rules on which no row of the table depends."""
FROM_NOW_ON = ("reject_if", "delete_if", "derive", "ties", "exact_duplicates", "time_zone", "type_0_changes")
"""Rules that hold for the changes that come; those in the log were accepted under others."""
FOR_REPLAYED_KEYS = ("ignored_differences",)
"""Rules that hold for the keys that are recomputed; a rebuild recomputes all."""


def notes_on_changed_rules(rules: TableRules, state: TableState | None) -> list[str]:
    """What a person should know of rules that have changed, but need no rebuild."""
    if state is None:
        return []
    today = json.loads(json.dumps(rules._for_ledger(), default=str))
    changed = {name for name in today if name in state.rules and state.rules[name] != today[name]}
    meanings = {
        FREE: "no row of the table depends on that",
        FROM_NOW_ON: "this holds for changes from the next load on",
        FOR_REPLAYED_KEYS: f"this holds from the next load on, and with brenvik rebuild {rules.table} for all rows",
    }
    notes = [
        f"Changed since the last load: {', '.join(name for name in names if name in changed)}; {meaning}."
        for names, meaning in meanings.items()
        if changed.intersection(names)
    ]
    return notes + _notes_on_log(rules, state)


def _notes_on_log(rules: TableRules, state: TableState) -> list[str]:
    """What a period of the change log means that is new in the rules, or is gone from them."""
    period = rules.change_log if isinstance(rules.change_log, str) else None
    if not rules.is_logged or state.rules.get("log_period") == period:
        return []
    if period is None:
        return ["From the next load on, all changes stay in the change log."]
    return [f"From the next load on, changes older than {period} become base states in the change log."]
