"""Rejects after review: exported to a file, retried once rows or rules are fixed, or discarded."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from dataclasses import replace
from decimal import Decimal, InvalidOperation
from pathlib import Path
from typing import TYPE_CHECKING, Any

from brenvik.engines.protocol import Engine
from brenvik.errors import BrenvikError, DeclarationError
from brenvik.feeds.opening import record_of
from brenvik.ledger.ledger import Ledger
from brenvik.model.types import MAX_DIGITS, ColumnType
from brenvik.outcome import Outcome
from brenvik.runs.load import LoadOptions
from brenvik.runs.rejects import Number, open_rejects, row_of, source_of_rejects, write_json

if TYPE_CHECKING:
    from brenvik.project.project import Project
    from brenvik.store import Store

LEADING = ("reject", "feed", "run", "file", "line", "reason")


def export_rejects(ledger: Ledger[Engine], table: str, path: Path) -> int:
    """Writes the open rejects of a table to a JSON Lines file; returns how many.

    A line has the number of the reject, its file and line, the reason, and its ``row`` (columns and values), or the ``text`` of a
    line that is not a row. Raises DeclarationError when the file exists already, and when no reject is open.
    """
    lines: list[str] = []
    for reject in open_rejects(ledger, table).values():
        lead = ", ".join(f"{write_json(name)}: {json.dumps(reject[name])}" for name in LEADING)
        content = reject["content"].strip()
        whole = f'"row": {content}' if row_of(content) is not None else f'"text": {write_json(content)}'
        lines.append(f"{{{lead}, {whole}}}\n")
    if not lines:
        raise DeclarationError(f"Table {table!r} has no open rejects; nothing was written.")
    try:
        with path.open("x", encoding="utf-8") as file:
            file.writelines(lines)
    except FileExistsError:
        raise DeclarationError(f"{path} already exists; nothing was written. Name another file.") from None
    except OSError as error:
        raise DeclarationError(f"{path} cannot be written: {error.strerror}") from error
    return len(lines)


def wider_types(project: Project, rejects: Iterable[Mapping[str, Any]]) -> dict[str, dict[str, str]]:
    """Types that would hold the values of rejects which are too long or have too many digits, by table and
    column; a key is not meant to grow."""
    found: dict[str, dict[str, ColumnType]] = {}
    for reject in rejects:
        table, name, value = reject["table_name"], reject["column_name"], reject["value"]
        rules = project.tables[table].rules if table in project.tables else None
        declared = rules.declared_type(name) if rules and name else None
        if rules is None or declared is None or value is None or name in rules.natural_key:
            continue
        wider = found.setdefault(table, {})
        needed = _wide_enough(wider.get(name, declared), value)
        if needed:
            wider[name] = needed
    return {table: {name: str(kind) for name, kind in types.items()} for table, types in found.items() if types}


def _wide_enough(kind: ColumnType, value: str) -> ColumnType | None:
    """The type that also holds a value; None if it does already, or if no wider one would."""
    if kind.kind == "text":
        return replace(kind, length=len(value)) if kind.length and len(value) > kind.length else None
    if kind.kind not in ("integer", "decimal"):
        return None
    try:
        number = Decimal(value)
    except InvalidOperation:
        return None
    if not number.is_finite():
        return None
    whole, behind = (kind.precision - kind.scale, kind.scale) if kind.kind == "decimal" else (19, 0)
    scale = max(behind, -int(number.as_tuple().exponent))
    precision = max(whole, number.adjusted() + 1) + scale
    wider = ColumnType("decimal", precision=precision, scale=scale)
    return wider if precision <= MAX_DIGITS and precision > whole + behind else None


def retry(
    project: Project, store: Store, table: str, path: Path | None = None, *, preview: bool = False, wait_s: float = 30.0
) -> list[Outcome]:
    """Loads open rejects again, after the rules were fixed, or with the rows of an exported file; one load per feed.

    Rows that are rejected again become new rejects. Raises DeclarationError, and loads nothing, for a file that does not match
    the open rejects, and for feeds that are not declared or read extracts.
    """
    found = project.table(table)
    there = open_rejects(store.ledger, found.rules.table)
    corrected = _corrected(path, there) if path else {}
    lines: dict[str, dict[int, str]] = {}
    left = 0
    for number, reject in there.items():
        if path and number not in corrected:
            continue
        content = reject["content"]
        row = corrected.get(number)
        if row is not None and row != row_of(content):
            content = write_json(row)
        if row_of(content) is None:
            left += 1
        else:
            lines.setdefault(reject["feed"], {})[number] = content
    if not lines:
        why = f"; {left:,} cannot be retried because they are not rows (brenvik rejects export)" if left else ""
        raise DeclarationError(f"Table {table!r} has no rejects to retry{why}.")
    feeds = {feed.name: feed for feed in found.feeds}
    faults = [f"feed {name} is not declared in {project.title}" for name in lines if name not in feeds]
    faults += [
        f"feed {name} reads extracts: fix the source, load its next extract, then discard the rejects"
        for name in lines
        if name in feeds and feeds[name].kind == "full_extract"
    ]
    if faults:
        raise DeclarationError(f"Nothing of table {table!r} was retried:", faults)
    outcomes = []
    for name, rows in lines.items():
        feed = feeds[name]
        source = source_of_rejects(there, rows, feed=name, kind=feed.kind, record=record_of(feed, found.rules))
        try:
            options = LoadOptions(feed.operations, feed.columns, preview=preview, explain=True, wait_s=wait_s)
            outcome = store.table(found.rules).load_from(source, options)
        except DeclarationError:
            raise
        except BrenvikError as error:
            outcome = Outcome.stopped(found.rules.table, name, error)
        outcomes.append(outcome)
    if left:
        texts = (
            "1 reject is a line that is not a row; it stays"
            if left == 1
            else f"{left:,} rejects are lines that are not rows; they stay"
        )
        outcomes[0].notes.append(f"{texts} open. To load them, export them, add their rows, and retry the file.")
    return outcomes


def _corrected(path: Path, there: Mapping[int, Mapping[str, Any]]) -> dict[int, dict[str, Any] | None]:
    """The rows of an exported file by the number of their reject."""
    try:
        lines = path.read_text(encoding="utf-8-sig").split("\n")  # other separators can stand in texts
    except (OSError, UnicodeError) as error:
        raise DeclarationError(f"{path} cannot be read: {error}") from error
    found: dict[int, dict[str, Any] | None] = {}
    faults = []
    for place, line in enumerate(lines, 1):
        if not line.strip():
            continue
        entry = row_of(line)
        if entry is None:
            faults.append(f"line {place}: is not a JSON object as written by rejects export")
            continue
        number = entry.get("reject")
        if not isinstance(number, Number) or not number.isdecimal():
            faults.append(f'line {place}: has no reject number, as in "reject": 3')
        elif int(number) not in there:
            faults.append(f"line {place}: reject {number} is not open (brenvik rejects)")
        elif int(number) in found:
            faults.append(f"line {place}: reject {number} occurs twice in the file")
        elif not isinstance(entry.get("row", {}), dict):
            faults.append(f"line {place}: row is not a JSON object of columns and values")
        else:
            found[int(number)] = entry.get("row") or row_of(str(entry.get("text", "")))
    if faults:
        raise DeclarationError(f"Nothing of {path} was loaded:", faults)
    return found
