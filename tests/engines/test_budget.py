"""How often a run calls DuckDB: each call costs a millisecond or more, however few rows it is about.

The call that begins a transaction, and drops what earlier runs have left, takes a tenth of that; it is not counted.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import duckdb
import pytest

import brenvik
from brenvik.feeds.files import FileSource
from sources import load_from

RULES = brenvik.TableRules("buoy", natural_key="code", order_by="at", types={"at": "integer"})
CODES = brenvik.Operations("op")


class Counting:
    """A connection that counts what it is asked to run."""

    def __init__(self, connection: Any) -> None:
        self._connection = connection
        self.statements: list[str] = []

    def __getattr__(self, name: str) -> Any:
        method = getattr(self._connection, name)
        if name not in ("execute", "sql", "begin", "commit", "rollback"):
            return method

        def counting(*words: Any, **more: Any) -> Any:
            said = words[0] if words else name
            text = said.query if isinstance(said, duckdb.Statement) else str(said)
            if not text.endswith("BEGIN"):
                self.statements.append(text)
            return method(*words, **more)

        return counting


@contextmanager
def counting(store: brenvik.Store) -> Iterator[list[str]]:
    engine: Any = store.engine
    whole, engine._connection = engine._connection, Counting(engine._connection)
    try:
        yield engine._connection.statements
    finally:
        engine._connection = whole


@pytest.fixture
def store(tmp_path: Path) -> Iterator[brenvik.Store]:
    with brenvik.open_store(f"duckdb:{tmp_path / 'coast.duckdb'}") as opened:
        yield opened


def load(store: brenvik.Store, folder: Path, name: str, *rows: str) -> brenvik.Outcome:
    (folder / name).write_text("\n".join(["op,code,at,name,light", *rows]) + "\n")
    return look(store, folder)


def look(store: brenvik.Store, folder: Path) -> brenvik.Outcome:
    source = FileSource("*.csv", folder=folder, name="files", kind="changes")
    return load_from(store, RULES, source, operations=CODES)


def test_no_run_makes_more_calls_than_it_may(store: brenvik.Store, tmp_path: Path) -> None:
    spent = {}
    with counting(store) as statements:
        load(store, tmp_path, "1.csv", "I,A,1,a,Q", "I,B,2,b,Q")
    spent["first"] = list(statements)
    load(store, tmp_path, "2.csv", "U,A,3,a,F", "U,B,4,b,F")
    with counting(store) as statements:
        outcome = load(store, tmp_path, "3.csv", "U,A,5,a,Iso", "I,C,6,c,Q", "U,B,7,b,F")
    assert (outcome.counts["versioned"], outcome.counts["inserted"], outcome.counts["unchanged"]) == (1, 1, 1)
    spent["plain"] = list(statements)
    with counting(store) as statements:
        assert look(store, tmp_path).state == "nothing new"
    spent["nothing new"] = list(statements)
    with counting(store) as statements:
        late = load(store, tmp_path, "4.csv", "U,A,2,a,L", "U,B,8,b,Oc", "U,B,9,b,VQ", "U,C,10,c,F")
    assert late.counts["versioned"] == 4
    spent["late"] = list(statements)
    with counting(store) as statements:
        store.revert(RULES, late.run or 0)
    spent["revert"] = list(statements)
    most = {"nothing new": 3, "plain": 16, "first": 22, "late": 24, "revert": 24}
    over = {kind: spent[kind] for kind, limit in most.items() if len(spent[kind]) > limit}
    assert not over, "\n".join(
        f"{kind}: {len(those)} calls\n" + "\n".join(" ".join(text.split())[:150] for text in those)
        for kind, those in over.items()
    )
