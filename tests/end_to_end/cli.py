"""The command, as a person or a scheduler calls it."""

from __future__ import annotations

import atexit
import json
import os
import subprocess
import sys
import tempfile
import threading
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any

BRENVIK = Path(sys.executable).parent / "brenvik"
"""The installed program."""


@dataclass
class Said:
    code: int
    out: str
    err: str

    @property
    def json(self) -> Any:
        return json.loads(self.out)


@cache
def _forking(thread: int) -> tuple[subprocess.Popen[str], Path]:
    """The process that forks those which run commands (see ``forking``), one for each thread, and a folder for their output."""
    folder = tempfile.TemporaryDirectory()
    running = subprocess.Popen(
        [sys.executable, Path(__file__).with_name("forking.py")],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        text=True,
    )

    def stop() -> None:
        running.communicate()
        folder.cleanup()

    atexit.register(stop)
    return running, Path(folder.name)


def brenvik(*words: str | Path, cwd: Path, **environment: str) -> Said:
    """Runs a command in a process of its own."""
    running, folder = _forking(threading.get_ident())
    assert running.stdin and running.stdout
    call = {
        "words": [str(BRENVIK), *map(str, words)],
        "folder": str(cwd),
        "environment": {**os.environ, "COLUMNS": "140", **environment},
        "out": str(folder / "out"),
        "err": str(folder / "err"),
    }
    print(json.dumps(call), file=running.stdin, flush=True)
    code = next(int(line.split()[1]) for line in running.stdout if line.startswith("ended"))
    out, err = ((folder / name).read_text(encoding="utf-8") for name in ("out", "err"))
    return Said(code, out, err)
