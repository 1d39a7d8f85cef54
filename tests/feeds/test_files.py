"""Files: taken once, in order, of both formats, also when their columns differ."""

from __future__ import annotations

import gzip
import os
import shutil
from datetime import timedelta
from decimal import Decimal
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from cli import brenvik as call

import brenvik
from brenvik.errors import FeedError
from brenvik.feeds.files import FileSource
from brenvik.feeds.protocol import LoadRequest
from sources import load_from

RULES = brenvik.TableRules("buoy", natural_key="code", order_by="at", types={"at": "integer", "colour": "text"})


@pytest.fixture
def store() -> Any:
    with brenvik.open_store("duckdb::memory:") as opened:
        yield opened


def take(store: brenvik.Store, folder: Path, pattern: str = "*", rules: brenvik.TableRules = RULES) -> brenvik.Outcome:
    return load_from(store, rules, FileSource(pattern, folder=folder, name="files", kind="upserts"))


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
    taken = store.ledger.loaded_files("buoy", "files")
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
    seen = load_from(store, RULES, FileSource("*", folder=tmp_path, name="files", kind="upserts"), preview=True)
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
        ("a.parquet", b"PAR1 but not really", "is not a readable Parquet file"),
        ("a.ods", b"", "supported are files that end in .csv, .csv.gz, .jsonl, .jsonl.gz, .parquet"),
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


def put_away(folder: Path, **options: Any) -> FileSource:
    return FileSource("inbox/*.csv", folder=folder, name="files", kind="upserts", **options)


@pytest.fixture
def inbox(tmp_path: Path) -> Path:
    (tmp_path / "inbox").mkdir()
    return tmp_path / "inbox"


def names(folder: Path) -> list[str]:
    return sorted(path.relative_to(folder).as_posix() for path in folder.rglob("*.csv"))


def test_taken_files_are_moved_or_deleted_after_the_commit(store: brenvik.Store, inbox: Path) -> None:
    (inbox / "a.csv").write_text("code,at,light\nA,1,Fl\n")
    source = put_away(inbox.parent, then="move", move_to="loaded/2024")
    load_from(store, RULES, source, preview=True)
    assert names(inbox.parent) == ["inbox/a.csv"]
    load_from(store, RULES, source)
    assert names(inbox.parent) == ["loaded/2024/a.csv"]
    (inbox / "b.csv").write_text("code,at,light\nA,2,Q\n")
    load_from(store, RULES, put_away(inbox.parent, then="delete"))
    assert names(inbox.parent) == ["loaded/2024/a.csv"]
    assert len(rows(store)) == 2
    again = load_from(store, RULES, source, request=LoadRequest(files=("inbox/a.csv",)))
    assert (again.counts["read"], again.counts["duplicate"]) == (1, 1)


def test_a_load_that_fails_moves_nothing(store: brenvik.Store, inbox: Path) -> None:
    (inbox / "a.csv").write_text("code,light\nA,Fl\n")
    with pytest.raises(FeedError):
        load_from(store, RULES, put_away(inbox.parent, then="move", move_to="loaded"))
    assert names(inbox.parent) == ["inbox/a.csv"]


@pytest.mark.parametrize("then", ["move", "delete"])
def test_a_crash_between_commit_and_move_is_put_right_by_the_next_load(
    store: brenvik.Store, inbox: Path, then: Any, monkeypatch: pytest.MonkeyPatch
) -> None:
    class Crash(BaseException):
        pass

    def crash(*_: Any) -> None:
        raise Crash

    (inbox / "a.csv").write_text("code,at,light\nA,1,Fl\n")
    source = put_away(inbox.parent, then=then, move_to="loaded")
    with monkeypatch.context() as patch:
        patch.setattr(FileSource, "_put_away", crash)
        with pytest.raises(Crash):
            load_from(store, RULES, source)
    assert names(inbox.parent) == ["inbox/a.csv"]
    outcome = load_from(store, RULES, source)
    assert outcome.state == "nothing new"
    assert names(inbox.parent) == (["loaded/a.csv"] if then == "move" else [])
    assert len(rows(store)) == 1


def test_a_move_overwrites_nothing_and_tells_what_it_cannot_do(store: brenvik.Store, inbox: Path) -> None:
    taken = inbox.parent / "loaded"
    taken.mkdir()
    (taken / "a.csv").write_text("something else")
    (inbox / "a.csv").write_text("code,at,light\nA,1,Fl\n")
    load_from(store, RULES, put_away(inbox.parent, then="move", move_to="loaded"))
    assert names(inbox.parent) == ["loaded/a (2).csv", "loaded/a.csv"]
    assert (taken / "a.csv").read_text() == "something else"
    (inbox / "b.csv").write_text("code,at,light\nA,2,Q\n")
    (inbox.parent / "file").write_text("in the way")
    outcome = load_from(store, RULES, put_away(inbox.parent, then="move", move_to="file"))
    assert outcome.state == "done"
    assert any("b.csv was loaded but cannot be moved" in note for note in outcome.notes)


def test_files_come_in_the_order_of_the_number_or_date_in_their_names(store: brenvik.Store, tmp_path: Path) -> None:
    rules = brenvik.TableRules("buoy", natural_key="code", types={"light": "text"})
    for number in (10, 9, 1):
        (tmp_path / f"buoy_{number}.csv").write_text(f"code,light\nA,{number}\n")
    source = FileSource("*.csv", folder=tmp_path, name="files", kind="upserts", order=r"_(\d+)")
    outcome = load_from(store, rules, source)
    assert [row["file"] for row in outcome.decisions().to_pylist()] == ["buoy_1.csv", "buoy_9.csv", "buoy_10.csv"]
    (tmp_path / "float.csv").write_text("code,light\nA,x\n")
    with pytest.raises(FeedError, match=r"float.csv does not match file_order"):
        load_from(store, rules, source)


def test_a_file_still_being_written_is_left_for_the_next_load(store: brenvik.Store, tmp_path: Path) -> None:
    path = tmp_path / "a.csv"
    path.write_text("code,at,light\nA,1,F")
    source = FileSource("*.csv", folder=tmp_path, name="files", kind="upserts", min_age=timedelta(minutes=1))
    outcome = load_from(store, RULES, source)
    assert (outcome.state, outcome.notes) == (
        "nothing new",
        ["a.csv may still be being written; left for the next load."],
    )
    path.write_text("code,at,light\nA,1,Fl\n")
    os.utime(path, (path.stat().st_atime, path.stat().st_mtime - 61))
    assert load_from(store, RULES, source).counts["inserted"] == 1


def test_everything_can_be_taken_again_also_what_was_moved(store: brenvik.Store, inbox: Path) -> None:
    for number in (1, 2, 3):
        (inbox / f"{number}.csv").write_text(f"code,at,light\nA,{number},{number}\n")
        source = put_away(inbox.parent, then="move", move_to="loaded")
        if number < 3:
            load_from(store, RULES, source)
    outcome = load_from(store, RULES, source, request=LoadRequest(everything=True))
    assert (outcome.counts["duplicate"], outcome.counts["versioned"]) == (2, 1)
    assert load_from(store, RULES, source).state == "nothing new"
    assert names(inbox.parent) == ["loaded/1.csv", "loaded/2.csv", "loaded/3.csv"]


@pytest.mark.parametrize("then", ["move", "delete"])
def test_a_file_that_grows_while_it_is_taken_stays(store: brenvik.Store, inbox: Path, then: Any) -> None:
    (inbox / "a.csv").write_text("code,at,light\nA,1,Fl\n")
    source = put_away(inbox.parent, then=then, move_to="loaded")

    def grow(rows: int) -> None:
        with (inbox / "a.csv").open("a") as file:
            file.write("B,1,Q\n")

    outcome = load_from(store, RULES, source, watch=grow)
    assert "inbox/a.csv changed while it was being loaded; it was left in place." in outcome.notes
    assert names(inbox.parent) == ["inbox/a.csv"]
    assert any("has changed since" in note for note in load_from(store, RULES, source).notes)


def test_a_file_that_changed_under_its_name_is_told_until_somebody_takes_it(tmp_path: Path) -> None:
    (tmp_path / "brenvik.toml").write_text(
        'store = "duckdb:coast.duckdb"\n[table.buoy]\nnatural_key = ["code"]\norder_by = ["at"]\ntypes = {at = "integer"}\n'
        '[table.buoy.feed.nightly]\nkind = "upserts"\nfiles = "in/*.csv"\n'
    )
    (tmp_path / "in").mkdir()
    file = tmp_path / "in" / "buoys.csv"
    file.write_text("code,at,light\nA,1,Q\n")
    assert call("load", cwd=tmp_path).code == 0
    assert call("status", cwd=tmp_path).code == 0
    os.utime(file, (1, 1))  # written again, and the same
    assert call("status", cwd=tmp_path).code == 0
    file.write_text("code,at,light\nA,2,Fl\n")
    status = call("status", "--json", cwd=tmp_path)
    assert (status.code, status.json["tables"][0]["needs_attention"]) == (4, True)
    assert "in/buoys.csv was loaded by run 1 and has changed since" in call("status", cwd=tmp_path).out
    assert "needs attention: feed nightly: in/buoys.csv was loaded by run 1" in call("check", cwd=tmp_path).out
    assert call("load", cwd=tmp_path).out.count("has changed since") == 1
    project = (tmp_path / "brenvik.toml").read_text()
    (tmp_path / "brenvik.toml").write_text(project + 'rewritten_files = "load"\n')
    assert call("load", "--json", cwd=tmp_path).json["outcomes"][0]["counts"]["versioned"] == 1
    assert call("status", cwd=tmp_path).code == 0
    (tmp_path / "brenvik.toml").write_text(project + 'rewritten_files = "yes"\n')
    assert 'rewritten_files: expected "report" or "load", got \'yes\'' in call("check", cwd=tmp_path).err


def test_a_folder_that_is_not_there_and_a_pattern_that_never_matched_are_told(tmp_path: Path) -> None:
    rules = 'store = "duckdb:coast.duckdb"\n[table.buoy]\nnatural_key = ["code"]\n[table.buoy.feed.nightly]\nkind = "upserts"\n'
    (tmp_path / "brenvik.toml").write_text(rules + 'files = "inn/*.csv"\n')
    (tmp_path / "in").mkdir()
    for command in ("load", "preview"):
        told = call(command, cwd=tmp_path)
        assert (told.code, f"the folder {tmp_path / 'inn'} does not exist" in told.out) == (1, True), told
    assert call("check", cwd=tmp_path).code == 2
    assert "does not exist" in call("status", cwd=tmp_path).out
    (tmp_path / "brenvik.toml").write_text(rules + 'files = "in/*.cvs"\n')
    assert call("load", cwd=tmp_path).code == 0
    status, checked = call("status", cwd=tmp_path), call("check", cwd=tmp_path)
    assert (status.code, "has ever matched in/*.cvs" in status.out) == (4, True)
    assert (checked.code, "has ever matched in/*.cvs" in checked.out) == (2, True)


def test_files_that_stay_are_not_read_again(
    store: brenvik.Store, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    for number in range(450):
        (tmp_path / f"{number:03}.csv").write_text(f"code,at,light\nK{number},1,Q\n")
    statements: list[str] = []
    run = store.engine.run
    monkeypatch.setattr(store.engine, "run", lambda text, *a, **k: (statements.append(text), run(text, *a, **k))[1])
    assert take(store, tmp_path).counts["inserted"] == 450
    assert sum(text.startswith('INSERT INTO "brenvik"."loaded_files"') for text in statements) == 3  # by 200 at a time
    monkeypatch.setattr(FileSource, "_digest", lambda _, name: pytest.fail(f"{name} was read"))
    assert take(store, tmp_path).state == "nothing new"


INBOX = """
store = "duckdb:coast.duckdb"

[table.buoy]
natural_key = "code"
order_by = "at"
types = { at = "integer" }

[table.buoy.feed.files]
kind = "upserts"
files = "*.csv*"
"""


def test_each_file_is_a_run_of_its_own_where_declared(tmp_path: Path) -> None:
    for number in (1, 2, 3):
        (tmp_path / f"{number}.csv").write_text(f"code,at,light\nA,{number},Fl\n")
    (tmp_path / "brenvik.toml").write_text(f"{INBOX}one_run_per_file = true\n")
    assert "This shows the first file only" in call("preview", "buoy", cwd=tmp_path).out
    done = call("load", "--json", cwd=tmp_path)
    assert [(outcome["run"], outcome["source"]) for outcome in done.json["outcomes"]] == [
        (1, "1.csv"),
        (2, "2.csv"),
        (3, "3.csv"),
    ]
    assert call("revert", "2", "--reason", "wrong", cwd=tmp_path).code == 0
    assert call("load", "--json", cwd=tmp_path).json["outcomes"][0]["state"] == "nothing new"
    again = call("load", "buoy", "--from-start", "--json", cwd=tmp_path).json[
        "outcomes"
    ]  # what is loaded again is one run
    assert [(outcome["run"], outcome["counts"]["read"]) for outcome in again] == [(5, 3)]


@pytest.mark.parametrize("alone", [True, False])
def test_an_unreadable_file_is_moved_away_and_the_others_are_loaded(alone: bool, tmp_path: Path) -> None:
    good = "code,at,light\n" + "".join(f"A{n},1,Fl\n" for n in range(2_000))
    (tmp_path / "1.csv").write_text("code,at,light\nA,1,Fl\n")
    (tmp_path / "2.csv.gz").write_bytes(gzip.compress(good.encode())[:-200])  # cut off
    (tmp_path / "3.csv").write_bytes("code,at,light\nB,1,Øst\n".encode("latin-1"))
    (tmp_path / "4.csv").write_text("code,at,light\nC,1,Fl\n")
    (tmp_path / "5.csv").write_text("code,code,at\nC,1,Fl\n")
    stopping = f"{INBOX}one_run_per_file = {str(alone).lower()}\n"
    (tmp_path / "brenvik.toml").write_text(stopping)
    assert call("load", "--json", cwd=tmp_path).json["outcomes"][-1]["state"] == "failed"
    (tmp_path / "brenvik.toml").write_text(f'{stopping}unreadable_files = {{ move_to = "unreadable/" }}\n')
    seen = call("preview", "buoy", "--json", cwd=tmp_path)
    assert (seen.code, [outcome["state"] for outcome in seen.json["outcomes"]][-1]) == (1, "preview")
    assert "A load moves it away and continues with the other files." in call("check", cwd=tmp_path).out
    assert not (tmp_path / "unreadable").exists()  # a preview writes nothing
    done = call("load", "--json", cwd=tmp_path)
    assert done.code == 1
    states = [outcome["state"] for outcome in done.json["outcomes"]]
    assert states == (["failed", "failed", "done", "failed", "nothing new"] if alone else ["failed"] * 3 + ["done"])
    assert sorted(path.name for path in (tmp_path / "unreadable").iterdir()) == ["2.csv.gz", "3.csv", "5.csv"]
    messages = [outcome["error"] for outcome in done.json["outcomes"] if outcome["error"]]
    assert all("It was moved to unreadable/" in message for message in messages)
    with brenvik.open_store(f"duckdb:{tmp_path / 'coast.duckdb'}") as store:
        assert [row["code"] for row in store.read(RULES).to_pylist()] == ["A", "C"]
        assert [
            run["message"] for run in store.runs().to_pylist() if run["state"] == "failed" and "moved" in run["message"]
        ]
    again = call("load", "--json", cwd=tmp_path)
    assert (again.code, again.json["outcomes"][0]["state"]) == (0, "nothing new")
    (tmp_path / "unreadable" / "3.csv").write_text("code,at,light\nB,1,Q\n")
    shutil.move(tmp_path / "unreadable" / "3.csv", tmp_path / "3.csv")  # mended and put back
    assert call("load", "--json", cwd=tmp_path).json["outcomes"][0]["counts"]["inserted"] == 1
