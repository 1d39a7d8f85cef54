"""The results of loads."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from typing import TYPE_CHECKING

from rich.console import Console
from rich.text import Text

from brenvik.cli.render import paper
from brenvik.cli.render.characters import visible
from brenvik.model.decisions import DECISIONS

if TYPE_CHECKING:
    from brenvik.outcome import Outcome
    from brenvik.project.project import Project
    from brenvik.project.repeat import Round

_SHOWN_LINES = 12
_FEW = 5
"""Feeds without new data are listed up to this many, and only counted beyond."""
_LISTED = ("pending", "protected", "rejected", "ignored")


def _rows(counts: Mapping[str, int]) -> str:
    return f"{counts['rows_before']:,} → {counts['rows_after']:,}" if counts else "–"


def show_loads(project: Project, outcomes: Sequence[Outcome], code: int, *, json: bool, quiet: bool = False) -> None:
    if json:
        paper.print_json(project, exit=code, outcomes=[o.to_dict() for o in outcomes])
        return
    everything, busy = outcomes, [o for o in outcomes if o.state != "nothing new" or o.notes]
    if quiet or len(outcomes) - len(busy) > _FEW:
        outcomes = busy
    if quiet and not outcomes:
        return
    out = paper.console()
    paper.heading(out, project, dated=True)
    used = [name for name in DECISIONS if any(o.counts.get(name) for o in outcomes)]
    several = len({(o.table, o.feed) for o in outcomes}) > len({o.table for o in outcomes})
    leading = ("table", "feed") if several else ("table",)
    table = paper.table_of(*leading, "run", "read", *used, "rows", "time", right=("run", "read", *used, "rows", "time"))
    for o in outcomes:
        lead = [o.table, o.feed][: len(leading)]
        if o.state in {"done", "preview"}:
            numbers = [paper.count(o.counts.get(name)) for name in used]
            table.add_row(
                *lead, str(o.run), f"{o.counts['read']:,}", *numbers, _rows(o.counts), f"{o.duration_s:.2f} s"
            )
        else:
            table.add_row(*lead, "–", "–", *["–"] * len(used), "–", paper.state(o.state))
    if outcomes:
        paper.indented(out, table)
    for o in outcomes:
        _load_details(out, o)
    _load_end(out, everything, code)


def show_round(project: Project, found: Round, *, stopping: bool, json: bool) -> None:
    """One line for one of many loads."""
    if json:
        paper.print_json(
            project,
            in_one_line=True,
            at=datetime.now(UTC),
            outcomes=[o.to_dict() for o in found.outcomes],
            error=str(found.error) if found.error else None,
            every_s=found.every_s,
            next_s=None if stopping else round(found.next_s, 3),
        )
        return
    line = []
    for o in found.outcomes:
        parts = [f"{o.counts[name]:,} {name}" for name in ("read", *DECISIONS) if o.counts.get(name)]
        what = f"run {o.run}: {', '.join(parts) or 'no rows'}" if o.run else o.state
        line.append(f"{o.table} {what}" + (f" ({str(o.error).splitlines()[0]})" if o.error else ""))
    line += [str(found.error).splitlines()[0]] if found.error else []
    line.append("stopped" if stopping else f"next in {found.next_s:.0f} s")
    print(visible(f"{datetime.now(UTC):%H:%M:%S}  {' · '.join(line)}"), flush=True)


def _load_details(out: Console, o: Outcome) -> None:
    out.print()
    head = f"  {o.table}  "
    if o.error:
        first, *rest = str(o.error).splitlines()
        out.print(Text(head + first, style=paper.STYLES.get(o.state, "")))
        for line in rest:
            out.print(Text(" " * len(head) + line.strip()))
        return
    if o.state == "nothing new":
        out.print(Text(f"{head}nothing new from {o.feed}"))
    else:
        out.print(Text(head + o.source))
        pad = " " * len(head)
        if o.decision_log and any(o.counts.get(name) for name in _LISTED):
            listed = [r for r in o.decisions().to_pylist() if r["decision"] in _LISTED]
            keyed = any(row["key"] is not None for row in listed)
            table = paper.table_of("", "", *([""] if keyed else []), "")
            for row in listed[:_SHOWN_LINES]:
                place = " ".join(
                    filter(
                        None, [row["file"] if " … " in o.source else "", f"line {row['line']}" if row["line"] else ""]
                    )
                )
                key = [paper.key_of(row["key"])] if keyed else []
                table.add_row(paper.state(row["decision"]), place, *key, row["reason"])
            table.show_header = False
            paper.indented(out, table, by=len(pad))
            if len(listed) > _SHOWN_LINES:
                out.print(Text(f"{pad}and {len(listed) - _SHOWN_LINES:,} more"))
        decided, rows = o.sums()
        out.print(Text(f"{pad}{decided}"))
        out.print(Text(f"{pad}{rows}"))
    for note in o.notes:
        out.print(Text(f"  {' ' * len(o.table)}  {note}"))


def _load_end(out: Console, outcomes: Sequence[Outcome], code: int) -> None:
    states: dict[str, int] = {}
    for o in outcomes:
        states["loaded" if o.state == "done" else o.state] = (
            states.get("loaded" if o.state == "done" else o.state, 0) + 1
        )
    line = [f"{number} {state}" for state, number in states.items()]
    with_rejects = [o for o in outcomes if o.counts.get("rejected")]
    rejected = sum(o.counts["rejected"] for o in with_rejects)
    if rejected:
        where = with_rejects[0].table if len(with_rejects) == 1 else ""
        line.append(f"{rejected:,} rejected: brenvik rejects {where}".rstrip())
    if pending := sum(o.counts.get("pending", 0) for o in outcomes):
        line.append(f"{pending:,} pending: brenvik deletes")
    out.print()
    out.print(Text(f"  {', '.join(line)}    exit {code}"))
