"""How the files of a lakehouse lie, and what becomes of them: in order, living rows apart; put in order again by ``compact``."""

from __future__ import annotations

import os
import time
from datetime import timedelta
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from lakes import RULES, current, frame, load, others, read, scan
from pyiceberg.expressions import EqualTo

import brenvik
from brenvik.engines.lakehouse import compaction, files, snapshots, tables
from brenvik.engines.lakehouse import engine as lakehouse
from brenvik.errors import DeclarationError

NOTHING = timedelta(0)
REWRITTEN = brenvik.TableRules("buoy", natural_key="code", order_by="at", write_mode="copy_on_write")


def data_of(folder: Path, name: str = "main.buoy") -> list[Any]:
    """What stands in the files of a table, by whether they hold living rows."""
    tasks = others(folder).load_table(name).scan().plan_files()
    found = [pq.read_table(task.file.file_path).to_pydict() for task in tasks]
    return sorted(((set(each["is_current"]), each["code"]) for each in found), key=str)


def rows_of(folder: Path, name: str = "main.buoy") -> list[str]:
    return sorted(map(str, scan(folder, name).to_pylist()))


def compact(folder: Path, rules: brenvik.TableRules = RULES, keep: Any = NOTHING) -> dict[str, Any]:
    with brenvik.open_store(f"lakehouse:{folder}") as store:
        return {each.table: each for each in store.compact(rules, keep=keep)}


def test_rows_lie_in_the_order_of_their_keys_and_living_ones_apart(tmp_path: Path) -> None:
    load(tmp_path, ("NB-2", 1, "Q"), ("NB-3", 1, "Q"), ("NB-1", 1, "Q"))
    load(tmp_path, ("NB-3", 2, "F"), ("NB-1", 2, "F"))
    assert data_of(tmp_path) == [
        ({False}, ["NB-1", "NB-3"]),
        ({True}, ["NB-1", "NB-2", "NB-3"]),  # of which two are gone
        ({True}, ["NB-1", "NB-3"]),
    ]


def test_a_file_ends_where_it_is_large_enough(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(files, "FILE_BYTES", 1)
    monkeypatch.setattr(tables, "ROW_GROUP", 2048)
    codes = [f"NB-{number:05}" for number in range(5000)]
    load(tmp_path, *((code, 1, "Q") for code in reversed(codes)))
    found = data_of(tmp_path)
    assert [len(rows) for _, rows in found] == [2048, 2048, 904]
    assert [code for _, rows in found for code in rows] == codes
    load(tmp_path, ("NB-04999", 2, "F"), ("NB-00000", 2, "F"))
    assert {code for code, light in current(read(tmp_path)).items() if light == "F"} == {"NB-00000", "NB-04999"}
    assert current(scan(tmp_path)) == current(read(tmp_path))


def test_columns_are_written_as_it_suits_their_values(tmp_path: Path) -> None:
    count = 10_000
    mixed = pa.table(
        {
            "code": pa.array(np.arange(count)),
            "at": pa.array(np.arange(count)),
            "light": pa.array(["Q", "F"] * (count // 2)),
            "depth": pa.array(np.random.default_rng(1).random(count)),
        }
    )
    with brenvik.open_store(f"lakehouse:{tmp_path}") as store:
        store.load(RULES, mixed, kind="upserts")
    (file,) = tmp_path.glob("main/buoy/data/*.parquet")
    group = pq.read_metadata(file).row_group(0)
    told = {group.column(n).path_in_schema: group.column(n) for n in range(group.num_columns)}
    ways = {name: (set(column.encodings) - {"RLE"}, column.compression) for name, column in told.items()}
    assert ways["code"] == ways["valid_from"] == ({"DELTA_BINARY_PACKED"}, "UNCOMPRESSED")
    assert ways["depth"] == ({"PLAIN"}, "ZSTD")
    assert "RLE_DICTIONARY" in ways["light"][0]
    assert told["code"].total_compressed_size < count
    assert scan(tmp_path).num_rows == count


def test_files_are_rewritten_by_declaration_and_every_reader_sees_the_same(tmp_path: Path) -> None:
    steps = [
        [("NB-2", 1, "Q"), ("NB-1", 1, "Q")],
        [("NB-1", 3, "F"), ("NB-3", 1, "Q")],
        [("NB-1", 2, "late")],
        [("NB-1", 1, "Q")],
    ]
    for step in steps:
        load(tmp_path / "marked", *step)
        load(tmp_path / "rewritten", *step, rules=REWRITTEN)
    plain = ("code", "light", "valid_from", "valid_to", "is_current", "first_run", "last_run")
    marked, rewritten = (scan(tmp_path / way).select(plain).to_pylist() for way in ("marked", "rewritten"))
    assert sorted(map(str, marked)) == sorted(map(str, rewritten))
    assert current(read(tmp_path / "rewritten")) == {"NB-1": "F", "NB-2": "Q", "NB-3": "Q"}
    tasks = [
        list(others(tmp_path / way).load_table("main.buoy").scan().plan_files()) for way in ("marked", "rewritten")
    ]
    assert [any(task.delete_files for task in each) for each in tasks] == [True, False]
    assert sum(len(rows) for _, rows in data_of(tmp_path / "rewritten")) == len(rewritten)


def test_tidy_folds_what_loads_left_and_keeps_every_row_run_and_answer(tmp_path: Path) -> None:
    for at in range(1, 8):
        load(tmp_path, ("NB-1", at, f"Q {at}"), (f"NB-{at + 1}", 1, "Q"))
    with brenvik.open_store(f"lakehouse:{tmp_path}") as store:
        runs, story = store.ledger.runs().to_pylist(), store.change_log(RULES, "NB-1")
        then = store.read(RULES, known_at=5).to_pylist()
    before = rows_of(tmp_path)
    done = compact(tmp_path)
    assert (done["buoy"].files, done["buoy"].deleted) == ((13, 2), (6, 0))
    assert done["buoy"].snapshots == (7, 1)
    assert done["brenvik.change_log_buoy"].files == (7, 1)
    assert done["brenvik.ledger"].files[1] == 1
    assert rows_of(tmp_path) == before
    assert [alive for alive, _ in data_of(tmp_path)] == [{False}, {True}]
    with brenvik.open_store(f"lakehouse:{tmp_path}") as store:
        assert store.ledger.runs().to_pylist() == runs
        assert store.change_log(RULES, "NB-1") == story
        assert store.rebuild(RULES).counts["rows_updated"] == 0
        assert store.revert(RULES, 4).counts["rows_removed"] == 2
        assert store.load(RULES, frame(("NB-1", 4, "Q 4")), kind="upserts").counts["inserted"] == 0
        assert store.read(RULES, known_at=5).to_pylist() == then
    again = compact(tmp_path)
    assert {name: each.files[1] for name, each in again.items()} == {
        "buoy": 2,
        "brenvik.change_log_buoy": 1,
        "brenvik.ledger": 1,
    }


def test_a_run_that_changed_nothing_leaves_nothing_behind_for_the_next(tmp_path: Path) -> None:
    with brenvik.open_store(f"lakehouse:{tmp_path}") as store:
        for at in (1, 3):
            store.load(
                RULES, frame(("NB-9", at, f"Q {at}"), (f"NB-{at}", 1, "Q"), (f"NB-{at + 1}", 1, "Q")), kind="upserts"
            )
        assert store.rebuild(RULES).counts["rows_updated"] == 0
        near = "SELECT count(*) AS n FROM duckdb_tables() WHERE table_name LIKE 'near%'"
        assert store.engine.rows(near) == [{"n": 0}]
        store.compact(RULES, keep=NOTHING)  # each row stands elsewhere now
        late = frame(("NB-9", 2, "late"))
        seen, done = store.preview(RULES, late, kind="upserts"), store.load(RULES, late, kind="upserts")
        assert (seen.counts["rows_updated"], done.counts["rows_updated"]) == (1, 1)
        assert store.history(RULES, "NB-9")["light"].to_pylist() == ["Q 1", "late", "Q 3"]
        assert rows_of(tmp_path) == sorted(map(str, store.read(RULES).to_pylist()))


def test_a_table_in_order_is_left_alone(tmp_path: Path) -> None:
    load(tmp_path, ("NB-1", 1, "Q"))
    load(tmp_path, ("NB-1", 2, "F"))
    compact(tmp_path)
    snapshots_then = [each.snapshot_id for each in others(tmp_path).load_table("main.buoy").snapshots()]
    compact(tmp_path)
    assert [each.snapshot_id for each in others(tmp_path).load_table("main.buoy").snapshots()] == snapshots_then


def test_large_files_stay_and_what_is_gone_of_them_is_told_in_one_file(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(compaction, "ROW_GROUP", 100)
    load(tmp_path, *((f"NB-{number:04}", 1, "Q") for number in range(2000)))
    for at in (2, 3, 4):
        load(tmp_path, *((f"NB-{number:04}", at, "F") for number in range(at * 10, at * 10 + 10)))
    (large,) = (path for path in tmp_path.glob("main/buoy/data/*.parquet") if pq.read_metadata(path).num_rows == 2000)
    before = rows_of(tmp_path)
    done = compact(tmp_path)
    assert large.exists()
    assert (done["buoy"].files, done["buoy"].deleted) == ((7, 3), (30, 30))
    assert len(list(tmp_path.glob("main/buoy/data/*-deletes.parquet"))) == 1
    assert rows_of(tmp_path) == before
    load(tmp_path, *((f"NB-{number:04}", 5, "Q 2") for number in range(100, 200)))
    before = rows_of(tmp_path)
    assert compact(tmp_path)["buoy"].deleted == (130, 0)  # 6.5 % of the file: worth writing it anew
    assert not large.exists()
    assert rows_of(tmp_path) == before


def test_snapshots_stay_as_long_as_is_said_and_what_others_stand_on(tmp_path: Path) -> None:
    for at in range(1, 5):
        load(tmp_path, ("NB-1", at, f"Q {at}"))
    table = others(tmp_path).load_table("main.buoy")
    second = table.snapshots()[1].snapshot_id
    table.manage_snapshots().create_tag(second, "before the storm").commit()
    assert compact(tmp_path, keep="1 day")["buoy"].snapshots == (4, 5)
    assert compact(tmp_path)["buoy"].snapshots == (5, 2)
    then = others(tmp_path).load_table("main.buoy").scan(snapshot_id=second).to_arrow()
    assert current(then) == {"NB-1": "Q 2"}
    with pytest.raises(DeclarationError, match="expected a period, as in '7 days', got 'for long'"):
        compact(tmp_path, keep="for long")


def test_leftovers_go_once_they_are_old_and_what_a_snapshot_names_never(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(lakehouse.LakehouseEngine, "_adopt", lambda self: None)
    load(tmp_path, ("NB-1", 1, "Q"))
    old, young = (tmp_path / "main" / "buoy" / "data" / name for name in ("old.parquet", "young.parquet"))
    for path in (old, young):
        path.write_bytes(b"left by a load that was killed")
    long_ago = time.time() - 2 * 24 * 3600
    for path in tmp_path.rglob("*"):
        if path.is_file() and path != young:
            os.utime(path, (long_ago, long_ago))
    done = compact(tmp_path)
    assert (old.exists(), young.exists()) == (False, True)
    assert (done["buoy"].swept, done["buoy"].swept_bytes) == (1, 30)
    with brenvik.open_store(f"lakehouse:{tmp_path}") as store:
        assert store.ledger.runs()["state"].to_pylist() == ["done"]
    assert current(read(tmp_path)) == current(scan(tmp_path)) == {"NB-1": "Q"}


def test_somebody_else_who_writes_while_a_table_is_put_in_order_is_noticed(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    for at in range(1, 4):
        load(tmp_path, ("NB-1", at, f"Q {at}"))
    chosen, comes = lakehouse.to_rewrite, [1]

    def overtaken(*words: Any) -> set[int]:
        if comes:
            comes.pop()
            others(tmp_path).load_table("main.buoy").delete(EqualTo("light", "Q 1"))
        return chosen(*words)

    monkeypatch.setattr(lakehouse, "to_rewrite", overtaken)
    compact(tmp_path)
    assert comes == []
    assert sorted(scan(tmp_path)["light"].to_pylist()) == sorted(read(tmp_path)["light"].to_pylist()) == ["Q 2", "Q 3"]


def test_manifests_are_folded_when_they_become_many(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(snapshots, "_MANY_MANIFESTS", 4)
    for at in range(1, 10):
        load(tmp_path, ("NB-1", at, f"Q {at}"), (f"NB-{at + 1}", 1, "Q"))
        snapshot = others(tmp_path).load_table("main.buoy").current_snapshot()
        assert snapshot is not None
        assert len(snapshot.manifests(others(tmp_path).load_table("main.buoy").io)) <= 8
    assert current(scan(tmp_path)) == current(read(tmp_path))
    assert scan(tmp_path).num_rows == 18


@pytest.mark.parametrize("address", ["duckdb::memory:", "sqlite::memory:"])
def test_a_store_that_keeps_order_itself_has_nothing_to_compact(address: str) -> None:
    with brenvik.open_store(address) as store:
        store.load(RULES, frame(("NB-1", 1, "Q")), kind="upserts")
        assert store.compact(RULES) == []
