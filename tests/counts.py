"""How often what is drawn by chance is tried: the same draws at every run of the suite, others at every run of the soak.

Both follow from the environment, so that the command that a failure prints runs the very case again.
"""

from __future__ import annotations

import atexit
import json
import os
import re
from collections import Counter
from pathlib import Path

SEED = os.environ.get("SOAK_SEED", "")
"""Empty in the suite, whose draws never change; else what the draws of a soak begin with."""
SEQUENCES = int(os.environ.get("SEQUENCES", "100"))
"""Sequences of runs that invariants are tried along; each alone is tried on a share of them."""
KILLS = int(os.environ.get("KILLS", "36"))
"""Killed runs of all kinds, in all kinds of stores together."""
FUZZED = int(os.environ.get("FUZZED", "2000"))
"""Rows that each format's fuzz target writes and reads."""
STORES = os.environ.get("STORES", "duckdb postgres sqlite lakehouse").split()
"""The kinds of stores that tests are tried on."""
SETTINGS = {
    name: os.environ[name] for name in ("SOAK_SEED", "SEQUENCES", "KILLS", "FUZZED", "STORES") if name in os.environ
}
"""What someone has set of these."""


def share(of: int, *, least: int = 20) -> int:
    """A part of the sequences, for an invariant that is tried alone."""
    return max(least, SEQUENCES // of)


_tried: Counter[tuple[str, str]] = Counter()


def tried(where: str, times: int = 1, *, what: str | None = None) -> None:
    """Counts, for a soak, that the test that runs (or ``what``) was tried in a kind of store."""
    if file := os.environ.get("SOAK_COUNTS"):
        if not _tried:
            atexit.register(_write, Path(file))
        test = os.environ["PYTEST_CURRENT_TEST"].rpartition("::")[2]
        _tried[what or re.sub(r"[ \[].*", "", test).removeprefix("test_"), where] += times


def _write(file: Path) -> None:
    lines = (json.dumps([what, where, times]) + "\n" for (what, where), times in _tried.items())
    with file.open("a") as out:
        out.write("".join(lines))
