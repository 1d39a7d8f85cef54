"""What someone else does to a store beside Brenvik is told, and never made worse: rows, entries of the change log, tables,
columns and entries of the ledger that were changed or taken away."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest

import brenvik
from brenvik.errors import (
    ChangesMissing,
    DeclarationError,
    ForeignTable,
    InvariantBroken,
    LedgerVersionError,
    StoreError,
)
from brenvik.project.check import check_table
from scripts import execute, is_lakehouse

RULES = brenvik.TableRules("buoy", natural_key="code", order_by="at")
LOG = '"brenvik"."change_log_buoy"'


def load(store: brenvik.Store, *rows: tuple[str, str, int, str | None]) -> brenvik.Outcome:
    ops, codes, times, lights = zip(*rows, strict=True)
    frame = pa.table({"op": ops, "code": codes, "at": times, "light": pa.array(lights, pa.string())})
    return store.load(RULES, frame, kind="changes", operation="op")


@pytest.fixture
def loaded(anywhere: brenvik.Store) -> brenvik.Store:
    """NB-1 with two versions and NB-2, which was deleted, of two runs."""
    load(anywhere, ("I", "NB-1", 1, "Fl"), ("I", "NB-2", 1, "Q"))
    load(anywhere, ("U", "NB-1", 3, "Oc"), ("D", "NB-2", 3, None))
    return anywhere


by_hand = execute


def versions(store: brenvik.Store) -> list[tuple[Any, ...]]:
    names = ("code", "light", "valid_from", "valid_to", "is_current", "is_deleted")
    return [tuple(row[name] for name in names) for row in store.read(RULES).to_pylist()]


def told_by_check(store: brenvik.Store, folder: Path) -> list[str]:
    (folder / "feed").mkdir(exist_ok=True)
    (folder / "feed" / "one.csv").write_text("op,code,at,light\n")
    (folder / "brenvik.toml").write_text(
        'name = "coast"\nstore = "duckdb::memory:"\n[table.buoy]\nnatural_key = "code"\norder_by = "at"\n'
        'types = { at = "integer" }\n[table.buoy.feed.changes]\nfiles = "feed/*.csv"\nkind = "changes"\noperation = "op"\n'
    )
    finding = check_table(brenvik.read_project(folder / "brenvik.toml"), "buoy", store)
    assert not finding.faults
    return finding.attention


DAMAGE = {
    "a doubled version": (
        'INSERT INTO "buoy" SELECT * FROM "buoy" t WHERE t."code" = \'NB-1\' AND t."valid_from" = 3',
        "keys with several current rows: 1",
    ),
    "a version that is open again": (
        'UPDATE "buoy" SET "valid_to" = NULL, "is_current" = TRUE WHERE "code" = \'NB-1\' AND "valid_from" = 1',
        "keys with several current rows: 1",
    ),
    "a flag that says otherwise": (
        'UPDATE "buoy" SET "is_current" = TRUE WHERE "code" = \'NB-1\' AND "valid_from" = 1',
        "rows that are current by is_current and not by valid_to, or the reverse: 1",
    ),
    "a row that is gone": ('DELETE FROM "buoy" WHERE "code" = \'NB-2\'', "has 2 rows; after the last run it had 3"),
}


@pytest.mark.parametrize("damage", DAMAGE)
def test_a_check_finds_damaged_rows_and_a_rebuild_puts_them_right(
    loaded: brenvik.Store, tmp_path: Path, damage: str
) -> None:
    whole = versions(loaded)
    assert told_by_check(loaded, tmp_path) == []
    statement, fault = DAMAGE[damage]
    if is_lakehouse(loaded) and statement.startswith("INSERT"):
        statement = statement.replace("*", f"{', '.join(loaded.read(RULES).column_names)}")
    by_hand(loaded, statement)
    assert fault in " ".join(told_by_check(loaded, tmp_path))
    assert all("brenvik rebuild buoy" in told for told in told_by_check(loaded, tmp_path))
    done = loaded.rebuild(RULES).counts
    assert done["rows_added"] + done["rows_updated"] + done["rows_removed"] == 1
    assert versions(loaded) == whole
    assert told_by_check(loaded, tmp_path) == []


def test_a_load_that_meets_doubled_rows_says_what_finds_them(loaded: brenvik.Store) -> None:
    columns = ", ".join(f'"{name}"' for name in loaded.read(RULES).column_names)
    by_hand(loaded, f'INSERT INTO "buoy" ({columns}) SELECT {columns} FROM "buoy" WHERE "code" = \'NB-1\'')
    with pytest.raises(InvariantBroken, match=r"brenvik check buoy shows .* brenvik rebuild buoy repairs them"):
        load(loaded, ("U", "NB-1", 9, "Iso"))


LATE = ("U", "NB-1", 2, "late")
LOSSES = {
    "all": f"DELETE FROM {LOG}",
    "one key": f"DELETE FROM {LOG} WHERE \"code\" = 'NB-1'",
    "one version": f'DELETE FROM {LOG} WHERE "code" = \'NB-1\' AND "brenvik_effective_at" = 1',
}


@pytest.mark.parametrize("loss", LOSSES)
@pytest.mark.parametrize("run", ["late change", "preview", "revert", "rebuild"])
def test_history_that_no_change_accounts_for_stops_the_run(
    loaded: brenvik.Store, loss: str, run: str, tmp_path: Path
) -> None:
    runs: dict[str, Callable[[], object]] = {
        "late change": lambda: load(loaded, LATE),
        "preview": lambda: loaded.preview(
            RULES, pa.table({"code": ["NB-1"], "at": [2], "light": ["late"]}), kind="upserts"
        ),
        "revert": lambda: loaded.revert(RULES, 2),
        "rebuild": lambda: loaded.rebuild(RULES),
    }
    whole = loaded.read(RULES)
    by_hand(loaded, LOSSES[loss])
    if run == "revert" and loss != "one version":
        assert load(
            loaded, ("U", "NB-1", 4, "Iso")
        ).run  # an on-time change needs no log, and is what can be taken back
        whole = loaded.read(RULES)
        runs["revert"] = lambda: loaded.revert(RULES, 3)
    with pytest.raises(ChangesMissing, match=r"Rows of .*NB-1\) have no change in the log"):
        runs[run]()
    assert loaded.read(RULES).equals(whole)
    (told,) = told_by_check(loaded, tmp_path)
    assert "have no change in the log" in told


def test_a_person_decides_whether_the_table_or_the_log_is_right(loaded: brenvik.Store) -> None:
    whole = loaded.read(RULES)
    by_hand(loaded, LOSSES["one key"], f'DELETE FROM {LOG} WHERE "code" = \'NB-2\' AND "brenvik_delete" = 1')
    seen = loaded.rebuild(RULES, unlogged="keep", preview=True)
    kept = loaded.rebuild(RULES, unlogged="keep")
    assert (
        seen.notes
        == kept.notes
        == ["Rows of 2 keys (the first NB-1) have no change in the log; they are logged as changes of this run."]
    )
    assert (kept.counts["rows_updated"], kept.counts["rows_added"], kept.counts["rows_removed"]) == (0, 0, 0)
    assert loaded.read(RULES).equals(whole)
    load(loaded, LATE)
    assert versions(loaded)[:3] == [
        ("NB-1", "Fl", 1, 2, False, False), ("NB-1", "late", 2, 3, False, False), ("NB-1", "Oc", 3, None, True, False),
    ]  # fmt: skip
    by_hand(loaded, LOSSES["one key"])
    assert loaded.rebuild(RULES, unlogged="remove").counts["rows_removed"] == 3
    assert [row[0] for row in versions(loaded)] == ["NB-2"]
    with pytest.raises(DeclarationError, match="unlogged is 'both'"):
        loaded.rebuild(RULES, unlogged="both")  # type: ignore[arg-type]


def test_a_table_that_somebody_dropped_is_told_and_made_again(loaded: brenvik.Store, tmp_path: Path) -> None:
    whole = versions(loaded)
    if is_lakehouse(loaded):
        loaded.engine._lake.catalog.drop_table(("main", "buoy"))  # type: ignore[attr-defined]
    else:
        by_hand(loaded, 'DROP TABLE "buoy"')
    for ask in (lambda: loaded.read(RULES), lambda: load(loaded, LATE), lambda: loaded.revert(RULES, 1)):
        with pytest.raises(StoreError, match=r"Table buoy no longer exists in"):
            ask()
    assert "Table buoy no longer exists in" in told_by_check(loaded, tmp_path)[0]
    with pytest.raises(DeclarationError, match="a preview cannot show"):
        loaded.rebuild(RULES, preview=True)
    made = loaded.rebuild(RULES)
    assert (made.counts["rows_added"], made.notes) == (
        3, ["buoy was missing; it was recreated from the change log, with new surrogate keys."],
    )  # fmt: skip
    assert versions(loaded) == whole
    assert load(loaded, ("U", "NB-1", 9, "Iso")).counts["versioned"] == 1


def test_a_column_that_somebody_dropped_is_told_and_filled_again(loaded: brenvik.Store, tmp_path: Path) -> None:
    whole = versions(loaded)
    by_hand(loaded, 'ALTER TABLE "buoy" DROP COLUMN "light"')
    with pytest.raises(StoreError, match=r"Table buoy no longer has light.*brenvik rebuild buoy"):
        load(loaded, LATE)
    assert "no longer has light" in told_by_check(loaded, tmp_path)[0]
    assert loaded.rebuild(RULES).notes == ["buoy was missing light; the values were restored from the change log."]
    assert versions(loaded) == whole


def test_a_ledger_that_lost_entries_is_told(loaded: brenvik.Store) -> None:
    if is_lakehouse(loaded):
        pytest.skip("the ledger of a lakehouse is a log: what it lost, it never had")
    by_hand(loaded, 'DELETE FROM "brenvik"."tables"')
    with pytest.raises(ForeignTable, match="its ledger entry is lost"):
        loaded.read(RULES)
    by_hand(loaded, 'DELETE FROM "brenvik"."schema_version"')
    with pytest.raises(LedgerVersionError, match=r"brenvik\.schema_version has 0 rows, expected 1"):
        brenvik.Store(loaded.engine).read(RULES)


def test_no_number_of_a_run_is_given_twice(loaded: brenvik.Store) -> None:
    if is_lakehouse(loaded):
        pytest.skip("the ledger of a lakehouse is a log: nothing of it is deleted")
    by_hand(loaded, 'DELETE FROM "brenvik"."runs"')
    assert {row["arrived_at"] for row in loaded.change_log(RULES, "NB-1")} == {None}
    assert load(loaded, ("U", "NB-1", 9, "Iso")).run == 3
