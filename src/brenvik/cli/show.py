"""How answers look: for people (calm, aligned, the next step told) and for programs (JSON)."""

from __future__ import annotations

import itertools
import json as json_format
import math
import shutil
import sys
from collections.abc import Iterable, Mapping, Sequence
from datetime import UTC, date, datetime, time, timedelta
from decimal import Decimal
from typing import TYPE_CHECKING, Any

from rich.console import Console
from rich.table import Table
from rich.text import Text

from brenvik.cli.line import time_line
from brenvik.core.windows import told
from brenvik.feed_rules import DatabaseFeed
from brenvik.ledger import DECISIONS, now
from brenvik.progress import waited_s

if TYPE_CHECKING:
    import pyarrow as pa

    from brenvik.checking import Finding
    from brenvik.outcome import Outcome
    from brenvik.progress import FeedProgress, Move, TableStatus
    from brenvik.project import Project
    from brenvik.proposing import Proposal
    from brenvik.repeating import Round
    from brenvik.rules import TableRules

_STYLES = {
    "rejected": "red",
    "failed": "red",
    "refused": "yellow",
    "busy": "yellow",
    "lost": "yellow",
    "protected": "yellow",
}
_UNTOUCHED = ("protected", "unchanged", "superseded", "ignored", "duplicate")
_SHOWN_LINES = 12


def console() -> Console:
    """Lines are never cut or folded here: a narrow terminal wraps them itself, and nothing is lost."""
    return Console(highlight=False, width=1000)


def _print_json(project: Project, **answer: Any) -> None:
    value = {"project": project.name, "environment": project.environment, **answer}
    print(json_format.dumps(value, default=_plain, ensure_ascii=False, indent=2))


def _plain(value: Any) -> Any:
    if isinstance(value, (datetime, date, time)):
        return value.isoformat()
    if isinstance(value, Decimal):
        return str(value)
    if isinstance(value, bytes):
        return value.hex()
    if isinstance(value, timedelta):
        return value.total_seconds()
    if hasattr(value, "__dict__"):
        return value.__dict__
    return str(value)


def _table(*columns: str, right: Iterable[str] = ()) -> Table:
    table = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="dim", show_edge=False)
    for column in columns:
        table.add_column(column, justify="right" if column in right else "left", no_wrap=True)
    return table


def _indented(out: Console, table: Table, by: int = 2) -> None:
    """Prints a table without blanks at the ends of its lines."""
    with out.capture() as captured:
        out.print(table)
    for line in captured.get().splitlines():
        sys.stdout.write((" " * by + line).rstrip() + "\n")
    sys.stdout.flush()


def _heading(out: Console, project: Project, *more: str, dated: bool = False) -> None:
    day = [f"{datetime.now(UTC):%Y-%m-%d %H:%M} UTC"] if dated else []
    out.print(Text(" · ".join([project.title, *more, *day]), style="bold"))
    out.print()


def _count(number: int | None) -> str:
    return f"{number:,}" if number else "–"


def _many(number: int, unit: str) -> str:
    """``1 file``, ``2 files``; ``unit`` is the plural."""
    return f"{number:,} {unit if number != 1 else unit.removesuffix('s')}"


def _moment(value: Any) -> str:
    """A time as people write it: no seconds where there are none."""
    if value is None:
        return "open"
    if isinstance(value, datetime):
        plain = value.replace(tzinfo=None)
        if plain.microsecond:
            return f"{plain:%Y-%m-%d %H:%M:%S.%f}"
        return f"{plain:%Y-%m-%d %H:%M:%S}" if plain.second else f"{plain:%Y-%m-%d %H:%M}"
    return str(value)


def _value(value: Any) -> str:
    if value is None:
        return "–"
    if isinstance(value, float) and math.isnan(value):
        return "NaN"
    if isinstance(value, datetime):
        return _moment(value)
    return value.hex() if isinstance(value, bytes) else str(value).replace("\n", "⏎")


def _state(state: str) -> Text:
    return Text(state, style=_STYLES.get(state, ""))


def _rows(counts: Mapping[str, int]) -> str:
    return f"{counts['rows_before']:,} → {counts['rows_after']:,}" if counts else "–"


def load(project: Project, outcomes: Sequence[Outcome], code: int, *, json: bool) -> None:
    if json:
        _print_json(project, exit=code, outcomes=[o.to_dict() for o in outcomes])
        return
    out = console()
    _heading(out, project, dated=True)
    used = [name for name in DECISIONS if any(o.counts.get(name) for o in outcomes)]
    several = len({(o.table, o.feed) for o in outcomes}) > len({o.table for o in outcomes})
    whose = ("table", "feed") if several else ("table",)
    table = _table(*whose, "run", "read", *used, "rows", "time", right=("run", "read", *used, "rows", "time"))
    for o in outcomes:
        lead = [o.table, o.feed][: len(whose)]
        if o.state in {"done", "preview"}:
            numbers = [_count(o.counts.get(name)) for name in used]
            table.add_row(
                *lead, str(o.run), f"{o.counts['read']:,}", *numbers, _rows(o.counts), f"{o.duration_s:.2f} s"
            )
        else:
            table.add_row(*lead, "–", "–", *["–"] * len(used), "–", _state(o.state))
    _indented(out, table)
    for o in outcomes:
        _load_details(out, o)
    _load_end(out, outcomes, code)


def round_of_loads(project: Project, found: Round, *, stopping: bool, json: bool) -> None:
    """One line for one of many loads."""
    if json:
        value = {
            "project": project.name,
            "environment": project.environment,
            "at": datetime.now(UTC),
            "outcomes": [o.to_dict() for o in found.outcomes],
            "error": str(found.error) if found.error else None,
            "next_s": None if stopping else round(found.next_s, 3),
        }
        print(json_format.dumps(value, default=_plain, ensure_ascii=False), flush=True)
        return
    said = []
    for o in found.outcomes:
        parts = [f"{o.counts[name]:,} {name}" for name in ("read", *DECISIONS) if o.counts.get(name)]
        what = f"run {o.run}: {', '.join(parts) or 'nothing read'}" if o.run else o.state
        said.append(f"{o.table} {what}" + (f" ({str(o.error).splitlines()[0]})" if o.error else ""))
    said += [str(found.error).splitlines()[0]] if found.error else []
    said.append("stopped" if stopping else f"next in {found.next_s:.0f} s")
    print(f"{datetime.now(UTC):%H:%M:%S}  {' · '.join(said)}", flush=True)


def _load_details(out: Console, o: Outcome) -> None:
    out.print()
    head = f"  {o.table}  "
    if o.error:
        first, *rest = str(o.error).splitlines()
        out.print(Text(head + first, style=_STYLES.get(o.state, "")))
        for line in rest:
            out.print(Text(" " * len(head) + line.strip()))
        return
    if o.state == "nothing new":
        out.print(Text(f"{head}nothing new from {o.feed}"))
    else:
        out.print(Text(head + o.source))
        pad = " " * len(head)
        if o.telling and any(o.counts.get(name) for name in ("protected", "rejected", "ignored")):
            told = [r for r in o.decisions().to_pylist() if r["decision"] in {"protected", "rejected", "ignored"}]
            table = _table("", "", "", "", right=())
            for row in told[:_SHOWN_LINES]:
                place = " ".join(filter(None, [row["file"] if " … " in o.source else "", f"line {row['line']}"]))
                table.add_row(_state(row["decision"]), place, _key(row["key"]), row["reason"])
            table.show_header = False
            _indented(out, table, by=len(pad))
            if len(told) > _SHOWN_LINES:
                out.print(Text(f"{pad}and {len(told) - _SHOWN_LINES:,} more"))
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
    said = [f"{number} {state}" for state, number in states.items()]
    with_rejects = [o for o in outcomes if o.counts.get("rejected")]
    rejected = sum(o.counts["rejected"] for o in with_rejects)
    if rejected:
        where = with_rejects[0].table if len(with_rejects) == 1 else ""
        said.append(f"{rejected:,} rejected: brenvik rejects {where}".rstrip())
    out.print()
    out.print(Text(f"  {', '.join(said)}    exit {code}"))


def preview(project: Project, outcomes: Sequence[Outcome], *, everything: bool, json: bool) -> None:
    if json:
        shown = [o.to_dict() | {"decisions": o.decisions().to_pylist() if o.telling else []} for o in outcomes]
        _print_json(project, outcomes=shown)
        return
    out = console()
    for index, o in enumerate(outcomes):
        if index:
            out.print()
        if o.error:
            out.print(Text(f"{project.title} · {o.table} · {o.state}", style="bold"))
            out.print(Text(f"  {o.error}"))
            continue
        if not o.telling:
            out.print(Text(f"{project.title} · {o.table} · nothing new from {o.feed}", style="bold"))
            for note in o.notes:
                out.print(Text(f"  {note}"))
            continue
        _heading(out, project, o.table, f"{o.source} waits", "nothing is written")
        rows = o.decisions().to_pylist()
        hidden = [] if everything else [row for row in rows if row["decision"] == "unchanged"]
        several = len({row["file"] for row in rows}) > 1
        columns = (*(["file"] if several else []), "line", "key", "decision", "column", "before → after", "effective")
        table = _table(*columns, right=("line",))
        for row in rows:
            if row not in hidden:
                _decision(table, row, several=several)
        _indented(out, table)
        if hidden:
            out.print(Text(f"  {len(hidden)} lines unchanged, not shown: --all"))
        out.print()
        for line in (*o.sums(), *o.notes):
            out.print(Text(f"  {line}"))
        out.print()
        out.print(Text(f"  do it   brenvik load {o.table}"))


def _decision(table: Table, row: Mapping[str, Any], *, several: bool) -> None:
    decision, changes = row["decision"], row["changes"]
    start = [*([row["file"]] if several else []), str(row["line"]), _key(row["key"]), _state(decision)]
    effective = _moment(row["effective"]) if row["effective"] is not None else ""
    if decision == "inserted":
        brought = ", ".join(str(change["after"]) for change in changes)
        table.add_row(*start, "–", _short(f"new: {brought}".replace("\n", "⏎")), effective)
    elif decision == "rejected":
        table.add_row(*start, changes[0]["column"] if changes else "–", row["reason"], effective)
    elif not changes:
        table.add_row(*start, "–", row["reason"], effective)
    for index, change in enumerate(changes if decision in {"versioned", "overwritten", "protected"} else ()):
        before, after = (
            _short("nothing" if v is None else v.replace("\n", "⏎"), 30) for v in (change["before"], change["after"])
        )
        stays = "stays" in row["reason"] and f"{change['column']} stays" in row["reason"]
        told = f"{before} stays ({after})" if stays else f"{before} → {after}"
        lead = start if index == 0 else [""] * len(start)
        table.add_row(*lead, change["column"], told, effective if index == 0 else "")


def _short(text: str, width: int = 60) -> str:
    return text if len(text) <= width else text[: width - 1] + "…"


def _key(key: Mapping[str, Any]) -> str:
    return " ".join("–" if value is None else _value(value) for value in key.values())


def check(project: Project, findings: Sequence[Finding], *, json: bool) -> None:
    if json:
        _print_json(project, store=project.store, tables=findings)
        return
    out = console()
    _heading(out, project, dated=True)
    for finding in findings:
        news = "not there yet, made with the first load" if finding.is_new else "there"
        out.print(Text(f"  {finding.table}: {news}", style="bold"))
        for feed in finding.feeds:
            out.print(
                Text(f"    feed {feed.feed}: {feed.kind} from {feed.reads}, {_many(feed.waiting, feed.unit)} waiting")
            )
        if finding.columns:
            table = _table("column", "type", "", "what")
            for column in finding.columns:
                table.add_row(column["column"], column["type"], column["given"], column["what"])
            _indented(out, table, by=6)
        for fault in finding.faults:
            out.print(Text(f"    fault: {fault}", style="red"))
        out.print()
    bad = [finding for finding in findings if finding.faults]
    if bad:
        out.print(Text(f"  {len(bad)} of {len(findings)} tables cannot be loaded as declared.    exit 2"))
    else:
        out.print(Text("  all is well    next: brenvik preview"))


def runs(project: Project, rows: Sequence[Mapping[str, Any]], *, json: bool) -> None:
    if json:
        _print_json(project, runs=rows)
        return
    out = console()
    _heading(out, project, dated=True)
    if not rows:
        out.print(Text("  No run yet. Next: brenvik preview, then brenvik load"))
        return
    rows = [{**row, "untouched": sum(row[name] or 0 for name in _UNTOUCHED)} for row in rows]
    shown = [name for name in (*DECISIONS, "untouched") if name not in _UNTOUCHED and any(row[name] for row in rows)]
    table = _table(
        "run", "started", "table", "from", "state", "read", *shown, "rows", right=("run", "read", *shown, "rows")
    )
    for row in rows:
        numbers = [_count(row[name]) for name in shown]
        size = "–" if row["rows_before"] is None else f"{row['rows_before']:,} → {row['rows_after']:,}"
        table.add_row(
            str(row["run"]),
            f"{row['started_at']:%m-%d %H:%M}",
            row["table_name"],
            _taken(row),
            _state(row["state"]),
            _count(row["read"]),
            *numbers,
            size,
        )
    _indented(out, table)
    for row in rows:
        if row["message"]:
            out.print(Text(f"\n  run {row['run']}: {row['message'].splitlines()[0]}"))


def _taken(row: Mapping[str, Any]) -> str:
    """What a run took, in few words: up to where, or which files."""
    if row["kind"] == "watermark":
        return f"set to {row['window_high'][:16]}"
    return f"up to {row['window_high'][:16]}" if row["window_high"] else _short(row["source"] or "–", 26)


def rejects(project: Project, rows: Sequence[Mapping[str, Any]], *, json: bool) -> None:
    if json:
        _print_json(project, rejects=rows)
        return
    out = console()
    _heading(out, project, dated=True)
    if not rows:
        out.print(Text("  No reject is open."))
        return
    table = _table("reject", "table", "run", "file", "line", "reason", right=("reject", "run", "line"))
    for row in rows:
        table.add_row(
            str(row["reject"]), row["table_name"], str(row["run"]), row["file"] or "–", str(row["line"]), row["reason"]
        )
        table.add_row("", "", "", "", "", Text(_short(row["content"].replace("\n", "⏎"), 100), style="dim"))
    _indented(out, table)
    out.print()
    out.print(Text(f"  {len(rows)} open. Nothing is lost: each row is kept whole; --json prints all of it."))


def status(project: Project, found: Sequence[TableStatus], code: int, *, json: bool) -> None:
    if json:
        _print_json(project, exit=code, tables=[{**vars(each), "is_well": each.is_well} for each in found])
        return
    out = console()
    _heading(out, project, dated=True)
    counts = {
        "open rejects": [each.open_rejects for each in found],
        "protected": [each.protected for each in found],
        **{state: [each.since[state] for each in found] for state in ("failed", "refused", "lost")},
    }
    used = [name for name, numbers in counts.items() if any(numbers)]
    table = _table("table", "last good run", "ago", "behind", "waiting", *used, "", right=used)
    for index, each in enumerate(found):
        ago = now() - each.last_at if each.last_at else None
        table.add_row(
            each.table,
            f"{each.last_run} · {each.last_at:%Y-%m-%d %H:%M}" if each.last_at else "none",
            _span(ago) if ago is not None else "–",
            "unknown" if each.errors else "–" if each.behind_s is None else _span(timedelta(seconds=each.behind_s)),
            ", ".join(_many(number, unit) for unit, number in each.waiting.items()) or "–",
            *(_count(counts[name][index]) for name in used),
            Text("overdue", style="red")
            if each.overdue
            else Text("source down", style="yellow")
            if each.errors
            else "",
        )
    _indented(out, table)
    out.print()
    for each in found:
        if each.overdue and each.expected_every:
            out.print(
                Text(f"  {each.table}  overdue: a good run is expected every {_span(each.expected_every)}", style="red")
            )
        for error in each.errors:
            out.print(Text(f"  {each.table}  {error}", style="yellow"))
    if any(each.overdue or each.errors for each in found):
        out.print()
    unwell = [each for each in found if not each.is_well]
    looks = "brenvik runs" if any(any(each.since.values()) for each in found) else ""
    looks = ", ".join(filter(None, [looks, "brenvik rejects" if any(counts["open rejects"]) else ""]))
    look = f"    look: {looks}" if looks else ""
    told_well = "all is well" if not unwell else f"{len(found) - len(unwell)} well, {len(unwell)} to look at"
    out.print(Text(f"  {told_well}{look}    exit {code}"))


def watermarks(project: Project, found: Sequence[FeedProgress], *, json: bool) -> None:
    if json:
        _print_json(project, feeds=[entry.as_plain() for entry in found])
        return
    out = console()
    _heading(out, project, dated=True)
    table = _table("table", "feed", "reads", "taken up to", "run", "moved", "waiting", "for", right=("run",))
    for entry in found:
        waiting = entry.waiting
        waits = "–" if waiting is None else _many(waiting.count, waiting.unit) if waiting.count else "nothing"
        since = waited_s(waiting) if waiting else None
        table.add_row(
            entry.table,
            entry.feed.name,
            _short(entry.feed.reads, 40),
            entry.taken or "nothing yet",
            str(entry.run or "–"),
            f"{entry.moved_at:%m-%d %H:%M}" if entry.moved_at else "–",
            Text("cannot be seen", style="red") if entry.error else waits,
            _span(timedelta(seconds=since)) if since is not None and waiting and waiting.count else "–",
        )
    _indented(out, table)
    for entry in found:
        if entry.error:
            out.print()
            _lines(out, entry.table, entry.error.splitlines(), style="red")
        elif entry.waiting and entry.waiting.window:
            out.print()
            _lines(out, entry.table, _about_window(entry))
    with_windows = [entry for entry in found if isinstance(entry.feed, DatabaseFeed)]
    if with_windows:
        table_name = with_windows[0].table
        out.print()
        out.print(
            Text(f'  set back   brenvik watermarks set {table_name} --back "2 days"    asks first, is entered as a run')
        )


def _about_window(entry: FeedProgress) -> list[str]:
    """What the next load of a feed with a watermark takes, and what it leaves."""
    assert isinstance(entry.feed, DatabaseFeed) and entry.waiting and entry.waiting.window
    feed, window, seen = entry.feed, entry.waiting.window, entry.waiting.seen
    start = "the beginning" if window.low is None else told(window.low)
    lines = [entry.feed.reads]
    lines.append(
        f"next window   nothing above {start}" if window.is_empty else f"next window   ({start}, {told(window.high)}]"
    )
    if feed.overlap:
        reach = "" if window.reads_from is None else f", reads again from {told(window.reads_from)}"
        lines.append(f"overlap       {_distance(feed.overlap)}{reach}")
    if feed.settle:
        behind = "behind the newest value" if window.kind == "integer" else "behind the source's clock"
        lines.append(f"settle        {_distance(feed.settle)} {behind}")
    if feed.window:
        lines.append(f"pieces        {_distance(feed.window)} each")
    if seen["ahead"]:
        lines.append(f"ahead         {_many(seen['ahead'], 'rows')} beyond the source's clock, left out")
    if seen["without_watermark"]:
        lines.append(f"no value      {_many(seen['without_watermark'], 'rows')} without {feed.watermark}, left out")
    known = ("ahead of the source's clock", f"no {feed.watermark} and")
    return lines + [note for note in entry.waiting.notes if not any(words in note for words in known)]


def _distance(span: Any) -> str:
    return _span(span) if isinstance(span, timedelta) else _many(span, "values")


def _lines(out: Console, lead: str, lines: Sequence[str], *, style: str = "") -> None:
    """Lines under a heading that stands before the first of them."""
    for index, line in enumerate(lines):
        out.print(Text(f"  {lead if index == 0 else ' ' * len(lead)}  {line}", style=style))


def move(project: Project, planned: Move) -> None:
    out = console()
    _heading(out, project, f"{planned.table.rules.table} from {planned.feed.name}", "the watermark would move")
    out.print(Text(f"  {told(planned.before)} → {told(planned.after)}"))
    back = planned.before is not None and planned.after < planned.before  # type: ignore[operator]
    out.print(Text(f"  {'What lies between is taken again; what equals is a duplicate.' if back else _SKIPPED}"))
    out.print()


_SKIPPED = "What lies between is never taken, unless somebody asks for it: brenvik load TABLE --from VALUE --to VALUE"


def moved(project: Project, planned: Move, run: int, *, json: bool) -> None:
    if json:
        _print_json(
            project,
            table=planned.table.rules.table,
            feed=planned.feed.name,
            before=None if planned.before is None else str(planned.before),
            after=str(planned.after),
            run=run,
        )
        return
    out = console()
    name = planned.table.rules.table
    out.print(Text(f"{project.title} · {name} from {planned.feed.name} · run {run}", style="bold"))
    out.print(Text(f"  {told(planned.before)} → {told(planned.after)}    next: brenvik preview {name}"))


def history(project: Project, rules: TableRules, key: Any, rows: Sequence[Mapping[str, Any]], *, json: bool) -> None:
    if json:
        _print_json(project, table=rules.table, key=key, versions=rows)
        return
    out = console()
    shown_key = _key(key) if isinstance(key, dict) else str(key)
    if not rows:
        out.print(Text(f"{project.title} · {rules.table} {shown_key} · unknown"))
        return
    own = {
        name: rules.housekeeping_name(name)
        for name in ("surrogate_key", "valid_from", "valid_to", "is_deleted", "first_run", "last_run")
    }
    start, end = own["valid_from"], own["valid_to"]
    spans = [(row[start] if start else None, _open_end(rules, row[end]) if end else None) for row in rows]
    living = spans[-1][1] is None and not (own["is_deleted"] and rows[-1][own["is_deleted"]])
    moment = spans[-1][0] if living else spans[-1][1]
    since = ("current since " if living else "deleted ") + _moment(moment)
    since = since if moment is not None else since.split()[0]
    many = "1 version" if len(rows) == 1 else f"{len(rows)} versions"
    _heading(out, project, f"{rules.table} {shown_key}", many, since)
    if start and end:
        for line in time_line(spans, width=min(shutil.get_terminal_size().columns - 4, 100)):
            out.print(Text(f"  {line}"))
        out.print()
    values = [name for name in rows[0] if name not in _housekeeping(rules) and name not in rules.natural_key]
    varying = [name for name in values if len({_value(row[name]) for row in rows}) > 1]
    steady = [name for name in values if name not in varying]
    named = [own[name] or "" for name in ("surrogate_key", "valid_from", "valid_to")]
    columns = ["", *filter(None, named), *varying, *filter(None, (own["first_run"], own["last_run"]))]
    table = _table(*columns, right=("", *(str(own[n]) for n in ("surrogate_key", "first_run", "last_run"))))
    for number, (row, span) in enumerate(zip(rows, spans, strict=True), 1):
        cells = [str(number)]
        for column in columns[1:]:
            cells.append(
                _moment(span[0] if column == start else span[1]) if column in (start, end) else _value(row[column])
            )
        table.add_row(*cells)
    _indented(out, table)
    if steady:
        told = ", ".join(f"{name} {_value(rows[-1][name])}" for name in steady)
        out.print(Text(f"\n  same in all: {told}" if len(rows) > 1 else f"\n  {told}"))
    out.print()
    for number, (one, other) in enumerate(itertools.pairwise(rows), 1):
        _step(out, number, one, other, spans, varying)
    if not living and end:
        out.print(Text(f"  {len(rows)}      deleted {_moment(spans[-1][1])}"))


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
    said = [
        f"{name} {_value(one[name])} → {_value(other[name])}"
        for name in varying
        if _value(one[name]) != _value(other[name])
    ]
    if gap:
        away = spans[number][0] - spans[number - 1][1]
        said.insert(
            0, f"deleted {_moment(spans[number - 1][1])}, back {_moment(spans[number][0])} (away for {_span(away)})"
        )
    for line in said or ["comes back as it was"]:
        out.print(Text(lead + line))
        lead = " " * len(lead)


def _span(away: Any) -> str:
    """A stretch of time in days, hours and minutes; of numbers, their difference."""
    if not isinstance(away, timedelta):
        return str(away)
    hours, minutes = divmod(away.seconds // 60, 60)
    parts = [(away.days, "d"), (hours, "h"), (minutes, "min")]
    told_parts = [f"{number} {unit}" for number, unit in parts if number]
    return " ".join(told_parts[:2] if away.days else told_parts) or "< 1 min"


def _open_end(rules: TableRules, value: Any) -> Any:
    return None if rules.open_end is not None and str(value)[:10] == str(rules.open_end)[:10] else value


def _housekeeping(rules: TableRules) -> set[str | None]:
    from brenvik.rules import HOUSEKEEPING

    return {rules.housekeeping_name(name) for name in HOUSEKEEPING}


def as_of(project: Project, rules: TableRules, when: str, rows: pa.Table, *, limit: int, json: bool) -> None:
    if json:
        _print_json(project, table=rules.table, as_of=when, rows=rows.to_pylist())
        return
    out = console()
    many = "1 row" if len(rows) == 1 else f"{len(rows):,} rows"
    _heading(out, project, f"{rules.table} as of {when}", many)
    if not len(rows):
        return
    kept = {rules.housekeeping_name(name) for name in ("valid_from", "valid_to")}
    columns = [name for name in rows.column_names if name not in _housekeeping(rules) or name in kept]
    numeric = [name for name in columns if str(rows.schema.field(name).type).startswith(("int", "dec", "double"))]
    table = _table(*columns, right=numeric)
    for row in rows.slice(0, limit).to_pylist():
        table.add_row(*(_moment(row[name]) if name in kept else _value(row[name]) for name in columns))
    _indented(out, table)
    if len(rows) > limit:
        out.print(Text(f"  {len(rows) - limit:,} more rows: --limit {len(rows)} or --json"))


def proposal(made: Proposal, *, written: bool) -> None:
    out = console()
    if not written:
        out.print(Text(made.text))
        return
    where = "made" if made.is_new_project else "appended to"
    out.print(Text(f"{made.project} · {where} · table {made.table}", style="bold"))
    out.print()
    for line in made.found:
        out.print(Text(f"  {line}"))
    out.print()
    for line in made.text.splitlines():
        out.print(Text(f"  {line}", style="dim" if line.startswith("#") else ""))
    out.print()
    for step, why in (("check", "what each column would be"), ("preview", "what a load would do"), ("load", "do it")):
        command = (
            f"brenvik {step}"
            if made.is_new_project and made.project.name == "brenvik.toml"
            else f"brenvik {step} {made.table}"
        )
        out.print(Text(f"  {command:<28}  {why}"))
