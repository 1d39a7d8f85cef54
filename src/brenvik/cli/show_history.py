"""How answers look: the versions of a key, and a table at a moment."""

from __future__ import annotations

import itertools
import shutil
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

from rich.console import Console
from rich.text import Text

from brenvik.cli import paper
from brenvik.cli.line import time_line

if TYPE_CHECKING:
    import pyarrow as pa

    from brenvik.project import Project
    from brenvik.rules import TableRules


def history(
    project: Project, rules: TableRules, key: Any, rows: Sequence[Mapping[str, Any]], *, past: str = "", json: bool
) -> None:
    """``past`` says in words of which past the rows are; '' for the table as it is."""
    if json:
        paper.print_json(project, table=rules.table, key=key, versions=rows)
        return
    out = paper.console()
    shown_key = paper.key_of(key) if isinstance(key, dict) else str(key)
    if not rows:
        out.print(Text(" · ".join(filter(None, [project.title, f"{rules.table} {shown_key}", past, "unknown"]))))
        return
    own = {
        name: rules.housekeeping_name(name)
        for name in ("surrogate_key", "valid_from", "valid_to", "is_deleted", "first_run", "last_run")
    }
    own = {name: column if column in rows[0] else None for name, column in own.items()}
    start, end = own["valid_from"], own["valid_to"]
    spans = [(row[start] if start else None, _open_end(rules, row[end]) if end else None) for row in rows]
    living = spans[-1][1] is None and not (own["is_deleted"] and rows[-1][own["is_deleted"]])
    moment = spans[-1][0] if living else spans[-1][1]
    since = ("current since " if living else "deleted ") + paper.moment(moment)
    since = since if moment is not None else since.split()[0]
    many = "1 version" if len(rows) == 1 else f"{len(rows)} versions"
    paper.heading(out, project, f"{rules.table} {shown_key}", *filter(None, [past]), many, since)
    if start and end:
        for line in time_line(spans, width=min(shutil.get_terminal_size().columns - 4, 100)):
            out.print(Text(f"  {line}"))
        out.print()
    values = [name for name in rows[0] if name not in _housekeeping(rules) and name not in rules.natural_key]
    varying = [name for name in values if len({paper.shown(row[name]) for row in rows}) > 1]
    steady = [name for name in values if name not in varying]
    named = [own[name] or "" for name in ("surrogate_key", "valid_from", "valid_to")]
    columns = ["", *filter(None, named), *varying, *filter(None, (own["first_run"], own["last_run"]))]
    table = paper.table_of(*columns, right=("", *(str(own[n]) for n in ("surrogate_key", "first_run", "last_run"))))
    for number, (row, span) in enumerate(zip(rows, spans, strict=True), 1):
        cells = [str(number)]
        for column in columns[1:]:
            cells.append(
                paper.moment(span[0] if column == start else span[1])
                if column in (start, end)
                else paper.shown(row[column])
            )
        table.add_row(*cells)
    paper.indented(out, table)
    if steady:
        told = ", ".join(f"{name} {paper.shown(rows[-1][name])}" for name in steady)
        out.print(Text(f"\n  same in all: {told}" if len(rows) > 1 else f"\n  {told}"))
    out.print()
    for number, (one, other) in enumerate(itertools.pairwise(rows), 1):
        _step(out, number, one, other, spans, varying)
    if not living and end:
        out.print(Text(f"  {len(rows)}      deleted {paper.moment(spans[-1][1])}"))


def _step(
    out: Console,
    number: int,
    one: Mapping[str, Any],
    other: Mapping[str, Any],
    spans: Sequence[Any],
    varying: list[str],
) -> None:
    gap = spans[number - 1][1] != spans[number][0]
    lead = f"  {number} → {number + 1}  "
    said = [
        f"{name} {paper.shown(one[name])} → {paper.shown(other[name])}"
        for name in varying
        if paper.shown(one[name]) != paper.shown(other[name])
    ]
    if gap:
        away = spans[number][0] - spans[number - 1][1]
        said.insert(
            0,
            f"deleted {paper.moment(spans[number - 1][1])}, back {paper.moment(spans[number][0])} (away for {paper.span(away)})",
        )
    for line in said or ["comes back as it was"]:
        out.print(Text(lead + line))
        lead = " " * len(lead)


def _open_end(rules: TableRules, value: Any) -> Any:
    return None if rules.open_end is not None and str(value)[:10] == str(rules.open_end)[:10] else value


def _housekeeping(rules: TableRules) -> set[str | None]:
    from brenvik.rules import HOUSEKEEPING

    return {rules.housekeeping_name(name) for name in HOUSEKEEPING}


def as_of(
    project: Project, rules: TableRules, when: str, rows: pa.Table, *, past: str = "", limit: int, json: bool
) -> None:
    if json:
        paper.print_json(project, table=rules.table, as_of=when, rows=rows.to_pylist())
        return
    out = paper.console()
    many = "1 row" if len(rows) == 1 else f"{len(rows):,} rows"
    paper.heading(out, project, f"{rules.table} as of {when}", *filter(None, [past]), many)
    if not len(rows):
        return
    kept = {rules.housekeeping_name(name) for name in ("valid_from", "valid_to")}
    columns = [name for name in rows.column_names if name not in _housekeeping(rules) or name in kept]
    numeric = [name for name in columns if str(rows.schema.field(name).type).startswith(("int", "dec", "double"))]
    table = paper.table_of(*columns, right=numeric)
    for row in rows.slice(0, limit).to_pylist():
        table.add_row(*(paper.moment(row[name]) if name in kept else paper.shown(row[name]) for name in columns))
    paper.indented(out, table)
    if len(rows) > limit:
        out.print(Text(f"  {len(rows) - limit:,} more rows: --limit {len(rows)} or --json"))
