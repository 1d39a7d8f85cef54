"""Statements that someone runs in a store by hand."""

from __future__ import annotations

import re
from typing import Any

import brenvik
from brenvik.engines.lakehouse.engine import LakehouseEngine
from brenvik.merge.sql import translate

_ABOUT = re.compile(r"(?:TABLE|INTO|FROM|UPDATE) (\w+)")


def execute(store: brenvik.Store, statement: str) -> None:
    """Runs a statement as it stands; in a lakehouse, which has none, it becomes a snapshot."""
    engine: Any = store.engine
    if isinstance(engine, LakehouseEngine):
        about = _ABOUT.search(statement)
        assert about
        with engine.transaction(brenvik.TableRules(about[1], natural_key="any")):
            engine.run(translate(statement, "postgres"))  # which quotes the names
    elif engine.dialect == "duckdb":
        engine._execute(statement, None)
    else:
        engine._execute(statement)


def is_lakehouse(store: brenvik.Store) -> bool:
    return isinstance(store.engine, LakehouseEngine)
