"""A folder of a lakehouse that is copied, moved, restored or damaged: it never writes to its original, and says what is wrong."""

from __future__ import annotations

import os
import random
import shutil
import sqlite3
from collections.abc import Callable
from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest
from lakes import RULES, current, frame, load, others, read, scan

import brenvik
from brenvik.engines.lakehouse import relocating
from brenvik.errors import BrenvikError, StoreError
from prepared import brought_back


def three_runs(folder: Path) -> None:
    """Three runs, with rows that are gone from files, and the revert of one."""
    for at in (1, 2, 3):
        load(folder, ("NB-1", at, f"Fl {at}"), (f"NB-{at + 1}", 1, "Q"))
    with brenvik.open_store(f"lakehouse:{folder}") as store:
        store.revert(RULES, 2)


@pytest.fixture
def coast() -> Path:
    """A folder of three runs."""
    return brought_back(three_runs)


def contents(folder: Path) -> dict[str, bytes]:
    there = (path for path in folder.rglob("*") if path.is_file() and path.parent.name != "holds")
    return {str(path.relative_to(folder)): path.read_bytes() for path in there}


def relocate(folder: Path) -> list[Any]:
    with brenvik.open_store(f"lakehouse:{folder}") as store:
        return store.relocate()


def everything(folder: Path) -> dict[str, Any]:
    """All that can be asked of a store."""
    with brenvik.open_store(f"lakehouse:{folder}") as store:
        return {
            "now": store.read(RULES).to_pylist(),
            "after run 1": store.read(RULES, known_at=1).to_pylist(),
            "story": store.change_log(RULES, "NB-1"),
            "runs": store.ledger.runs().to_pylist(),
        }


def go_on(folder: Path) -> None:
    """A load, a revert and a compaction."""
    load(folder, ("NB-1", 9, "Iso"), ("NB-2", 0, "late"))
    with brenvik.open_store(f"lakehouse:{folder}") as store:
        store.revert(RULES, 3)
        store.rebuild(RULES)
        store.compact(RULES, keep=timedelta(0))


def test_a_copy_is_not_used_before_it_names_its_own_files_and_never_touches_its_original(
    coast: Path, tmp_path: Path
) -> None:
    copy, whole, was = tmp_path / "copy", everything(coast), contents(coast)
    shutil.copytree(coast, copy)
    for use in (lambda: read(copy), lambda: load(copy, ("NB-1", 9, "Iso")), lambda: go_on(copy)):
        with pytest.raises(StoreError, match=r"copied or moved from there.*brenvik relocate"):
            use()
    assert contents(coast) == was == contents(copy)
    told = relocate(copy)
    assert {each.table for each in told} == {"main.buoy", "brenvik.change_log_buoy", "brenvik.ledger"}
    assert all(each.before == str(coast) for each in told)
    assert relocate(copy) == relocate(coast) == []
    assert everything(copy) == whole
    go_on(copy)
    assert contents(coast) == was
    shutil.rmtree(coast)
    assert current(read(copy)) == current(scan(copy)) == {"NB-1": "Iso", "NB-2": "Q"}
    assert str(coast).encode() not in b"".join(
        path.read_bytes() for path in copy.glob("*/*/metadata/*") if path.name in named_by_catalog(copy)
    )


def named_by_catalog(folder: Path) -> set[str]:
    catalog = others(folder)
    names = [name for space in catalog.list_namespaces() for name in catalog.list_tables(space)]
    return {Path(catalog.load_table(name).metadata_location).name for name in names}


def test_a_folder_that_was_moved_goes_on_where_it_is(coast: Path, tmp_path: Path) -> None:
    whole, moved = everything(coast), tmp_path / "elsewhere" / "north coast"
    moved.parent.mkdir()
    coast.rename(moved)
    relocate(moved)
    assert everything(moved) == whole
    go_on(moved)
    moved.rename(coast)
    assert len(relocate(coast)) == 3
    assert current(read(coast)) == {"NB-1": "Iso", "NB-2": "Q"}


def test_a_backup_that_is_put_back_needs_nothing(coast: Path, tmp_path: Path) -> None:
    backup, whole = tmp_path / "backup", everything(coast)
    shutil.copytree(coast, backup)
    go_on(coast)
    shutil.rmtree(coast)
    shutil.copytree(backup, coast)
    assert everything(coast) == whole
    go_on(coast)
    assert current(read(coast)) == {"NB-1": "Iso", "NB-2": "Q"}


def test_another_way_to_the_same_folder_is_no_copy(coast: Path, tmp_path: Path) -> None:
    link = tmp_path / "link"
    link.symlink_to(coast)
    assert read(link).equals(read(coast))
    load(link, ("NB-1", 9, "Iso"))
    assert current(read(coast))["NB-1"] == "Iso"


def test_a_relocation_that_breaks_off_changed_nothing(
    coast: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    moved, whole = tmp_path / "moved", everything(coast)
    coast.rename(moved)

    def broken(*words: Any) -> None:
        raise KeyboardInterrupt

    monkeypatch.setattr(relocating, "_enter", broken)
    with pytest.raises(KeyboardInterrupt):
        relocate(moved)
    monkeypatch.undo()
    with pytest.raises(StoreError, match="brenvik relocate"):
        read(moved)
    relocate(moved)
    assert everything(moved) == whole


def test_a_copy_that_is_not_whole_is_not_relocated(coast: Path, tmp_path: Path) -> None:
    copy = tmp_path / "copy"
    shutil.copytree(coast, copy)
    next(copy.glob("main/buoy/data/*")).unlink()
    was = contents(copy)["catalog.db"]
    with pytest.raises(StoreError, match="is an incomplete copy of"):
        relocate(copy)
    assert contents(copy)["catalog.db"] == was


@pytest.mark.parametrize("how", ["missing", "empty"])
def test_files_without_a_catalog_are_not_begun_anew(coast: Path, how: str) -> None:
    whole, catalog = everything(coast), (coast / "catalog.db").read_bytes()
    (coast / "catalog.db").unlink()
    if how == "empty":
        (coast / "catalog.db").touch()
    for use in (lambda: read(coast), lambda: load(coast, ("NB-1", 9, "Iso"))):
        with pytest.raises(StoreError, match=rf"has the files of tables, but its catalog.db is {how}"):
            use()
    (coast / "catalog.db").write_bytes(catalog)
    assert everything(coast) == whole


def half(path: Path) -> None:
    path.write_bytes(path.read_bytes()[: path.stat().st_size // 2])


def scrambled(path: Path) -> None:
    content, chance = bytearray(path.read_bytes()), random.Random(1)
    for _ in range(20):
        content[chance.randrange(len(content))] ^= 0xFF
    path.write_bytes(content)


PARTS = {
    "rows": "main/buoy/data/*[0-9a-f].parquet",
    "positions": "main/buoy/data/*-deletes.parquet",
    "changes": "brenvik/change_log_buoy/data/*.parquet",
    "entries": "brenvik/ledger/data/*.parquet",
    "a list of manifests": "main/buoy/metadata/snap-*.avro",
    "a manifest": "main/buoy/metadata/*-m[01].avro",
    "metadata": "main/buoy/metadata/*.metadata.json",
    "metadata of the ledger": "brenvik/ledger/metadata/*.metadata.json",
    "the catalog": "catalog.db",
}


@pytest.mark.parametrize("part", PARTS)
@pytest.mark.parametrize("damage", [half, scrambled, Path.unlink], ids=["half", "scrambled", "gone"])
def test_damaged_files_are_told_in_a_sentence_and_stay_as_they_are(
    coast: Path, part: str, damage: Callable[[Path], None]
) -> None:
    for path in coast.glob(PARTS[part]):
        damage(path)
    before = {name: content for name, content in contents(coast).items() if "/data/" in name}
    refused = 0
    asks: tuple[Callable[[brenvik.Store], object], ...] = (
        lambda store: store.read(RULES),
        lambda store: store.read(RULES, known_at=1),
        lambda store: store.load(RULES, frame(("NB-1", 9, "Iso"), ("NB-2", 0, "late")), kind="upserts"),
        lambda store: store.revert(RULES, 3),
        lambda store: store.rebuild(RULES),
        lambda store: store.ledger.runs(),
        lambda store: store.relocate(),
        lambda store: store.compact(RULES, keep=timedelta(0)),
    )
    for ask in asks:
        now = contents(coast)
        try:
            with brenvik.open_store(f"lakehouse:{coast}") as store:
                ask(store)
        except BrenvikError:  # anything else would be a traceback
            refused += 1
    assert refused
    assert before.items() <= now.items()


def test_a_full_disk_is_not_told_as_a_lock(coast: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    class Full(sqlite3.OperationalError):
        sqlite_errorcode = sqlite3.SQLITE_FULL

    class Connection:
        def execute(self, statement: str) -> None:
            raise Full("database or disk is full")

        def close(self) -> None:
            pass

    monkeypatch.setattr(sqlite3, "connect", lambda *words, **more: Connection())
    with (
        brenvik.open_store(f"lakehouse:{coast}") as store,
        pytest.raises(StoreError, match=r"the lock file .* cannot be used: database or disk is full"),
        store.engine.lock("buoy", wait_s=60.0),
    ):
        pass


def test_no_rights_to_the_locks_are_told(coast: Path) -> None:
    if os.geteuid() == 0:
        shutil.rmtree(coast / "holds", ignore_errors=True)
        (coast / "holds").write_text("a file where the folder should be")
    else:
        (coast / "holds").chmod(0o500)
    with pytest.raises(StoreError, match="holds"):
        load(coast, ("NB-1", 9, "Iso"))
