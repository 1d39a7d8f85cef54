"""Without kept changes: loaded in order, the table is the oracle's, and old batches that come again touch nothing."""

from __future__ import annotations

import random
from typing import Any

import pyarrow as pa
import pytest
from oracle import Declared, Oracle
from stores import fresh_store

import brenvik
from counts import STORES


def some_rules(dice: random.Random) -> brenvik.TableRules:
    roles: dict[str, Any] = {role: role for role in ("type_0", "type_1", "type_2") if dice.random() < 0.6}
    return brenvik.TableRules(
        "buoy",
        natural_key="code",
        order_by="at",
        **(roles or {"type_2": "type_2"}),
        change_log=False,
        max_deletes=None,
        other_columns="type_1",
    )


def some_batches(dice: random.Random, values: tuple[str, ...]) -> list[list[dict[str, Any]]]:
    at, made = 0, []
    for _ in range(5):
        rows = []
        for _ in range(dice.randint(1, 5)):
            at += 1
            said = {name: dice.choice([None, "1", "2"]) for name in values}
            rows.append({"op": dice.choice("IUUUD"), "code": dice.choice("AB"), "at": at, **said})
        made.append(rows)
    return made


@pytest.mark.parametrize("kind", STORES)
@pytest.mark.parametrize("seed", range(20))
def test_old_batches_that_come_again_touch_nothing(seed: int, kind: str) -> None:
    dice = random.Random(seed)
    rules = some_rules(dice)
    values = (*rules.type_0, *rules.type_1, *rules.type_2)
    batches = some_batches(dice, values)
    oracle = Oracle(Declared(("code",), ("at",), "at", rules.type_0, rules.type_1, rules.type_2, "close"))

    def frame(rows: list[dict[str, Any]]) -> pa.Table:
        types = {name: pa.int64() if name == "at" else pa.string() for name in rows[0]}
        return pa.table({name: pa.array([row[name] for row in rows], kind) for name, kind in types.items()})

    with fresh_store(kind) as store:
        for rows in batches:
            store.load(rules, frame(rows), kind="changes", operation="op")
            oracle.load(rows)
        before = store.read(rules)
        names = ("code", *values, "valid_from", "valid_to", "is_deleted")
        told = [str([row[name] for name in names]) for row in before.to_pylist()]
        assert sorted(told) == sorted(str([row[name] for name in names]) for row in oracle.rows())
        for rows in dice.sample(batches, 3):
            outcome = store.load(rules, frame(rows), kind="changes", operation="op")
            assert any("spliced into the stored versions" in note for note in outcome.notes)
            assert store.read(rules).equals(before)
