"""Settings shared by all tests."""

import gc
import os
import shlex
import sys
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, settings

import brenvik

sys.path.insert(0, str(Path(__file__).parent))
from counts import SEED, SETTINGS, STORES, share

for folder in (
    "invariants",
    "merge",
    "end_to_end",
    "feeds",
    "fuzz",
):  # where helpers stand beside the tests that use them
    sys.path.insert(0, str(Path(__file__).parent / folder))

os.environ.pop("PYTHONDONTWRITEBYTECODE", None)  # with it each command that a test calls compiles the library anew

settings.register_profile(
    "invariants",
    max_examples=share(10),
    deadline=None,
    suppress_health_check=list(HealthCheck),
    derandomize=not SEED,
    database=None,
    print_blob=bool(SEED),
)
settings.load_profile("invariants")


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
    items.sort(key=lambda item: not ("invariants" in item.path.parts or item.path.name == "test_kill.py"))


def pytest_runtest_setup(item: pytest.Item) -> None:
    """A soak begins no test when its time is over."""
    until = os.environ.get("SOAK_UNTIL")
    if until and time.time() > float(until):
        pytest.skip("the time of the soak is over")


def pytest_terminal_summary(terminalreporter: Any) -> None:
    """Says at the end how many kills there were, and when; and of what failed, how the very case is run again."""
    for report in terminalreporter.stats.get("passed", ()):
        for line in report.capstdout.splitlines():
            if " kills: " in line:
                terminalreporter.write_line(line)
    seed = [f"--hypothesis-seed={SEED}"] if SEED else []
    for report in (*terminalreporter.stats.get("failed", ()), *terminalreporter.stats.get("error", ())):
        words = [*(f"{name}={value}" for name, value in SETTINGS.items()), ".venv/bin/pytest", *seed, report.nodeid]
        terminalreporter.write_line(f"run it again:  {shlex.join(words)}")
