"""Columns that are written with what happens to a row."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from oracle import Oracle
from scenes import ORDERED, Batch, Scene, cases
from tables import comparable, stored
from walks import through_every_run

import brenvik
from brenvik.errors import FeedError, RulesError, SchemaMismatch
from counts import share
from scripts import execute, is_lakehouse

STAMPS: dict[str, dict[str, str]] = {
    "made in": {"added": "run"},
    "made by": {"added": "'feed ' || feed", "overwritten": "'feed ' || feed"},
    "how it ended": {"closed": "'closed'", "deleted": "'deleted'"},
}


def check(scene: Scene, store: brenvik.Store, oracle: Oracle) -> None:
    """Stamps say of each row what its other columns say."""
    rows = stored(scene, store)
    assert comparable(scene, rows) == comparable(scene, oracle.rows())
    for row in rows:
        assert row["made in"] == row["first_run"]
        assert row["made by"].startswith("feed ")
        ended = "deleted" if row["is_deleted"] else None if row["is_current"] else "closed"
        assert row["how it ended"] == ended, row


@settings(max_examples=share(5))
@given(cases(ORDERED, faults=False), st.data())
def test_they_agree_with_the_row_after_every_run(case: tuple[Scene, list[Batch]], data: st.DataObject) -> None:
    drawn, made = case
    rules = replace(drawn.rules, stamps=STAMPS, system_columns={})  # type: ignore[arg-type]
    scene = replace(drawn, rules=rules)
    through_every_run(scene, made, data, check)


RULES = brenvik.TableRules("buoy", natural_key="code", order_by="no", type_1="name")


def frame(*rows: tuple[str, int, str, str]) -> pa.Table:
    return pa.table(dict(zip(("code", "no", "light", "name"), map(list, zip(*rows, strict=True)), strict=True)))


def test_a_table_gets_them_when_they_are_declared(anywhere: brenvik.Store) -> None:
    anywhere.load(RULES, frame(("A", 1, "Q", "x"), ("B", 1, "Q", "x")), kind="upserts")
    stamped = replace(
        RULES, stamps={"seen": {"added": "loaded_at", "overwritten": "loaded_at"}, "why": {"closed": "'newer'"}}
    )
    assert anywhere.preview(stamped, frame(("A", 2, "Fl", "x")), kind="upserts").counts["versioned"] == 1
    anywhere.load(stamped, frame(("A", 2, "Fl", "x"), ("B", 3, "Q", "y")), kind="upserts")
    found = {(row["code"], row["valid_from"]): row for row in anywhere.read(stamped).to_pylist()}
    assert [row["why"] for row in found.values()].count("newer") == 1
    assert found["A", 1]["why"] == "newer"
    assert found["A", 1]["seen"] is None
    assert found["A", 2]["seen"] == found["A", 2]["last_loaded_at"]
    assert found["B", 1]["seen"] == found["B", 1]["last_loaded_at"]
    further = replace(stamped, stamps={**stamped.stamps, "by": {"added": "feed", "overwritten": "run || ''"}})
    anywhere.revert(further, 2)
    assert [(row["why"], row["by"]) for row in anywhere.read(further).to_pylist() if row["code"] == "A"] == [
        (None, None)
    ]
    anywhere.load(RULES, frame(("A", 5, "Iso", "x")), kind="upserts")  # no longer declared, and left alone
    anywhere.load(further, frame(("A", 6, "Oc", "x")), kind="upserts", feed="registry")
    assert {row["by"] for row in anywhere.read(further).to_pylist() if row["valid_from"] == 6} == {"registry"}


@pytest.mark.parametrize("deletes", ["close", "review"])
def test_keys_that_an_extract_lacks_are_stamped(anywhere: brenvik.Store, deletes: Any) -> None:
    note: dict[Any, str] = {"added": "'open'", "closed": "'replaced'", "deleted": "'not in the register'"}
    rules = brenvik.TableRules("keeper", natural_key="code", deletes=deletes, max_deletes=None, stamps={"note": note})

    def load(day: int, **lights: str) -> list[tuple[str, str]]:
        rows = pa.table({"code": [*lights], "light": [*lights.values()]})
        anywhere.load(rules, rows, kind="full_extract", at=f"2024-05-{day:02}")
        if anywhere.pending_deletes(rules).num_rows:
            anywhere.approve_deletes(rules, every=True)
        return sorted((row["code"], row["note"]) for row in anywhere.read(rules).to_pylist())

    assert load(1, A="Q", B="Q") == [("A", "open"), ("B", "open")]
    assert load(2, A="Fl") == [("A", "open"), ("A", "replaced"), ("B", "not in the register")]
    last = [("A", "open"), ("A", "replaced"), ("B", "not in the register"), ("B", "open")]
    assert load(3, A="Fl", B="Q") == last


def test_an_adopted_table_gets_them(address: str) -> None:
    rules = brenvik.TableRules(
        "buoy", natural_key="code", type_1="light", other_columns="type_1", deletes="remove",
        stamps={"by": {"added": "feed"}, "note": {"overwritten": "'changed'"}},
    )  # fmt: skip
    with brenvik.open_store(address) as store:
        if is_lakehouse(store):
            pytest.skip("its tables are adopted from other writers, see test_existing_tables")
        execute(
            store,
            'CREATE TABLE "buoy" ("code" TEXT, "light" TEXT, "valid_from" TIMESTAMP, "valid_to" TIMESTAMP, "note" TEXT)',
        )
        execute(store, "INSERT INTO \"buoy\" VALUES ('A', 'Fl', '2024-05-01 00:00:00', NULL, 'old')")
        wrong = replace(rules, stamps={"note": {"added": "run"}})
        with pytest.raises(SchemaMismatch, match=r"note: is .*; the stamp is integer"):
            store.adopt(wrong)
        store.adopt(rules)
        store.load(rules, pa.table({"code": ["A", "B"], "light": ["Q", "Q"]}), kind="upserts", feed="registry")
        found = {row["code"]: (row["by"], row["note"]) for row in store.read(rules).to_pylist()}
        assert found == {"A": (None, "changed"), "B": ("registry", None)}


def test_what_they_cannot_be_is_told(anywhere: brenvik.Store) -> None:
    with pytest.raises(
        RulesError, match=r"stamps.note.added: light is not known here; expected run, feed, loaded_at or"
    ):
        replace(RULES, stamps={"note": {"added": "light"}})
    with pytest.raises(RulesError, match=r"stamps\.note"):
        replace(RULES, stamps={"note": {"erased": "run"}})  # type: ignore[dict-item]
    with pytest.raises(RulesError, match="'valid_from' would be the name of 2 columns"):
        replace(RULES, stamps={"valid_from": {"added": "run"}})
    for stamps, told in (
        ({"note": {"added": "run", "closed": "feed"}}, "stamps.note: is integer and text; expected values of one type"),
        ({"light": {"added": "run"}}, "light is also the name of a stamp"),
    ):
        with pytest.raises(FeedError, match=told):
            anywhere.load(replace(RULES, stamps=stamps), frame(("A", 1, "Q", "x")), kind="upserts")  # type: ignore[arg-type]
