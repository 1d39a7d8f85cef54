"""Open rejects: loaded again, or discarded."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from brenvik.engines.protocol import Engine
from brenvik.errors import DeclarationError
from brenvik.feeds.reading import PLAIN_RECORD, Record
from brenvik.feeds.rejects import RejectSource
from brenvik.ledger.entries import now
from brenvik.ledger.ledger import Ledger
from brenvik.model.rules import TableRules
from brenvik.outcome import Outcome
from brenvik.runs.load import LoadOptions, load


class Number(str):
    """A number as written; 1.50 is not 1.5 in a text column."""


def read_json(text: str) -> Any:
    return json.loads(text, parse_float=Number, parse_int=Number)


def write_json(value: Any) -> str:
    if isinstance(value, Number):
        return str(value)
    if isinstance(value, dict):
        return "{" + ", ".join(f"{write_json(name)}: {write_json(each)}" for name, each in value.items()) + "}"
    if isinstance(value, list):
        return "[" + ", ".join(map(write_json, value)) + "]"
    return json.dumps(value, ensure_ascii=False)


def row_of(content: str) -> dict[str, Any] | None:
    """The row that a text represents, if any."""
    try:
        found = read_json(content)
    except ValueError:
        return None
    return found if isinstance(found, dict) else None


def open_rejects(ledger: Ledger[Engine], table: str) -> dict[int, dict[str, Any]]:
    """The open rejects of a table by number."""
    found = ledger.rejects(table).to_pylist() if ledger.exists() else []
    return {row["reject"]: row for row in found}


def retry_rejects(
    ledger: Ledger[Engine],
    rules: TableRules,
    numbers: Iterable[int] | None,
    *,
    feed: str,
    kind: str,
    fixed: Mapping[int, Mapping[str, Any]],
    options: LoadOptions,
    record: Record = PLAIN_RECORD,
) -> Outcome:
    """Loads open rejects of a feed again, by number or all, with the rows of ``fixed`` in place of their own.

    Raises DeclarationError for numbers that are not open, and for lines that are not rows and not fixed.
    """
    there = {number: row for number, row in open_rejects(ledger, rules.table).items() if row["feed"] == feed}
    chosen = sorted(there if numbers is None else {*numbers, *fixed})
    if unknown := [str(number) for number in (*chosen, *fixed) if number not in there] or ([] if chosen else ["any"]):
        raise DeclarationError(f"Feed {feed!r} of table {rules.table!r} has no open reject {', '.join(unknown)}.")
    lines = {n: write_json(dict(fixed[n])) if n in fixed else there[n]["content"] for n in chosen}
    if broken := [str(number) for number, line in lines.items() if row_of(line) is None]:
        raise DeclarationError(
            f"Rejects {', '.join(broken)} of table {rules.table!r} are not rows; fix them to load them again."
        )
    return load(ledger, rules, source_of_rejects(there, lines, feed=feed, kind=kind, record=record), options)


def source_of_rejects(
    there: Mapping[int, Mapping[str, Any]], lines: Mapping[int, str], *, feed: str, kind: str, record: Record
) -> RejectSource:
    """Open rejects of a feed as a source: ``lines`` has their rows by number, as JSON."""
    origins = {number: (there[number]["file"], there[number]["line"]) for number in lines}
    return RejectSource(lines, name=feed, kind=kind, record=record, origins=origins)


def discard_rejects(
    ledger: Ledger[Engine],
    rules: TableRules,
    numbers: Iterable[int] | None = None,
    *,
    reason: str | None = None,
    wait_s: float = 30.0,
) -> Outcome:
    """Discards open rejects for good (all, or by number), as a run of its own; their rows stay in the ledger.

    Raises DeclarationError for numbers that are not open.
    """
    with ledger.engine.lock(rules.table, wait_s=wait_s):
        there = open_rejects(ledger, rules.table)
        chosen: Sequence[int] = sorted(there if numbers is None else set(numbers))
        if unknown := [str(number) for number in chosen if number not in there] or ([] if chosen else ["any"]):
            raise DeclarationError(f"Table {rules.table!r} has no open reject {', '.join(unknown)}: brenvik rejects")
        what = "1 reject discarded" if len(chosen) == 1 else f"{len(chosen):,} rejects discarded"
        run, _ = ledger.start_run(rules, feed="", kind="discard", source=what, reason=reason)
        with ledger.engine.transaction(rules):
            ledger.decide_rejects(run, chosen, "discarded")
            ledger.end_run(run, "done", {})
    took = (now() - run.started_at).total_seconds()
    return Outcome(rules.table, "", run.number, "done", source=what, started_at=run.started_at, duration_s=took)
