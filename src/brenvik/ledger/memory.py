"""All that a run must know of its table, read with one query while the table is locked."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from brenvik.ledger.entries import Entries, H
from brenvik.ledger.records import TableState
from brenvik.ledger.schema import COUNTS, ERASE, LOADS, TRIM, place
from brenvik.merge import sql
from brenvik.merge.schema import Column
from brenvik.model.types import parse_type


@dataclass(frozen=True)
class LoadMemory:
    """What the ledger knows of a table.

    ``state`` is None for a table that was never loaded. ``reverted`` maps reverted runs to the runs that reverted them.
    ``extracts`` and ``other_loads`` count the active loads of each kind, ``erased`` the runs that erased keys, ``trims`` those
    that trimmed the change log; ``newest_extract`` is the run and time (as text) of the feed's newest extract, for a load of one.
    ``last_run`` is the highest number of any run; ``running`` counts the table's runs without an outcome.
    """

    has_ledger: bool = False
    state: TableState | None = None
    reverted: Mapping[int, int] = field(default_factory=dict)
    extracts: int = 0
    other_loads: int = 0
    erased: int = 0
    trims: int = 0
    newest_extract: tuple[int, str] | None = None
    last_run: int = 0
    running: int = 0

    @property
    def is_first(self) -> bool:
        """Whether no change of the table was ever loaded."""
        return self.state is None or self.state.high_effective is None


_RUNS, _OF_TABLE = place("runs"), "table_name = :table_name"
_EXTRACT = "r.state = 'done' AND r.kind = 'full_extract'"


def _part(what: str, rows: str, numbers: tuple[str, ...], texts: tuple[str, ...] = ()) -> str:
    """One part of the query: three numbers and four texts of each row, null where there are fewer."""
    items = [f"'{what}' AS what"]
    items += [f"{value} AS number_{n}" for n, value in enumerate((*numbers, *["NULL"] * 3)[:3])]
    items += [f"{value} AS text_{n}" for n, value in enumerate((*texts, *["NULL"] * 4)[:4])]
    return f"SELECT {', '.join(items)} FROM {rows}"


# Each part reads one table: joins, casts and conditional sums would take longer than all else. The first says the types.
_QUERY = "\nUNION ALL ".join(
    (
        _part(
            "table", f"{place('tables')} WHERE {_OF_TABLE}",
            ("last_key", "row_count", "current_keys"), ("columns", "rules", "high_order", "high_effective"),
        ),
        _part("column set", f"{place('column_sets')} WHERE {_OF_TABLE}", ("column_set",), ("columns",)),
        _part("runs", f"{_RUNS} WHERE {_OF_TABLE} GROUP BY state, kind", ("count(*)",), ("state", "kind")),
        _part("reverted", f"{place('reverted_runs')} WHERE {_OF_TABLE} AND undone_by IS NULL", ("run", "reverted_by")),
        _part("last run", _RUNS, ("max(run)",)),
        _part("last run", place("schema_version"), ("max(last_run)",)),
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
        runs = Counter({(row["text_0"], row["text_1"]): int(row["number_0"]) for row in found.get("runs", [])})
        reverted = {int(row["number_0"]): int(row["number_1"]) for row in found.get("reverted", [])}
        active = Counter({kind: runs["done", kind] for kind in (*LOADS, ERASE)}) - self._reverted_kinds(table, reverted)
        erased = active.pop(ERASE, 0)
        return LoadMemory(
            has_ledger=True,
            state=_state_of(found["table"][0], found.get("column set", [])) if "table" in found else None,
            reverted=reverted,
            extracts=active["full_extract"],
            other_loads=active.total() - active["full_extract"],
            erased=erased,
            trims=runs["done", TRIM],
            last_run=max(int(row["number_0"] or 0) for row in found["last run"]),
            running=sum(n for (state, _), n in runs.items() if state == "running"),
        )

    def _reverted_kinds(self, table: str, reverted: Mapping[int, int]) -> Counter[str]:
        """How many runs of each kind are reverted."""
        if not reverted:
            return Counter()
        kinds = self._rows(
            f"SELECT r.kind FROM {place('reverted_runs')} w JOIN {_RUNS} r ON r.run = w.run AND r.state = 'done' "
            f"WHERE w.{_OF_TABLE} AND w.undone_by IS NULL",
            {"table_name": table},
        )
        return Counter(row["kind"] for row in kinds)

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

    def loaded_windows(self, table: str, feed: str) -> list[tuple[int, str | None, str]]:
        """The windows (low, high] that a feed has loaded and that are not reverted, as text, each after its run."""
        if not self.exists():
            return []
        found = self._rows(
            f"SELECT r.run, r.window_low, r.window_high FROM {_RUNS} r WHERE r.{_OF_TABLE} AND r.feed = :feed "
            f"AND r.state = 'done' AND r.window_high IS NOT NULL AND {COUNTS} ORDER BY r.run",
            {"table_name": table, "feed": feed},
        )
        return [(row["run"], row["window_low"], row["window_high"]) for row in found]

    def other_feeds(self, table: str, feed: str) -> list[str]:
        """The names of all other feeds that a table has loaded and that are not reverted."""
        if not self.exists():
            return []
        found = self._rows(
            f"SELECT DISTINCT r.feed FROM {_RUNS} r WHERE r.{_OF_TABLE} AND r.state = 'done' AND r.feed <> :feed AND {COUNTS} "
            f"AND r.kind IN ({', '.join(map(sql.literal, LOADS))}) ORDER BY r.feed",
            {"table_name": table, "feed": feed},
        )
        return [row["feed"] for row in found]


def _state_of(row: Mapping[str, Any], column_sets: list[Mapping[str, Any]]) -> TableState:
    """The state of a table, and its column sets."""
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
