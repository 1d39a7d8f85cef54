"""Arrival numbers: one for each change, by which a load takes them in the order in which they stood in their source.

A number tells the file (frames and databases: 0) and the line. One row can be two changes: a row that changes its
natural key is also a delete of the key it had. That *derived* change stands just before the row's own.
"""

from __future__ import annotations

from typing import Any

FILE_STEP = 10**12
ABSENT = 10**11
"""Lines from here on are none: these changes are derived because a key is absent from an extract."""

EXPLICIT = 2 * ABSENT
"""Lines from here on are what an extract said by equal rows, made explicit when a run before it was taken back."""


def numbered(file: int, line: Any) -> Any:
    """The number of the change that a line itself is; of an array of lines, an array."""
    return file * FILE_STEP + 2 * line + 1


def file_of(number: str) -> str:
    """The file, of an expression that gives an arrival number."""
    return f"CAST(floor({number} / {FILE_STEP}) AS BIGINT)"


def line_of(number: str) -> str:
    """The line; null where a change stands in none."""
    return (
        f"CASE WHEN {number} % {FILE_STEP} < {2 * ABSENT} THEN CAST(floor(({number} % {FILE_STEP}) / 2) AS BIGINT) END"
    )


def is_explicit(number: str) -> str:
    return f"{number} % {FILE_STEP} >= {2 * EXPLICIT}"


def is_absence(number: str) -> str:
    return f"{number} % {FILE_STEP} >= {2 * ABSENT}"


def is_derived(number: str) -> str:
    return f"{number} % 2 = 0"


def count_derived(alias: str) -> str:
    """How many rows of a relation are derived changes."""
    return f"sum(CASE WHEN {is_derived(f'{alias}.brenvik_arrival')} THEN 1 ELSE 0 END)"


def own_of(number: str) -> str:
    """The number of the line's own change, also for the one derived from it."""
    return f"({number} - {number} % 2 + 1)"
