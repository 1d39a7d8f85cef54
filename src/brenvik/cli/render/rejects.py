"""Rejected rows."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from rich.text import Text

from brenvik.cli.render import paper
from brenvik.outcome import Outcome
from brenvik.project.rejects import wider_types

if TYPE_CHECKING:
    from brenvik.project.project import Project


def show_rejects(project: Project, rows: Sequence[Mapping[str, Any]], *, json: bool) -> None:
    wider = wider_types(project, rows)
    if json:
        paper.print_json(project, rejects=rows, wider_types=wider)
        return
    out = paper.console()
    paper.heading(out, project, dated=True)
    if not rows:
        out.print(Text("  There are no open rejects."))
        return
    table = paper.table_of("reject", "table", "run", "file", "line", "reason", right=("reject", "run", "line"))
    for row in rows:
        table.add_row(
            str(row["reject"]), row["table_name"], str(row["run"]), row["file"] or "–", str(row["line"]), row["reason"]
        )
        table.add_row("", "", "", "", "", Text(paper.short(row["content"].replace("\n", "⏎"), 76), style="dim"))
    paper.indented(out, table)
    out.print()
    name = rows[0]["table_name"]
    out.print(Text(f"  {len(rows)} open. Each row is kept in full: see --json."))
    out.print()
    for its, types in wider.items():
        fitting = ", ".join(f'{column} = "{kind}"' for column, kind in types.items())
        out.print(Text(f"  types that would fit     {its}: types = {{ {fitting} }}"))
    out.print(Text(f"  after fixing the rules   brenvik rejects retry {name}"))
    out.print(Text(f"  to fix the rows          brenvik rejects export {name} FILE"))
    out.print(Text(f"  to discard one           brenvik rejects discard {name} {rows[0]['reject']}"))


def show_export(project: Project, table: str, file: Path, count: int, *, json: bool) -> None:
    if json:
        paper.print_json(project, table=table, file=str(file), rejects=count)
        return
    out = paper.console()
    paper.heading(out, project, table, f"{paper.many(count, 'rejects')} exported to {file}")
    out.print(Text('  Each line has the reason. Fix its "row", remove the lines to be left open, then:'))
    out.print(Text(f"  preview   brenvik rejects retry {table} {file} --preview"))
    out.print(Text(f"  retry     brenvik rejects retry {table} {file}"))


def show_discarded(project: Project, outcome: Outcome, *, json: bool) -> None:
    if json:
        paper.print_json(project, outcome=outcome.to_dict())
        return
    paper.heading(paper.console(), project, outcome.table, outcome.source, f"run {outcome.run}")
