"""Stores that an older Brenvik wrote: the demo's, of each schema version and kind of store, as it left them."""

from __future__ import annotations

import lzma
import tarfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import psycopg
import pyarrow as pa
import pytest
from cli import brenvik as call
from pyarrow import csv

import brenvik
from brenvik.demo import scenario
from brenvik.demo.tour import in_store
from brenvik.engines.lakehouse import upgrading as lake_upgrade
from brenvik.ledger import upgrade as ledger_upgrade
from brenvik.ledger.records import ChangedRows
from brenvik.ledger.schema import SCHEMA_VERSION, TABLES, place
from brenvik.ledger.versions import UPGRADES
from counts import STORES
from servers import fresh_database

HERE = Path(__file__).parent
DATA = Path(scenario.__file__).parent / "data"
OF_THE_MACHINE = {
    "started_at", "ended_at", "rejected_at", "written_at", "loaded_at", "advanced_at", "pending_since",
    "host", "pid", "modified_ns",
}  # fmt: skip
"""Columns of the ledger that differ between two runs of the same demo."""
WORDS = {"message", "source", "reason"}
"""Columns with sentences, which stay in the words of the version that wrote them."""


@contextmanager
def left_behind(kind: str, version: int, folder: Path) -> Iterator[str]:
    """The address of a store as the Brenvik with this schema version left it."""
    there = HERE / f"schema_{version}"
    if kind == "postgres":
        with fresh_database() as url:
            with psycopg.connect(url) as connection:
                connection.execute((there / "coast.postgres.sql").read_bytes())
            yield url
    elif kind == "lakehouse":
        with tarfile.open(there / "coast.lakehouse.tar.xz") as archive:
            archive.extractall(folder, filter="data")
        with brenvik.open_store(f"lakehouse:{folder / 'coast'}") as store:
            store.relocate()
        yield f"lakehouse:{folder / 'coast'}"
    else:
        path = folder / f"coast.{kind}"
        path.write_bytes(lzma.decompress((there / f"coast.{kind}.xz").read_bytes()))
        yield f"{kind}:{path}"


@pytest.fixture(
    params=[(kind, version) for kind in STORES for version in UPGRADES], ids=lambda given: f"{given[0]}-{given[1]}"
)
def older(request: pytest.FixtureRequest, tmp_path: Path) -> Iterator[str]:
    kind, version = request.param
    with left_behind(kind, version, tmp_path) as address:
        yield address


@pytest.fixture(scope="module")
def now(tmp_path_factory: pytest.TempPathFactory) -> brenvik.Project:
    """The project of the demo as it is today, with its store."""
    folder = tmp_path_factory.mktemp("now")
    said = call("demo", "coast", cwd=folder)
    assert said.code == 0, said.err
    return brenvik.read_project(folder / "coast" / "brenvik.toml")


def ledger_of(store: brenvik.Store, name: str) -> list[str]:
    """The rows of a table of the ledger as far as they are the same after each run of the demo."""
    rows = store.engine.rows(f"SELECT * FROM {place(name)}")
    same = [column for column in TABLES[name] if column not in OF_THE_MACHINE | WORDS]
    return sorted(", ".join(f"{column}: {row[column]}" for column in same) for row in rows)


def rows_of(table: brenvik.Table, **which: Any) -> list[str]:
    """The rows of a table, without the numbers and times that its runs gave them."""
    rows = table.read(**which).to_pylist()
    given = {f"{table.rules.table}_key", "first_run", "last_run", "first_loaded_at", "last_loaded_at"}
    return [", ".join(f"{name}: {value}" for name, value in row.items() if name not in given) for row in rows]


def log_of(table: brenvik.Table) -> list[str]:
    """All changes in the log of a table."""
    (key,) = table.rules.natural_key
    keys = sorted({row[key] for row in table.read().to_pylist()})
    entries = [entry for one in keys for entry in table.change_log(one)]
    return [str({name: value for name, value in entry.items() if name != "arrived_at"}) for entry in entries]


def test_an_older_store_is_neither_read_nor_written(older: str, now: brenvik.Project) -> None:
    rules = now.table("buoy").rules
    with brenvik.open_store(older) as store:
        for use in (store.runs, lambda: store.history(rules, "NB-102"), lambda: store.revert(rules, 11)):
            with pytest.raises(
                brenvik.LedgerVersionError, match=r"schema version \d; .* Make a backup .* brenvik upgrade"
            ):
                use()


def test_a_store_of_a_newer_version_is_not_upgraded(anywhere: brenvik.Store) -> None:
    anywhere.load(brenvik.TableRules("buoy", natural_key="code"), pa.table({"code": ["NB-1"]}), kind="upserts")
    with anywhere.engine.transaction():
        anywhere.engine.record(ChangedRows("schema_version", {"schema_version": 99}))
    with pytest.raises(
        brenvik.LedgerVersionError, match=r"schema version 99; .* Use the version of Brenvik that wrote it"
    ):
        anywhere.upgrade()


def test_an_upgraded_store_is_as_if_it_had_been_written_today(older: str, now: brenvik.Project) -> None:
    with brenvik.open_store(older) as store, now.open(read_only=True) as fresh:
        assert store.upgrade() == (6, SCHEMA_VERSION)
        assert store.upgrade() is None
        for name in TABLES:
            assert ledger_of(store, name) == ledger_of(fresh, name), name
        for declared in now.tables.values():
            table, of_today = store.table(declared.rules), fresh.table(declared.rules)
            assert rows_of(table) == rows_of(of_today)
            assert log_of(table) == log_of(of_today)
        former = {origin.table for upgrade in UPGRADES.values() for origin in upgrade.tables.values()} - {*TABLES}
        assert not any(store.engine.has_table(f"brenvik.{name}") for name in former)


def load_file(table: brenvik.Table, file: Path) -> brenvik.Outcome:
    """Loads the rows of a file of buoys, all of them text."""
    names = file.read_text("utf-8").partition("\n")[0].split(",")
    texts = csv.ConvertOptions(column_types=dict.fromkeys(names, pa.string()), strings_can_be_null=True)
    operation = brenvik.Operations("op", insert=("I",), update=("U",), delete=("D",))
    return table.load(csv.read_csv(file, convert_options=texts), kind="changes", feed="registry", operation=operation)


def test_an_upgraded_store_is_loaded_reverted_and_rebuilt(older: str, now: brenvik.Project) -> None:
    with brenvik.open_store(older) as store:
        store.upgrade()
        buoy, keeper = (store.table(now.table(name).rules) for name in ("buoy", "keeper"))
        before = rows_of(buoy)
        again = load_file(buoy, DATA / "buoy_03.csv")
        assert again.counts["duplicate"] == again.counts["read"] == 5
        assert load_file(buoy, DATA / "buoy_04.csv").counts["versioned"] == 6
        later = rows_of(buoy)
        assert buoy.revert(7, reason="upgraded").counts["rows_removed"] > 0
        assert buoy.revert(7, undo=True).state == "done"
        assert rows_of(buoy) == later
        assert rows_of(buoy, known_at=13) == before
        for table in (buoy, keeper):
            rows = rows_of(table)
            assert table.rebuild().state == "done"
            assert rows_of(table) == rows
        assert buoy.rejects()["reject"].to_pylist() == [1, 2, 3]
    for _ in range(2):
        with brenvik.open_store(older) as store:
            store.compact(buoy.rules, keep="0 seconds")
            assert rows_of(store.table(buoy.rules)) == later


def test_the_command_says_from_which_version_to_which(older: str, now: brenvik.Project, tmp_path: Path) -> None:
    project = tmp_path / "brenvik.toml"
    project.write_text(in_store((now.folder / "brenvik.toml").read_text("utf-8"), older), encoding="utf-8")
    before = call("status", cwd=tmp_path)
    assert (before.code, before.out) == (1, "")
    assert "brenvik upgrade" in before.err
    assert call("upgrade", "--json", cwd=tmp_path).json["upgraded"] == {"from": 6, "to": SCHEMA_VERSION}
    assert "is up to date; nothing to do" in call("upgrade", cwd=tmp_path).out
    assert call("runs", "--json", cwd=tmp_path).json["runs"][0]["kind"] == "revert"


def test_an_upgrade_that_breaks_off_is_carried_out_again(
    older: str, now: brenvik.Project, monkeypatch: pytest.MonkeyPatch
) -> None:
    def breaks(*_: Any) -> None:
        raise brenvik.StoreError("power cut")

    with brenvik.open_store(older) as store, monkeypatch.context() as patch:
        patch.setattr(ledger_upgrade, "rules_after", breaks)
        patch.setattr(lake_upgrade, "write_log", breaks)
        with pytest.raises(brenvik.StoreError, match="power cut"):
            store.upgrade()
    with brenvik.open_store(older) as store, now.open(read_only=True) as fresh:
        with pytest.raises(brenvik.LedgerVersionError):
            store.runs()
        assert store.upgrade() == (6, SCHEMA_VERSION)
        for declared in now.tables.values():
            assert log_of(store.table(declared.rules)) == log_of(fresh.table(declared.rules))
