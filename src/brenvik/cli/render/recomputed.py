"""What changed when keys were recomputed."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.text import Text

from brenvik.cli.render import paper
from brenvik.outcome import Outcome

if TYPE_CHECKING:
    from brenvik.model.rules import TableRules
    from brenvik.project.project import Project

_SHOWN_KEYS = 20


def show_recomputed(project: Project, rules: TableRules, outcome: Outcome, *, json: bool) -> None:
    changed = outcome.changed_keys.to_pylist() if outcome.changed_keys is not None else []
    if json:
        paper.print_json(project, outcome=outcome.to_dict(), changed_keys=changed)
        return
    out = paper.console()
    preview = outcome.state == "preview"
    what = "nothing is written" if preview else f"run {outcome.run}"
    paper.heading(out, project, rules.table, outcome.source, what)
    if changed:
        table = paper.table_of("key", "added", "changed", "removed", right=("added", "changed", "removed"))
        for row in changed[:_SHOWN_KEYS]:
            key = paper.key_of({name: row[name] for name in rules.natural_key})
            table.add_row(key, *(paper.count(row[f"brenvik_{name}"]) for name in ("added", "changed", "removed")))
        paper.indented(out, table)
        if len(changed) > _SHOWN_KEYS:
            out.print(Text(f"  and {paper.many(len(changed) - _SHOWN_KEYS, 'keys')} more"))
        out.print()
    told_below = outcome.source == "rebuilt" and outcome.notes
    same = "" if changed or told_below or outcome.counts["rows_removed"] else "No rows differ. "
    out.print(Text(f"  {same}{paper.sums_of_rows(outcome)}"))
    for note in outcome.notes:
        out.print(Text(f"  {note}"))
