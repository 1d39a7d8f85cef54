"""Guards: a load that would do more than the rules allow is blocked until it is approved."""

from __future__ import annotations

from dataclasses import dataclass

from brenvik.engines.protocol import Engine
from brenvik.errors import DeclarationError, LimitExceeded, StaleExtract
from brenvik.ledger.ledger import Ledger
from brenvik.ledger.memory import LoadMemory
from brenvik.ledger.records import Attempt, Trimmed
from brenvik.ledger.schema import ROW_COUNTS
from brenvik.merge.plan.steps import RowChanges
from brenvik.model.positions import as_text, kind_of
from brenvik.model.rules import TableRules
from brenvik.model.watermarks import Window
from brenvik.runs.context import RunContext


@dataclass(frozen=True)
class Allowed:
    """What was approved once, by the numbers seen: so many deletes, changed rows and changes of type 0 columns, and no more."""

    deletes: int | None = None
    changes: int | None = None
    type_0: int | None = None


NOTHING_MORE = Allowed()


def limit_of(limit: int | float | None, whole: int) -> int | None:
    """A limit as a number: a share is one of the whole, rounded up."""
    return limit if limit is None or isinstance(limit, int) else -int(-limit * whole // 1)


def check_guards(context: RunContext, changes: RowChanges, allowed: Allowed) -> LimitExceeded | None:
    """The error that blocks a load, once its decisions are counted; None when it may pass.

    What counts as deleted are keys that are current now and would not be after the load.
    """
    counts, rules, source = changes.counts, context.rules, context.run.source
    is_complete = bool(context.batch and context.batch.complete_at)
    is_extract = is_complete or bool(context.batch and context.batch.extract)
    type_0 = changes.changed_type_0
    if not (is_extract or counts["deleted"] or counts["pending"] or rules.max_changes is not None or type_0):
        return None
    current_keys = changes.current_keys if changes.current_in_scope is None else changes.current_in_scope
    changed = counts["versioned"] + counts["overwritten"]
    deletes = (
        changes.ended_keys + counts["pending"]
    )  # those await approval, but five of nine say something of the extract
    what = f"leave {deletes:,} deletes pending" if context.schema.inactive_deletes else f"delete {deletes:,}"
    said = []
    again: dict[str, int] = {}
    most = limit_of(rules.max_deletes, current_keys)
    is_empty = is_extract and counts["read"] == counts["rejected"] + (0 if is_complete else counts["duplicate"])
    if is_empty and allowed.deletes is None:
        said.append(f"It has no valid rows; the table has {_keys(current_keys)}.")
    if (is_empty or (most is not None and deletes > most)) and deletes > (allowed.deletes or 0):
        size = (
            f"It has {counts['read']:,} rows; the table has {_keys(current_keys)}. "
            if is_extract and not is_empty
            else ""
        )
        said.append(f"{size}Loading it would {what} ({_share(deletes, current_keys, rules.max_deletes)}).")
    if said:
        again["deletes"] = deletes
    most = limit_of(rules.max_changes, current_keys)
    if most is not None and changed > most and changed > (allowed.changes or 0):
        share = _share(changed, current_keys, rules.max_changes)
        said.append(f"Loading it would change {changed:,} of {current_keys:,} rows ({share}).")
        again["changes"] = changed
    if type_0 > (allowed.type_0 or 0):
        have = "1 change has" if type_0 == 1 else f"{type_0:,} changes have"
        said.append(f"{have} other values of type 0 columns, which the rules refuse ({', '.join(rules.type_0)}).")
        again["type_0"] = type_0
    if not said:
        return None
    options = " ".join(f"--allow-{what.replace('_', '-')} {n}" for what, n in again.items())
    load = f"{rules.table} --full" if is_complete else rules.table
    lines = (
        f"{source}: blocked, nothing written",
        *said,
        f"to preview  brenvik preview {load}",
        f"to allow    brenvik load {load} {options}",
        f"in Python   load(…, {', '.join(f'allow_{what}={n}' for what, n in again.items())})",
    )
    decided = {name: n for name, n in counts.items() if name not in ROW_COUNTS}
    return LimitExceeded("\n".join(lines), counts=decided, current_keys=current_keys)


def check_kind(rules: TableRules, run: Attempt, memory: LoadMemory, *, is_extract: bool) -> None:
    """A table takes extracts, or changes, possibly after one first extract; anything else would be contradictory."""
    if rules.appends != (run.kind == "append"):
        raise DeclarationError(
            f"Table {rules.table!r} has no natural key, so that rows can only be appended to it (kind 'append'). To load "
            f'{run.kind}, declare the key: natural_key = ["buoy_code"].'
            if rules.appends
            else f"Table {rules.table!r} has a natural key ({', '.join(rules.natural_key)}); kind 'append' is for tables "
            "without one. Use 'upserts' or 'changes', or remove natural_key."
        )
    extracts, others = memory.extracts, memory.other_loads
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


def check_new(ledger: Ledger[Engine], context: RunContext) -> None:
    """Raises DeclarationError for files and windows that a table without a natural key has loaded already, and that are not
    reverted: their rows would be in it twice. Where the rules drop exact duplicates, they would not."""
    rules, batch, run = context.rules, context.batch, context.run
    if not (rules.appends and batch) or rules.exact_duplicates == "drop":
        return
    if batch.complete_at:
        raise DeclarationError(f"Table {rules.table!r} has no natural key; its feeds cannot be read in full again.")
    files = ledger.loaded_files(rules.table, run.feed, [file.file for file in batch.files]) if batch.files else {}
    before = {known.run for known in files.values()} - {*context.memory.reverted}
    if window := batch.window:
        windows = ledger.loaded_windows(rules.table, run.feed)
        before |= {number for number, low, high in windows if _overlap(window, low, high)}
    if before:
        numbers = " ".join(map(str, sorted(before)))
        raise DeclarationError(
            f"{run.source}: rows of it were loaded before (run {', '.join(numbers.split())}) and would be in table "
            f"{rules.table!r} twice. Nothing was loaded. Revert that first (brenvik revert {numbers}), or let the rules drop "
            'exact duplicates (exact_duplicates = "drop").'
        )


def _overlap(window: Window, low: str | None, high: str) -> bool:
    """Whether a window that is about to be read has a part of the window (low, high]."""
    read = window.kind.parse
    above = window.reads_from is None or read(high) > window.reads_from
    return above and (low is None or window.high is None or read(low) < window.high)


def check_only_feed(ledger: Ledger[Engine], context: RunContext) -> None:
    """Raises DeclarationError where other feeds have loaded rows as well: of their keys a feed says nothing, even in full."""
    others = ledger.other_feeds(context.rules.table, context.run.feed)
    if others:
        raise DeclarationError(
            f"Table {context.rules.table!r} has also loaded {', '.join(others)}; that {context.run.feed} lacks a key of theirs "
            "does not mean that it is gone. Load it without --full."
        )


def check_age(context: RunContext, extract_at: str) -> None:
    """Raises StaleExtract for an extract that is older than the newest loaded one."""
    if context.memory.newest_extract is None:
        return
    number, time = context.memory.newest_extract
    kind = kind_of(context.schema.effective_type.kind)
    its, last = kind.parse(extract_at), kind.parse(time)
    if its < last:
        raise StaleExtract(
            f"{context.run.source}: blocked, nothing written\n"
            f"It is of {as_text(its)}; run {number} loaded the extract of {as_text(last)}.\n"
            "Extracts must be loaded in order of time. If the newer one is wrong, revert it first: "
            f"brenvik revert {number}"
        )


def check_reach(context: RunContext, extract_at: str, trimmed: Trimmed | None) -> None:
    """Raises StaleExtract for an extract from before the time that a trimmed change log reaches back to."""
    if trimmed is None:
        return
    kind = kind_of(context.schema.effective_type.kind)
    its, limit = kind.parse(extract_at), kind.parse(trimmed.before)
    if its < limit:
        raise StaleExtract(
            f"{context.run.source}: blocked, nothing written\n"
            f"It is of {as_text(its)}; the change log of table {context.rules.table!r} is trimmed up to {as_text(limit)}, so "
            "that it is not known any more what was valid then."
        )


def _keys(number: int) -> str:
    return "1 current key" if number == 1 else f"{number:,} current keys"


def _share(part: int, whole: int, limit: int | float | None) -> str:
    share = f"{100 * part / whole:.0f} %" if whole else "all"
    if limit is None:
        return share
    return f"{share}, limit {limit:,}" if isinstance(limit, int) else f"{share}, limit {100 * limit:g} %"
