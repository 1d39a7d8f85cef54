"""Words and phrases that must not come back: each had a better one, which everybody in the trade uses."""

from __future__ import annotations

import re
from functools import cache
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[1]
PLACES = ("src/**/*.py", "docs/**/*.md", "docs/*.py", "examples/*.py", "benchmarks/*.py", "tools/*.py", "*.md")
FORMER_NAMES = ROOT / "src" / "brenvik" / "ledger" / "versions.py"

WORDS = (
    "again_when_overtaken", "asked_for", "blueprint", "bring_near", "changed_files", "desk", "foresee", "housekeeping", "judged",
    "keep_changes", "law", "laws", "leave_out", "locator", "mended", "mending", "order_files", "put_back", "retake", "retaken",
    "reworking", "screened", "settle", "taken_files", "telling", "tidy", "told_if_missing", "traits", "UnderWay", "withdraw",
    "withdrawal", "withdrawn", "withdrew", "BrokenLaw", "NotAsRules", "NotReached", "Overtaken", "SourceDown", "TooMuch",
    "TooOld",
)  # fmt: skip
PHRASES = (
    r"all is well", r"beyond the clock", r"(?<!there )is no (?:date|time|number|key|row|table|file)\b", r"kept changes?",
    r"last good run", r"lets? (?:it|them|him) through by", r"said twice", r"sees to it", r"somebody(?: else)?",
    r"to look at\b", r"worked out again", r"written anew",
)  # fmt: skip


@cache
def all_lines() -> list[tuple[str, str]]:
    files = [path for place in PLACES for path in ROOT.glob(place) if path != FORMER_NAMES]
    assert len(files) > 180
    return [
        (f"{path.relative_to(ROOT)}:{number}", line)
        for path in files
        for number, line in enumerate(path.read_text(encoding="utf-8").splitlines(), 1)
    ]


@pytest.mark.parametrize("word", [*WORDS, *PHRASES])
def test_it_is_not_said(word: str) -> None:
    said = re.compile(rf"(?<![A-Za-z0-9_]){word}(?![A-Za-z0-9_])", re.IGNORECASE if word in PHRASES else 0)
    found = [f"{place}: {line.strip()}" for place, line in all_lines() if said.search(line)]
    assert not found, "\n".join(found)
