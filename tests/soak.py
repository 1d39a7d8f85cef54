"""Tries the invariants, the kills and the fuzz targets with other draws, round after round, until the time is over.

    python tests/soak.py 20m

Prints how often each was tried in which kind of store. What fails is printed with the command that runs it again; it then
belongs into the suite as a fixed case. Exits with 1 if anything failed.
"""

from __future__ import annotations

import json
import os
import re
import secrets
import subprocess
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path

HERE = Path(__file__).parent
TARGETS = ("invariants", "fuzz", "end_to_end/test_kill.py")
ROUND = {"SEQUENCES": "1000", "KILLS": "300", "FUZZED": "100000"}
"""What is tried in one round where nobody says otherwise; no test is begun when the time is over."""


def seconds(text: str) -> float:
    """The length of a span like 90s, 20m or 8h."""
    found = re.fullmatch(r"(\d+)([smh])", text)
    if not found:
        raise SystemExit(f"expected how long to go on, as in 90s, 20m or 8h, got {text!r}")
    return int(found[1]) * {"s": 1, "m": 60, "h": 3600}[found[2]]


def a_round(seed: str, until: float, counts: Path) -> bool:
    """One run of all targets; whether none of it failed."""
    drawn = {**ROUND, **os.environ, "SOAK_SEED": seed, "SOAK_UNTIL": str(until), "SOAK_COUNTS": str(counts)}
    call = [sys.executable, "-m", "pytest", f"--hypothesis-seed={seed}", "-p", "no:cacheprovider"]
    call += ["--numprocesses", str(os.cpu_count()), "--dist", "load", "--maxschedchunk", "1", "--no-header"]
    done = subprocess.run([*call, *(str(HERE / target) for target in TARGETS)], env=drawn, cwd=HERE.parent)
    return done.returncode in (0, 5)  # 5: the time was over before anything began


def shown(counts: Path) -> str:
    """The counts, a line for each thing that was tried."""
    tried: Counter[tuple[str, str]] = Counter()
    for line in counts.read_text().splitlines():
        what, where, times = json.loads(line)
        tried[what, where] += times
    places = sorted({where for _, where in tried})
    names = sorted({what for what, _ in tried})
    width = max(map(len, names), default=0)
    lines = [" " * width + "".join(f"{place:>12}" for place in places)]
    for name in names:
        lines.append(f"{name:{width}}" + "".join(f"{tried[name, place] or '–':>12}" for place in places))
    return "\n".join(lines)


def main() -> int:
    begun = time.time()
    until = begun + seconds(sys.argv[1] if len(sys.argv) > 1 else "20m")
    rounds = failed = 0
    with tempfile.TemporaryDirectory() as folder:
        counts = Path(folder) / "counts"
        counts.touch()
        while time.time() < until:
            rounds += 1
            failed += not a_round(str(secrets.randbelow(2**32)), until, counts)
        print(f"\n{rounds} rounds in {(time.time() - begun) / 60:.0f} minutes, {failed} of them failed\n")
        print(shown(counts))
    return int(failed > 0)


if __name__ == "__main__":
    raise SystemExit(main())
