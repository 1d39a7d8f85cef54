"""Tables that a store had before Brenvik: held against their rules, and taken over."""

from __future__ import annotations

from dataclasses import replace
from datetime import datetime
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest
from cli import brenvik as call

import brenvik
from brenvik.engines.lakehouse.engine import LakehouseEngine
from brenvik.errors import BrenvikError, DeclarationError, ForeignTable, SchemaMismatch, StoreError
from brenvik.merge.table_changes import CreateTable
from scripts import execute, is_lakehouse

RULES = brenvik.TableRules(
    "buoy",
    natural_key="code",
    order_by="at",
    type_1="name",
    exclude="at",
    types={"at": "timestamp"},
    system_columns={"surrogate_key": "id", "valid_from": "since", "valid_to": "until", "is_current": False, "first_run": False,
                  "first_loaded_at": False, "last_loaded_at": False},
)  # fmt: skip
FEED = {"code": "text", "at": "timestamp", "name": "text", "light": "text"}
NUMBERED = {"postgres": "id BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY", "sqlite": "id INTEGER PRIMARY KEY"}


def day(number: int) -> datetime:
    return datetime(2024, 5, number)


def made_before(store: brenvik.Store, *rows: tuple[str, str, str, int, int | None], more: str = "") -> None:
    """A table as someone's own script keeps it: versions by name and light, a column of their own."""
    number = NUMBERED.get(store.engine.dialect, "id BIGINT DEFAULT nextval('numbers') PRIMARY KEY")
    if is_lakehouse(store):
        number = "id BIGINT"
    elif store.engine.dialect == "duckdb":
        execute(store, "CREATE SEQUENCE numbers")
    execute(
        store,
        f"CREATE TABLE buoy ({number}, code VARCHAR(8) NOT NULL, name VARCHAR(20), light VARCHAR(20), "
        f"since TIMESTAMP, until TIMESTAMP, noted VARCHAR(20) DEFAULT 'by hand'{more})",
    )
    for nth, (code, name, light, since, until) in enumerate(rows, 1):
        end = f"'{day(until)}'" if until else "NULL"
        given, values = "code, name, light, since, until", f"'{code}', '{name}', '{light}', '{day(since)}', {end}"
        if is_lakehouse(store):  # which fills no column by itself
            given, values = f"id, noted, {given}", f"{nth}, 'by hand', {values}"
        execute(store, f"INSERT INTO buoy ({given}) VALUES ({values})")


def changes(*rows: tuple[str, int, str, str]) -> pa.Table:
    codes, days, names, lights = zip(*rows, strict=True)
    return pa.table({"code": codes, "at": [day(each) for each in days], "name": names, "light": lights})


def versions(store: brenvik.Store, code: str) -> list[tuple[Any, ...]]:
    found = store.history(RULES, code).to_pylist()
    return [(row["id"], row["light"], row["since"].day, row["until"] and row["until"].day) for row in found]


THREE = (("NB-1", "Kvit", "Q", 1, 5), ("NB-1", "Kvit", "Fl", 5, None), ("NB-2", "Svart", "Q", 1, 4))


def test_a_feed_does_not_overwrite_a_column_that_was_not_adopted(anywhere: brenvik.Store) -> None:
    made_before(anywhere, *THREE)
    table = anywhere.table(RULES)
    table.adopt(FEED)
    noted = changes(("NB-1", 9, "Kvit", "Iso")).append_column("noted", pa.array(["by the feed"]))
    for call_it in (table.preview, table.load):
        with pytest.raises(SchemaMismatch, match=r"already has the column noted, .*exclude = \[\"noted\"\]"):
            call_it(noted, kind="upserts")
    assert anywhere.table(replace(RULES, exclude=("at", "noted"))).load(noted, kind="upserts").counts["versioned"] == 1


def test_a_table_that_is_loaded_already_is_not_taken_for_another(anywhere: brenvik.Store) -> None:
    rows = changes(("NB-1", 1, "Kvit", "Q"))
    anywhere.load(RULES, rows, kind="upserts")
    capabilities = anywhere.engine.capabilities
    names = [RULES.stored_as, *([f"{capabilities.home}.{RULES.stored_as}"] if capabilities.home else [])]
    names += [] if capabilities.cased else [name.upper() for name in names]
    for name in names:
        other = replace(RULES, table="other", table_name=name)
        with pytest.raises(ForeignTable, match=f"'{name}' in .* is the table of 'buoy'"):
            anywhere.load(other, rows, kind="upserts")
        with pytest.raises(DeclarationError, match="is the table of 'buoy'; there is nothing to adopt"):
            anywhere.adopt(other, FEED)
    if capabilities.cased:
        other = replace(RULES, table="other", table_name=RULES.stored_as.upper())
        assert anywhere.load(other, rows, kind="upserts").counts["inserted"] == 1
    assert anywhere.read(RULES).num_rows == 1


def test_change_log_two_tables_are_not_kept_in_one(anywhere: brenvik.Store) -> None:
    first, alike = (
        replace(RULES, table="mart.buoy", table_name="one"),
        replace(RULES, table="mart_buoy", table_name="two"),
    )
    anywhere.load(first, changes(("NB-1", 1, "Kvit", "Q")), kind="upserts")
    for ask in (anywhere.preview, anywhere.load):
        with pytest.raises(ForeignTable, match=r"would be brenvik\.change_log_mart_buoy, which already exists in"):
            ask(alike, changes(("NB-2", 1, "Svart", "Q")), kind="upserts")
    with pytest.raises(StoreError, match="already"), anywhere.engine.transaction():
        anywhere.engine.change_table(CreateTable("one", (("code", "TEXT", False),)))
    assert anywhere.rebuild(first).counts["rows_removed"] == 0
    unkept = replace(alike, change_log=False)
    assert anywhere.load(unkept, changes(("NB-2", 1, "Svart", "Q")), kind="upserts").counts["inserted"] == 1


def test_an_adopted_table_keeps_its_keys_and_takes_late_changes(anywhere: brenvik.Store) -> None:
    made_before(anywhere, *THREE)
    with pytest.raises(ForeignTable, match="brenvik adopt buoy"):
        anywhere.load(RULES, changes(("NB-1", 9, "Kvit", "Iso")), kind="upserts")
    seen = anywhere.adopt(RULES, FEED, preview=True)
    assert anywhere.ledger.runs()["state"].to_pylist() == ["blocked"]
    done = anywhere.adopt(RULES, FEED)
    assert [seen.counts[n] for n in ("rows_before", "rows_added", "rows_removed")] == [3, 0, 0]
    assert done.counts == {**seen.counts}
    assert versions(anywhere, "NB-1") == [(1, "Q", 1, 5), (2, "Fl", 5, None)]
    load = anywhere.load(RULES, changes(("NB-1", 9, "Kvit", "Iso"), ("NB-3", 9, "Ny", "Q")), kind="upserts")
    late = anywhere.load(RULES, changes(("NB-1", 3, "Kvitt", "Oc"), ("NB-2", 2, "Svart", "Mo")), kind="upserts")
    assert (load.counts["versioned"], late.counts["versioned"]) == (1, 2)
    assert [row[1:] for row in versions(anywhere, "NB-1")] == [
        ("Q", 1, 3),
        ("Oc", 3, 5),
        ("Fl", 5, 9),
        ("Iso", 9, None),
    ]
    assert {row[0] for row in versions(anywhere, "NB-1")} >= {1, 2}
    assert [row[1:] for row in versions(anywhere, "NB-2")] == [("Q", 1, 2), ("Mo", 2, 4)]
    noted = {row["noted"] for row in anywhere.read(RULES).to_pylist() if row["id"] <= 3 or not is_lakehouse(anywhere)}
    assert noted == {"by hand"}
    for run in (int(late.run or 0), int(load.run or 0)):
        anywhere.revert(RULES, run, reason="wrong")
    assert versions(anywhere, "NB-1") == [(1, "Q", 1, 5), (2, "Fl", 5, None)]
    assert [anywhere.rebuild(RULES).counts[n] for n in ("rows_added", "rows_updated", "rows_removed")] == [0, 0, 0]


def test_rows_that_are_not_what_the_rules_make_are_told_and_let_through_by_number(anywhere: brenvik.Store) -> None:
    made_before(anywhere, *THREE, ("NB-4", "Gul", "Q", 1, 2), ("NB-4", "Gull", "Q", 2, None))
    with pytest.raises(
        SchemaMismatch, match=r"(?s)1 would change, 0 be added, 1 be removed\..*--allow-changes 2"
    ) as refused:
        anywhere.adopt(RULES, FEED)
    assert not refused.value.can_retry
    assert anywhere.ledger.state("buoy") is None
    done = anywhere.adopt(RULES, FEED, allow_changes=2)
    assert done.changed_keys is not None
    assert done.changed_keys["code"].to_pylist() == ["NB-4"]
    assert [row[1:] for row in versions(anywhere, "NB-4")] == [("Q", 1, None)]


def test_all_that_does_not_fit_is_told_at_once(anywhere: brenvik.Store) -> None:
    made_before(
        anywhere,
        *THREE,
        ("NB-1", "Kvit", "Fl", 6, None),
        ("NB-5", "Blå", "Q", 4, 4),
        more=", depth INTEGER, weight INTEGER",
    )
    rules = brenvik.TableRules(
        "buoy",
        natural_key="code",
        order_by="at",
        type_1=("name", "owner"),
        types={"at": "timestamp", "depth": "text", "name": "text(30)"},
        system_columns={"surrogate_key": "id", "valid_from": "since"},
    )
    with pytest.raises(SchemaMismatch) as told:
        anywhere.adopt(rules, FEED | {"depth": "text"})
    short = [] if anywhere.engine.dialect == "duckdb" else ["text(20)"]  # DuckDB forgets lengths
    assert [part for part in ("owner", "valid_to", "depth", *short) if part not in str(told.value)] == []
    with pytest.raises(SchemaMismatch) as told:
        anywhere.adopt(RULES, FEED)
    said = str(told.value)
    told = ("several current rows: 1", "end before they begin, or have no length: 1", "the next of their key: 1")
    assert [part for part in told if part not in said] == []


def test_an_empty_table_of_ones_own_making_is_adopted_and_loaded(anywhere: brenvik.Store) -> None:
    made_before(anywhere)
    assert anywhere.adopt(RULES, FEED).counts["rows_before"] == 0
    anywhere.load(RULES, changes(("NB-1", 1, "Kvit", "Q")), kind="upserts")
    anywhere.load(RULES, changes(("NB-1", 2, "Kvit", "Fl")), kind="upserts")
    assert versions(anywhere, "NB-1") == [(1, "Q", 1, 2), (2, "Fl", 2, None)]


def test_a_table_without_times_is_adopted_and_every_change_is_later(anywhere: brenvik.Store) -> None:
    execute(anywhere, "CREATE TABLE keeper (no BIGINT, firm VARCHAR(20), gone BOOLEAN)")
    execute(anywhere, "INSERT INTO keeper VALUES (1, 'Nord', FALSE), (2, 'Vest', TRUE)")
    rules = brenvik.TableRules(
        "keeper",
        natural_key="no",
        order_by="entry",
        type_1="firm",
        types={"entry": "integer"},
        other_columns="type_1",
        system_columns={"valid_from": False, "valid_to": False, "is_current": False, "is_deleted": "gone"},
        change_log=True,
    )
    done = anywhere.adopt(rules, {"no": "integer", "firm": "text", "entry": "integer"})
    assert "adds keeper_key, first_run, last_run" in " ".join(done.notes)
    anywhere.load(rules, pa.table({"no": [1, 2], "firm": ["Nord AS", "Vest"], "entry": [1, 2]}), kind="upserts")
    found = [(row["keeper_key"], row["firm"], row["gone"]) for row in anywhere.read(rules).to_pylist()]
    assert found == [(1, "Nord AS", False), (2, "Vest", False)]


def test_without_kept_changes_a_table_is_adopted_too(anywhere: brenvik.Store) -> None:
    made_before(anywhere, *THREE)
    rules = brenvik.TableRules(**{**_given(RULES), "change_log": False})
    anywhere.adopt(rules, FEED)
    anywhere.load(rules, changes(("NB-1", 9, "Kvit", "Iso")), kind="upserts")
    assert [row[1:] for row in versions(anywhere, "NB-1")] == [("Q", 1, 5), ("Fl", 5, 9), ("Iso", 9, None)]


def _given(rules: brenvik.TableRules) -> dict[str, Any]:
    return {name: getattr(rules, name) for name in rules.__dataclass_fields__ if name not in {"_"}}


def test_keys_that_point_at_the_surrogate_key_hold(anywhere: brenvik.Store) -> None:
    if is_lakehouse(anywhere):
        pytest.skip("files have no keys that point at others")
    made_before(anywhere, *THREE)
    execute(anywhere, "CREATE TABLE visit (no INTEGER, buoy_id BIGINT REFERENCES buoy (id))")
    execute(anywhere, "INSERT INTO visit VALUES (1, 1), (2, 2), (3, 3)")
    anywhere.adopt(RULES, FEED)
    anywhere.load(RULES, changes(("NB-1", 9, "Kvitt", "Iso"), ("NB-1", 3, "Kvit", "Oc")), kind="upserts")
    before = anywhere.read(RULES).to_pylist()
    with pytest.raises(BrenvikError, match=r"(?i)foreign key"):
        execute(anywhere, "DELETE FROM buoy WHERE id = 1")
    assert anywhere.read(RULES).to_pylist() == before


def test_rows_that_somebody_takes_away_are_counted_by_a_rebuild_which_puts_them_back(anywhere: brenvik.Store) -> None:
    rules = brenvik.TableRules("buoy", natural_key="code", order_by="at")
    rows = changes(("NB-1", 1, "Kvit", "Q"), ("NB-2", 1, "Svart", "Q"), ("NB-3", 1, "Gul", "Q"))
    anywhere.load(rules, rows, kind="upserts")
    execute(anywhere, "DELETE FROM buoy WHERE code <> 'NB-1'")
    done = anywhere.rebuild(rules)
    assert [done.counts[n] for n in ("rows_before", "rows_added", "rows_after")] == [1, 2, 3]
    state = anywhere.ledger.state("buoy")
    assert state is not None
    assert (state.row_count, state.current_keys) == (3, 3)


def test_what_is_not_there_or_known_already_is_not_adopted(anywhere: brenvik.Store) -> None:
    with pytest.raises(DeclarationError, match="no table 'buoy'"):
        anywhere.adopt(RULES, FEED)
    made_before(anywhere, *THREE)
    anywhere.adopt(RULES, FEED)
    with pytest.raises(DeclarationError, match="already in the ledger"):
        anywhere.adopt(RULES, FEED)


PROJECT = """
store = "{address}"
[table.buoy]
table_name = "{place}"
natural_key = ["code"]
order_by = ["at"]
type_1 = ["name"]
exclude = ["at"]
types = {{ at = "timestamp" }}
[table.buoy.system_columns]
surrogate_key = "id"
valid_from = "since"
valid_to = "until"
is_current = false
[table.buoy.feed.registry]
kind = "upserts"
files = "inbox/*.csv"
"""


def test_a_table_of_a_schema_is_checked_adopted_and_loaded_by_the_commands(address: str, tmp_path: Path) -> None:
    (tmp_path / "inbox").mkdir()
    (tmp_path / "inbox" / "buoy_1.csv").write_text("code,at,name,light\nNB-1,2024-05-09,Kvit,Iso\n")
    with brenvik.open_store(address) as store:
        made_before(store, *THREE)
        if isinstance(store.engine, LakehouseEngine):
            store.engine._lake.catalog.create_namespace("mart")
            store.engine._lake.catalog.rename_table("main.buoy", "mart.buoy")
        elif store.engine.dialect == "sqlite":
            execute(store, 'ALTER TABLE buoy RENAME TO "mart.buoy"')
        elif store.engine.dialect == "postgres":
            execute(store, "CREATE SCHEMA mart")
            execute(store, "ALTER TABLE buoy SET SCHEMA mart")
    place = "buoy" if address.startswith("duckdb") else "mart.buoy"
    (tmp_path / "brenvik.toml").write_text(PROJECT.format(address=address, place=place))
    seen = call("check", cwd=tmp_path)
    assert (seen.code, "It matches its rules. To take it over: brenvik adopt buoy" in seen.out) == (0, True)
    assert "3 rows" in seen.out
    assert call("load", cwd=tmp_path).code == 4
    assert call("adopt", "buoy", "--preview", cwd=tmp_path).code == 0
    assert call("check", cwd=tmp_path).out.count("not in the ledger") == 1
    done = call("adopt", "buoy", "--reason", "from the old script", cwd=tmp_path)
    assert (done.code, "No rows differ" in done.out) == (0, True)
    assert call("load", cwd=tmp_path).code == 0
    history = call("history", "buoy", "NB-1", "--json", cwd=tmp_path).json
    assert [row["light"] for row in history["versions"]] == ["Q", "Fl", "Iso"]


@pytest.mark.parametrize("column", ["code", "light"])
def test_a_column_that_takes_different_texts_for_equal_is_not_adopted(anywhere: brenvik.Store, column: str) -> None:
    if is_lakehouse(anywhere):
        pytest.skip("columns of files have no collations")
    if anywhere.engine.dialect == "postgres":
        try:
            execute(
                anywhere, "CREATE COLLATION loose (provider = icu, locale = 'und-u-ks-level2', deterministic = false)"
            )
        except StoreError as error:
            pytest.skip(str(error))  # the wheel's server is built without ICU
    kind = {"postgres": "VARCHAR(20) COLLATE loose"}.get(anywhere.engine.dialect, "VARCHAR(20) COLLATE NOCASE")
    kinds = {name: kind if name == column else "VARCHAR(20)" for name in ("code", "name", "light")}
    columns = ", ".join(f"{name} {kind}" for name, kind in kinds.items())
    execute(anywhere, f"CREATE TABLE buoy (id BIGINT, {columns}, since TIMESTAMP, until TIMESTAMP)")
    with pytest.raises(SchemaMismatch, match=f"  {column}: has a collation under which different texts are equal"):
        anywhere.adopt(RULES, FEED)
    assert anywhere.ledger.state("buoy") is None


def test_numbers_that_a_narrow_column_cannot_hold_are_rejects(anywhere: brenvik.Store) -> None:
    if anywhere.engine.dialect == "sqlite":
        pytest.skip("whole numbers have 64 bits whatever a column says")
    small = "INTEGER" if is_lakehouse(anywhere) else "SMALLINT"
    execute(
        anywhere,
        f"CREATE TABLE buoy (code INTEGER, marks {small}, since TIMESTAMP, until TIMESTAMP, is_deleted BOOLEAN)",
    )
    kept = dict.fromkeys(
        ("surrogate_key", "is_current", "first_run", "last_run", "first_loaded_at", "last_loaded_at"), False
    )
    rules = brenvik.TableRules(
        "buoy", natural_key="code", order_by="at", exclude="at", types={"at": "timestamp", "marks": "integer"},
        system_columns={"valid_from": "since", "valid_to": "until", **kept},
    )  # fmt: skip
    anywhere.adopt(rules, {"code": "integer", "at": "timestamp", "marks": "integer"})
    most = 2**31 - 1 if is_lakehouse(anywhere) else 2**15 - 1
    for number, kind in enumerate((pa.int64(), pa.string(), pa.float64()), 1):
        marks = [most, -most - 1, most + 1, -most - 2]
        rows = pa.table(
            {"code": [1, 2, 3, 2**31], "at": [day(number)] * 4, "marks": pa.array(marks).cast(pa.int64()).cast(kind)}
        )
        found = anywhere.load(rules, rows, kind="upserts")
        assert (found.counts["rejected"], found.counts["inserted"] + found.counts["unchanged"]) == (2, 2)
        refused = anywhere.ledger.rejects("buoy", run=found.run).to_pylist()
        assert [row["column_name"] for row in refused] == ["marks", "code"]
        assert "is not a valid integer(" in refused[0]["reason"]
    assert sorted(anywhere.read(rules)["marks"].to_pylist()) == [-most - 1, most]
    assert anywhere.load(rules, pa.table({"code": [1], "at": [day(9)], "marks": [5]}), kind="upserts").counts[
        "versioned"
    ]
