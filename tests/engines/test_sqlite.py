"""What is the SQLite store's own: how its work grows with a batch."""

from __future__ import annotations

import numpy as np
import pyarrow as pa

import brenvik

RULES = brenvik.TableRules("buoy", natural_key="code", order_by="at", type_1="name", other_columns="type_2")


def steps_of_loads(keys: int) -> int:
    """How many thousand steps SQLite's machine makes for two loads of three changes a key, the second one late in part."""
    dice = np.random.default_rng(1)
    size = 3 * keys
    steps = 0

    def step() -> int:
        nonlocal steps
        steps += 1
        return 0

    with brenvik.open_store("sqlite::memory:") as store:
        store.engine._connection.set_progress_handler(step, 1_000)  # type: ignore[attr-defined]
        for begin in (0, size // 2):
            values = {
                "code": np.repeat(np.arange(keys), 3),
                "at": dice.permutation(size) + begin,
                "light": pa.array([f"L{n}" for n in dice.integers(0, 3, size)]),
                "name": pa.array([f"N{n}" for n in dice.integers(0, 3, size)]),
            }
            assert store.load(RULES, pa.table(values), kind="upserts").counts["read"] == size
    return steps


def test_several_changes_a_key_cost_no_more_than_in_proportion() -> None:
    assert steps_of_loads(2_000) < 5.5 * steps_of_loads(500)
