"""How far each feed has been loaded."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import timedelta
from typing import TYPE_CHECKING, Any

from rich.console import Console
from rich.text import Text

from brenvik.cli.render import paper
from brenvik.model.feeds import DatabaseFeed
from brenvik.model.positions import INTEGERS, as_text
from brenvik.project.status import waited_s

if TYPE_CHECKING:
    from brenvik.project.project import Project
    from brenvik.project.status import FeedProgress, Move

_SKIPPED = "What lies between will not be loaded unless it is asked for: brenvik load TABLE --from VALUE --to VALUE"


def show_watermarks(project: Project, found: Sequence[FeedProgress], *, json: bool) -> None:
    if json:
        paper.print_json(project, feeds=[entry.as_plain() for entry in found])
        return
    out = paper.console()
    paper.heading(out, project, dated=True)
    table = paper.table_of("table", "feed", "source", "loaded up to", "run", "at", "waiting", "for", right=("run",))
    for entry in found:
        waiting = entry.waiting
        waits = "–" if waiting is None else paper.many(waiting.count, waiting.unit) if waiting.count else "nothing"
        since = waited_s(waiting) if waiting else None
        table.add_row(
            entry.table,
            entry.feed.name,
            paper.short(entry.feed.reads, 40),
            entry.taken or "nothing yet",
            str(entry.run or "–"),
            f"{entry.loaded_at:%m-%d %H:%M}" if entry.loaded_at else "–",
            Text("unavailable", style="red") if entry.error else waits,
            paper.span(timedelta(seconds=since)) if since is not None and waiting and waiting.count else "–",
        )
    paper.indented(out, table)
    for entry in found:
        if entry.error:
            out.print()
            _lines(out, entry.table, entry.error.splitlines(), style="red")
        elif entry.waiting and entry.waiting.window:
            out.print()
            _lines(out, entry.table, _about_window(entry))
    with_windows = [entry for entry in found if isinstance(entry.feed, DatabaseFeed) and entry.feed.watermark]
    if with_windows:
        table_name = with_windows[0].table
        out.print()
        out.print(
            Text(f'  to move it back   brenvik watermarks set {table_name} --back "2 days"    asks for confirmation')
        )


def _about_window(entry: FeedProgress) -> list[str]:
    """What the next load of a feed with a watermark takes, and what it skips."""
    assert isinstance(entry.feed, DatabaseFeed) and entry.waiting and entry.waiting.window
    feed, window = entry.feed, entry.waiting.window
    start = "the beginning" if window.low is None else as_text(window.low)
    lines = [entry.feed.reads]
    lines.append(
        f"next window   no values above {start}"
        if window.is_empty
        else f"next window   ({start}, {as_text(window.high)}]"
    )
    if feed.overlap:
        reach = "" if window.reads_from is None else f", starts again at {as_text(window.reads_from)}"
        lines.append(f"overlap       {_distance(feed.overlap)}{reach}")
    if feed.lag:
        behind = "behind the newest value" if window.kind == INTEGERS else "behind the source's clock"
        lines.append(f"lag           {_distance(feed.lag)} {behind}")
    if feed.window:
        lines.append(f"window size   {_distance(feed.window)}")
    return [*lines, *entry.waiting.notes]


def _distance(span: Any) -> str:
    return paper.span(span) if isinstance(span, timedelta) else paper.many(span, "values")


def _lines(out: Console, lead: str, lines: Sequence[str], *, style: str = "") -> None:
    """Lines with a lead before the first of them."""
    for index, line in enumerate(lines):
        out.print(Text(f"  {lead if index == 0 else ' ' * len(lead)}  {line}", style=style))


def show_move(project: Project, planned: Move) -> None:
    out = paper.console()
    paper.heading(out, project, f"{planned.table.rules.table} from {planned.feed.name}", "move the watermark")
    out.print(Text(f"  {as_text(planned.before)} → {as_text(planned.after)}"))
    back = planned.before is not None and planned.after < planned.before
    out.print(
        Text(f"  {'What lies between will be loaded again; equal changes are duplicates.' if back else _SKIPPED}")
    )
    out.print()


def show_moved(project: Project, planned: Move, run: int, *, json: bool) -> None:
    if json:
        paper.print_json(
            project,
            table=planned.table.rules.table,
            feed=planned.feed.name,
            before=None if planned.before is None else str(planned.before),
            after=str(planned.after),
            run=run,
        )
        return
    out = paper.console()
    name = planned.table.rules.table
    out.print(Text(f"{project.title} · {name} from {planned.feed.name} · run {run}", style="bold"))
    out.print(Text(f"  {as_text(planned.before)} → {as_text(planned.after)}    next: brenvik preview {name}"))
