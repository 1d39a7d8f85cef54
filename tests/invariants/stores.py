"""A store for each example."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from contextlib import AbstractContextManager, contextmanager
from functools import cache
from pathlib import Path
from tempfile import TemporaryDirectory

from scenes import Scene
from tables import shown, stored

import brenvik
from brenvik.engines.duckdb.engine import DuckDBEngine
from brenvik.engines.lakehouse.engine import LakehouseEngine
from brenvik.engines.postgres import engine as postgres_engine
from brenvik.engines.postgres.engine import PostgresEngine
from brenvik.engines.protocol import Engine
from brenvik.engines.sqlite.engine import SQLiteEngine
from counts import tried
from servers import postgres

IN_MEMORY = Path("/dev/shm") if Path("/dev/shm").is_dir() else None


@cache
def _engine(kind: str) -> Engine:
    """One connection serves all examples: opening one takes as long as a load."""
    if kind == "postgres":
        postgres_engine._WORTH_SHARING = 3  # so that larger and smaller batches are among those of some rows
        return PostgresEngine(postgres())
    if kind == "sqlite":
        return SQLiteEngine(":memory:")
    engine = DuckDBEngine(":memory:")
    engine.execute("SET threads = 1")  # tables of ten rows; the tests themselves run side by side
    return engine


def fresh(scene: Scene) -> AbstractContextManager[brenvik.Store]:
    """A store of the scene's kind with nothing in it."""
    return fresh_store(scene.store)


@contextmanager
def fresh_store(kind: str) -> Iterator[brenvik.Store]:
    """A store of a kind with nothing in it."""
    tried(kind)
    if kind == "lakehouse":
        with TemporaryDirectory(dir=IN_MEMORY) as folder, brenvik.open_store(f"lakehouse:{folder}") as store:
            store.engine.duck.execute("SET threads = 1")  # type: ignore[attr-defined]
            yield store
        return
    engine = _engine(kind)
    try:
        yield brenvik.Store(engine)
    finally:
        forget_all(engine)


def forget_all(engine: Engine) -> None:
    if isinstance(engine, SQLiteEngine):
        question = "SELECT type, name FROM sqlite_master WHERE type IN ('table', 'view') AND name <> 'sqlite_sequence'"
        found = engine.ask(question).to_pylist()
        for row in sorted(found, key=lambda row: str(row["type"]), reverse=True):
            engine._connection.execute(f'DROP {row["type"]} "{row["name"]}"')
        return
    engine.run('DROP SCHEMA IF EXISTS "brenvik" CASCADE')
    there = (
        "SELECT table_name FROM information_schema.tables "
        "WHERE table_schema IN ('main', 'public') AND table_catalog <> 'temp'"
    )
    for name in engine.ask(there)["table_name"].to_pylist():
        engine.run(f'DROP TABLE "{name}"')


def forget_ledger(store: brenvik.Store) -> None:
    """Takes all away that Brenvik remembers; the tables stay."""
    engine = store.engine
    if isinstance(engine, LakehouseEngine):
        for name in engine._lake.catalog.list_tables("brenvik"):
            engine._lake.catalog.drop_table(name)
        engine.close()
        folder = engine._lake.home.locks.parent
        shutil.rmtree(folder / "brenvik")  # files of a ledger that no catalog names are taken for damage
        store.engine = engine = LakehouseEngine(str(folder))
    elif isinstance(engine, SQLiteEngine):
        found = engine.ask(
            "SELECT type, name FROM sqlite_master WHERE name LIKE 'brenvik.%' AND type IN ('table', 'view')"
        )
        for row in sorted(found.to_pylist(), key=lambda row: str(row["type"]), reverse=True):
            engine._connection.execute(f'DROP {row["type"]} "{row["name"]}"')
    else:
        engine.run('DROP SCHEMA IF EXISTS "brenvik" CASCADE')
    store.ledger = type(store.ledger)(engine)


def everything(scene: Scene, store: brenvik.Store) -> list[str]:
    """All that stands in a table, surrogate keys and stamps included."""
    return sorted(str({name: shown(value) for name, value in row.items()}) for row in stored(scene, store))
