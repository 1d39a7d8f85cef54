"""All that a run must know of its table, read with one query while the table is locked."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from brenvik.ledger.entries import Entries, H
from brenvik.ledger.records import TableState
from brenvik.ledger.schema import COUNTS, LOADS, place
from brenvik.merge import sql
from brenvik.merge.schema import Column
from brenvik.model.types import parse_type


@dataclass(frozen=True)
class LoadMemory:
    """What the ledger knows of a table.

    ``state`` is None for a table that was never loaded. ``reverted`` maps reverted runs to the runs that reverted them.
    ``extracts`` and ``other_loads`` count the active loads of each kind; ``newest_extract`` is the run and time (as text) of
    the feed's newest extract, for a load of one. ``last_run`` is the highest number of any run; ``running`` counts the
    table's runs without an outcome.
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
    """One part of the query: up to four numbers and five texts of each row."""
    items = [f"'{what}' AS what"]
    items += [f"CAST({value} AS BIGINT) AS number_{n}" for n, value in enumerate((*numbers, *["NULL"] * 4)[:4])]
    items += [f"CAST({value} AS TEXT) AS text_{n}" for n, value in enumerate((*texts, *["NULL"] * 5)[:5])]
    return f"SELECT {', '.join(items)} {rows}"


_RUNS, _OF_TABLE = place("runs"), "table_name = :table_name"
_LAST_RUN = f"""GREATEST(
  (SELECT COALESCE(max(run), 0) FROM {_RUNS}), (SELECT max(last_run) FROM {place("schema_version")}))"""


_EXTRACT = "r.state = 'done' AND r.kind = 'full_extract'"
_OTHER = f"r.state = 'done' AND r.kind IN {tuple(kind for kind in LOADS if kind != 'full_extract')!r}"
_QUERY = "\nUNION ALL ".join(
    (
        _arm(
            "runs", (_LAST_RUN, sql.count_if("r.state = 'running'"), sql.count_if(_EXTRACT), sql.count_if(_OTHER)), (),
            f"FROM {_RUNS} r WHERE r.{_OF_TABLE}",
        ),
        _arm(
            "table", ("t.last_key", "t.row_count", "t.current_keys", "s.column_set"),
            ("t.columns", "t.rules", "t.high_order", "t.high_effective", "s.columns"),
            f"FROM {place('tables')} t LEFT JOIN {place('column_sets')} s ON s.table_name = t.table_name WHERE t.{_OF_TABLE}",
        ),
        _arm(
            "reverted", ("w.run", "w.reverted_by"), ("r.kind",),
            f"FROM {place('reverted_runs')} w LEFT JOIN {_RUNS} r ON r.run = w.run AND r.state = 'done' "
            f"WHERE w.{_OF_TABLE} AND w.undone_by IS NULL",
        ),
    )
)  # fmt: skip


class Memories(Entries[H]):
    """What the ledger knows of each table."""

    def read_memory(self, table: str) -> LoadMemory:
        """What the ledger knows of a table; its newest extract is another question."""
        if not self.exists():
            return LoadMemory()
        found: dict[str, list[Mapping[str, Any]]] = {}
        for row in self._rows(_QUERY, {"table_name": table}):
            found.setdefault(row["what"], []).append(row)
        (runs,) = found["runs"]
        last_run, running, extracts, others = (int(runs[f"number_{n}"]) for n in range(4))
        reverted = found.get("reverted", [])
        reverted_extracts = sum(row["text_0"] == "full_extract" for row in reverted)
        return LoadMemory(
            has_ledger=True,
            state=_state_of(found["table"]) if "table" in found else None,
            reverted={int(row["number_0"]): int(row["number_1"]) for row in reverted},
            extracts=extracts - reverted_extracts,
            other_loads=others - sum(row["text_0"] in LOADS for row in reverted) + reverted_extracts,
            last_run=last_run,
            running=running,
        )

    def state(self, table: str) -> TableState | None:
        """What is known of a table; None when Brenvik never made it."""
        return self.read_memory(table).state

    def newest_extract(self, table: str, feed: str) -> tuple[int, str] | None:
        """The run and the time of the newest extract that a feed has loaded, and that is not reverted."""
        found = self._rows(
            f"SELECT r.run, r.window_high FROM {_RUNS} r WHERE r.{_OF_TABLE} AND {_EXTRACT} AND {COUNTS} AND r.feed = :feed "
            "ORDER BY r.run DESC LIMIT 1",
            {"table_name": table, "feed": feed},
        )
        return (found[0]["run"], found[0]["window_high"]) if found else None


def _state_of(rows: list[Mapping[str, Any]]) -> TableState:
    """The state of a table, of one row for each of its column sets."""
    row = rows[0]
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
        column_sets={int(each["number_3"]): tuple(json.loads(each["text_4"])) for each in rows if each["text_4"]},
        numbered_by_store=stored.get("numbered_by_store", False),
    )
