"""A store for each example."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from scenes import TABLE, Scene
from tables import shown, stored

import brenvik
from brenvik.stores.duckdb import DuckDBEngine

_engine = DuckDBEngine(":memory:")
_engine.run("SET threads = 1")  # tables of ten rows; the tests themselves run side by side


@contextmanager
def fresh() -> Iterator[brenvik.Store]:
    """A store with nothing in it. One connection serves all examples: opening one takes as long as a load."""
    store = brenvik.Store(_engine)
    try:
        yield store
    finally:
        _engine.run('DROP SCHEMA IF EXISTS "brenvik" CASCADE')
        _engine.run(f'DROP TABLE IF EXISTS "{TABLE}"')


def everything(scene: Scene, store: brenvik.Store) -> list[str]:
    """All that stands in a table, surrogate keys and stamps included."""
    return sorted(str({name: shown(value) for name, value in row.items()}) for row in stored(scene, store))
