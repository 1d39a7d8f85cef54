"""Extracts: from files and frames, their times, and the guards that keep a half-empty one out."""

from __future__ import annotations

import gc
import re
from datetime import timedelta
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest
from registries import Registry, at

import brenvik
from brenvik.errors import DeclarationError, FeedError, LimitExceeded, ProjectError, StaleExtract
from brenvik.feeds.databases import DatabaseExtract
from brenvik.feeds.files import FileSource
from brenvik.feeds.protocol import LoadRequest
from brenvik.project.check import check_table
from brenvik.project.status import how_far
from sources import load_from

RULES = brenvik.TableRules("keeper", natural_key="no", types={"no": "integer"})
DATED = r"_(\d{4}-\d\d-\d\d)"


@pytest.fixture
def store(anywhere: brenvik.Store) -> brenvik.Store:
    return anywhere


def write(folder: Path, name: str, *rows: tuple[Any, str]) -> None:
    (folder / name).write_text("no,firm\n" + "".join(f"{no},{firm}\n" for no, firm in rows))


def nightly(folder: Path, **how: Any) -> FileSource:
    return FileSource(
        "keeper*.csv", folder=folder, name="nightly", kind="full_extract", **{"time_in_name": DATED, **how}
    )


def frame(*numbers: int) -> pa.Table:
    return pa.table({"no": pa.array(numbers, pa.int64()), "firm": [f"firm {number}" for number in numbers]})


def living(store: brenvik.Store, rules: brenvik.TableRules = RULES) -> list[int]:
    return [row["no"] for row in store.read(rules).to_pylist() if row["is_current"]]


TEN = tuple((number, f"firm {number}") for number in range(10))


def test_extracts_are_taken_one_a_load_at_the_times_in_their_names(store: brenvik.Store, tmp_path: Path) -> None:
    write(tmp_path, "keeper_2024-05-14.csv", *TEN[:9], (9, "new name"))
    write(tmp_path, "keeper_2024-05-13.csv", *TEN)
    source = nightly(tmp_path)
    assert source.waiting(store.ledger.memory("keeper", "nightly")).count == 2
    first = load_from(store, RULES, source)
    assert (first.source, first.more, first.counts["inserted"]) == ("keeper_2024-05-13.csv", True, 10)
    second = load_from(store, RULES, source)
    assert (second.more, second.counts["unchanged"], second.counts["versioned"]) == (False, 9, 1)
    assert [str(row["valid_from"]) for row in store.history(RULES, 9).to_pylist()] == [
        "2024-05-13 00:00:00", "2024-05-14 00:00:00",
    ]  # fmt: skip
    assert load_from(store, RULES, source).state == "nothing new"
    kept = store.engine.ask('SELECT count(*) AS n FROM "brenvik"."change_log_keeper"')["n"][0].as_py()
    assert kept == 11


def test_a_file_that_has_changed_is_the_next_extract(store: brenvik.Store, tmp_path: Path) -> None:
    write(tmp_path, "keeper_2024-05-13.csv", *TEN)
    load_from(store, RULES, nightly(tmp_path))
    write(tmp_path, "keeper_2024-05-13.csv", *TEN[1:], (10, "one more"))
    outcome = load_from(store, RULES, nightly(tmp_path))
    assert (outcome.counts["inserted"], outcome.counts["deleted"], outcome.counts["unchanged"]) == (1, 1, 9)
    assert living(store) == list(range(1, 11))


def test_a_half_empty_extract_is_refused_until_a_person_lets_it_through(store: brenvik.Store) -> None:
    store.load(RULES, frame(*range(9)), kind="full_extract", at="2024-05-13")
    with pytest.raises(LimitExceeded, match=r"would delete 5 \(56 %, limit 20 %\)") as refused:
        store.load(RULES, frame(0, 1, 2, 3), kind="full_extract", at="2024-05-14")
    assert (refused.value.counts["deleted"], refused.value.current_keys) == (5, 9)
    run = store.ledger.runs(last=1).to_pylist()[0]
    assert (run["state"], run["read"], run["deleted"], run["rows_after"]) == ("blocked", 4, 5, None)
    assert living(store) == list(range(9))
    seen = store.preview(RULES, frame(0, 1, 2, 3), kind="full_extract", at="2024-05-14")
    assert "--allow-deletes 5" in str(seen.blocked_by)
    with pytest.raises(LimitExceeded):
        store.load(RULES, frame(0, 1, 2), kind="full_extract", at="2024-05-14", allow_deletes=5)
    store.load(RULES, frame(0, 1, 2, 3), kind="full_extract", at="2024-05-14", allow_deletes=5)
    assert living(store) == [0, 1, 2, 3]


@pytest.mark.parametrize(
    ("limit", "passes"), [(None, True), (5, True), (4, False), (0.56, True), (0.5, True), (0.4, False)]
)
def test_a_limit_is_a_number_or_a_share_rounded_up(store: brenvik.Store, limit: Any, passes: bool) -> None:
    rules = brenvik.TableRules("keeper", natural_key="no", max_deletes=limit)
    store.load(rules, frame(*range(9)), kind="full_extract", at="2024-05-13")
    if passes:
        assert store.load(rules, frame(0, 1, 2, 3), kind="full_extract", at="2024-05-14").counts["deleted"] == 5
    else:
        with pytest.raises(LimitExceeded):
            store.load(rules, frame(0, 1, 2, 3), kind="full_extract", at="2024-05-14")


def test_an_empty_extract_is_refused_whatever_the_limit(store: brenvik.Store) -> None:
    rules = brenvik.TableRules("keeper", natural_key="no", max_deletes=None)
    with pytest.raises(LimitExceeded, match="has no valid rows"):
        store.load(rules, frame(), kind="full_extract")
    store.load(rules, frame(1, 2), kind="full_extract", at="2024-05-13")
    with pytest.raises(LimitExceeded, match=r"has no valid rows[^\0]*delete 2 \(100 %\)"):
        store.load(rules, frame(), kind="full_extract", at="2024-05-14")
    store.load(rules, frame(), kind="full_extract", at="2024-05-14", allow_deletes=2)
    assert living(store, rules) == []


def test_an_extract_whose_rows_were_all_refused_before_is_empty_too(store: brenvik.Store) -> None:
    rules = brenvik.TableRules("keeper", natural_key="no", types={"firm": "text(7)"}, max_deletes=None)
    bad = pa.table({"no": pa.array([1]), "firm": ["much too long"]})
    store.load(rules, pa.concat_tables([frame(1, 2), bad.slice(0, 0)]), kind="full_extract", at="2024-05-13")
    store.load(rules, bad, kind="full_extract", at="2024-05-14", allow_deletes=1)
    with pytest.raises(LimitExceeded, match="has no valid rows"):
        store.load(rules, bad, kind="full_extract", at="2024-05-15")


def test_too_many_changes_are_refused_too(store: brenvik.Store) -> None:
    rules = brenvik.TableRules("keeper", natural_key="no", max_changes=1)
    store.load(rules, frame(1, 2, 3), kind="full_extract", at="2024-05-13")
    upper = pa.table({"no": pa.array([1, 2, 3]), "firm": ["FIRM 1", "FIRM 2", "firm 3"]})
    with pytest.raises(LimitExceeded, match="would change 2 of 3 rows"):
        store.load(rules, upper, kind="full_extract", at="2024-05-14")
    assert store.load(rules, upper, kind="full_extract", at="2024-05-14", allow_changes=2).counts["versioned"] == 2


def test_a_refused_row_is_there_and_its_key_is_not_deleted(store: brenvik.Store) -> None:
    rules = brenvik.TableRules("keeper", natural_key="no", types={"firm": "text(7)"}, max_deletes=None)
    store.load(rules, frame(1, 2, 3), kind="full_extract", at="2024-05-13")
    bad = pa.table({"no": pa.array([1, 2, None]), "firm": ["firm 1", "much too long", "firm 3"]})
    outcome = store.load(rules, bad, kind="full_extract", at="2024-05-14")
    assert (outcome.counts["rejected"], outcome.counts["deleted"], outcome.counts["unchanged"]) == (2, 1, 1)
    assert living(store, rules) == [1, 2]


def test_an_older_extract_is_refused_and_one_of_the_same_time_is_not(store: brenvik.Store, tmp_path: Path) -> None:
    store.load(RULES, frame(1, 2), kind="full_extract", at="2024-05-14 01:30")
    with pytest.raises(StaleExtract, match=r"It is of 2024-05-13 01:30; run 1 loaded the extract of 2024-05-14 01:30"):
        store.load(RULES, frame(1), kind="full_extract", at="2024-05-13 01:30")
    assert store.load(RULES, frame(1, 2, 3), kind="full_extract", at="2024-05-14 01:30").counts["inserted"] == 1
    assert store.ledger.runs()["state"].to_pylist() == ["done", "blocked", "done"]


def test_the_time_of_an_extract_can_stand_in_a_column(store: brenvik.Store, tmp_path: Path) -> None:
    rules = brenvik.TableRules("keeper", natural_key="no", exclude="as_at", types={"no": "integer"})
    path = tmp_path / "keeper.csv"
    path.write_text("no,firm,as_at\n1,a,2024-05-13 01:30\n2,b,2024-05-13 01:30\n")
    source = nightly(tmp_path, time_in_name=None, time_column="as_at")
    load_from(store, rules, source)
    assert {str(row["valid_from"]) for row in store.read(rules).to_pylist()} == {"2024-05-13 01:30:00"}
    path.write_text("no,firm,as_at\n1,a,2024-05-14 01:30\n2,b,2024-05-15 01:30\n")
    with pytest.raises(FeedError, match="an extract must have one time"):
        load_from(store, rules, source)
    path.write_text("no,firm,as_at\n1,x,2024-05-14 01:30\n2,b,\n")
    assert load_from(store, rules, source).counts["rejected"] == 1


def test_names_without_a_time_and_odd_wishes_are_told(store: brenvik.Store, tmp_path: Path) -> None:
    write(tmp_path, "keeper_old.csv", *TEN)
    with pytest.raises(FeedError, match="has no time in its name"):
        load_from(store, RULES, nightly(tmp_path))
    write(tmp_path, "keeper_2024-05-13.csv", *TEN)
    with pytest.raises(DeclarationError, match="loads one extract at a time"):
        load_from(store, RULES, nightly(tmp_path), request=LoadRequest(everything=True))
    with pytest.raises(DeclarationError, match="expected a time as in"):
        store.load(RULES, frame(1), kind="full_extract", at="tomorrow")
    with pytest.raises(DeclarationError, match="expected a time as in"):
        store.load(RULES, frame(1), kind="upserts", at="tomorrow")


def test_a_table_takes_extracts_or_changes_but_a_first_extract_may_begin_it(store: brenvik.Store) -> None:
    store.load(RULES, frame(1, 2), kind="full_extract", at="2024-05-13")
    store.load(RULES, frame(3), kind="upserts")
    with pytest.raises(DeclarationError, match="has loaded changes"):
        store.load(RULES, frame(1), kind="full_extract")
    other = brenvik.TableRules("firm", natural_key="no")
    for day in (13, 14):
        store.load(other, frame(1, 2), kind="full_extract", at=f"2024-05-{day}")
    with pytest.raises(DeclarationError, match=r"loads extracts \(2 so far\)"):
        store.load(other, frame(3), kind="upserts")


def test_held_deletes_of_an_extract_lapse_when_the_key_returns(store: brenvik.Store) -> None:
    rules = brenvik.TableRules("keeper", natural_key="no", deletes="review", max_deletes=None)
    store.load(rules, frame(1, 2, 3), kind="full_extract", at="2024-05-13")
    assert store.load(rules, frame(1), kind="full_extract", at="2024-05-14").counts["pending"] == 2
    assert store.load(rules, frame(1), kind="full_extract", at="2024-05-15").counts["derived"] == 0
    store.load(rules, frame(1, 2), kind="full_extract", at="2024-05-16")
    (waiting,) = store.pending_deletes(rules).to_pylist()
    assert (waiting["no"], waiting["firm"], str(waiting["brenvik_effective_at"])) == (
        3,
        "firm 3",
        "2024-05-14 00:00:00",
    )
    assert living(store, rules) == [1, 2, 3]
    assert store.approve_deletes(rules, every=True, reason="closed").counts["rows_updated"] == 1
    assert [str(row["valid_to"]) for row in store.history(rules, 3).to_pylist()] == ["2024-05-14 00:00:00"]
    with pytest.raises(DeclarationError, match="has no pending delete any"):
        store.approve_deletes(rules, every=True)


def test_a_table_of_a_database_is_taken_whole(store: brenvik.Store, registry: Registry) -> None:
    rules = brenvik.TableRules("visit", natural_key="visit_no", exclude="modified_at", max_deletes=None)
    registry.put((1, "NB-101", "lamp", at(8)), (2, "NB-102", "paint", at(9)))
    source = DatabaseExtract(registry.connection, name="service", table="service_visit", clock=lambda: registry.now)
    assert source.waiting(store.ledger.memory("visit", "service")).unit == "extracts"
    assert load_from(store, rules, source).counts["inserted"] == 2
    registry.do("DELETE FROM service_visit WHERE visit_no = 1")
    registry.do("UPDATE service_visit SET work = 'painted' WHERE visit_no = 2")
    registry.now += timedelta(hours=1)
    outcome = load_from(store, rules, source)
    assert (outcome.counts["deleted"], outcome.counts["versioned"]) == (1, 1)
    rows = [(r["visit_no"], r["work"], str(r["valid_from"]), str(r["valid_to"])) for r in store.read(rules).to_pylist()]
    assert rows == [
        (1, "lamp", "2024-05-14 12:00:00", "2024-05-14 13:00:00"),
        (2, "paint", "2024-05-14 12:00:00", "2024-05-14 13:00:00"),
        (2, "painted", "2024-05-14 13:00:00", "None"),
    ]
    registry.now -= timedelta(minutes=30)
    with pytest.raises(StaleExtract):
        load_from(store, rules, source)
    with pytest.raises(DeclarationError, match="loads everything each time"):
        load_from(store, rules, source, request=LoadRequest(after="2024-05-01"))


def test_a_project_declares_an_extract_of_a_query(tmp_path: Path) -> None:
    registry = Registry(f"sqlite:///{tmp_path / 'registry.db'}")
    registry.put((1, "NB-101", "lamp", at(8)), (2, "NB-102", "paint", at(9)))
    text = """
store = "duckdb:coast.duckdb"
[connections]
registry = "sqlite:///registry.db"
[table.visit]
natural_key = ["visit_no"]
exclude = ["as_at"]
types = { as_at = "timestamp" }
[table.visit.feed.service]
kind = "full_extract"
connection = "registry"
query = "select visit_no, work, '2024-05-14 12:00' as as_at from service_visit"
extract_time = { column = "as_at" }
"""
    (tmp_path / "brenvik.toml").write_text(text)
    project = brenvik.read_project(tmp_path / "brenvik.toml")
    (outcome,) = project.load()
    assert outcome.counts["inserted"] == 2
    with project.open() as store:
        assert {str(row["valid_from"]) for row in store.read(project.table("visit").rules).to_pylist()} == {
            "2024-05-14 12:00:00"
        }
        (entry,) = how_far(project, store, project.table("visit"))
        assert (entry.taken, entry.run, entry.waiting and entry.waiting.count) == ("2024-05-14 12:00:00", 1, 1)
    for wrong, told in (
        ("watermark = 'as_at'", "is for feeds that are read by watermark"),
        ("extract_time = { file_name = '(x)' }", "a database has no files"),
    ):
        (tmp_path / "brenvik.toml").write_text(text.partition("extract_time")[0] + wrong)
        with pytest.raises(ProjectError, match=told):
            brenvik.read_project(tmp_path / "brenvik.toml")


def test_a_held_delete_that_was_withdrawn_is_held_anew_when_it_comes_again(store: brenvik.Store) -> None:
    rules = brenvik.TableRules("keeper", natural_key="no", order_by="at", deletes="review", max_deletes=None)

    def rows(op: str, at: int) -> pa.Table:
        return pa.table({"op": [op], "no": [1], "at": [at], "firm": ["a"]})

    store.load(rules, rows("I", 1), kind="changes", operation="op")
    assert store.load(rules, rows("D", 2), kind="changes", operation="op").counts["pending"] == 1
    store.revert(rules, 2, reason="a mistake")
    assert store.pending_deletes(rules).num_rows == 0
    assert store.load(rules, rows("D", 2), kind="changes", operation="op").counts["pending"] == 1
    store.approve_deletes(rules, every=True)
    assert living(store, rules) == []
    store.revert(rules, 4)
    assert living(store, rules) == [1]


WORKING = {
    "duckdb": "duckdb_tables() WHERE temporary AND table_name LIKE 'brenvik_w%'",
    "sqlite": "sqlite_temp_master WHERE name LIKE 'brenvik_w%'",
    "postgres": "pg_catalog.pg_class WHERE relnamespace = pg_my_temp_schema() AND relname LIKE 'brenvik_w%'",
}


def test_a_revert_of_an_extract_leaves_no_working_relations(store: brenvik.Store) -> None:
    working = f"SELECT count(*) AS n FROM {WORKING[store.engine.dialect]}"
    for day, numbers in ((13, (1, 2, 3, 4, 5, 6)), (14, (1, 2, 3, 4, 5)), (15, (1, 2, 3, 4, 5))):
        store.load(RULES, frame(*numbers), kind="full_extract", at=f"2024-05-{day}")
    assert store.engine.rows(working)[0]["n"] > 0  # until the next transaction begins
    assert store.revert(RULES, 2, reason="tried").counts["rows_updated"] == 1  # firm 6 is absent from run 3 on
    gc.collect()
    with store.engine.transaction():
        assert store.engine.rows(working) == [{"n": 0}]


def test_a_withdrawn_extract_of_a_table_that_holds_deletes(store: brenvik.Store) -> None:
    rules = brenvik.TableRules("keeper", natural_key="no", deletes="review", max_deletes=None)
    for day, numbers in ((13, (1, 2, 3)), (14, (1, 2)), (15, (1, 2)), (16, (1, 2, 4))):
        store.load(rules, frame(*numbers), kind="full_extract", at=f"2024-05-{day}")
    store.revert(rules, 1, 2)
    assert living(store, rules) == [1, 2, 4]
    assert store.pending_deletes(rules).num_rows == 0
    store.revert(rules, 1, 2, undo=True)
    assert (living(store, rules), store.pending_deletes(rules)["no"].to_pylist()) == ([1, 2, 3, 4], [3])
    rebuilt = store.rebuild(rules)
    assert [rebuilt.counts[name] for name in ("rows_added", "rows_updated", "rows_removed")] == [0, 0, 0]


def test_ignored_deletes_end_nothing(store: brenvik.Store) -> None:
    rules = brenvik.TableRules("keeper", natural_key="no", order_by="at", deletes="ignore")
    rows = pa.table({"op": ["I", "D", "D"], "no": [1, 1, 2], "at": [1, 2, 3], "firm": ["a", None, None]})
    outcome = store.load(rules, rows, kind="changes", operation="op")
    assert outcome.decisions()["decision"].to_pylist() == ["inserted", "ignored", "ignored"]
    assert living(store, rules) == [1]
    assert store.load(rules, rows, kind="changes", operation="op").counts["duplicate"] == 3


def regions(north: dict[int, str], south: dict[int, str]) -> pa.Table:
    rows = [(no, firm, "north") for no, firm in north.items()] + [(no, firm, "south") for no, firm in south.items()]
    return pa.table({name: [row[place] for row in rows] for place, name in enumerate(("no", "firm", "region"))})


def test_an_extract_of_a_part_of_the_table_misses_nothing_of_the_rest(store: brenvik.Store) -> None:
    scope = "region = 'north'"
    south = dict.fromkeys(range(11, 21), "x")
    whole = regions({1: "a", 2: "b", 3: "c", 4: "d"}, south)
    store.load(RULES, whole, kind="full_extract", at="2024-05-13", feed="all")
    part = regions({1: "a", 2: "new"}, {})
    alive = [1, 2, *south]
    seen = store.preview(RULES, part, kind="full_extract", at="2024-05-14", feed="north", extract_scope=scope)
    assert "2 (50 %, limit 20 %)" in str(seen.blocked_by)  # two of four firms of the north, not of fourteen
    done = store.load(
        RULES, part, kind="full_extract", at="2024-05-14", feed="north", extract_scope=scope, allow_deletes=2
    )
    assert (done.counts["deleted"], done.counts["versioned"], done.counts["unchanged"]) == (2, 1, 1)
    assert living(store) == alive
    assert store.ledger.run(int(done.run or 0))["extract_scope"] == scope  # type: ignore[index]
    # Without the part, the next extract of the same part still says that firms 3 and 4 are gone; of the south it says nothing.
    later = store.load(RULES, part, kind="full_extract", at="2024-05-15", feed="north", extract_scope=scope)
    assert later.counts["unchanged"] == 2
    store.revert(RULES, int(done.run or 0), reason="tried")
    assert living(store) == alive
    ends = {row["no"]: str(row["valid_to"]) for row in store.read(RULES).to_pylist() if row["is_deleted"]}
    assert ends == dict.fromkeys((3, 4), "2024-05-15 00:00:00")


def test_rows_that_stand_twice_in_an_extract_of_a_part_are_seen(store: brenvik.Store) -> None:
    store.load(RULES, regions({1: "a", 2: "b"}, {11: "x"}), kind="full_extract", at="2024-05-13")
    twice = pa.concat_tables([regions({1: "other", 2: "b"}, {}), regions({1: "a"}, {})])
    done = store.load(RULES, twice, kind="full_extract", at="2024-05-14", extract_scope="region = 'north'")
    assert (done.counts["superseded"], done.counts["unchanged"]) == (1, 2)
    assert store.read(RULES).num_rows == 3


@pytest.mark.parametrize(
    ("scope", "error", "said"),
    [
        (
            "area = 'north'",
            FeedError,
            "extract_scope names area; it may only name columns that both the extract and table",
        ),
        ("region = ", DeclarationError, "is not a valid condition"),
        ("exists (select 1)", DeclarationError, "is not allowed"),
    ],
)
def test_a_scope_that_cannot_be_is_told(store: brenvik.Store, scope: str, error: type[Exception], said: str) -> None:
    with pytest.raises(error, match=re.escape(said)):
        store.load(RULES, frame(1), kind="full_extract", at="2024-05-13", extract_scope=scope)
    assert store.read(RULES).num_rows == 0
    with pytest.raises(DeclarationError, match="extract_scope"):
        store.load(RULES, frame(1), kind="upserts", extract_scope="no = 1")


def test_the_scope_of_a_feed_is_declared_and_checked(tmp_path: Path) -> None:
    (tmp_path / "inbox").mkdir()
    for region, numbers in (("north", (1, 2)), ("south", (11, 12, 13))):
        rows = "".join(f"{no},firm {no},{region}\n" for no in numbers)
        (tmp_path / "inbox" / f"{region}_2024-05-13.csv").write_text(f"no,firm,region\n{rows}")
    feeds = "".join(
        f"""
[table.keeper.feed.{region}]
kind = "full_extract"
files = "inbox/{region}_*.csv"
extract_time = {{ file_name = '_(\\d{{4}}-\\d\\d-\\d\\d)' }}
extract_scope = "region = '{region}'"
"""
        for region in ("north", "south")
    )
    text = f'store = "duckdb:coast.duckdb"\n[table.keeper]\nnatural_key = ["no"]\ntypes = {{ no = "integer" }}\n{feeds}'
    (tmp_path / "brenvik.toml").write_text(text)
    project = brenvik.read_project(tmp_path / "brenvik.toml")
    assert [outcome.require_clean().counts["inserted"] for outcome in project.load()] == [2, 3]
    (tmp_path / "inbox" / "south_2024-05-14.csv").write_text("no,firm,region\n11,firm 11,south\n")
    refused = [outcome for outcome in project.load() if outcome.error]
    assert [outcome.feed for outcome in refused] == ["south"]
    with project.open() as opened:
        assert living(opened) == [1, 2, 11, 12, 13]
    (tmp_path / "brenvik.toml").write_text(text.replace("region = 'north'", "area = 'north'"))
    with brenvik.read_project(tmp_path / "brenvik.toml").open() as opened:
        finding = check_table(brenvik.read_project(tmp_path / "brenvik.toml"), "keeper", opened)
    assert "extract_scope names area" in finding.faults[0]
    (tmp_path / "brenvik.toml").write_text(
        text.replace('kind = "full_extract"', 'kind = "upserts"').replace("'north'", "(")
    )
    with pytest.raises(
        ProjectError, match=r"extract_scope: is for feeds of kind 'full_extract'(?s:.*)is not a valid condition"
    ):
        brenvik.read_project(tmp_path / "brenvik.toml")


def test_of_a_key_whose_row_was_refused_an_extract_says_nothing_that_outlives_the_one_before(
    store: brenvik.Store,
) -> None:
    rules = brenvik.TableRules("keeper", natural_key="no", types={"no": "integer", "firm": "text(6)"})

    def take(at: str, **firms: str) -> int:
        rows = [
            (no, firms.get(f"firm_{no}", f"firm {no}")) for no in (1, 2, 3, 4, 5, 9) if firms.get(f"firm_{no}") != ""
        ]
        table = pa.table({"no": [no for no, _ in rows], "firm": [firm for _, firm in rows]})
        return int(store.load(rules, table, kind="full_extract", at=at).run or 0)

    take("2024-05-13", firm_9="")
    wrong = take("2024-05-14", firm_5="", firm_9="made")  # firm 5 is gone, and there is a firm 9
    take("2024-05-15", firm_5="too long", firm_9="too long")
    assert living(store, rules) == [1, 2, 3, 4, 9]
    store.revert(rules, wrong, reason="made up")
    assert living(store, rules) == [1, 2, 3, 4, 5]
    store.revert(rules, wrong, undo=True)
    assert living(store, rules) == [1, 2, 3, 4, 9]


def test_a_key_with_a_refused_row_and_a_good_one_is_said_by_the_good_one(store: brenvik.Store) -> None:
    rules = brenvik.TableRules("keeper", natural_key="no", types={"no": "integer", "firm": "text(6)"})
    rows = pa.table({"no": [1, 2], "firm": ["firm 1", "firm 2"]})
    first = store.load(rules, rows, kind="full_extract", at="2024-05-13")
    twice = pa.table({"no": [1, 2, 2], "firm": ["firm 1", "too long", "firm 2"]})
    assert store.load(rules, twice, kind="full_extract", at="2024-05-14").counts["rejected"] == 1
    store.load(rules, rows.slice(0, 1), kind="full_extract", at="2024-05-15", allow_deletes=1)
    store.revert(rules, int(first.run or 0), reason="made up")
    (row,) = store.history(rules, 2).to_pylist()
    assert [str(row[name])[:10] for name in ("valid_from", "valid_to")] == ["2024-05-14", "2024-05-15"]


def test_an_extract_that_cannot_be_read_to_its_end_says_why(store: brenvik.Store, tmp_path: Path) -> None:
    write(tmp_path, "keeper_2024-05-13.csv", *TEN)
    load_from(store, RULES, nightly(tmp_path))
    path = tmp_path / "keeper_2024-05-14.csv"
    path.write_bytes(b"no,firm\n1,firm 1\n2,\xff\xfe\n")
    with pytest.raises(FeedError, match="is not utf-8 text: line 3"):
        load_from(store, RULES, nightly(tmp_path))
    assert store.ledger.runs(last=1)["state"].to_pylist() == ["failed"]
    assert living(store) == list(range(10))
    write(tmp_path, path.name, *TEN[1:])
    assert load_from(store, RULES, nightly(tmp_path)).counts["deleted"] == 1
