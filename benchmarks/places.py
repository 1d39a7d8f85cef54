"""Where the measurements of ``states`` are made, and what each knows of the others."""

from __future__ import annotations

import os
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
BUILD = ROOT / "build" / "bench" / "states"
COPY = BUILD / "copy.duckdb"
HAND, BEFORE, NOW = "hand", "before", "now"


def surroundings(how: str) -> dict[str, str]:
    """The environment of a process that runs a way: which library it finds."""
    sources = Path(os.environ["BENCH_BEFORE"]) if how == BEFORE else ROOT
    return {**os.environ, "PYTHONPATH": str(sources / "src")}


def server() -> str:
    """The URL of the PostgreSQL server of the run."""
    return os.environ["BENCH_SERVER"]
