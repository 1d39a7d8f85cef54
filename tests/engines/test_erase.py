"""A key that is erased: nothing of it is left in the table, the ledger or any file, and it does not come back."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path
from typing import Any

import psycopg
import pyarrow as pa
import pytest
from cli import brenvik as call

import brenvik
from brenvik.engines.duckdb.engine import DuckDBEngine
from brenvik.errors import Busy, DeclarationError

RULES = brenvik.TableRules(
    "keeper",
    natural_key="code",
    order_by="no",
    type_1="name",
    deletes="review",
    max_deletes=None,
    types={"boats": "integer"},
)
SECRET = b"Hemmelig"
"""What the values of the key to erase begin with."""


def changes(*rows: tuple[str, str, int, str, str, str]) -> pa.Table:
    return pa.table(
        dict(zip(("op", "code", "no", "name", "town", "boats"), map(list, zip(*rows, strict=True)), strict=True))
    )


def load(store: brenvik.Store, *rows: tuple[str, str, int, str, str, str]) -> brenvik.Outcome:
    return store.load(RULES, changes(*rows), kind="changes", operation="op")


def fill(store: brenvik.Store) -> None:
    """Versions, ties, a reject and a pending delete of the key; and others."""
    load(store, ("I", "Hemmelig AS", 1, "Hemmelig Olsen", "Hemmeligvik", "1"), *(
        ("I", f"K{number}", 1, f"Olsen {number}", "Halvorsund", "1") for number in range(200)
    ))  # fmt: skip
    load(
        store, ("U", "Hemmelig AS", 3, "Hemmelig Olsen", "Hemmelighamn", "2"), ("U", "K1", 2, "Nes", "Halvorsund", "1")
    )
    load(
        store,
        ("U", "Hemmelig AS", 4, "Hemmelig A", "Hemmeligby", "2"),
        ("U", "Hemmelig AS", 4, "Hemmelig B", "Hemmeligby", "2"),
        ("U", "Hemmelig AS", 5, "Hemmelig C", "Hemmeligby", "many"),
        ("U", "K2", 5, "Nes", "Halvorsund", "many"),
    )
    load(store, ("D", "Hemmelig AS", 6, "", "", "1"))
    assert store.pending_deletes(RULES).num_rows == 1


def left(address: str, folder: Path) -> dict[str, int]:
    """The files that have the values of the key, with how often. Of a server they are those of the database: its journal goes
    its own way."""
    if address.startswith("postgresql:"):
        with psycopg.connect(address, autocommit=True) as connection:
            connection.execute("CHECKPOINT")
            ((place,),) = connection.execute("SHOW data_directory").fetchall()
            ((oid,),) = connection.execute("SELECT oid FROM pg_database WHERE datname = current_database()").fetchall()
            ((statistics,),) = connection.execute("SELECT pg_relation_filepath('pg_statistic')").fetchall()
        files = [path for path in (Path(place) / "base" / str(oid)).iterdir() if not statistics.endswith(path.name)]
    else:
        files = [path for path in folder.rglob("*") if path.is_file()]
    counts = {path.name: path.read_bytes().count(SECRET) for path in files}
    return {name: count for name, count in counts.items() if count}


def plain(store: brenvik.Store) -> list[dict[str, Any]]:
    return store.read(RULES).to_pylist()


def test_nothing_is_left_of_it_in_any_file(address: str, tmp_path: Path) -> None:
    with brenvik.open_store(address) as store:
        fill(store)
        others = [row for row in plain(store) if row["code"] != "Hemmelig AS"]
        ahead = store.erase(RULES, "Hemmelig AS", preview=True)
        assert plain(store) != others
        outcome = store.erase(RULES, "Hemmelig AS", reason="asked for it")
        assert ahead.counts == outcome.counts
        assert [note.replace("To erase", "Erased") for note in ahead.notes] == outcome.notes
        assert outcome.notes == [
            "Erased: 3 rows, 5 changes in the log, 1 reject, 1 pending delete, 1 message of a run."
        ]
        assert left(address, tmp_path) == {}
        assert plain(store) == others
        assert store.history(RULES, "Hemmelig AS").num_rows == 0
        assert store.pending_deletes(RULES).num_rows == 0
        assert [row["content"] for row in store.rejects().to_pylist() if row["content"]]  # that of K2
        store.rebuild(RULES)
        store.revert(RULES, 2)
        load(store, ("U", "K3", 9, "Vik", "Halvorsund", "1"), ("U", "K4", 0, "Vik", "Halvorsund", "1"))
        assert {row["code"] for row in plain(store)} == {row["code"] for row in others}
    with brenvik.open_store(address) as store:
        assert {row["code"] for row in plain(store)} == {row["code"] for row in others}
        assert left(address, tmp_path) == {}


def test_it_does_not_come_back_until_it_is_allowed(address: str, tmp_path: Path) -> None:
    again = [
        ("I", "Hemmelig AS", 10, "Hemmelig Olsen", "Hemmeligvik", "1"),
        ("U", "Hemmelig AS", 11, "Hemmelig Olsen", "Hemmeligvik", "some"),
        ("U", "K1", 12, "Nes", "Halvorsund", "1"),
    ]
    with brenvik.open_store(address) as store:
        fill(store)
        run = store.erase(RULES, "Hemmelig AS", reason="asked for it").run
        state = store.ledger.state("keeper")
        ahead = store.preview(RULES, changes(*again), kind="changes", operation="op")
        outcome = load(store, *again)
        assert ahead.counts == outcome.counts
        assert (outcome.counts["ignored"], outcome.counts["unchanged"], outcome.counts["rejected"]) == (2, 1, 0)
        assert "2 rows are of keys that were erased; ignored." in outcome.notes
        assert outcome.decisions()["reason"].to_pylist()[:2] == ["the key was erased"] * 2
        outcome.decision_log = None  # the working tables go
        assert left(address, tmp_path) == {}
        allowed = store.revert(RULES, int(run or 0), reason="came back")
        assert allowed.notes == ["The key can be loaded again; what was erased stays so."]
        assert state and store.ledger.state("keeper").high_order == ("12",)  # type: ignore[union-attr]
        assert load(store, *again).counts["inserted"] == 1
        store.revert(RULES, int(run or 0), undo=True)
        assert load(store, ("U", "Hemmelig AS", 20, "x", "y", "1")).counts["ignored"] == 1


def test_on_the_command_line(tmp_path: Path) -> None:
    (tmp_path / "brenvik.toml").write_text(
        'store = "duckdb:coast.duckdb"\n[table.keeper]\nnatural_key = "code"\n'
        '[table.keeper.feed.office]\nkind = "upserts"\nfiles = "*.csv"\n',
        encoding="utf-8",
    )
    (tmp_path / "keeper.csv").write_text("code,name\nK1,Hemmelig Olsen\nK2,Nes\n", encoding="utf-8")
    assert call("load", cwd=tmp_path).code == 0
    ahead = call("erase", "keeper", "K1", "--preview", cwd=tmp_path)
    assert [line.strip() for line in ahead.out.splitlines() if line][1:] == [
        "2 rows + 0 added − 1 removed = 1",
        "To erase: 1 row, 1 change in the log.",
        "to erase it   brenvik erase keeper KEY --reason TEXT",
    ]
    assert "Give a reason" in call("erase", "keeper", "K1", "--yes", cwd=tmp_path).err
    refused = call("erase", "keeper", "K1", "--reason", "asked for it", cwd=tmp_path)
    assert (refused.code, "use --yes to erase without it" in refused.err) == (2, True)
    done = call("erase", "keeper", "K1", "--reason", "asked for it", "--yes", cwd=tmp_path)
    assert done.out.splitlines()[-1] == "  to allow it again   brenvik revert 2"
    assert b"Hemmelig" not in (tmp_path / "coast.duckdb").read_bytes()
    again = call("load", "--from-start", cwd=tmp_path)
    assert "1 row is of a key that was erased; ignored." in again.out
    assert call("history", "keeper", "K1", cwd=tmp_path).code == 1
    assert call("revert", "2", "--reason", "came back", cwd=tmp_path).code == 0
    assert call("load", "--from-start", "--json", cwd=tmp_path).json["outcomes"][0]["counts"]["inserted"] == 1


def test_extracts_and_ties_leave_it_out_as_well(anywhere: brenvik.Store) -> None:
    rules = brenvik.TableRules("firm", natural_key=["code", "branch"], ties="reject", max_deletes=None)

    def extract(day: int, *rows: tuple[str, int, str]) -> brenvik.Outcome:
        frame = pa.table(dict(zip(("code", "branch", "name"), map(list, zip(*rows, strict=True)), strict=True)))
        return anywhere.load(rules, frame, kind="full_extract", at=f"2024-05-{day:02}")

    extract(1, ("A", 1, "x"), ("A", 2, "x"), ("B", 1, "x"))
    anywhere.erase(rules, {"code": "A", "branch": 1}, reason="asked for it")
    anywhere.erase(rules, {"code": "C", "branch": 1}, reason="before it ever came")
    outcome = extract(2, ("A", 1, "y"), ("A", 2, "y"), ("B", 1, "x"), ("C", 1, "x"), ("A", 1, "z"))
    counts = {name: count for name, count in outcome.counts.items() if count and not name.startswith("rows")}
    assert counts == {"read": 5, "versioned": 1, "unchanged": 1, "ignored": 3}
    assert {(row["code"], row["branch"]) for row in anywhere.read(rules).to_pylist()} == {("A", 2), ("B", 1)}


def test_a_key_in_another_spelling(anywhere: brenvik.Store) -> None:
    rules = brenvik.TableRules(
        "firm", natural_key="code", natural_key_form=["upper", "blanks"], types={"no": "integer"}
    )
    rows = pa.table({"code": ["a 1", "b 1", "A  1"], "no": ["1", "1", "one"]})
    anywhere.load(rules, rows, kind="upserts")
    assert anywhere.erase(rules, " A 1", reason="asked for it").notes == [
        "Erased: 1 row, 1 change in the log, 1 reject."
    ]
    assert anywhere.load(rules, rows, kind="upserts").counts["ignored"] == 2
    assert [row["code"] for row in anywhere.read(rules).to_pylist()] == ["B 1"]


def test_a_short_key_erases_nothing_of_others(anywhere: brenvik.Store) -> None:
    rules = brenvik.TableRules("visit", natural_key="no", types={"no": "integer", "crew": "integer", "at": "timestamp"})
    rows = pa.table({"no": ["1", "2", "1", "x"], "crew": ["1", "1", "many", "1"], "at": ["2024-05-01"] * 4})
    anywhere.load(rules, rows, kind="upserts")
    assert anywhere.rejects().num_rows == 2
    outcome = anywhere.erase(rules, 1, reason="asked for it")
    assert outcome.notes == ["Erased: 1 row, 1 change in the log, 1 reject."]
    assert [row["value"] for row in anywhere.rejects().to_pylist()] == ["x"]


def test_what_cannot_be_erased(anywhere: brenvik.Store) -> None:
    with pytest.raises(DeclarationError, match="never been loaded"):
        anywhere.erase(RULES, "K1", reason="x")
    with pytest.raises(DeclarationError, match="no natural key"):
        anywhere.erase(brenvik.TableRules("log"), "K1", reason="x")
    fill(anywhere)
    assert anywhere.erase(RULES, "K999", reason="x").notes == ["Erased: nothing."]
    with pytest.raises(DeclarationError, match="runs that erased keys are reverted by themselves"):
        anywhere.revert(RULES, 2, 5)


def die(address: str, step: str) -> None:
    """Erases the key in a process that ends with a step of the rewriting: a copy is written, or is in place."""
    store = brenvik.open_store(address)
    fill(store)
    whole = getattr(DuckDBEngine, step)

    def dies(*words: Any, **how: Any) -> None:
        if step == "_copy_into":
            whole(*words, **how)
        os._exit(7)

    setattr(DuckDBEngine, step, dies)
    store.erase(RULES, "Hemmelig AS", reason="asked for it")


@pytest.mark.parametrize("step", ["_copy_into", "_open"])
def test_a_process_that_dies_while_a_file_is_rewritten(tmp_path: Path, step: str) -> None:
    address, here = f"duckdb:{tmp_path / 'coast.duckdb'}", Path(__file__).parent
    script = "import sys; sys.path[:0] = sys.argv[1:3]; import test_erase; test_erase.die(*sys.argv[3:])"
    words = [sys.executable, "-c", script, here, here.parent / "end_to_end", address, step]
    assert subprocess.run(words, check=False).returncode == 7
    with brenvik.open_store(address) as store:
        assert len(plain(store)) == 200
        assert store.erase(RULES, "Hemmelig AS", reason="once more").notes == ["Erased: nothing."]
        assert left(address, tmp_path) == {}
        load(store, ("U", "K3", 9, "Vik", "Halvorsund", "1"))
        assert not store.engine.has_table("brenvik_scrubbed")
    assert [path.name for path in tmp_path.iterdir()] == ["coast.duckdb"]


def test_a_file_that_is_open_elsewhere_stays_as_it_is(tmp_path: Path) -> None:
    """DuckDB shares one database among the connections of a process: it cannot be put in place of another, then."""
    address = f"duckdb:{tmp_path / 'coast.duckdb'}"
    with brenvik.open_store(address) as store, brenvik.open_store(address) as other:
        fill(store)
        with pytest.raises(Busy, match="another connection of this process has the file open"):
            store.erase(RULES, "Hemmelig AS", reason="asked for it")
        assert "Hemmelig AS" not in {row["code"] for row in plain(other)}
        assert [path.name for path in tmp_path.iterdir() if "replaced" in path.name or "scrubbed" in path.name] == []
    with brenvik.open_store(address) as store:
        store.erase(RULES, "Hemmelig AS", reason="once more")
        assert left(address, tmp_path) == {}
        assert len(plain(store)) == 200
