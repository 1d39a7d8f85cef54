"""What all answers are written with: JSON for programs; for people headings, tables and values, calm and aligned."""

from __future__ import annotations

import json
import math
import sys
from collections.abc import Iterable, Mapping
from datetime import UTC, date, datetime, time, timedelta
from decimal import Decimal
from typing import TYPE_CHECKING, Any

from rich.console import Console
from rich.table import Table
from rich.text import Text

from brenvik.cli.render.characters import visible

if TYPE_CHECKING:
    from brenvik.model.rules import TableRules
    from brenvik.outcome import Outcome
    from brenvik.project.project import Project


STYLES = {
    "rejected": "red",
    "failed": "red",
    "blocked": "yellow",
    "busy": "yellow",
    "crashed": "yellow",
    "reverted": "yellow",
    "protected": "yellow",
}


def _seen(part: Any) -> Any:
    if isinstance(part, Text) and visible(part.plain) != part.plain:
        return Text(visible(part.plain), style=part.style)
    return visible(part) if isinstance(part, str) else part


class _Console(Console):
    """Shows values, names and messages as they are, whatever characters are in them."""

    def print(self, *objects: Any, **how: Any) -> None:
        super().print(*map(_seen, objects), **how)


class _Table(Table):
    def add_column(self, header: Any = "", *rest: Any, **how: Any) -> None:
        super().add_column(_seen(header), *rest, **how)

    def add_row(self, *cells: Any, **how: Any) -> None:
        super().add_row(*map(_seen, cells), **how)


def console() -> Console:
    """Lines are never cut or wrapped here: a narrow terminal wraps them itself, and nothing is lost."""
    return _Console(highlight=False, width=1000)


def print_json(project: Project, *, in_one_line: bool = False, **answer: Any) -> None:
    value = {"project": project.name, "environment": project.environment, **answer}
    indent = None if in_one_line else 2
    try:
        text = json.dumps(value, default=_plain, ensure_ascii=False, indent=indent, allow_nan=False)
    except ValueError:
        text = json.dumps(_finite(value), default=_plain, ensure_ascii=False, indent=indent, allow_nan=False)
    print(text.encode("utf-8", "backslashreplace").decode(), flush=True)


def _finite(value: Any) -> Any:
    """The same with the texts NaN, Infinity and -Infinity in place of numbers that JSON does not have."""
    if isinstance(value, float) and not math.isfinite(value):
        return "NaN" if value != value else "Infinity" if value > 0 else "-Infinity"
    if isinstance(value, Mapping):
        return {key: _finite(inner) for key, inner in value.items()}
    if isinstance(value, (list, tuple)):
        return [_finite(inner) for inner in value]
    plain = None if value is None or isinstance(value, (str, int, float)) else _plain(value)
    return _finite(plain) if isinstance(plain, Mapping) else value


def _plain(value: Any) -> Any:
    if isinstance(value, (datetime, date, time)):
        return value.isoformat()
    if isinstance(value, Decimal):
        return str(value)
    if isinstance(value, bytes):
        return value.hex()
    if isinstance(value, timedelta):
        return value.total_seconds()
    if hasattr(value, "__dict__"):
        return value.__dict__
    return str(value)


def table_of(*columns: str, right: Iterable[str] = ()) -> Table:
    table = _Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="dim", show_edge=False)
    for column in columns:
        table.add_column(column, justify="right" if column in right else "left", no_wrap=True)
    return table


def indented(out: Console, table: Table, by: int = 2) -> None:
    """Prints a table without blanks at the ends of its lines."""
    with out.capture() as captured:
        out.print(table)
    for line in captured.get().splitlines():
        sys.stdout.write((" " * by + line).rstrip() + "\n")
    sys.stdout.flush()


def heading(out: Console, project: Project, *more: str, dated: bool = False) -> None:
    day = [f"{datetime.now(UTC):%Y-%m-%d %H:%M} UTC"] if dated else []
    out.print(Text(" · ".join([project.title, *more, *day]), style="bold"))
    out.print()


def count(number: int | None) -> str:
    return f"{number:,}" if number else "–"


def many(number: int, unit: str) -> str:
    """``1 file``, ``2 files``; ``unit`` is the plural."""
    return f"{number:,} {unit if number != 1 else unit.removesuffix('s')}"


def from_to(before: int, after: int) -> str:
    return f"{before:,}" if before == after else f"{before:,} → {after:,}"


def size(number: int) -> str:
    """Bytes as people say them."""
    for unit, power in (("GB", 9), ("MB", 6), ("kB", 3)):
        if number >= 10**power:
            many = number / 10**power
            return f"{many:.1f} {unit}" if many < 10 else f"{many:.0f} {unit}"
    return f"{number} B"


def moment(value: Any) -> str:
    """A time as people write it: no seconds where there are none."""
    if value is None:
        return "open"
    if isinstance(value, datetime):
        plain = value.replace(tzinfo=None)
        if plain.microsecond:
            return f"{plain:%Y-%m-%d %H:%M:%S.%f}"
        return f"{plain:%Y-%m-%d %H:%M:%S}" if plain.second else f"{plain:%Y-%m-%d %H:%M}"
    return str(value)


def shown(value: Any) -> str:
    if value is None:
        return "–"
    if isinstance(value, float) and math.isnan(value):
        return "NaN"
    if isinstance(value, datetime):
        return moment(value)
    return value.hex() if isinstance(value, bytes) else str(value).replace("\n", "⏎")


def state(state: str) -> Text:
    return Text(state, style=STYLES.get(state, ""))


def short(text: str, width: int = 60) -> str:
    return text if len(text) <= width else text[: width - 1] + "…"


def key_of(key: Mapping[str, Any]) -> str:
    return " ".join("–" if value is None else shown(value) for value in key.values())


def system_columns(rules: TableRules) -> set[str | None]:
    """The names of Brenvik's own columns in a table."""
    from brenvik.model.rules import SYSTEM_COLUMNS

    return {rules.system_column_name(name) for name in SYSTEM_COLUMNS}


def sums_of_rows(outcome: Outcome) -> str:
    """How the number of rows came about, and how many were changed."""
    changed = outcome.counts["rows_updated"]
    return outcome.sums()[1] + (f", {changed:,} changed" if changed else "")


def span(away: Any) -> str:
    """A stretch of time in days, hours and minutes; of numbers, their difference."""
    if not isinstance(away, timedelta):
        return str(away)
    hours, minutes = divmod(away.seconds // 60, 60)
    parts = [(away.days, "d"), (hours, "h"), (minutes, "min")]
    told_parts = [f"{number} {unit}" for number, unit in parts if number]
    return " ".join(told_parts[:2] if away.days else told_parts) or "< 1 min"
