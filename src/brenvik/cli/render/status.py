"""The state of each table."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import timedelta
from typing import TYPE_CHECKING

from rich.console import Console
from rich.text import Text

from brenvik.cli.render import paper
from brenvik.ledger.entries import now

if TYPE_CHECKING:
    from brenvik.project.project import Project
    from brenvik.project.status import TableStatus


def show_status(project: Project, found: Sequence[TableStatus], code: int, *, json: bool) -> None:
    if json:
        paper.print_json(
            project,
            exit=code,
            tables=[{**vars(each), "needs_attention": each.needs_attention, "is_ok": each.is_ok} for each in found],
        )
        return
    out = paper.console()
    paper.heading(out, project, dated=True)
    counts = {
        "open rejects": [each.open_rejects for each in found],
        "pending deletes": [each.pending_deletes for each in found],
        "protected": [each.protected for each in found],
        **{state: [each.since[state] for each in found] for state in ("failed", "blocked", "crashed")},
    }
    used = [name for name, numbers in counts.items() if any(numbers)]
    table = paper.table_of("table", "last successful run", "ago", "behind", "waiting", *used, "", right=used)
    for index, each in enumerate(found):
        ago = now() - each.last_at if each.last_at else None
        table.add_row(
            each.table,
            f"{each.last_run} · {each.last_at:%Y-%m-%d %H:%M}" if each.last_at else "none",
            paper.span(ago) if ago is not None else "–",
            "unknown"
            if each.errors
            else "–"
            if each.behind_s is None
            else paper.span(timedelta(seconds=each.behind_s)),
            ", ".join(paper.many(number, unit) for unit, number in each.waiting.items()) or "–",
            *(paper.count(counts[name][index]) for name in used),
            Text("overdue", style="red")
            if each.overdue
            else Text("source unavailable", style="yellow")
            if each.errors
            else "",
        )
    paper.indented(out, table)
    out.print()
    _show_reach(out, found)
    _show_attention(out, found)
    _show_summary(out, found, counts, code)


def _show_reach(out: Console, found: Sequence[TableStatus]) -> None:
    """How far back late changes and reverts reach, where change logs were trimmed."""
    trimmed = [each for each in found if each.log_trimmed_before]
    for each in trimmed:
        late = f"late changes from {each.log_trimmed_before} on are placed"
        runs = f"runs up to {each.log_trimmed_to_run} can no longer be reverted"
        out.print(Text(f"  {each.table}  change log trimmed: {late}, and {runs}"))
    if trimmed:
        out.print()


def _show_attention(out: Console, found: Sequence[TableStatus]) -> None:
    for each in found:
        if each.overdue and each.expected_every:
            out.print(
                Text(
                    f"  {each.table}  overdue: a successful run is expected every {paper.span(each.expected_every)}",
                    style="red",
                )
            )
        for line in (*each.errors, *each.attention):
            out.print(Text(f"  {each.table}  {line}", style="yellow"))
    if any(each.overdue or each.errors or each.attention for each in found):
        out.print()


def _show_summary(out: Console, found: Sequence[TableStatus], counts: Mapping[str, list[int]], code: int) -> None:
    bad = [each for each in found if not each.is_ok]
    looks = "brenvik runs" if any(any(each.since.values()) for each in found) else ""
    rejects = "brenvik rejects" if any(counts["open rejects"]) else ""
    deletes = "brenvik deletes" if any(counts["pending deletes"]) else ""
    looks = ", ".join(filter(None, [looks, rejects, deletes]))
    look = f"    see: {looks}" if looks else ""
    summary = (
        "OK" if not bad else f"{len(found) - len(bad)} OK, {len(bad)} {'needs' if len(bad) == 1 else 'need'} attention"
    )
    out.print(Text(f"  {summary}{look}    exit {code}"))
