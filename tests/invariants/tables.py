"""A table's rows, brought into the form in which they are compared."""

from __future__ import annotations

from typing import Any

from oracle import plain
from scenes import Scene

import brenvik
from brenvik.engines.lakehouse.engine import LakehouseEngine


def shown(value: Any) -> str:
    return repr(plain(value))


def stored(scene: Scene, store: brenvik.Store) -> list[dict[str, Any]]:
    rows = store.read(scene.rules).to_pylist()
    if isinstance(store.engine, LakehouseEngine) and store.engine.has_table(scene.rules.stored_as):
        assert sorted(map(told, rows)) == sorted(map(told, read_by_others(store.engine, scene.rules.stored_as)))
    return rows


def told(row: dict[str, Any]) -> str:
    return str({name: shown(value) for name, value in row.items()})


def read_by_others(engine: LakehouseEngine, name: str) -> list[dict[str, Any]]:
    """A table of files as a reader that is not ours reads it."""
    space, _, table = name.rpartition(".")
    return engine._lake.catalog.load_table((space or "main", table)).scan().to_arrow().to_pylist()


def decided(outcome: brenvik.Outcome) -> list[dict[str, Any]]:
    """What a run decided on the changes that it kept."""
    return [row for row in outcome.decisions().to_pylist() if row["decision"] not in {"duplicate", "rejected"}]


def check_decided_again(scene: Scene, store: brenvik.Store, runs: dict[int, list[dict[str, Any]]]) -> None:
    """What each of all the loads decided is what is worked out again today, run by run and key by key."""
    for run, expected in runs.items():
        assert repr(store.decisions(scene.rules, run).to_pylist()) == repr(expected)
    told = [(run, row) for run, rows in runs.items() for row in rows]
    for key in {repr(row["key"]): row["key"] for _, row in told}.values():
        story = [(row["run"], {name: row[name] for name in told[0][1]}) for row in store.change_log(scene.rules, key)]
        assert repr(story) == repr([(run, row) for run, row in told if repr(row["key"]) == repr(key)])


def comparable(scene: Scene, rows: list[dict[str, Any]], *, forms: bool = True) -> list[tuple[str, ...]]:
    """Rows of the oracle or of the table: keys, values, and what the table has of start, end and deletion; without ``forms`` only
    what of each value is compared."""
    own, d = scene.own, scene.declared
    columns = {**{name: name for name in (*d.keys, *d.values)}, **{before: name for name, before in d.type_3.items()}}
    made = []
    for row in rows:
        parts = [shown(row[name]) if forms else str(d.form(of, row[name])) for name, of in columns.items()]
        for name in ("valid_from", "valid_to", "is_deleted"):
            if own[name] is None:
                continue
            value = row[name] if name in row and own[name] not in row else row[own[name]]
            if name == "valid_to" and scene.rules.open_end is not None and str(value)[:10] == "9999-12-31":
                value = None
            parts.append(shown(value))
        made.append(tuple(parts))
    return sorted(made)
