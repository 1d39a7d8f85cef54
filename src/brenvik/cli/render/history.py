"""One key: its versions on a time line, or every change of it."""

from __future__ import annotations

import itertools
import shutil
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

from rich.console import Console
from rich.text import Text

from brenvik.cli.render import paper
from brenvik.cli.render.time_line import time_line

if TYPE_CHECKING:
    from brenvik.model.rules import TableRules
    from brenvik.project.project import Project


def show_history(
    project: Project, rules: TableRules, key: Any, rows: Sequence[Mapping[str, Any]], *, past: str = "", json: bool
) -> None:
    """``past`` says in words which past the rows are of; '' for the table as it is."""
    if json:
        paper.print_json(project, table=rules.table, key=key, versions=rows)
        return
    out = paper.console()
    shown_key = paper.key_of(key) if isinstance(key, dict) else str(key)
    if not rows:
        out.print(Text(" · ".join(filter(None, [project.title, f"{rules.table} {shown_key}", past, "unknown"]))))
        return
    own = {
        name: rules.system_column_name(name)
        for name in ("surrogate_key", "valid_from", "valid_to", "is_deleted", "first_run", "last_run")
    }
    own = {name: column if column in rows[0] else None for name, column in own.items()}
    start, end = own["valid_from"], own["valid_to"]
    spans = [(row[start] if start else None, _open_end(rules, row[end]) if end else None) for row in rows]
    is_current = spans[-1][1] is None and not (own["is_deleted"] and rows[-1][own["is_deleted"]])
    moment = spans[-1][0] if is_current else spans[-1][1]
    since = ("current since " if is_current else "deleted ") + paper.moment(moment)
    since = since if moment is not None else since.split()[0]
    many = "1 version" if len(rows) == 1 else f"{len(rows)} versions"
    paper.heading(out, project, f"{rules.table} {shown_key}", *filter(None, [past]), many, since)
    if start and end:
        for line in time_line(spans, width=min(shutil.get_terminal_size().columns - 4, 100)):
            out.print(Text(f"  {line}"))
        out.print()
    values = [name for name in rows[0] if name not in paper.system_columns(rules) and name not in rules.natural_key]
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
        same = ", ".join(f"{name} {paper.shown(rows[-1][name])}" for name in steady)
        out.print(Text(f"\n  same in all: {same}" if len(rows) > 1 else f"\n  {same}"))
    out.print()
    for number, (one, other) in enumerate(itertools.pairwise(rows), 1):
        _step(out, number, one, other, spans, [name for name in varying if name not in rules.stamps])
    if not is_current and end:
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
    differences = [
        f"{name} {paper.shown(one[name])} → {paper.shown(other[name])}"
        for name in varying
        if paper.shown(one[name]) != paper.shown(other[name])
    ]
    if gap:
        away = spans[number][0] - spans[number - 1][1]
        differences.insert(
            0,
            f"deleted {paper.moment(spans[number - 1][1])}, inserted again {paper.moment(spans[number][0])} "
            f"(after {paper.span(away)})",
        )
    for line in differences or ["inserted again without a difference"]:
        out.print(Text(lead + line))
        lead = " " * len(lead)


def _open_end(rules: TableRules, value: Any) -> Any:
    return None if rules.open_end is not None and str(value)[:10] == str(rules.open_end)[:10] else value


def show_change_log(
    project: Project,
    rules: TableRules,
    key: Any,
    changes: Sequence[Mapping[str, Any]],
    *,
    trimmed_to_run: int | None = None,
    json: bool,
) -> None:
    """The changes of a key in the log; ``trimmed_to_run`` is the run up to which that is trimmed."""
    if json:
        paper.print_json(project, table=rules.table, key=key, trimmed_to_run=trimmed_to_run, changes=changes)
        return
    out = paper.console()
    shown_key = paper.key_of(key) if isinstance(key, dict) else str(key)
    if not changes:
        since = f" since run {trimmed_to_run}, up to which it is trimmed" if trimmed_to_run else ""
        out.print(Text(f"{project.title} · {rules.table} {shown_key} · no changes in the log{since}"))
        return
    about = ["in order of arrival", *([f"up to run {trimmed_to_run} trimmed"] if trimmed_to_run else [])]
    paper.heading(out, project, f"{rules.table} {shown_key}", paper.many(len(changes), "changes"), *about)
    table = paper.table_of("run", "arrived", "from", "line", "effective", "decision", "effect", right=("run", "line"))
    for row in changes:
        table.add_row(
            str(row["run"]),
            f"{row['arrived_at']:%m-%d %H:%M}" if row["arrived_at"] else "–",
            paper.short(row["file"] or "–", 26),
            str(row["line"] or "–"),
            paper.moment(row["effective"]),
            paper.state(row["decision"]),
            paper.short(row["reason"].replace("\n", "⏎"), 60)
            + (f"  (reverted by run {row['reverted_by']})" if row["reverted_by"] else ""),
        )
    paper.indented(out, table)


def in_words(known_at: int | None, without: Sequence[int] | None) -> str:
    """Which past is shown, in words; '' for none."""
    parts = [f"as known after run {known_at}"] if known_at is not None else []
    parts += [f"without run {', '.join(map(str, without))}"] if without else []
    return ", ".join(parts)
