"""Guards: loads that would do more than the rules allow are refused, until a person allows this one."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from brenvik.engines.protocol import Engine
from brenvik.errors import DeclarationError, LimitExceeded, StaleExtract
from brenvik.ledger.ledger import Ledger
from brenvik.ledger.records import Run
from brenvik.model.rules import TableRules
from brenvik.model.watermarks import as_text, parse_value
from brenvik.runs.prepare import UnderWay


@dataclass(frozen=True)
class Allowed:
    """What a person allows once, by the numbers seen: so many deletes, so many changed rows, and no more."""

    deletes: int | None = None
    changes: int | None = None


NOTHING_MORE = Allowed()


def limit_of(limit: int | float | None, whole: int) -> int | None:
    """A limit as a number: a share is one of the whole, rounded up."""
    return limit if limit is None or isinstance(limit, int) else -int(-limit * whole // 1)


def check_guards(it: UnderWay, source: str, allowed: Allowed, *, is_extract: bool) -> LimitExceeded | None:
    """The blocked_by that a load must meet, once its decisions are counted; None when it may pass.

    What counts as deleted are keys that are current now and would not be after the load.
    """
    counts, rules = it.counts, it.rules
    if not (is_extract or counts["deleted"] or counts["pending"] or rules.max_changes is not None):
        return None
    current_keys = it.current_keys if it.current_in_scope is None else it.current_in_scope
    changes = counts["versioned"] + counts["overwritten"]
    deletes = (
        it.ended_keys + counts["pending"]
    )  # those wait for a person, but five out of nine say something of the extract
    what = "leave pending deletes of" if it.schema.inactive_deletes else "delete"
    said = []
    again: dict[str, int] = {}
    most = limit_of(rules.max_deletes, current_keys)
    is_empty = is_extract and counts["read"] == counts["rejected"] + counts["duplicate"]  # or refused before
    if is_empty and allowed.deletes is None:
        said.append(f"It has no valid rows; the table has {_keys(current_keys)}.")
    if (is_empty or (most is not None and deletes > most)) and deletes > (allowed.deletes or 0):
        held = (
            f"It has {counts['read']:,} rows; the table has {_keys(current_keys)}. "
            if is_extract and not is_empty
            else ""
        )
        said.append(f"{held}Loading it would {what} {deletes:,} ({_share(deletes, current_keys, rules.max_deletes)}).")
    if said:
        again["deletes"] = deletes
    most = limit_of(rules.max_changes, current_keys)
    if most is not None and changes > most and changes > (allowed.changes or 0):
        said.append(
            f"Loading it would change {changes:,} of {current_keys:,} rows ({_share(changes, current_keys, rules.max_changes)})."
        )
        again["changes"] = changes
    if not said:
        return None
    lines = (
        f"{source}: blocked, nothing written",
        *said,
        f"to preview  brenvik preview {rules.table}",
        f"to allow    brenvik load {rules.table} {' '.join(f'--allow-{what} {n}' for what, n in again.items())}",
        f"in Python   load(…, {', '.join(f'allow_{what}={n}' for what, n in again.items())})",
    )
    return LimitExceeded("\n".join(lines), counts=dict(counts), current_keys=current_keys)


def check_kind(
    ledger: Ledger[Engine], rules: TableRules, run: Run, reverted: Iterable[int], *, is_extract: bool
) -> None:
    """A table takes extracts, or changes, possibly after one first extract; anything else would be contradictory."""
    extracts, others = ledger.loads_taken(rules.table, without=reverted)
    if is_extract and others:
        raise DeclarationError(
            f"Table {rules.table!r} has loaded changes ({others:,} runs); an extract can only be loaded before all of them. "
            "Load it into another table."
        )
    if is_extract and extracts and rules.order_by:
        raise DeclarationError(
            f"Table {rules.table!r} orders changes by {', '.join(rules.order_by)} and has loaded its first extract; a table "
            "that loads extracts repeatedly is ordered by their times. Remove order_by."
        )
    if not is_extract and extracts > 1:
        raise DeclarationError(
            f"Table {rules.table!r} loads extracts ({extracts:,} so far), so it cannot load {run.kind}: the next extract would "
            "delete what it does not contain."
        )


def check_age(ledger: Ledger[Engine], it: UnderWay, run: Run, source: str, reverted: Iterable[int]) -> None:
    """Raises StaleExtract for an extract that is older than the newest loaded one."""
    newest = ledger.newest_extract(it.rules.table, run.feed, without=reverted)
    kind = it.schema.effective_type.kind
    if newest is None:
        return
    number, time = newest
    at = it.values["extract_at"]
    if parse_value(at, kind) < parse_value(time, kind):  # type: ignore[operator]
        raise StaleExtract(
            f"{source}: blocked, nothing written\n"
            f"It is of {as_text(parse_value(at, kind))}; run {number} loaded the extract of {as_text(parse_value(time, kind))}.\n"
            "Extracts must be loaded in order of time. If the newer one is wrong, revert it first: "
            f"brenvik revert {number}"
        )


def _keys(number: int) -> str:
    return "1 current key" if number == 1 else f"{number:,} current keys"


def _share(part: int, whole: int, limit: int | float | None) -> str:
    share = f"{100 * part / whole:.0f} %" if whole else "all"
    if limit is None:
        return share
    return f"{share}, limit {limit:,}" if isinstance(limit, int) else f"{share}, limit {100 * limit:g} %"
