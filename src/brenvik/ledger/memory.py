"""All that a run must know of its table, read with one query while the table is locked."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from brenvik.ledger.entries import Entries, H
from brenvik.ledger.records import TableState
from brenvik.ledger.schema import COUNTS, LOADS, place
from brenvik.merge.schema import Column
from brenvik.model.types import parse_type


@dataclass(frozen=True)
class LoadMemory:
    """What the ledger knows of a table.

    ``state`` is None for a table that was never loaded. ``reverted`` maps reverted runs to the runs that reverted them.
    ``extracts`` and ``other_loads`` count the active loads of each kind; ``newest_extract`` is the run and time (as text) of
    the feed's newest extract. ``last_run`` is the highest number of any run; ``running`` counts the table's runs without an
    outcome.
    """

    has_ledger: bool = False
    state: TableState | None = None
    reverted: Mapping[int, int] = field(default_factory=dict)
    extracts: int = 0
    other_loads: int = 0
    newest_extract: tuple[int, str] | None = None
    last_run: int = 0
    running: int = 0

    @property
    def is_first(self) -> bool:
        """Whether no change of the table was ever loaded."""
        return self.state is None or self.state.high_effective is None


def _arm(what: str, numbers: tuple[str, ...], texts: tuple[str, ...], rows: str) -> str:
    """One part of the query: up to three numbers and four texts of each row."""
    items = [f"'{what}' AS what"]
    items += [f"CAST({value} AS BIGINT) AS number_{n}" for n, value in enumerate((*numbers, *["NULL"] * 3)[:3])]
    items += [f"CAST({value} AS TEXT) AS text_{n}" for n, value in enumerate((*texts, *["NULL"] * 4)[:4])]
    return f"SELECT {', '.join(items)} {rows}"


_RUNS, _OF_TABLE = place("runs"), "table_name = :table_name"
_LAST_RUN = f"""GREATEST(
  (SELECT COALESCE(max(run), 0) FROM {_RUNS}), (SELECT max(last_run) FROM {place("schema_version")}))"""
_RUNNING = f"(SELECT count(*) FROM {_RUNS} WHERE {_OF_TABLE} AND state = 'running')"
_LOADED = f"r.{_OF_TABLE} AND r.state = 'done' AND r.kind IN {LOADS!r} AND {COUNTS}"
_QUERY = "\nUNION ALL ".join(
    (
        _arm("ledger", (_LAST_RUN, _RUNNING), (), ""),
        _arm(
            "table", ("t.last_key", "t.row_count", "t.current_keys"),
            ("t.columns", "t.rules", "t.high_order", "t.high_effective"), f"FROM {place('tables')} t WHERE t.{_OF_TABLE}",
        ),
        _arm("column set", ("s.column_set",), ("s.columns",), f"FROM {place('column_sets')} s WHERE s.{_OF_TABLE}"),
        _arm(
            "reverted", ("w.run", "w.reverted_by"), (),
            f"FROM {place('reverted_runs')} w WHERE w.{_OF_TABLE} AND w.undone_by IS NULL",
        ),
        _arm("loads", ("count(*)",), ("r.kind",), f"FROM {_RUNS} r WHERE {_LOADED} GROUP BY r.kind"),
        _arm(
            "newest extract", ("e.run",), ("e.window_high",),
            f"FROM {_RUNS} e WHERE e.run = (SELECT max(r.run) FROM {_RUNS} r WHERE {_LOADED} AND r.kind = 'full_extract' "
            "AND r.feed = :feed)",
        ),
    )
)  # fmt: skip


class Memories(Entries[H]):
    """What the ledger knows of each table."""

    def read_memory(self, table: str, feed: str = "") -> LoadMemory:
        """What the ledger knows of a table; the newest extract is that of a ``feed``."""
        if not self.exists():
            return LoadMemory()
        found: dict[str, list[Mapping[str, Any]]] = {}
        for row in self._rows(_QUERY, {"table_name": table, "feed": feed}):
            found.setdefault(row["what"], []).append(row)
        kinds = {row["text_0"]: int(row["number_0"]) for row in found.get("loads", ())}
        extracts = kinds.pop("full_extract", 0)
        (ledger,) = found["ledger"]
        newest = [(int(row["number_0"]), str(row["text_0"])) for row in found.get("newest extract", ())]
        return LoadMemory(
            has_ledger=True,
            state=next((_state_of(row, found.get("column set", [])) for row in found.get("table", ())), None),
            reverted={int(row["number_0"]): int(row["number_1"]) for row in found.get("reverted", ())},
            extracts=extracts,
            other_loads=sum(kinds.values()),
            newest_extract=newest[0] if newest else None,
            last_run=int(ledger["number_0"]),
            running=int(ledger["number_1"]),
        )

    def state(self, table: str) -> TableState | None:
        """What is known of a table; None when Brenvik never made it."""
        return self.read_memory(table).state

    def newest_extract(self, table: str, feed: str) -> tuple[int, str] | None:
        """The run and the time of the newest extract that a feed has loaded, and that is not reverted."""
        return self.read_memory(table, feed).newest_extract


def _state_of(row: Mapping[str, Any], column_sets: list[Mapping[str, Any]]) -> TableState:
    last_key, row_count, current_keys = (int(row[f"number_{n}"]) for n in range(3))
    columns, rules, high_order, high_effective = (row[f"text_{n}"] for n in range(4))
    stored = json.loads(columns)
    return TableState(
        columns=tuple(Column(name, parse_type(kind), role) for name, kind, role in stored["columns"]),
        effective_type=parse_type(stored["effective_type"]),
        rules=json.loads(rules),
        high_order=tuple(json.loads(high_order)) if high_order else None,
        high_effective=high_effective,
        last_key=last_key,
        row_count=row_count,
        current_keys=current_keys,
        column_sets={int(each["number_0"]): tuple(json.loads(each["text_0"])) for each in column_sets},
        numbered_by_store=stored.get("numbered_by_store", False),
    )
