"""Sequence numbers: one per change, in the order in which the changes stand in their source.

A number encodes the file (0 for frames and databases) and the line. One row can be two changes: a row whose natural key
changed is also a delete of its former key. That *derived* change comes right before the row's own.
"""

from __future__ import annotations

from typing import Any

FILE_STEP = 10**12
ABSENT = 10**11
"""Line numbers from here on are those of keys that are absent from an extract."""

EXPLICIT = 2 * ABSENT
"""Line numbers from here on are those of what an extract implied by unchanged rows, logged when an earlier run was reverted."""


def sequence_no(file: int, line: Any) -> Any:
    """The number of a line's own change; an array of lines gives an array."""
    return file * FILE_STEP + 2 * line + 1


def file_of(number: str) -> str:
    """An expression for the file of a sequence number."""
    return f"CAST(floor({number} / {FILE_STEP}) AS BIGINT)"


def line_of(number: str) -> str:
    """An expression for the line; null where a change has no line."""
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
    """An expression that counts the derived changes of a relation."""
    return f"sum(CASE WHEN {is_derived(f'{alias}.brenvik_sequence_no')} THEN 1 ELSE 0 END)"


def own_of(number: str) -> str:
    """The number of the line's own change, given that change or the one derived from it."""
    return f"({number} - {number} % 2 + 1)"
