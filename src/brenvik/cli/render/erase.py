"""What was erased."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.text import Text

from brenvik.cli.render import paper

if TYPE_CHECKING:
    from brenvik.model.rules import TableRules
    from brenvik.outcome import Outcome
    from brenvik.project.project import Project


def show_erased(project: Project, rules: TableRules, outcome: Outcome, *, json: bool) -> None:
    if json:
        paper.print_json(project, outcome=outcome.to_dict())
        return
    out = paper.console()
    preview = outcome.state == "preview"
    paper.heading(out, project, rules.table, outcome.source, "nothing is written" if preview else f"run {outcome.run}")
    for line in (outcome.sums()[1], *outcome.notes):
        out.print(Text(f"  {line}"))
    out.print()
    what = (
        f"erase it   brenvik erase {rules.table} KEY --reason TEXT"
        if preview
        else f"allow it again   brenvik revert {outcome.run}"
    )
    out.print(Text(f"  to {what}"))
