"""Sources to read from."""

import gc
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from registries import Registry

import brenvik
from servers import fresh_database


@pytest.fixture
def store() -> Iterator[brenvik.Store]:
    with brenvik.open_store("duckdb::memory:") as opened:
        yield opened
    gc.collect()  # whatever a source left open is found in the test that left it


@pytest.fixture(scope="session")
def postgres() -> Iterator[str]:
    """The URL of a PostgreSQL database to read from."""
    with fresh_database() as url:
        yield url.replace("postgresql://", "postgresql+psycopg://")


@pytest.fixture(params=["sqlite", "postgres"])
def registry(request: pytest.FixtureRequest, tmp_path: Path) -> Any:
    """A source database of each kind, with an empty table ``service_visit``."""
    if request.param == "sqlite":
        return Registry(f"sqlite:///{tmp_path / 'registry.db'}")
    return Registry(request.getfixturevalue("postgres"))
