"""Pending deletes."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

from rich.text import Text

from brenvik.cli.render import paper

if TYPE_CHECKING:
    from brenvik.project.project import Project

_SHOWN_VALUES = 4


def show_pending_deletes(project: Project, found: Mapping[str, Sequence[Mapping[str, Any]]], *, json: bool) -> None:
    if json:
        paper.print_json(project, pending_deletes=found)
        return
    out = paper.console()
    paper.heading(out, project, "pending deletes", dated=True)
    there = {name: rows for name, rows in found.items() if rows}
    if not there:
        out.print(Text("  No deletes are pending." if found else "  No table of this project has deletes reviewed."))
        return
    for name, rows in there.items():
        keys = project.table(name).rules.natural_key
        values = [column for column in rows[0] if not column.startswith("brenvik_") and column not in keys]
        shown = values[:_SHOWN_VALUES]
        table = paper.table_of(
            "", "table", *keys, *shown, "feed", "run", "deleted at", "pending since", right=("", "run")
        )
        for row in rows:
            table.add_row(
                str(row["brenvik_delete_no"]),
                name,
                *(paper.shown(row[column]) for column in keys),
                *(paper.short(paper.shown(row[column]), 24) for column in shown),
                row["brenvik_feed"],
                str(row["brenvik_run"]),
                paper.moment(row["brenvik_effective_at"]),
                f"{row['brenvik_pending_since']:%Y-%m-%d %H:%M}",
            )
        paper.indented(out, table)
    first, rows = next(iter(there.items()))
    number = rows[0]["brenvik_delete_no"]
    out.print()
    out.print(Text(f"  approve it   brenvik deletes approve {first} {number}"))
    out.print(Text(f"  discard it   brenvik deletes discard {first} {number}"))
