"""A shuffled, repeating feed at scale gives the oracle's table."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa
from oracle import Declared, Oracle

import brenvik

CHANGES = 100_000


def feed(changes: int) -> pa.Table:
    """Changes of a fifth as many keys, no two of a key at one time, shuffled, five in a hundred repeated."""
    dice = np.random.default_rng(11)
    words = pa.array(["on station", "adrift", "in dock", None])
    table = pa.table(
        {
            "op": pa.array(["I", "U", "U", "U", "U", "U", "U", "U", "U", "D"]).take(
                pa.array(dice.integers(0, 10, changes))
            ),
            "code": pa.array(dice.integers(0, changes // 5, changes)),
            "at": pa.array(dice.permutation(changes)),
            "since": pa.array(dice.integers(0, 3, changes), mask=dice.random(changes) < 0.2),
            "name": words.take(pa.array(dice.integers(0, 4, changes))),
            "status": words.take(pa.array(dice.integers(0, 4, changes))),
        }
    )
    repeated = dice.choice(changes, changes // 20, replace=False)
    return table.take(pa.array(dice.permutation(np.concatenate([np.arange(changes), repeated]))))


def test_a_shuffled_feed_in_ten_batches_gives_the_table_of_the_oracle() -> None:
    rules = brenvik.TableRules(
        "buoy", natural_key="code", order_by="at", type_0="since", type_1="name", type_2="status"
    )
    table = feed(CHANGES)
    size = -(-len(table) // 10)
    duplicates = 0
    with brenvik.open_store("duckdb::memory:") as store:
        for start in range(0, len(table), size):
            outcome = store.load(rules, table.slice(start, size), kind="changes", operation="op")
            duplicates += outcome.counts["duplicate"]
        names = ("code", "since", "name", "status", "valid_from", "valid_to", "is_deleted")
        stored = {tuple(row.values()) for row in store.read(rules).select(names).to_pylist()}
        size_of_table = store.read(rules).num_rows
    assert duplicates == CHANGES // 20

    declared = Declared(("code",), ("at",), "at", ("since",), ("name",), ("status",), "close")
    oracle = Oracle(declared)
    expected: set[tuple[Any, ...]] = set()
    by_key: dict[Any, list[dict[str, Any]]] = {}
    for row in table.to_pylist():
        by_key.setdefault(row["code"], []).append(row)
    for rows in by_key.values():
        oracle.kept.clear()
        oracle.load(rows)
        expected |= {tuple(row[name] for name in names) for row in oracle.rows()}
    assert size_of_table == len(stored) == len(expected)
    assert stored == expected
