"""A key's versions drawn on a line of characters."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from typing import Any

_GAP = " gone "


def time_line(spans: Sequence[tuple[Any, Any]], *, width: int) -> list[str]:
    """Two lines: where each version begins, and the versions to scale. A span is (from, until), until None for open.

    Every version gets room for its number, so short ones are drawn longer than they were.
    """
    marks = sorted({moment for span in spans for moment in span if moment is not None})
    places = _places(marks, width - 6)
    end = places[marks[-1]] + 6
    drawn = [" "] * (end + 1)
    for number, (start, until) in enumerate(spans, 1):
        left, right = places[start], end if until is None else places[until]
        drawn[left:right] = list("├" + f"{number}".ljust(right - left - 1, "─"))
        if until is None:
            drawn[end] = "▶"
    for (_, until), (start, _) in itertools.pairwise(spans):
        if until != start:
            left, right = places[until], places[start]
            drawn[left:right] = list("┤" + _GAP.strip().center(right - left - 1)[: right - left - 1])
    if spans[-1][1] is not None:
        drawn[places[spans[-1][1]]] = "┤"
    return [_labels(marks, places, end), "".join(drawn).rstrip()]


def _places(marks: Sequence[Any], width: int) -> dict[Any, int]:
    """A column for each moment, to scale but at least ``least`` apart."""
    least = 7
    if len(marks) == 1:
        return {marks[0]: 0}
    whole = (marks[-1] - marks[0]) / 1
    room = max(width - least * (len(marks) - 1), 0)
    places, column = {marks[0]: 0}, 0
    for before, moment in itertools.pairwise(marks):
        column += least + int(room * ((moment - before) / whole))
        places[moment] = column
    return places


def _labels(marks: Sequence[Any], places: dict[Any, int], end: int) -> str:
    """Dates above the first mark of each day, as far as there is room."""
    line = [" "] * (end + 12)
    free, last = 0, ""
    for moment in marks:
        text = str(moment)[5:10] if hasattr(moment, "month") else str(moment)
        if text != last and places[moment] >= free:
            line[places[moment] : places[moment] + len(text)] = list(text)
            free, last = places[moment] + len(text) + 1, text
    return "".join(line).rstrip()
