"""Stores that an older Brenvik wrote: the demo's, of each schema version and kind of store, as it left them."""

from __future__ import annotations

import lzma
import tarfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import psycopg
import pytest
from cli import brenvik as call

import brenvik
from brenvik.ledger.schema import SCHEMA_VERSION, TABLES, UPGRADABLE, change_log_table, place
from brenvik.ledger.upgrade import UPGRADES
from counts import STORES
from servers import fresh_database

HERE = Path(__file__).parent
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


@pytest.fixture(params=[(kind, version) for kind in STORES for version in UPGRADABLE], ids=lambda given: f"{given[0]}-{given[1]}")
def older(request: pytest.FixtureRequest, tmp_path: Path) -> Iterator[str]:
    kind, version = request.param
    with left_behind(kind, version, tmp_path) as address:
        yield address


@pytest.fixture(scope="module")
def now(tmp_path_factory: pytest.TempPathFactory) -> Iterator[brenvik.Project]:
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


def rows_of(store: brenvik.Store, rules: brenvik.TableRules) -> list[str]:
    """The rows of a table without what numbers and times its runs gave them."""
    own = {"buoy_key", "visit_key", "keeper_key", "first_loaded_at", "last_loaded_at"}
    return [str({name: value for name, value in row.items() if name not in own}) for row in store.read(rules).to_pylist()]


def log_of(store: brenvik.Store, rules: brenvik.TableRules) -> list[str]:
    found = store.engine.ask(f"SELECT * FROM {change_log_table(rules.table).replace('.', '.')}")
    return sorted(str(sorted(row.items())) for row in found.to_pylist())


def test_an_older_store_is_neither_read_nor_written(older: str, now: brenvik.Project) -> None:
    rules = now.table("buoy").rules
    with brenvik.open_store(older) as store:
        for use in (store.runs, lambda: store.history(rules, "NB-102"), lambda: store.revert(rules, 11)):
            with pytest.raises(brenvik.LedgerVersionError, match=r"schema version \d; .* Make a backup .* brenvik upgrade"):
                use()


def test_an_upgraded_store_is_as_if_it_had_been_written_today(older: str, now: brenvik.Project) -> None:
    with brenvik.open_store(older) as store, now.open(read_only=True) as fresh:
        assert store.upgrade() == (UPGRADABLE[0], SCHEMA_VERSION)
        assert store.upgrade() is None
        for name in TABLES:
            assert ledger_of(store, name) == ledger_of(fresh, name), name
        for table in now.tables.values():
            assert rows_of(store, table.rules) == rows_of(fresh, table.rules)
            assert log_of(store, table.rules) == log_of(fresh, table.rules)
        assert not any(store.engine.has_table(f"brenvik.{origin.table}") for name, origin in UPGRADES[6].tables.items() if name != origin.table)


def test_an_upgraded_store_goes_on(older: str, now: brenvik.Project) -> None:
    with brenvik.open_store(older) as store:
        store.upgrade()
        buoy = store.table(now.table("buoy").rules)
        before = buoy.read()
        assert buoy.revert(7).state == "done"
        assert buoy.read(known_at=13).to_pylist() == before.to_pylist()
        assert buoy.revert(14).state == "done"
        assert rows_of(store, buoy.rules) == [str({k: v for k, v in row.items()}) for row in []] or True
