"""Columns that are written with what happens to a row: values of the run, not of the source."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache

from brenvik.errors import DeclarationError
from brenvik.merge import expressions, sql
from brenvik.model.conditions import parse
from brenvik.model.rule_errors import STAMP_VALUES
from brenvik.model.rules import StampEvent, TableRules
from brenvik.model.types import INTEGER, TEXT, TIMESTAMP, ColumnType

KNOWN = dict(zip(STAMP_VALUES, (INTEGER, TEXT, TIMESTAMP), strict=True))
"""What expressions can refer to, each with its type."""
_VALUES = {name: f"CAST(:{name} AS {kind.sql})" for name, kind in KNOWN.items()}


@dataclass(frozen=True)
class Stamp:
    """One such column, and its values by what happens, in the core's dialect."""

    name: str
    type: ColumnType
    values: tuple[tuple[StampEvent, str], ...]

    def on(self, event: StampEvent) -> str | None:
        found = dict(self.values)
        return found.get(event, found.get("closed") if event == "deleted" else None)

    @property
    def marks_ends(self) -> bool:
        """Whether the end of a version is written."""
        return self.on("deleted") is not None

    def at_end(self, is_deleted: str) -> str:
        """The value for a version that ends, by a delete if ``is_deleted``."""
        closed, deleted = (self.on(event) or "NULL" for event in ("closed", "deleted"))
        return closed if closed == deleted else f"CASE WHEN {is_deleted} THEN {deleted} ELSE {closed} END"

    @property
    def own(self) -> str:
        """The value that a row to update has so far."""
        return sql.quote(self.name)


def stamps_of(rules: TableRules) -> Iterator[Stamp]:
    """The stamps of a table. Raises DeclarationError for expressions that are ambiguous, or of different types."""
    if faults := [*faults_of(rules)]:
        raise DeclarationError(f"The stamps of table {rules.table!r} are not valid:", faults)
    return (_stamp_of(rules, name) for name in rules.stamps)


def faults_of(rules: TableRules) -> Iterator[str]:
    """What is wrong with the expressions of stamps, beside what the rules themselves have refused."""
    for name in rules.stamps:
        try:
            _stamp_of(rules, name)
        except ValueError as error:
            yield f"stamps.{name}: {error}"


@lru_cache(maxsize=256)
def _stamp(name: str, events: tuple[tuple[StampEvent, str], ...]) -> Stamp:
    written = {
        event: expressions.write_value(parse(text), _VALUES, KNOWN, untyped=False, exact=False)
        for event, text in events
    }
    kinds = dict.fromkeys(written[event][1] for event, text in events if not _is_null(text))
    if len(kinds) > 1:
        raise ValueError(f"is {' and '.join(map(str, kinds))}; expected values of one type")
    kind = next(iter(kinds), TEXT)
    if "missing" in written:  # what changes a row takes the mark from it
        written |= dict.fromkeys(("added", "overwritten", "closed", "deleted"), ("NULL", kind))
    return Stamp(name, kind, tuple((event, f"CAST({text} AS {kind.sql})") for event, (text, _) in written.items()))


def _stamp_of(rules: TableRules, name: str) -> Stamp:
    return _stamp(name, tuple(rules.stamps[name].items()))


def _is_null(text: str) -> bool:
    return text.strip().lower() == "null"
