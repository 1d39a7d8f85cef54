"""Settings shared by all tests."""

import gc
import os
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, settings

import brenvik

for folder in ("", "laws", "end_to_end", "feeds"):  # where helpers stand beside the tests that use them
    sys.path.insert(0, str(Path(__file__).parent / folder))

settings.register_profile(
    "laws",
    max_examples=int(os.environ.get("LAW_EXAMPLES") or (2000 if os.environ.get("CI") else 200)),
    deadline=None,
    suppress_health_check=list(HealthCheck),
    print_blob=True,
)
settings.load_profile("laws")


STORES = os.environ.get("STORES", "duckdb postgres sqlite lakehouse").split()
"""The kinds of stores that tests are tried on."""


@pytest.fixture(params=STORES)
def address(request: pytest.FixtureRequest, tmp_path: Path) -> Iterator[str]:
    """The address of an empty store, of each kind."""
    if request.param == "postgres":
        from servers import fresh_database

        with fresh_database() as url:
            yield url
    else:
        yield f"{request.param}:{tmp_path / f'coast.{request.param}'}"


@pytest.fixture
def anywhere(address: str) -> Iterator[brenvik.Store]:
    """An empty store of each kind."""
    with brenvik.open_store(address) as opened:
        yield opened
    gc.collect()  # whatever a test left open is found in the test that left it


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """What takes minutes comes first: in the end no process is left alone with it."""
    items.sort(key=lambda item: not ("laws" in item.path.parts or item.path.name == "test_kill.py"))


def pytest_terminal_summary(terminalreporter: Any) -> None:
    """Says at the end how many kills there were, and when."""
    for report in terminalreporter.stats.get("passed", ()):
        for line in report.capstdout.splitlines():
            if " kills: " in line:
                terminalreporter.write_line(line)
