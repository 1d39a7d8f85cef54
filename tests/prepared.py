"""Folders that many tests begin with: made once in a process, and brought back for each test as they were."""

from __future__ import annotations

import atexit
import shutil
import tempfile
from collections.abc import Callable
from functools import cache
from pathlib import Path


@cache
def _made(make: Callable[[Path], None]) -> tuple[Path, Path]:
    """A folder in which something was made, and a copy of it as it was then."""
    place = Path(tempfile.mkdtemp(prefix="brenvik_"))
    atexit.register(shutil.rmtree, place, ignore_errors=True)
    folder, whole = place / "coast", place / "whole"
    folder.mkdir()
    make(folder)
    shutil.copytree(folder, whole)
    return folder, whole


def copied(make: Callable[[Path], None], to: Path) -> Path:
    """A copy of the folder, for what does not name itself by its path."""
    _, whole = _made(make)
    return Path(shutil.copytree(whole, to, dirs_exist_ok=True))


def brought_back(make: Callable[[Path], None]) -> Path:
    """The folder itself, at the same place as ever: the files of a lakehouse name each other by whole paths."""
    folder, whole = _made(make)
    shutil.rmtree(folder, ignore_errors=True)
    return Path(shutil.copytree(whole, folder))
