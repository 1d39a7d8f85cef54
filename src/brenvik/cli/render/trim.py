"""What was trimmed of change logs."""

from __future__ import annotations

import shlex
from collections.abc import Sequence
from typing import TYPE_CHECKING

from rich.text import Text

from brenvik.cli.render import paper

if TYPE_CHECKING:
    from brenvik.outcome import Outcome
    from brenvik.project.project import Project


def show_trimmed(project: Project, outcomes: Sequence[Outcome], *, keep: str | None, preview: bool, json: bool) -> None:
    if json:
        paper.print_json(project, outcomes=[outcome.to_dict() for outcome in outcomes])
        return
    out = paper.console()
    paper.heading(out, project, "nothing is written" if preview else "change logs")
    table = paper.table_of("table", "run", "trimmed" if not preview else "to trim", right=("run",))
    for outcome in outcomes:
        what = outcome.notes[0].partition(": ")[2].removesuffix(".")
        table.add_row(outcome.table, "–" if outcome.run is None else str(outcome.run), what)
    if outcomes:
        paper.indented(out, table)
    else:
        out.print(Text('  No table has a period for its change log, as in change_log = "400 days".'))
    if preview and any(outcome.counts["changes_trimmed"] for outcome in outcomes):
        words = [*(outcome.table for outcome in outcomes), *(["--keep", keep] if keep else [])]
        out.print()
        out.print(Text(f"  to trim {'it' if len(outcomes) == 1 else 'them'}   brenvik trim {shlex.join(words)}"))
