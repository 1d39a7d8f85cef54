"""Surrogate keys that say what they are of: the same in every store, after any loads, reverts and rebuilds."""

from __future__ import annotations

import hashlib
import uuid
from dataclasses import replace
from datetime import date
from typing import Any

import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from oracle import Oracle
from scenes import ORDERED, Batch, Scene, cases
from tables import comparable, stored
from texts import text_of
from walks import through_every_run

import brenvik
from brenvik.errors import FeedError, RulesChanged, SchemaMismatch
from counts import share
from scripts import execute, is_lakehouse

DURABLE = "thing id"


def md5(text: str) -> str:
    return hashlib.md5(text.encode(), usedforsecurity=False).hexdigest()


def expected(scene: Scene, row: dict[str, Any]) -> str:
    """The key of a row, as the documentation has it."""
    parts = [row[name] for name in scene.declared.keys]
    parts += [row[scene.own["valid_from"] or ""]] if scene.declared.type_2 else []
    return summed(parts)


def summed(parts: list[Any]) -> str:
    sums = [md5(text_of(part)) for part in parts]
    return sums[0] if len(sums) == 1 else md5("".join(sums))


def check(scene: Scene, store: brenvik.Store, oracle: Oracle) -> None:
    rows = stored(scene, store)
    assert comparable(scene, rows) == comparable(scene, oracle.rows())
    if scene.rules.surrogate_key == "identity":
        assert len({row[scene.own["surrogate_key"] or ""] for row in rows}) == len(rows)
    for row in rows:
        assert row[DURABLE] == summed([row[name] for name in scene.declared.keys])
        if scene.rules.surrogate_key == "hash":
            assert row[scene.own["surrogate_key"] or ""] == expected(scene, row)


@settings(max_examples=share(5))
@given(cases(ORDERED, faults=False), st.data())
def test_hashed_keys_follow_from_the_row(case: tuple[Scene, list[Batch]], data: st.DataObject) -> None:
    drawn, made = case
    own = {**drawn.rules.system_columns, "durable_key": DURABLE}
    kind = data.draw(st.sampled_from(["hash", "hash", "counter", "identity"]))
    kind = "counter" if kind == "identity" and drawn.store == "lakehouse" else kind
    scene = replace(drawn, rules=replace(drawn.rules, surrogate_key=kind, system_columns=own))
    through_every_run(scene, made, data, check)


def test_hashed_keys_follow_other_rules(anywhere: brenvik.Store) -> None:
    """Another key, no versions any more, times of another type: what the sum is made of changes with a rebuild."""
    rules = brenvik.TableRules("buoy", natural_key=["code", "side"], order_by="day", surrogate_key="hash")

    def keys(of: brenvik.TableRules) -> list[str]:
        return [row["buoy_key"] for row in anywhere.read(of).to_pylist()]

    frame = pa.table({"code": ["A"], "side": ["north"], "day": [date(2024, 5, 13)], "light": ["Fl"]})
    anywhere.load(rules, frame, kind="upserts")
    assert keys(rules) == [md5(md5("A") + md5("north") + md5("2024-05-13"))]
    timed = replace(rules, types={"day": "timestamp"})
    with pytest.raises(RulesChanged, match="recompute the table"):
        anywhere.load(timed, frame, kind="upserts")
    assert anywhere.rebuild(timed).counts["rows_updated"] == 1
    assert keys(timed) == [md5(md5("A") + md5("north") + md5("2024-05-13 00:00:00"))]
    fewer = replace(timed, natural_key=["code"], type_2=["side"])
    anywhere.rebuild(fewer)
    assert keys(fewer) == [md5(md5("A") + md5("2024-05-13 00:00:00"))]
    plain = replace(fewer, type_2=[], other_columns="type_1")
    assert anywhere.rebuild(plain, preview=True).counts["rows_updated"] == 1
    anywhere.rebuild(plain)
    assert keys(plain) == [md5("A")]
    assert anywhere.rebuild(plain).counts["rows_updated"] == 0


def test_all_versions_of_a_key_share_a_durable_one(anywhere: brenvik.Store) -> None:
    rules = brenvik.TableRules(
        "buoy", natural_key=["code", "side"], order_by="no", system_columns={"durable_key": "buoy_id"}, max_deletes=None
    )

    def keys(of: brenvik.TableRules) -> list[str]:
        return [row["buoy_id"] for row in anywhere.read(of).to_pylist()]

    frame = pa.table({"code": ["A", "A"], "side": ["n", "n"], "no": [1, 2], "light": ["Fl", "Q"]})
    anywhere.load(rules, frame, kind="upserts")
    gone = pa.table({"op": ["D", "I"], "code": ["A", "A"], "side": ["n", "n"], "no": [3, 4], "light": ["Q", "Q"]})
    anywhere.load(rules, gone, kind="changes", operation="op", feed="other")
    assert keys(rules) == [md5(md5("A") + md5("n"))] * 3
    assert {row["buoy_key"] for row in anywhere.read(rules).to_pylist()} == {1, 2, 3}
    fewer = replace(rules, natural_key=["code"], type_1="side")
    anywhere.rebuild(fewer)
    assert keys(fewer) == [md5("A")] * 3


def test_random_keys_stay_with_their_rows(anywhere: brenvik.Store) -> None:
    rules = brenvik.TableRules("buoy", natural_key="code", order_by="no", surrogate_key="uuid")

    def keys() -> dict[tuple[Any, ...], str]:
        return {(row["code"], row["valid_from"]): row["buoy_key"] for row in anywhere.read(rules).to_pylist()}

    anywhere.load(rules, pa.table({"code": ["A", "B"], "no": [1, 1], "light": ["Fl", "Q"]}), kind="upserts")
    first = keys()
    assert len({*map(uuid.UUID, first.values())}) == 2
    anywhere.load(rules, pa.table({"code": ["A"], "no": [3], "light": ["Oc"]}), kind="upserts")
    anywhere.load(rules, pa.table({"code": ["A"], "no": [2], "light": ["Iso"]}), kind="upserts")
    anywhere.rebuild(rules)
    now = keys()
    assert len({*now.values()}) == 4
    assert first.items() <= now.items()


def test_keys_of_the_store_are_those_of_other_programs_as_well(anywhere: brenvik.Store) -> None:
    rules = brenvik.TableRules(
        "buoy", natural_key="code", other_columns="type_1", surrogate_key="identity", deletes="remove", max_deletes=None,
        system_columns=dict.fromkeys(("valid_from", "valid_to", "first_run", "last_run"), False)
        | dict.fromkeys(("first_loaded_at", "last_loaded_at"), False),
    )  # fmt: skip

    def load(*codes: str) -> dict[str, int]:
        anywhere.load(rules, pa.table({"code": codes, "light": ["Fl"] * len(codes)}), kind="upserts")
        return {row["code"]: row["buoy_key"] for row in anywhere.read(rules).to_pylist()}

    if is_lakehouse(anywhere):
        with pytest.raises(FeedError, match='"identity", but this store cannot number rows; expected "counter"'):
            load("A")
        return
    assert sorted(load("A", "B").values()) == [1, 2]
    execute(anywhere, "INSERT INTO buoy (code, light, is_current, is_deleted) VALUES ('X', 'Q', TRUE, FALSE)")
    keys = load("C")
    assert {"A", "B", "X", "C"} == {*keys}
    assert sorted(keys.values()) == [1, 2, 3, 4]
    anywhere.rebuild(rules, unlogged="keep")
    execute(anywhere, "DROP TABLE buoy")
    anywhere.rebuild(rules)
    again = load("D")
    assert (sorted(again), len({*again.values()})) == (["A", "B", "C", "D", "X"], 5)


def test_another_kind_of_key_is_another_table(anywhere: brenvik.Store) -> None:
    rules = brenvik.TableRules("buoy", natural_key="code", order_by="no")
    frame = pa.table({"code": ["A"], "no": [1]})
    anywhere.load(rules, frame, kind="upserts")
    for kind in ("hash", "identity"):
        if kind == "hash" or not is_lakehouse(anywhere):
            with pytest.raises(RulesChanged, match=f"surrogate_key: was 'counter', is '{kind}'"):
                anywhere.load(replace(rules, surrogate_key=kind), frame, kind="upserts")


@pytest.mark.parametrize("kind", ["hash", "uuid"])
def test_an_adopted_table_gets_such_keys(address: str, kind: Any) -> None:
    if address.startswith("lakehouse"):
        pytest.skip("its tables are adopted from other writers, see test_existing_tables")
    rules = brenvik.TableRules(
        "buoy", natural_key="code", type_1="light", other_columns="type_1", surrogate_key=kind, deletes="remove",
        system_columns={"valid_from": False, "valid_to": False, "durable_key": "buoy_id"},
    )  # fmt: skip
    with brenvik.open_store(address) as store:
        execute(store, 'CREATE TABLE "buoy" ("code" TEXT, "light" TEXT)', "INSERT INTO \"buoy\" VALUES ('A', 'Fl')")
        with pytest.raises(
            SchemaMismatch, match="buoy_key: the table has no such column; add it as an identity column"
        ):
            store.adopt(replace(rules, surrogate_key="identity"))
        store.adopt(rules)
        store.load(rules, pa.table({"code": ["B"], "light": ["Q"]}), kind="upserts")
        keys = {row["code"]: row["buoy_key"] for row in store.read(rules).to_pylist()}
        if kind == "hash":
            assert keys == {"A": md5("A"), "B": md5("B")}
        assert {row["buoy_id"] for row in store.read(rules).to_pylist()} == {md5("A"), md5("B")}
        assert len({*keys.values()}) == 2
        assert None not in keys.values()
