"""The installed command, as a person or a scheduler calls it."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from dataclasses import dataclass
from pathlib import Path
from typing import Any

BRENVIK = Path(sys.executable).parent / "brenvik"


@dataclass
class Said:
    code: int
    out: str
    err: str

    @property
    def json(self) -> Any:
        return json.loads(self.out)


def brenvik(*words: str | Path, cwd: Path, **environment: str) -> Said:
    done = subprocess.run(
        [BRENVIK, *map(str, words)],
        cwd=cwd,
        env={**os.environ, "COLUMNS": "140", **environment},
        capture_output=True,
        text=True,
        encoding="utf-8",
        check=False,
    )
    return Said(done.returncode, done.stdout, done.stderr)
