"""What is the lakehouse's own: snapshots, what counts after a crash, several writers, other engines, columns by their ids."""

from __future__ import annotations

import multiprocessing
from dataclasses import replace
from datetime import timedelta
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
import pytest
from lakes import RULES, current, frame, load, others, read, scan
from pyiceberg.types import IntegerType, LongType

import brenvik
from brenvik.engines.lakehouse import engine as lakehouse
from brenvik.engines.lakehouse import log
from brenvik.engines.lakehouse.lake import Lake
from brenvik.errors import DeclarationError, ForeignTable, StoreError


def test_a_load_writes_rows_and_positions_and_rewrites_no_file(tmp_path: Path) -> None:
    load(tmp_path, ("NB-1", 1, "Q"), ("NB-2", 1, "Q"))
    before = {path: path.read_bytes() for path in tmp_path.glob("main/buoy/data/*")}
    load(tmp_path, ("NB-1", 2, "F"))
    assert {path: path.read_bytes() for path in before} == before
    table = others(tmp_path).load_table("main.buoy")
    told: Any = table.current_snapshot().summary.additional_properties
    assert (told["added-position-deletes"], told["added-records"], told["total-records"]) == ("1", "2", "4")
    assert (told["brenvik.run"], told["brenvik.kind"]) == ("2", "upserts")
    assert current(scan(tmp_path)) == current(read(tmp_path)) == {"NB-1": "F", "NB-2": "Q"}


def test_every_run_is_a_snapshot_of_its_table_also_one_that_changes_no_row(tmp_path: Path) -> None:
    for _ in range(3):
        load(tmp_path, ("NB-1", 1, "Q"))
    snapshots = others(tmp_path).load_table("main.buoy").snapshots()
    assert [s.summary.additional_properties["brenvik.run"] for s in snapshots if s.summary] == ["1", "2", "3"]
    assert scan(tmp_path).num_rows == 1


def test_a_run_tells_what_it_wrote_and_what_the_table_was_then(tmp_path: Path) -> None:
    rules = replace(RULES, change_log=False)
    for at in (1, 2, 3):
        load(tmp_path, ("NB-1", at, f"Q {at}"), (f"NB-{at + 1}", 1, "Q"), rules=rules)
    with brenvik.open_store(f"lakehouse:{tmp_path}") as store:
        wrote = store.engine.written("buoy")
        assert {run: (each.files, each.deleted) for run, each in wrote.items()} == {1: (1, 0), 2: (3, 1), 3: (3, 1)}
        new = [*tmp_path.glob("main/buoy/data/*")]
        assert sum(each.bytes for each in wrote.values()) == sum(path.stat().st_size for path in new)
        then = store.read(rules, known_at=2)
        assert then.column_names == ["code", "light", "valid_from", "valid_to", "is_current", "is_deleted"]
        assert [tuple(row.values())[:4] for row in then.to_pylist()] == [
            ("NB-1", "Q 1", 1, 2), ("NB-1", "Q 2", 2, None), ("NB-2", "Q", 1, None), ("NB-3", "Q", 1, None),
        ]  # fmt: skip
        assert store.history(rules, "NB-1", known_at=1)["light"].to_pylist() == ["Q 1"]
        store.compact(rules, keep=timedelta(0))
        assert store.read(rules, known_at=3).num_rows == 6
        assert store.engine.written("buoy") == {}
        with pytest.raises(DeclarationError, match="has no change log"):
            store.read(rules, known_at=2)


@pytest.mark.parametrize("open_end", [None, 9999])
def test_what_the_table_was_is_the_same_from_snapshots_and_from_kept_changes(
    tmp_path: Path, open_end: int | None
) -> None:
    rules = replace(RULES, open_end=open_end)
    for at in (1, 3, 2):
        load(tmp_path, ("NB-1", at, f"Q {at}"), (f"NB-{at + 1}", 1, "Q"), rules=rules)
    with brenvik.open_store(f"lakehouse:{tmp_path}") as store:
        store.revert(rules, 2)
        runs = range(1, 5)
        from_snapshots = [store.read(rules, known_at=run).to_pylist() for run in runs]
        store.engine.at_run = lambda *words: None  # type: ignore[method-assign]
        assert [store.read(rules, known_at=run).to_pylist() for run in runs] == from_snapshots


def test_what_the_snapshot_of_the_table_does_not_name_never_was(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    load(tmp_path, ("NB-1", 1, "Q"))
    commit = Lake.commit

    def broken(self: Lake, state: Any, *words: Any, **more: Any) -> Any:
        if state.identifier == ("main", "buoy"):
            raise KeyboardInterrupt
        return commit(self, state, *words, **more)

    monkeypatch.setattr(Lake, "commit", broken)
    with pytest.raises(KeyboardInterrupt):
        load(tmp_path, ("NB-1", 2, "F"), ("NB-2", 2, "F"))
    monkeypatch.undo()
    assert scan(tmp_path, "brenvik.change_log_buoy").num_rows == 3  # the files are there, and nothing names them
    with brenvik.open_store(f"lakehouse:{tmp_path}") as store:
        assert store.ledger.runs()["state"].to_pylist() == ["failed", "done"]
        assert store.history(RULES, "NB-2").num_rows == 0
        store.load(RULES, frame(("NB-2", 1, "Q")), kind="upserts")
        store.rebuild(RULES)
        assert current(store.read(RULES)) == {"NB-1": "Q", "NB-2": "Q"}
    assert scan(tmp_path, "brenvik.change_log_buoy").num_rows == 2


def test_a_look_that_breaks_off_can_be_had_again(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    load(tmp_path, ("NB-1", 1, "Q"))
    with brenvik.open_store(f"lakehouse:{tmp_path}") as store:
        engine: Any = store.engine
        execute, calls = engine.execute, []

        def broken(statement: str) -> int:
            done: int = execute(statement)
            calls.append(statement)
            if '"rejects"' in statement:
                raise KeyboardInterrupt
            return done

        engine.execute = broken
        with pytest.raises(KeyboardInterrupt):
            store.ledger.exists()
        engine.execute = execute
        assert store.ledger.runs()["state"].to_pylist() == ["done"]
        assert current(store.read(RULES)) == {"NB-1": "Q"}


def test_a_first_load_that_breaks_off_leaves_no_table(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    make = Lake._make

    def broken(self: Lake, state: Any, *words: Any) -> Any:
        if state.identifier == ("main", "buoy"):
            raise KeyboardInterrupt
        return make(self, state, *words)

    monkeypatch.setattr(Lake, "_make", broken)
    with pytest.raises(KeyboardInterrupt):
        load(tmp_path, ("NB-1", 1, "Q"))
    monkeypatch.undo()
    assert load(tmp_path, ("NB-2", 1, "Q")).counts["inserted"] == 1
    assert current(read(tmp_path)) == current(scan(tmp_path)) == {"NB-2": "Q"}
    assert scan(tmp_path, "brenvik.change_log_buoy").num_rows == 1


def test_a_run_is_done_with_the_snapshot_before_the_log_of_the_ledger_knows(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    def states() -> list[str]:
        log = scan(tmp_path, "brenvik.ledger")
        return sorted(log.filter(pc.equal(log["entry_of"], "runs"))["state"].to_pylist())

    def broken(engine: lakehouse.LakehouseEngine) -> None:
        raise KeyboardInterrupt

    monkeypatch.setattr(lakehouse.LakehouseEngine, "_adopt", broken)
    with pytest.raises(KeyboardInterrupt):
        load(tmp_path, ("NB-1", 1, "Q"))
    monkeypatch.undo()
    assert states() == ["running"]
    with brenvik.open_store(f"lakehouse:{tmp_path}") as store:
        assert store.ledger.runs()["state"].to_pylist() == ["done"]
    load(tmp_path, ("NB-1", 2, "F"))
    assert states() == ["done", "done", "running", "running"]


def test_the_log_of_the_ledger_is_folded_and_says_the_same(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(log, "MANY_FILES", 3)
    for at in range(1, 8):
        load(tmp_path, ("NB-1", at, f"Q {at}"))
        assert len(others(tmp_path).load_table("brenvik.ledger").inspect.files()) <= 4
    with brenvik.open_store(f"lakehouse:{tmp_path}") as store:
        assert store.ledger.runs()["run"].to_pylist() == [7, 6, 5, 4, 3, 2, 1]
        assert set(store.ledger.runs()["state"].to_pylist()) == {"done"}
        assert store.revert(RULES, 7).counts["rows_removed"] == 1


def test_somebody_else_who_writes_to_the_table_is_noticed_and_nothing_of_his_is_lost(tmp_path: Path) -> None:
    load(tmp_path, ("NB-1", 1, "Q"))
    with brenvik.open_store(f"lakehouse:{tmp_path}") as store:
        engine: Any = store.engine
        land, comes = engine._commit_run, [1]

        def overtaken(of: str | None) -> None:
            if of and comes:
                comes.pop()
                table = others(tmp_path).load_table("main.buoy")
                row = table.scan().to_arrow().to_pylist()[0]
                schema = table.schema().as_arrow()
                table.append(pa.Table.from_pylist([{**row, "buoy_key": 99, "code": "XX-9"}], schema=schema))
            land(of)

        engine._commit_run = overtaken
        outcome = store.load(RULES, frame(("NB-1", 2, "F")), kind="upserts")
        assert (outcome.run, outcome.counts["versioned"], comes) == (3, 1, [])
        assert store.ledger.runs()["state"].to_pylist() == ["done", "failed", "done"]
    assert current(scan(tmp_path)) == current(read(tmp_path)) == {"NB-1": "F", "XX-9": "Q"}


def _load_many(folder: Path, name: str, first: int) -> None:
    rules = brenvik.TableRules(name, natural_key="code", order_by="at")
    for at in range(first, first + 8, 2):
        load(folder, *((f"NB-{number}", at, f"Q {at} {number}") for number in range(at % 3, 4)), rules=rules)


def test_writers_side_by_side_end_with_the_same_tables_as_one_after_the_other(tmp_path: Path) -> None:
    jobs = [("a", 0), ("b", 0), ("c", 0), ("d", 0), ("d", 1)]
    context = multiprocessing.get_context("spawn")
    writers = [context.Process(target=_load_many, args=(tmp_path / "lake", *job)) for job in jobs]
    for writer in writers:
        writer.start()
    for writer in writers:
        writer.join(300)
        assert writer.exitcode == 0
    for job in jobs:
        _load_many(tmp_path / "in turn", *job)
    for name in "abcd":
        rules = brenvik.TableRules(name, natural_key="code", order_by="at")
        found, expected = (
            sorted(str((r["code"], r["light"], r["valid_from"], r["valid_to"])) for r in read(lake, rules).to_pylist())
            for lake in (tmp_path / "lake", tmp_path / "in turn")
        )
        assert found == expected
    with brenvik.open_store(f"lakehouse:{tmp_path / 'lake'}") as store:
        runs = store.ledger.runs()
        assert sorted(runs["run"].to_pylist()) == list(range(1, 21))
        assert set(runs["state"].to_pylist()) == {"done"}


def test_columns_are_known_by_their_ids_when_others_rename_add_and_widen_them(tmp_path: Path) -> None:
    load(tmp_path, ("NB-1", 1, "Q"))
    table = others(tmp_path).load_table("main.buoy")
    with table.update_schema() as schema:
        schema.rename_column("light", "character")
    with table.update_schema() as schema:
        schema.add_column("light", LongType())
        schema.add_column("depth", IntegerType())
    wider = table.scan().to_arrow().set_column(0, "buoy_key", pa.array([7])).to_pylist()[0] | {"light": 5, "depth": 3}
    table.append(pa.Table.from_pylist([wider], schema=table.schema().as_arrow()))
    with table.update_schema() as schema:
        schema.update_column("depth", LongType())
    with brenvik.open_store(f"lakehouse:{tmp_path}") as store:
        rows = store.engine.rows('SELECT "character", "light", "depth", buoy_key FROM "buoy" ORDER BY buoy_key')
        assert [tuple(row.values()) for row in rows] == [("Q", None, None, 1), ("Q", 5, 3, 7)]
        assert [column.type_name for column in store.engine.columns_of("buoy")][-2:] == ["BIGINT", "BIGINT"]


def test_columns_may_be_called_as_duckdb_calls_the_places_of_rows(tmp_path: Path) -> None:
    odd = {"file_index": [7, 9], "FILE_ROW_NUMBER": [8, 10], "filename": ["a", "b"]}
    first = pa.table({"code": ["NB-1", "NB-2"], "at": [1, 1], **odd})
    with brenvik.open_store(f"lakehouse:{tmp_path}") as store:
        store.load(RULES, first, kind="upserts")
        done = store.load(
            RULES, pa.table({"code": ["NB-2"], "at": [2], **{k: v[:1] for k, v in odd.items()}}), kind="upserts"
        )
        assert done.counts["versioned"] == 1
        shown = [
            (row["code"], row["file_index"], row["FILE_ROW_NUMBER"], row["valid_to"])
            for row in store.read(RULES).to_pylist()
        ]
        assert shown == [("NB-1", 7, 8, None), ("NB-2", 9, 10, 2), ("NB-2", 7, 8, None)]
        store.compact(RULES, keep=timedelta(0))
    assert sorted(scan(tmp_path)["file_index"].to_pylist()) == [7, 7, 9]


def test_what_cannot_be_read_or_told_is_said(tmp_path: Path) -> None:
    with pytest.raises(StoreError, match=r"a folder whose name contains #"):
        load(tmp_path / "coast #1", ("NB-1", 1, "Q"))
    load(tmp_path, ("NB-1", 1, "Q"))
    catalog = others(tmp_path)
    catalog.create_table("main.chart", pa.schema([("code", pa.string()), ("lights", pa.list_(pa.string()))]))
    rules = brenvik.TableRules("chart", natural_key="code", order_by="at")
    with pytest.raises(ForeignTable):
        load(tmp_path, ("NB-1", 1, "Q"), rules=rules)
    with (
        brenvik.open_store(f"lakehouse:{tmp_path}") as store,
        pytest.raises(StoreError, match=r"main\.chart has the column lights of type list<string>"),
    ):
        store.adopt(rules)
    assert current(read(tmp_path)) == {"NB-1": "Q"}


def test_what_others_say_of_columns_stays_when_new_ones_come(tmp_path: Path) -> None:
    load(tmp_path / "region=north", ("NB-1", 1, "Q"))
    with others(tmp_path / "region=north").load_table("main.buoy").update_schema() as schema:
        schema.update_column("light", doc="its character")
    with brenvik.open_store(f"lakehouse:{tmp_path / 'region=north'}") as store:
        wider = frame(("NB-1", 2, "F")).append_column("colour", pa.array(["red"]))
        store.load(RULES, wider, kind="upserts")
        rows = {row["light"]: row["colour"] for row in store.read(RULES).to_pylist()}
    assert rows == {"Q": None, "F": "red"}
    after = others(tmp_path / "region=north").load_table("main.buoy").schema()
    assert (after.find_field("light").doc, after.find_field("colour").doc) == ("its character", None)


def test_a_partitioned_table_is_not_touched(tmp_path: Path) -> None:
    load(tmp_path, ("NB-1", 1, "Q"))
    with others(tmp_path).load_table("main.buoy").update_spec() as spec:
        spec.add_identity("code")
    with pytest.raises(StoreError, match=r"main\.buoy is a table of version 2 of the format, partitioned"):
        load(tmp_path, ("NB-1", 2, "F"))
    assert scan(tmp_path).num_rows == 1


def test_a_table_named_with_the_schema_that_is_meant_anyway_is_the_same_table(tmp_path: Path) -> None:
    rules = brenvik.TableRules("buoy", table_name="main.buoy", natural_key="code", order_by="at")
    for rows in ([("NB-1", 1, "Q")], [("NB-1", 3, "F")], [("NB-1", 2, "late")]):
        load(tmp_path, *rows, rules=rules)
    assert read(tmp_path, rules).num_rows == scan(tmp_path).num_rows == 3
    assert current(read(tmp_path)) == {"NB-1": "F"}


def test_nothing_is_made_by_looking(tmp_path: Path) -> None:
    with brenvik.open_store(f"lakehouse:{tmp_path / 'lake'}", read_only=True) as store:
        assert not store.ledger.exists()
        assert not store.engine.has_table("buoy")
    assert not (tmp_path / "lake").exists()
