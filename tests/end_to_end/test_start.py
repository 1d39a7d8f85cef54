"""A process imports only what its project uses: imports take longer than a small load."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import pytest

from brenvik.demo import scenario

SHOWING = """
import sys
from brenvik.cli.main import main
sys.argv = ["brenvik", *sys.argv[1:]]
try:
    main()
except SystemExit as end:
    assert end.code in (0, 4), end.code
print(*sys.modules, file=sys.stderr)
"""
HEAVY = {"numpy", "openpyxl", "pandas", "polars", "psycopg", "pyarrow", "pyiceberg", "sqlalchemy", "sqlglot"}


def imported(folder: Path, *words: str) -> set[str]:
    """Which of the heavy libraries a command imports."""
    done = subprocess.run(
        [sys.executable, "-c", SHOWING, *words], cwd=folder, capture_output=True, text=True, check=True
    )
    return HEAVY & set(done.stderr.splitlines()[-1].split())


@pytest.fixture(scope="module")
def coast(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("coast")
    (folder / "inbox").mkdir()
    (folder / "brenvik.toml").write_text(scenario.PROJECT)
    scenario.write_day("buoy_01.csv", folder / "inbox")
    return folder


def test_a_load_of_files_imports_what_reads_them_and_no_other_library(coast: Path) -> None:
    assert imported(coast, "load") == {"numpy", "pyarrow"}
    assert imported(coast, "load") == set()  # nothing new


@pytest.mark.parametrize(
    ("words", "needed"),
    [
        ("status", set()),
        ("runs", {"numpy", "pyarrow"}),
        ("history buoy NB-104", {"numpy", "pyarrow"}),
        ("--help", set()),
    ],
    ids=lambda given: given if isinstance(given, str) else "",
)
def test_a_question_imports_no_more_than_its_answer_needs(coast: Path, words: str, needed: set[str]) -> None:
    imported(coast, "load")
    assert imported(coast, *words.split()) == needed


def test_the_library_imports_nothing_before_it_is_used() -> None:
    text = "import sys, brenvik; print(*sys.modules)"
    done = subprocess.run([sys.executable, "-c", text], capture_output=True, text=True, check=True)
    assert not {*HEAVY, "duckdb", "pydantic", "typer"} & set(done.stdout.split())
