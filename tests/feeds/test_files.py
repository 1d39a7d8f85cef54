"""Files: taken once, in order, of both formats, also when their columns differ."""

from __future__ import annotations

from decimal import Decimal
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.parquet as pq
import pytest

import brenvik
from brenvik.errors import FeedError
from brenvik.feeds.files import FileSource

RULES = brenvik.TableRules("buoy", natural_key="code", order_by="at", types={"at": "integer", "colour": "text"})


@pytest.fixture
def store() -> Any:
    with brenvik.open_store("duckdb::memory:") as opened:
        yield opened


def take(store: brenvik.Store, folder: Path, pattern: str = "*", rules: brenvik.TableRules = RULES) -> brenvik.Outcome:
    return store.load_from(rules, FileSource(pattern, folder=folder, name="files", kind="upserts"))


def rows(store: brenvik.Store) -> list[tuple[Any, ...]]:
    found = store.read(RULES).to_pylist()
    return [(row["code"], row["light"], row.get("colour"), row["valid_from"], row["valid_to"]) for row in found]


def test_files_are_taken_once_in_the_order_of_their_names(store: brenvik.Store, tmp_path: Path) -> None:
    (tmp_path / "b.csv").write_text("code,at,light\nA,2,Q\n")
    (tmp_path / "a.csv").write_text("code,at,light\nA,1,Fl\n")
    outcome = take(store, tmp_path)
    assert outcome.source == "a.csv … b.csv (2 files)"
    assert outcome.decisions().select(["file", "line", "decision"]).to_pylist() == [
        {"file": "a.csv", "line": 2, "decision": "inserted"},
        {"file": "b.csv", "line": 2, "decision": "versioned"},
    ]
    assert take(store, tmp_path).state == "nothing new"
    (tmp_path / "c.csv").write_text("code,at,light\nA,3,Fl\n")
    assert take(store, tmp_path).source == "c.csv"
    taken = store.ledger.taken_files("buoy", "files")
    assert {name: (file.run, file.number) for name, file in taken.items()} == {
        "a.csv": (1, 1), "b.csv": (1, 2), "c.csv": (2, 1),
    }  # fmt: skip


def test_csv_and_parquet_with_different_columns_in_one_load(store: brenvik.Store, tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("code,at,light\nA,1,Fl\n")
    pq.write_table(pa.table({"code": ["A"], "at": [2], "colour": ["red"]}), tmp_path / "b.parquet")
    (tmp_path / "c.csv").write_text("at,colour,code,light\n3,,A,Q\n")
    outcome = take(store, tmp_path)
    assert rows(store) == [("A", "Fl", None, 1, 2), ("A", "Fl", "red", 2, 3), ("A", "Q", None, 3, None)]
    assert any("b.parquet has no light" in note for note in outcome.notes)


def test_a_new_column_comes_later_and_old_rows_do_not_have_it(store: brenvik.Store, tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("code,at,light\nA,1,Fl\nB,1,Q\n")
    take(store, tmp_path)
    (tmp_path / "b.csv").write_text("code,at,light,region\nA,2,Fl,north\nB,2,Q,\n")
    seen = store.load_from(RULES, FileSource("*", folder=tmp_path, name="files", kind="upserts"), preview=True)
    done = take(store, tmp_path)
    assert seen.counts == done.counts
    assert (done.counts["versioned"], done.counts["unchanged"]) == (1, 1)
    assert [(row["code"], row["region"]) for row in store.read(RULES).to_pylist()] == [
        ("A", None), ("A", "north"), ("B", None),
    ]  # fmt: skip


def test_the_same_columns_of_other_types_are_cast(store: brenvik.Store, tmp_path: Path) -> None:
    pq.write_table(pa.table({"code": ["A"], "at": [1], "light": [7]}), tmp_path / "a.parquet")
    pq.write_table(pa.table({"code": ["A", "B"], "at": [2, 2], "light": ["8", "x"]}), tmp_path / "b.parquet")
    rules = brenvik.TableRules("buoy", natural_key="code", order_by="at", types={"at": "integer", "light": "integer"})
    outcome = take(store, tmp_path, rules=rules)
    assert outcome.counts["rejected"] == 1
    assert [row["light"] for row in store.read(rules).to_pylist()] == [7, 8]


def test_parquet_types_arrive_exactly(store: brenvik.Store, tmp_path: Path) -> None:
    big, fine = Decimal(2**64 + 1), Decimal("0.000001")
    table = pa.table(
        {
            "code": ["A"],
            "at": [1],
            "big": pa.array([big], pa.decimal128(38, 0)),
            "fine": pa.array([fine], pa.decimal128(18, 6)),
            "unsigned": pa.array([2**64 - 1], pa.uint64()),
            "words": pa.array(["x"]).dictionary_encode(),
        }
    )
    pq.write_table(table, tmp_path / "a.parquet")
    take(store, tmp_path)
    (row,) = store.read(RULES).to_pylist()
    assert (row["big"], row["fine"], row["unsigned"], row["words"]) == (big, fine, Decimal(2**64 - 1), "x")


@pytest.mark.parametrize(
    ("name", "content", "told"),
    [
        ("a.parquet", b"PAR1 but not really", "is no Parquet file"),
        ("a.xlsx", b"", "known are files that end in .csv or .parquet"),
    ],
)
def test_what_cannot_be_read_is_told(
    store: brenvik.Store, tmp_path: Path, name: str, content: bytes, told: str
) -> None:
    (tmp_path / name).write_bytes(content)
    with pytest.raises(FeedError, match=told):
        take(store, tmp_path)


def test_a_parquet_column_that_no_table_can_hold_is_told(store: brenvik.Store, tmp_path: Path) -> None:
    pq.write_table(pa.table({"code": ["A"], "at": [1], "tags": [["x"]]}), tmp_path / "a.parquet")
    with pytest.raises(FeedError, match="tags"):
        take(store, tmp_path)
