"""Tables without a natural key: rows are appended once, and go only when their run is reverted."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field
from datetime import datetime
from decimal import Decimal
from typing import Any

import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from oracle import plain
from scenes import DRAWN
from stores import fresh_store

import brenvik
from brenvik.errors import DeclarationError, RulesChanged, RulesError, SchemaMismatch
from counts import share
from scripts import execute, is_lakehouse

Row = dict[str, Any]
COLUMNS = {
    "buoy": pa.string(),
    "seen": pa.string(),  # declared as an integer
    "volts": pa.float64(),
    "depth": pa.decimal128(5, 2),
    "at": pa.timestamp("us"),
}


@dataclass
class Appended:
    """What a table must hold, worked out with lists and loops."""

    drops: bool
    rows: list[tuple[int, Row]] = field(default_factory=list)
    open_rejects: set[tuple[Any, ...]] = field(default_factory=set)

    def load(self, run: int, rows: list[Row]) -> list[str]:
        told = []
        for row in rows:
            content = tuple(map(plain, row.values()))
            if row["seen"] == "often":
                told.append("duplicate" if content in self.open_rejects else "rejected")
                self.open_rejects.add(content)
            elif self.drops and any(content == tuple(map(plain, its.values())) for _, its in self.rows):
                told.append("duplicate")
            else:
                told.append("inserted")
                self.rows.append((run, row))
        return told

    def revert(self, runs: set[int]) -> None:
        self.rows = [(run, row) for run, row in self.rows if run not in runs]


def rows_of(store: str) -> st.SearchStrategy[Row]:
    doubles = [None, 0.5, 0.0, -0.0, 1e300, *([] if store == "sqlite" else [float("nan")])]
    return st.fixed_dictionaries(
        {
            "buoy": st.sampled_from([None, "", "NB-1", "nb-1", " NB-1", "blå"]),
            "seen": st.sampled_from([None, "1", "2", "often"]),
            "volts": st.sampled_from(doubles),
            "depth": st.sampled_from([None, Decimal("1.50"), Decimal("-0.25")]),
            "at": st.sampled_from([None, datetime(2024, 5, 1), datetime(2024, 5, 1, 6, 30, 0, 5)]),
        }
    )


def frame(rows: list[Row]) -> pa.Table:
    return pa.table({name: pa.array([row[name] for row in rows], kind) for name, kind in COLUMNS.items()})


@settings(max_examples=share(5))
@given(st.sampled_from(DRAWN), st.booleans(), st.data())
def test_each_row_is_there_once_until_its_run_is_reverted(kind: str, drops: bool, data: st.DataObject) -> None:
    rules = brenvik.TableRules("sighting", exact_duplicates="drop" if drops else "keep", types={"seen": "integer"})
    oracle = Appended(drops)
    runs: list[int] = []
    batches: list[list[Row]] = []
    with fresh_store(kind) as store:
        for _ in range(data.draw(st.integers(1, 4))):
            again = bool(batches) and data.draw(st.booleans())
            rows = data.draw(st.sampled_from(batches) if again else st.lists(rows_of(kind), max_size=6))
            batches.append(rows)
            ahead = store.preview(rules, frame(rows), kind="append")
            outcome = store.load(rules, frame(rows), kind="append")
            told = oracle.load(int(outcome.run or 0), rows)
            assert outcome.decisions()["decision"].to_pylist() == told
            assert ahead.decisions().equals(outcome.decisions())
            assert ahead.counts == outcome.counts
            assert {name: n for name, n in outcome.counts.items() if n and not name.startswith("rows")} == Counter(
                told
            ) | ({"read": len(rows)} if rows else {})
            runs.append(int(outcome.run or 0))
            check(store, rules, oracle)
            if data.draw(st.integers(0, 3)) == 0:
                gone = data.draw(st.sets(st.sampled_from(runs), min_size=1))
                runs = [run for run in runs if run not in gone]
                store.revert(rules, *gone)
                oracle.revert(gone)
                check(store, rules, oracle)


def check(store: brenvik.Store, rules: brenvik.TableRules, oracle: Appended) -> None:
    """The table has the rows of the oracle in the order in which they came, each with its run; and the ledger knows how many."""
    found = store.read(rules).to_pylist()
    shown = [(row["first_run"], *(plain(_value(name, row[name])) for name in COLUMNS)) for row in found]
    expected = [
        (run, *(plain(int(row[name]) if name == "seen" and row[name] else row[name]) for name in COLUMNS))
        for run, row in oracle.rows
    ]
    assert shown == expected
    keys = [row["sighting_key"] for row in found]
    assert keys == sorted(set(keys))
    assert store.runs(last=1).to_pylist()[0]["rows_after"] == len(found)


def _value(name: str, value: Any) -> Any:
    return value if value is None or name != "depth" else Decimal(value)


RULES = brenvik.TableRules("sighting", types={"seen": "integer"})


def sightings(*rows: tuple[str | None, str | None]) -> pa.Table:
    return pa.table({"buoy": pa.array([b for b, _ in rows], pa.string()), "seen": [s for _, s in rows]})


def test_dropped_rows_are_counted_for_the_run_that_brought_them_first(anywhere: brenvik.Store) -> None:
    rules = brenvik.TableRules("sighting", exact_duplicates="drop", types={"seen": "integer"})
    first = anywhere.load(rules, sightings(("A", "1"), (None, "1"), ("A", "1")), kind="append")
    assert first.counts["duplicate"] == 1
    again = anywhere.load(rules, sightings(("A", "1"), (None, "1"), ("B", "1")), kind="append")
    assert (again.counts["inserted"], again.counts["duplicate"]) == (1, 2)
    (note, then) = anywhere.revert(rules, int(first.run or 0)).notes
    assert note.startswith("2 of its changes also came in run 2, where they were dropped as duplicates")
    assert then == "To load its rows again: brenvik load --again 1"
    assert [row["buoy"] for row in anywhere.read(rules).to_pylist()] == ["B"]


def test_what_needs_a_key_or_a_log_is_refused(anywhere: brenvik.Store) -> None:
    rows = sightings(("A", "1"))
    with pytest.raises(
        DeclarationError, match=r"has no natural key, so that rows can only be appended.*natural_key = "
    ):
        anywhere.load(RULES, rows, kind="upserts")
    keyed = brenvik.TableRules("buoy", natural_key="buoy")
    with pytest.raises(DeclarationError, match=r"has a natural key \(buoy\); kind 'append' is for tables without one"):
        anywhere.load(keyed, rows, kind="append")
    with pytest.raises(DeclarationError, match="rows that are only appended have no effective time"):
        anywhere.load(RULES, rows, kind="append", at="2024-05-01")
    anywhere.load(RULES, rows, kind="append")
    run = anywhere.runs().to_pylist()[0]["run"]
    anywhere.revert(RULES, run)
    for call, told in (
        (lambda: anywhere.revert(RULES, run, undo=True), "load them again: brenvik load --again"),
        (lambda: anywhere.rebuild(RULES), "no natural key, and so no change log"),
        (lambda: anywhere.history(RULES, "A"), "no natural key, so its rows have no history"),
        (lambda: anywhere.as_of(RULES, "2024-05-01"), "no natural key, so its rows have no history"),
        (lambda: anywhere.read(RULES, without=[run]), "no natural key, and so no change log"),
    ):
        with pytest.raises(DeclarationError, match=told):
            call()
    with pytest.raises(RulesChanged, match=r"natural_key: was \[\], is \['buoy'\]") as raised:
        anywhere.load(brenvik.TableRules("sighting", natural_key="buoy"), rows, kind="upserts")
    assert "rebuild" not in str(raised.value)
    nameless = brenvik.TableRules("noted", system_columns={"first_run": False})
    noted = anywhere.load(nameless, rows, kind="append")
    with pytest.raises(DeclarationError, match="does not say which run appended a row"):
        anywhere.revert(nameless, int(noted.run or 0))


@pytest.mark.parametrize(
    ("declared", "told"),
    [
        ({"order_by": "at"}, "order_by: needs a natural key"),
        ({"type_3": {"light": "light_before"}}, "type_3: needs a natural key"),
        ({"max_deletes": 5}, "max_deletes: needs a natural key"),
        ({"surrogate_key": "hash"}, 'surrogate_key: "hash" needs a natural key'),
        ({"system_columns": {"valid_from": "since"}}, "system_columns: valid_from needs a natural key"),
        ({"stamps": {"note": {"closed": "run"}}}, "stamps.note: closed needs a natural key"),
        ({"natural_key": "buoy", "exact_duplicates": "drop"}, "exact_duplicates: is for tables without a natural key"),
    ],
)
def test_rules_of_keys_are_refused(declared: dict[str, Any], told: str) -> None:
    with pytest.raises(RulesError, match=told):
        brenvik.TableRules("sighting", **declared)


def test_columns_are_added_renamed_and_widened(anywhere: brenvik.Store) -> None:
    anywhere.load(RULES, sightings(("A", "1")), kind="append")
    rules = brenvik.TableRules(
        "sighting", renamed={"seen": "times"}, types={"times": "decimal(10,2)"}, stamps={"by": {"added": "feed"}},
        derive={"upper_buoy": "upper(buoy)"}, reject_if={"unnamed": "buoy is null"},
    )  # fmt: skip
    further = sightings(("b", "2.5"), (None, "3")).append_column("light", pa.array(["Q", "Q"]))
    outcome = anywhere.load(rules, further, kind="append", feed="shore")
    assert (outcome.counts["inserted"], outcome.counts["rejected"]) == (1, 1)
    assert "New column light (text) is added." in outcome.notes
    found = anywhere.read(rules).to_pylist()
    assert [(row["buoy"], row["times"], row["light"], row["by"], row["upper_buoy"]) for row in found] == [
        ("A", Decimal("1.00"), None, None, None),
        ("b", Decimal("2.50"), "Q", "shore", "B"),
    ]
    (reject,) = anywhere.rejects().to_pylist()
    fixed = {reject["reject"]: {"buoy": "c", "seen": "3", "light": "Q"}}
    retried = anywhere.retry_rejects(rules, reject["reject"], kind="append", feed="shore", fixed=fixed)
    assert retried.counts["inserted"] == 1
    assert not anywhere.rejects().num_rows


@pytest.mark.parametrize("surrogate_key", ["uuid", "identity", False])
def test_surrogate_keys_are_of_every_kind(anywhere: brenvik.Store, surrogate_key: Any) -> None:
    if surrogate_key == "identity" and is_lakehouse(anywhere):
        pytest.skip("this store cannot number rows")
    own: Any = {"surrogate_key": surrogate_key} if surrogate_key else {"system_columns": {"surrogate_key": False}}
    rules = brenvik.TableRules("sighting", **own)
    for _ in range(2):
        anywhere.load(rules, sightings(("A", "1"), ("A", "1")), kind="append")
    found = anywhere.read(rules).to_pylist()
    assert len(found) == 4
    if surrogate_key:
        assert len({row["sighting_key"] for row in found}) == 4
    else:
        assert "sighting_key" not in found[0]


def test_a_table_is_adopted_with_its_rows(address: str) -> None:
    with brenvik.open_store(address) as store:
        if is_lakehouse(store):
            pytest.skip("its tables are adopted from other writers, see test_existing_tables")
        execute(store, 'CREATE TABLE "sighting" ("buoy" TEXT, "seen" BIGINT, "keyed_by" TEXT)')
        execute(store, "INSERT INTO \"sighting\" VALUES ('A', 1, 'x'), ('A', 1, 'x')")
        with pytest.raises(SchemaMismatch, match="seen"):
            store.adopt(brenvik.TableRules("sighting", types={"seen": "date"}), {"buoy": "text", "seen": "text"})
        ahead = store.adopt(RULES, {"buoy": "text", "seen": "text"}, preview=True)
        assert ahead.notes[0] == "Adoption adds sighting_key, first_run, first_loaded_at."
        adopted = store.adopt(RULES, {"buoy": "text", "seen": "text"})
        store.load(RULES, sightings(("B", "2")), kind="append")
        found = store.read(RULES).to_pylist()
        assert [(row["sighting_key"], row["buoy"], row["seen"]) for row in found] == [
            (1, "A", 1),
            (2, "A", 1),
            (3, "B", 2),
        ]
        assert [row["first_run"] == adopted.run for row in found] == [True, True, False]
