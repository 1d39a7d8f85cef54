"""A catalog that pyiceberg's configuration names, with tables in an object store: a stand-in for one, on loopback."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import nullcontext
from pathlib import Path
from typing import Any

import pytest
from lakes import RULES, current, frame
from pyarrow.fs import FileSelector
from pyiceberg.catalog import load_catalog
from pyiceberg.io.pyarrow import PyArrowFileIO
from pyiceberg.utils.config import Config

import brenvik
from brenvik.errors import StoreError
from buckets import SECRET, USER, client, serving


@pytest.fixture(scope="module")
def endpoint() -> Iterator[str]:
    with serving() as endpoint:
        yield endpoint


@pytest.fixture
def catalog(endpoint: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Any:
    """The catalog ``coast``, known by the environment; its tables lie in a bucket of their own."""
    bucket = f"coast-{abs(hash(tmp_path))}"
    client(endpoint).create_bucket(Bucket=bucket)
    for name, value in {
        "TYPE": "sql",
        "URI": f"sqlite:///{tmp_path}/elsewhere.db",
        "WAREHOUSE": f"s3://{bucket}/lake",
        "S3__ENDPOINT": endpoint,
        "S3__ACCESS_KEY_ID": USER,
        "S3__SECRET_ACCESS_KEY": SECRET,
        "S3__REGION": "us-east-1",
    }.items():
        monkeypatch.setenv(f"PYICEBERG_CATALOG__COAST__{name}", value)
    monkeypatch.setattr("pyiceberg.catalog._ENV_CONFIG", Config())  # which was read when pyiceberg was brought in
    return load_catalog("coast")


def objects_in(catalog: Any, bucket: str) -> list[str]:
    system = PyArrowFileIO(catalog.properties).fs_by_scheme("s3", bucket)
    return [found.path for found in system.get_file_info(FileSelector(bucket, recursive=True)) if found.is_file]


def load(*rows: tuple[str, int, str], rules: brenvik.TableRules = RULES) -> brenvik.Outcome:
    with brenvik.open_store("lakehouse:@coast") as store:
        return store.load(rules, frame(*rows), kind="upserts")


def test_tables_lie_where_the_catalog_says_and_others_see_the_same(catalog: Any) -> None:
    load(("NB-1", 1, "Q"), ("NB-2", 1, "Q"))
    load(("NB-1", 3, "F"))
    assert load(("NB-1", 2, "late")).counts["versioned"] == 1
    table = catalog.load_table("main.buoy")
    assert table.location().startswith("s3://coast-")
    with brenvik.open_store("lakehouse:@coast") as store:
        rows = store.read(RULES)
        assert current(rows) == current(table.scan().to_arrow()) == {"NB-1": "F", "NB-2": "Q"}
        assert store.history(RULES, "NB-1")["light"].to_pylist() == ["Q", "late", "F"]
        assert store.read(RULES, known_at=2).num_rows == 3
        assert next(each.files for each in store.compact(RULES, keep="0 minutes")) == (4, 2)
        assert store.read(RULES).to_pylist() == rows.to_pylist()
        assert store.revert(RULES, 2).counts["rows_removed"] == 1
    scanned = catalog.load_table("main.buoy").scan().to_arrow()
    assert current(scanned) == {"NB-1": "late", "NB-2": "Q"}
    left = [task.file.file_path for task in catalog.load_table("main.buoy").scan().plan_files()]
    assert all(path.startswith("s3://coast-") for path in left)


def test_somebody_else_who_writes_to_a_bucket_is_noticed(catalog: Any) -> None:
    load(("NB-1", 1, "Q"))
    with brenvik.open_store("lakehouse:@coast") as store:
        engine: Any = store.engine
        land, comes = engine._commit_run, [1]

        def overtaken(of: Any) -> None:
            if of and comes:
                comes.pop()
                load(("NB-2", 5, "F"))
            land(of)

        engine._commit_run = overtaken
        engine.lock = lambda table, *, wait_s: nullcontext()  # as if the other one ran elsewhere
        assert store.load(RULES, frame(("NB-1", 2, "F")), kind="upserts").counts["versioned"] == 1
        assert current(store.read(RULES)) == {"NB-1": "F", "NB-2": "F"}


def test_a_name_that_the_configuration_does_not_know_is_told(catalog: Any) -> None:
    with pytest.raises(StoreError, match="has no catalog of this name") as caught:
        brenvik.open_store("lakehouse:@inland").ledger.exists()
    assert SECRET not in str(caught.value)


def test_a_bucket_that_is_gone_is_told_without_its_secrets(catalog: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("PYICEBERG_CATALOG__COAST__WAREHOUSE", "s3://no-such-bucket/lake")
    monkeypatch.setattr("pyiceberg.catalog._ENV_CONFIG", Config())
    with pytest.raises(StoreError, match="lakehouse:@coast cannot be read or written") as caught:
        load(("NB-1", 1, "Q"))
    with brenvik.open_store("lakehouse:@coast") as store:
        (missing,) = store.engine.missing_rights(["buoy"], own_schema="brenvik")
    assert missing.startswith("s3://no-such-bucket/lake: files cannot be written and deleted: ")
    assert SECRET not in f"{caught.value} {missing}"


def test_rights_are_tried_where_the_tables_lie_and_nothing_is_left(catalog: Any) -> None:
    with brenvik.open_store("lakehouse:@coast") as store:
        assert store.engine.missing_rights(["buoy"], own_schema="brenvik") == []
    bucket = catalog.properties["warehouse"].removeprefix("s3://").partition("/")[0]
    assert not objects_in(catalog, bucket)
