"""What loads would do, row by row."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

from rich.console import Console
from rich.table import Table
from rich.text import Text

from brenvik.cli.render import paper

if TYPE_CHECKING:
    from brenvik.outcome import Outcome
    from brenvik.project.project import Project


def show_previews(
    project: Project, outcomes: Sequence[Outcome], *, everything: bool, json: bool, do_it: str | None = None
) -> None:
    """What loads would do; ``do_it`` is the command that does it, where it is not ``load``."""
    if json:
        shown = [o.to_dict() | {"decisions": o.decisions().to_pylist() if o.decision_log else []} for o in outcomes]
        paper.print_json(project, outcomes=shown)
        return
    out = paper.console()
    for index, o in enumerate(outcomes):
        if index:
            out.print()
        if o.error:
            out.print(Text(f"{project.title} · {o.table} · {o.state}", style="bold"))
            out.print(Text(f"  {o.error}"))
            continue
        if not o.decision_log:
            out.print(Text(f"{project.title} · {o.table} · nothing new from {o.feed}", style="bold"))
            for note in o.notes:
                out.print(Text(f"  {note}"))
            continue
        paper.heading(out, project, o.table, f"{o.source} waiting", "nothing is written")
        rows = o.decisions().to_pylist()
        shown = [row for row in rows if everything or row["decision"] != "unchanged"]
        show_decisions(out, shown)
        if hidden := o.counts["unchanged"] - sum(row["decision"] == "unchanged" for row in shown):
            more = ": --all" if len(shown) < len(rows) else ""
            out.print(Text(f"  {hidden:,} unchanged rows not shown{more}"))
        out.print()
        for line in (*o.sums(), *o.notes):
            out.print(Text(f"  {line}"))
        out.print()
        if o.blocked_by:
            first, *rest = str(o.blocked_by).splitlines()
            out.print(Text(f"  A load would be {first.rpartition(': ')[2]}.", style="yellow"))
            for line in rest:
                if not line.startswith("look "):
                    out.print(Text(f"  {line}"))
            continue
        out.print(Text(f"  to load   brenvik {do_it or f'load {o.table}'}"))


def show_decisions(out: Console, rows: Sequence[Mapping[str, Any]]) -> None:
    """The decisions on changes, row by row."""
    several, keyed = len({row["file"] for row in rows}) > 1, any(row["key"] is not None for row in rows)
    columns = (
        *(["file"] if several else []),
        "line",
        *(["key"] if keyed else []),
        "decision",
        "column",
        "before → after",
    )
    table = paper.table_of(*columns, *(["effective"] if keyed else []), right=("line",))
    for row in rows:
        _decision(table, row, several=several, keyed=keyed)
    paper.indented(out, table)


def _in_one_line(decision: str, reason: str, changes: Sequence[Mapping[str, Any]]) -> tuple[str, str]:
    """Which column, and what became of it: all values that an insert brought or a delete ended, else the reason."""
    if decision == "inserted":
        reason = f"new: {', '.join(str(change['after']) for change in changes)}"
    elif decision == "deleted" and changes:
        ended = f"was: {', '.join(str(change['before']) for change in changes)}"
        reason = ended if reason == "deleted" else f"{reason}, {ended}"
    elif decision == "rejected" and changes:
        return changes[0]["column"], reason
    return "–", paper.short(reason.replace("\n", "⏎"))


def _decision(table: Table, row: Mapping[str, Any], *, several: bool, keyed: bool) -> None:
    decision, changes = row["decision"], row["changes"]
    start = [
        *([row["file"] or "–"] if several else []),
        str(row["line"] or "–"),
        *([paper.key_of(row["key"])] if keyed else []),
        paper.state(decision),
    ]
    effective = paper.moment(row["effective"]) if row["effective"] is not None else ""
    if not keyed:
        table.add_row(*start, *_in_one_line(decision, row["reason"], changes))
        return
    if not changes or decision not in {"versioned", "overwritten", "protected"}:
        table.add_row(*start, *_in_one_line(decision, row["reason"], changes), effective)
        return
    for index, change in enumerate([*changes, *row["protected"]]):
        before, after = (
            paper.short("nothing" if v is None else v.replace("\n", "⏎"), 30)
            for v in (change["before"], change["after"])
        )
        stays = decision == "protected" or index >= len(changes)
        values = f"{before} stays ({after})" if stays else f"{before} → {after}"
        lead = start if index == 0 else [""] * len(start)
        table.add_row(*lead, change["column"], values, effective if index == 0 else "")
