"""What holds in a store of every kind."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import replace
from datetime import UTC, date, datetime, time
from decimal import Decimal
from types import SimpleNamespace
from typing import Any

import numpy as np
import pyarrow as pa
import pytest

import brenvik
import brenvik.runs.load
import brenvik.runs.past
from brenvik.errors import DeclarationError, FeedError, StoreError
from brenvik.feeds.store_query import StoreQuery
from brenvik.merge.schema import TableSchema
from scripts import execute, is_lakehouse
from sources import load_from

RULES = brenvik.TableRules("buoy", natural_key="code", order_by="at")


def test_a_run_that_breaks_off_after_its_commit_is_done(
    anywhere: brenvik.Store, monkeypatch: pytest.MonkeyPatch
) -> None:
    def broken(**told: object) -> None:
        raise KeyboardInterrupt

    monkeypatch.setattr(brenvik.runs.load, "Outcome", broken)
    with pytest.raises(KeyboardInterrupt):
        anywhere.load(RULES, pa.table({"code": ["NB-1"], "at": [1], "light": ["Q"]}), kind="upserts")
    monkeypatch.undo()
    assert anywhere.read(RULES)["light"].to_pylist() == ["Q"]
    runs = anywhere.ledger.runs().to_pylist()
    assert [(run["state"], run["message"], run["inserted"]) for run in runs] == [("done", None, 1)]


KEYS: dict[str, tuple[Any, Any]] = {
    "integer": (-7, 2**40),
    "text": ("", "Ærøsund ' \\"),
    "decimal": (Decimal("-1.50"), Decimal("99.99")),
    "boolean": (False, True),
    "date": (date(1899, 12, 31), date(2024, 5, 1)),
    "time": (time(0, 0, 0, 1), time(23, 59)),
    "timestamp": (datetime(2024, 5, 1, 6), datetime(2024, 5, 1, 6, 0, 0, 1)),
    "instant": (datetime(2024, 5, 1, 6, tzinfo=UTC), datetime(2024, 5, 2, tzinfo=UTC)),
    "binary": (b"", b"\x00\xff"),
}


def test_keys_of_every_kind_come_in_any_order(anywhere: brenvik.Store) -> None:
    kinds = list(KEYS)
    rows = [
        {kind: KEYS[kind][(number >> place) & 1] for place, kind in enumerate(kinds)} | {"light": str(number)}
        for number in (number * 77 % 512 for number in range(512))
    ]
    buoys = brenvik.TableRules("buoy", natural_key=kinds)
    assert anywhere.load(buoys, pa.Table.from_pylist(rows), kind="upserts").counts["inserted"] == 512
    again = anywhere.load(buoys, pa.Table.from_pylist([*rows[256:], *rows[:256]]), kind="upserts")
    assert again.counts["unchanged"] == 512
    lights = {tuple(row[kind] for kind in kinds): row["light"] for row in anywhere.read(buoys).to_pylist()}
    assert lights == {tuple(row[kind] for kind in kinds): row["light"] for row in rows}


NO_KEYS: dict[str, tuple[Any, ...]] = {
    "integer": ("NB-1", "5.5", "", 2**63, None),
    "decimal": ("x", "1000", "0.001", "1e400", "nan"),
    "boolean": ("maybe", 2),
    "date": ("x", "2024-13-01", "2024-05-01 06:00"),
    "time": ("24:00", "06:00+02:00"),
    "timestamp": ("x", 5),
    "instant": ("x", ""),
}


def test_a_key_is_asked_for_as_it_is_or_as_a_text_of_it(anywhere: brenvik.Store) -> None:
    for kind, (value, _) in KEYS.items():
        rules = brenvik.TableRules(f"by_{kind}", natural_key="k")
        anywhere.load(rules, pa.table({"k": [value], "light": ["Q"]}), kind="upserts")
        for given in (value, *([] if isinstance(value, bytes) else [str(value)])):
            assert anywhere.history(rules, given).num_rows == anywhere.history(rules, {"k": given}).num_rows == 1
            assert len(anywhere.change_log(rules, given)) == 1
        if kind == "instant":  # without a zone, it is a time of the project's
            assert anywhere.history(rules, "2024-05-01T06").num_rows == 1
        for wrong in NO_KEYS.get(kind, (None,)):
            for ask in (anywhere.history, anywhere.change_log):
                with pytest.raises(DeclarationError, match=f"The key of 'by_{kind}': k: "):
                    ask(rules, wrong)


def test_runs_and_held_deletes_are_told_by_numbers(anywhere: brenvik.Store) -> None:
    anywhere.load(RULES, pa.table({"code": ["NB-1"], "at": [1], "light": ["Q"]}), kind="upserts")
    for ask in (anywhere.revert, anywhere.approve_deletes, lambda rules, *runs: anywhere.read(rules, without=runs)):
        with pytest.raises(DeclarationError, match=r"are given by number; expected whole numbers, got \[1\]"):
            ask(RULES, [1])
    for every in (False, True):  # an empty selection is not all there are
        with pytest.raises(DeclarationError, match="Name the deletes by number"):
            anywhere.approve_deletes(RULES, *([1] if every else []), every=every)
    assert anywhere.revert(RULES, np.int64(1), reason="x").counts["rows_removed"] == 1  # type: ignore[arg-type]


def test_a_withdrawn_run_is_not_the_last_good_one(anywhere: brenvik.Store) -> None:
    def last() -> int:
        status = anywhere.ledger.status()["buoy"]
        assert status
        return int(status["last_done_run"])

    for at in (1, 2):
        anywhere.load(RULES, pa.table({"code": ["NB-1"], "at": [at], "light": ["Q"]}), kind="upserts")
    seen = [last()]
    for run, undo in ((2, False), (1, False), (2, True)):
        anywhere.revert(RULES, run, undo=undo, reason="x")
        seen.append(last())
    assert seen == [2, 1, 0, 2]


NAMES = ("new\nline", 'say "it"', "it's", "a:b :c $d ?", "50 % %s %(n)s", "{x}", "select", "a.b", "/* -- */", "Ünï\\")


def test_columns_have_whatever_names_people_gave_them(anywhere: brenvik.Store) -> None:
    for number, name in enumerate(NAMES):
        key, at, first, light = (f"{name} {part}" for part in ("key", "at", "first", "light"))
        rules = brenvik.TableRules(
            f"t{number}", natural_key=key, order_by=at, effective_at=at, type_1=first, max_deletes=None
        )
        for code, day, value in (("I", 1, "Q"), ("U", 5, "VQ"), ("U", 3, "Fl"), ("D", 7, "")):
            row = {key: "NB-1", at: datetime(2024, 5, day), first: value, light: value, "op": code}
            anywhere.load(rules, pa.Table.from_pylist([row]), kind="changes", operation="op")
        there = [(row[light], row[first], row["valid_from"].day) for row in anywhere.history(rules, "NB-1").to_pylist()]
        assert there == [("Q", "VQ", 1), ("Fl", "VQ", 3), ("VQ", "VQ", 5)], name
        assert anywhere.as_of(rules, "2024-05-04")[light].to_pylist() == ["Fl"]


def test_no_day_has_a_24th_hour(anywhere: brenvik.Store) -> None:
    opens = pa.array([86_399_999_999, 86_400_000_000], pa.time64("us"))
    done = anywhere.load(RULES, pa.table({"code": ["A", "B"], "at": [1, 1], "opens": opens}), kind="upserts")
    assert (done.counts["inserted"], done.counts["rejected"]) == (1, 1)
    (reject,) = anywhere.ledger.rejects().to_pylist()
    assert reject["reason"] == "opens: '24:00:00' is not a valid time"
    told = pa.table({"code": ["A", "B"], "at": [2, 2], "opens": ["23:59:59.999999", "24:00"]})
    done = anywhere.load(RULES, told, kind="upserts")
    assert (done.counts["unchanged"], done.counts["rejected"]) == (1, 1)
    execute(anywhere, 'CREATE TABLE staging (code VARCHAR(9), "at" BIGINT, opens TIME)')
    execute(anywhere, "INSERT INTO staging VALUES ('C', 3, '08:00:00'), ('D', 3, '24:00:00')")
    inside = StoreQuery(anywhere.engine, name="s", kind="upserts", table="staging", watermark="at")
    done = load_from(anywhere, RULES, inside)
    assert (done.counts["inserted"], done.counts["rejected"]) == (1, 1)
    assert [str(row["opens"]) for row in anywhere.read(RULES).to_pylist()] == ["23:59:59.999999", "08:00:00"]


NOT_HELD = {"postgres": ["code", "note"], "sqlite": ["depth"]}
TELLS = {"code": "the character NUL", "note": "the character NUL", "depth": "NaN"}
YEARS = "is outside the years 1 to 9999"


def test_what_a_store_cannot_hold_is_refused_row_by_row(anywhere: brenvik.Store) -> None:
    days = pa.array([0, 0, 0, 0, 2_932_897], pa.date32())  # the last is the first of January 10000
    rows = pa.table(
        {
            "code": ["A", "B\0", "C", "D", "E"],
            "note": ["x", "x", "y\0z", "x", "x"],
            "depth": [1.5, 1.5, 1.5, float("nan"), 1.5],
            "seen": days,
            "told": ["2024-05-13", "0001-01-01", "9999-12-31 23:59:59.999999", "2024-05-13 08:00Z", "10000-01-01"],
            "felt": days.cast(pa.timestamp("s")),
        }
    )
    types = {"told": "timestamp", "felt": "timestamp with time zone"}
    buoys = brenvik.TableRules("buoy", natural_key="code", other_columns="type_1", types=types, max_deletes=5)
    refused = NOT_HELD.get(anywhere.engine.dialect, [])
    done = anywhere.load(buoys, rows, kind="upserts")
    assert (done.counts["inserted"], done.counts["rejected"]) == (4 - len(refused), len(refused) + 1)
    *others, last = anywhere.ledger.rejects().to_pylist()
    told = [
        f"{name} {'is' if name == 'depth' else 'has'} {TELLS[name]}, which this store does not support"
        for name in refused
    ]
    assert [(reject["column_name"], reject["reason"]) for reject in others] == list(zip(refused, told, strict=True))
    assert last["reason"].split("; ") == [
        f"seen: '10000-01-01' {YEARS}",
        f"told: '10000-01-01' {YEARS}",
        f"felt: '10000-01-01 00:00:00' {YEARS}",
    ]
    gone = rows.append_column("op", pa.array(["D"] * 5))
    done = anywhere.load(buoys, gone, kind="changes", operation="op")
    assert done.counts["deleted"] == 4 - len(refused)


@pytest.mark.parametrize("told", ["infinity", "-infinity", "0044-03-15 (BC)", "290000-01-01", "300000-01-01"])
def test_no_far_moment_keeps_other_rows_out(anywhere: brenvik.Store, told: str) -> None:
    kinds = ("date", "timestamp", "timestamp with time zone")
    types = dict(zip(("day", "moment", "instant"), kinds, strict=True))
    rows = pa.table({"code": ["A", "B"]} | {name: [told, "2024-05-13"] for name in types})
    buoys = brenvik.TableRules("buoy", natural_key="code", types=types)
    assert anywhere.load(buoys, rows, kind="upserts").counts["rejected"] == 1
    (reject,) = anywhere.ledger.rejects().to_pylist()
    assert all(f"{name}: '{told}'" in reject["reason"] for name in types)
    assert [row["code"] for row in anywhere.read(buoys).to_pylist()] == ["B"]
    keyed = brenvik.TableRules("day", natural_key="day", types={"day": "date"})
    picture = pa.table({"day": [told, "2024-05-13"], "light": ["Q", "Q"]})
    assert anywhere.load(keyed, picture, kind="full_extract", at="2024-05-14").counts["rejected"] == 1


JUDGED = {
    "mass_t > 2.49": [1, 4],
    "mass_t = 2.5": [1],
    "mass_t / 2 > 1": [1, 4],
    "depth / 2 = 3.5": [1],
    "7 / depth > 1": [2],
    "2000000 * 2000000 > depth": [1, 2, 3, 4],
    "depth * 9000000000000000000 > 1": [1, 2],
    "coalesce(-depth * 9000000000000000000, 0) - 9000000000000000000 > 0": [4],
    "depth * depth * depth = 343": [1],
    "seen > '2024-05-02'": [2, 4],
    "told >= '2024-05-01 10:00:00+02:00'": [1, 2, 4],
    "hour > '08:00'": [2, 4],
    "upper(name) like 'BØ%'": [1, 4],
    "gone = 'true' and left(name, 2) = 'BØ'": [4],
    "concat(name, depth) = '7'": [],
    "coalesce(mass_t, 0) < 1 or name < 'a'": [1, 2, 3, 4],
}


def test_conditions_judge_rows_alike_on_their_way_inside_and_where_they_stand(anywhere: brenvik.Store) -> None:
    types = {
        "no": "integer", "mass_t": "decimal(9,2)", "depth": "integer", "seen": "timestamp", "gone": "boolean",
        "told": "timestamp with time zone", "hour": "time", "name": "text",
    }  # fmt: skip
    rows = [
        (1, "2.50", 7, "2024-05-02 00:00:00", False, "2024-05-01 08:00:00+00", "08:00:00", "Bøye"),
        (2, "-10.00", 3, "2024-05-02 08:00:00", True, "2024-05-02 00:00:00+00", "23:59:00", ""),
        (3, None, 0, None, None, None, None, None),
        (4, "100000.00", -7, "2024-05-09 00:00:00", True, "2024-05-01 08:00:01+00", "09:00:00", "BØJE"),
    ]
    frame = pa.table({name: pa.array([row[place] for row in rows]) for place, name in enumerate(types)})
    mark = brenvik.TableRules("mark", natural_key="no", types=types, max_deletes=None)
    conditions = {text: text for text in JUDGED}
    anywhere.load(mark, frame, kind="full_extract", at="2024-05-13")

    def refused(table: str) -> dict[str, list[int]]:
        found = [row for row in anywhere.ledger.rejects().to_pylist() if row["table_name"] == table]
        numbers = [(int(json.loads(row["content"])["no"]), row["reason"].split("; ")) for row in found]
        return {text: sorted(number for number, reasons in numbers if text in reasons) for text in JUDGED}

    anywhere.load(replace(mark, table="passing", reject_if=conditions), frame, kind="upserts")
    assert refused("passing") == JUDGED
    query = 'SELECT "' + '", "'.join(types) + '" FROM "mark"'
    inside = StoreQuery(anywhere.engine, name="s", kind="upserts", query=query, watermark="no")
    load_from(anywhere, replace(mark, table="inside", reject_if=conditions), inside)
    assert refused("inside") == JUDGED
    for scope, within in JUDGED.items():
        foreseen = anywhere.preview(mark, frame.slice(3, 1), kind="full_extract", at="2030-01-01", extract_scope=scope)
        assert foreseen.counts["derived"] == len([number for number in within if number != 4]), scope


def test_an_extract_closes_keys_and_sets_a_type_0_value_that_was_not_known(anywhere: brenvik.Store) -> None:
    rules = brenvik.TableRules("buoy", natural_key="code", type_0="laid_in", type_2="light", max_deletes=None)
    first = pa.table({"code": ["NB-1", "NB-2", "NB-3"], "laid_in": [1987, None, 1990], "light": ["Q", "Q", "Fl"]})
    anywhere.load(rules, first, kind="full_extract", at="2024-05-13")
    second = pa.table({"code": ["NB-2"], "laid_in": [1988], "light": ["Q"]})
    anywhere.load(rules, second, kind="full_extract", at="2024-05-14")
    rows = anywhere.read(rules).to_pylist()
    left = {(row["code"], row["laid_in"], row["valid_to"] is None) for row in rows}
    assert left == {("NB-1", 1987, False), ("NB-2", 1988, True), ("NB-3", 1990, False)}


def test_columns_may_be_called_like_words_of_sql_or_are_refused(anywhere: brenvik.Store) -> None:
    names = ("null", "select", "current_date", "group", "a b", "a.b", 'a"b', "é", "true", "false")
    rows = pa.table({"code": ["A"], **{name: [f"its {name}"] for name in names}})
    rules = brenvik.TableRules("buoy", natural_key="code", types={})
    if anywhere.engine.dialect == "sqlite":
        with pytest.raises(FeedError, match="true is reserved in this store; rename it in the feed"):
            anywhere.load(rules, rows, kind="upserts")
        rows = rows.drop_columns(["true", "false"])
    anywhere.load(rules, rows, kind="upserts")
    (row,) = anywhere.read(rules).to_pylist()
    assert {name: row[name] for name in names if name in rows.column_names} == {
        name: f"its {name}" for name in names if name in rows.column_names
    }


def test_keys_are_told_apart_in_the_ledger_whatever_they_hold(anywhere: brenvik.Store) -> None:
    keys = [("a\x1fb", "c"), ("a", "b\x1fc"), ("1:a", "b"), ("1", "a1:b"), ("", "x"), ("x", "")]
    rules = brenvik.TableRules("buoy", natural_key=["area", "code"])
    one, two = zip(*keys, strict=True)
    anywhere.load(rules, pa.table({"area": one, "code": two}), kind="upserts")
    parts = SimpleNamespace(keys=("area", "code"), key_part_text=lambda alias, name: f'CAST({alias}."{name}" AS TEXT)')
    text = TableSchema.key_text(parts, "t")  # type: ignore[arg-type]
    found = anywhere.engine.ask(f'SELECT count(DISTINCT {text}) AS n FROM "buoy" t')
    assert found["n"].to_pylist() == [len(keys)]


@pytest.mark.parametrize("table", ["runs", "tables", "column_sets"])
def test_the_ledger_refuses_an_entry_that_is_there(anywhere: brenvik.Store, table: str) -> None:
    if is_lakehouse(anywhere):
        pytest.skip("the log of a lakehouse has no keys: its last entry counts")
    anywhere.load(RULES, pa.table({"code": ["A"], "at": [1]}), kind="upserts")
    again = f'INSERT INTO "brenvik"."{table}" SELECT * FROM "brenvik"."{table}"'
    with pytest.raises(StoreError, match=r"(?i)duplicate|unique"), anywhere.engine.transaction():
        execute(anywhere, again)


def test_the_story_of_a_key_takes_as_many_statements_for_many_runs_as_for_few(
    anywhere: brenvik.Store, monkeypatch: pytest.MonkeyPatch
) -> None:
    statements = 0

    def counted(ask: Callable[..., Any]) -> Callable[..., Any]:
        def counting(*words: Any, **more: Any) -> Any:
            nonlocal statements
            statements += 1
            return ask(*words, **more)

        return counting

    spent = []
    for runs in (2, 12):
        rules = replace(RULES, table=f"of_{runs}")
        for at in range(runs):
            anywhere.load(rules, pa.table({"code": ["A"], "at": [at], "light": [str(at)]}), kind="upserts")
        statements = 0
        with monkeypatch.context() as patched:
            for name in ("make", "ask", "rows"):
                patched.setattr(anywhere.engine, name, counted(getattr(anywhere.engine, name)))
            story = anywhere.change_log(rules, "A")
            assert [row["changes"][-1]["after"] for row in story] == [str(at) for at in range(runs)]
        spent.append(statements)
    assert spent[0] == spent[1] < 40


def test_a_long_story_is_told_in_several_passes(anywhere: brenvik.Store, monkeypatch: pytest.MonkeyPatch) -> None:
    for at in range(6):
        anywhere.load(RULES, pa.table({"code": ["A"], "at": [at], "light": [str(at)]}), kind="upserts")
    whole = anywhere.change_log(RULES, "A")
    assert [row["run"] for row in whole] == [1, 2, 3, 4, 5, 6]
    for room in (1, 5, 10):
        monkeypatch.setattr(brenvik.runs.past, "AT_ONCE", room)
        assert anywhere.change_log(RULES, "A") == whole


def test_a_past_delete_is_decided_by_what_was_there_then(anywhere: brenvik.Store) -> None:
    rules = replace(RULES, deletes="review")

    def load(code: str, at: int, op: str) -> brenvik.Outcome:
        row = {"code": [code], "at": [at], "light": ["Q"], "op": [op]}
        return anywhere.load(rules, pa.table(row), kind="changes", operation="op")

    load("A", 1, "insert")
    unknown = load("B", 2, "delete")
    load("B", 3, "insert")
    assert unknown.counts["ignored"] == 1
    assert anywhere.decisions(rules, unknown.run or 0)["decision"].to_pylist() == ["ignored"]
    assert [row["decision"] for row in anywhere.change_log(rules, "B")] == ["ignored", "inserted"]


def test_a_late_delete_that_waits_and_comes_again_by_itself_is_a_duplicate(anywhere: brenvik.Store) -> None:
    rules = replace(RULES, deletes="review", types={"at": "integer"}, max_deletes=None)
    gone = pa.table({"op": ["D"], "code": ["A"], "at": [3]})
    anywhere.load(rules, pa.table({"code": ["A"], "at": [5]}), kind="upserts")
    first = anywhere.load(rules, gone, kind="changes", operation="op")
    assert (first.counts["pending"], [note.partition(";")[0] for note in first.notes]) == (1, ["1 change was late"])
    again = anywhere.load(rules, gone, kind="changes", operation="op")
    assert (again.counts["duplicate"], again.notes) == (1, [])
