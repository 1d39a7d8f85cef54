"""How answers look: loads, previews, runs, rejects, checks, proposals."""

from __future__ import annotations

import shlex
from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any

from rich.console import Console
from rich.table import Table
from rich.text import Text

from brenvik.addresses import without_secrets
from brenvik.cli import paper
from brenvik.cli.characters import visible
from brenvik.ledger_tables import DECISIONS

if TYPE_CHECKING:
    from brenvik.checking import Finding
    from brenvik.outcome import Outcome
    from brenvik.project import Project
    from brenvik.proposing import Proposal
    from brenvik.repeating import Round
    from brenvik.stores.base import Written


_UNTOUCHED = ("protected", "unchanged", "superseded", "ignored", "duplicate")


_SHOWN_LINES = 12
_FEW = 5
"""More feeds than these that have nothing new are counted, not listed."""
_TOLD = ("held", "protected", "rejected", "ignored")
_NOBODY: Mapping[int, int] = {}


def _rows(counts: Mapping[str, int]) -> str:
    return f"{counts['rows_before']:,} → {counts['rows_after']:,}" if counts else "–"


def load(project: Project, outcomes: Sequence[Outcome], code: int, *, json: bool, quiet: bool = False) -> None:
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
    whose = ("table", "feed") if several else ("table",)
    table = paper.table_of(*whose, "run", "read", *used, "rows", "time", right=("run", "read", *used, "rows", "time"))
    for o in outcomes:
        lead = [o.table, o.feed][: len(whose)]
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


def round_of_loads(project: Project, found: Round, *, stopping: bool, json: bool) -> None:
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
    said = []
    for o in found.outcomes:
        parts = [f"{o.counts[name]:,} {name}" for name in ("read", *DECISIONS) if o.counts.get(name)]
        what = f"run {o.run}: {', '.join(parts) or 'nothing read'}" if o.run else o.state
        said.append(f"{o.table} {what}" + (f" ({str(o.error).splitlines()[0]})" if o.error else ""))
    said += [str(found.error).splitlines()[0]] if found.error else []
    said.append("stopped" if stopping else f"next in {found.next_s:.0f} s")
    print(visible(f"{datetime.now(UTC):%H:%M:%S}  {' · '.join(said)}"), flush=True)


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
        if o.telling and any(o.counts.get(name) for name in _TOLD):
            told = [r for r in o.decisions().to_pylist() if r["decision"] in _TOLD]
            table = paper.table_of("", "", "", "", right=())
            for row in told[:_SHOWN_LINES]:
                place = " ".join(
                    filter(
                        None, [row["file"] if " … " in o.source else "", f"line {row['line']}" if row["line"] else ""]
                    )
                )
                table.add_row(paper.state(row["decision"]), place, paper.key_of(row["key"]), row["reason"])
            table.show_header = False
            paper.indented(out, table, by=len(pad))
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
    if held := sum(o.counts.get("held", 0) for o in outcomes):
        said.append(f"{held:,} held: brenvik held")
    out.print()
    out.print(Text(f"  {', '.join(said)}    exit {code}"))


def preview(
    project: Project, outcomes: Sequence[Outcome], *, everything: bool, json: bool, do_it: str | None = None
) -> None:
    """What loads would do; ``do_it`` is the command that does it, where it is not ``load``."""
    if json:
        shown = [o.to_dict() | {"decisions": o.decisions().to_pylist() if o.telling else []} for o in outcomes]
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
        if not o.telling:
            out.print(Text(f"{project.title} · {o.table} · nothing new from {o.feed}", style="bold"))
            for note in o.notes:
                out.print(Text(f"  {note}"))
            continue
        paper.heading(out, project, o.table, f"{o.source} waiting", "nothing is written")
        rows = o.decisions().to_pylist()
        shown = [row for row in rows if everything or row["decision"] != "unchanged"]
        decisions(out, shown)
        if hidden := o.counts["unchanged"] - sum(row["decision"] == "unchanged" for row in shown):
            more = ": --all" if len(shown) < len(rows) else ""
            out.print(Text(f"  {hidden:,} lines unchanged, not shown{more}"))
        out.print()
        for line in (*o.sums(), *o.notes):
            out.print(Text(f"  {line}"))
        out.print()
        if o.refusal:
            first, *rest = str(o.refusal).splitlines()
            out.print(Text(f"  A load would be {first.rpartition(': ')[2]}.", style="yellow"))
            for line in rest:
                if not line.startswith("look "):
                    out.print(Text(f"  {line}"))
            continue
        out.print(Text(f"  do it   brenvik {do_it or f'load {o.table}'}"))


def decisions(out: Console, rows: Sequence[Mapping[str, Any]]) -> None:
    """What became of changes, line by line."""
    several = len({row["file"] for row in rows}) > 1
    columns = (*(["file"] if several else []), "line", "key", "decision", "column", "before → after", "effective")
    table = paper.table_of(*columns, right=("line",))
    for row in rows:
        _decision(table, row, several=several)
    paper.indented(out, table)


def _in_one_line(decision: str, reason: str, changes: Sequence[Mapping[str, Any]]) -> tuple[str, str]:
    """Which column, and what became of it: all values that an insert brought or a delete ended, else the reason."""
    if decision == "inserted":
        reason = f"new: {', '.join(str(change['after']) for change in changes)}"
    elif decision == "deleted" and changes:
        ended = f"was: {', '.join(str(change['before']) for change in changes)}"
        reason = ended if reason == "ends its life" else f"{reason}, {ended}"
    elif decision == "rejected" and changes:
        return changes[0]["column"], reason
    return "–", paper.short(reason.replace("\n", "⏎"))


def _decision(table: Table, row: Mapping[str, Any], *, several: bool) -> None:
    decision, changes = row["decision"], row["changes"]
    start = [
        *([row["file"] or "–"] if several else []),
        str(row["line"] or "–"),
        paper.key_of(row["key"]),
        paper.state(decision),
    ]
    effective = paper.moment(row["effective"]) if row["effective"] is not None else ""
    if not changes or decision not in {"versioned", "overwritten", "protected"}:
        table.add_row(*start, *_in_one_line(decision, row["reason"], changes), effective)
        return
    for index, change in enumerate(changes):
        before, after = (
            paper.short("nothing" if v is None else v.replace("\n", "⏎"), 30)
            for v in (change["before"], change["after"])
        )
        stays = "stays" in row["reason"] and f"{change['column']} stays" in row["reason"]
        told = f"{before} stays ({after})" if stays else f"{before} → {after}"
        lead = start if index == 0 else [""] * len(start)
        table.add_row(*lead, change["column"], told, effective if index == 0 else "")


def check(project: Project, findings: Sequence[Finding], *, json: bool) -> None:
    if json:
        paper.print_json(project, store=without_secrets(project.store), tables=findings)
        return
    out = paper.console()
    paper.heading(out, project, dated=True)
    for finding in findings:
        news = "not there yet, made with the first load" if finding.is_new else "there"
        if finding.foreign:
            news = f"there before Brenvik, {paper.many(finding.rows, 'rows')}"
        out.print(Text(f"  {finding.table}: {news}", style="bold"))
        for feed in finding.feeds:
            out.print(
                Text(
                    f"    feed {feed.feed}: {feed.kind} from {feed.reads}, {paper.many(feed.waiting, feed.unit)} waiting"
                )
            )
        if finding.columns:
            table = paper.table_of("column", "type", "", "what")
            for column in finding.columns:
                table.add_row(column["column"], column["type"], column["given"], column["what"])
            paper.indented(out, table, by=6)
        for fault in finding.faults:
            told = fault.replace("\n", "\n    ")
            out.print(Text(f"    fault: {told}", style="red"))
        for told in finding.attention:
            out.print(Text(f"    to look at: {told}", style="yellow"))
        for note in finding.notes:
            out.print(Text(f"    {note}"))
        if finding.foreign and not finding.faults:
            out.print(Text(f"    It fits. Take it over: brenvik adopt {finding.table} --preview"))
        out.print()
    bad = [finding for finding in findings if finding.faults]
    if bad:
        out.print(Text(f"  {len(bad)} of {len(findings)} tables cannot be loaded as declared.    exit 2"))
    elif any(finding.attention for finding in findings):
        out.print(Text("  Every table can be loaded; something needs a look first.    exit 4"))
    else:
        out.print(Text("  all is well    next: brenvik preview"))


def rights(project: Project, address: str, missing: Sequence[str], *, json: bool) -> None:
    if json:
        paper.print_json(project, store=address, missing=list(missing))
        return
    out = paper.console()
    paper.heading(out, project, address, "rights")
    if not missing:
        out.print(Text("  All rights that a load needs are there."))
        return
    out.print(Text(f"  {paper.many(len(missing), 'things')} must be granted before a load can write:"))
    out.print()
    for each in missing:
        out.print(Text(f"    {each}"))
    out.print()
    out.print(Text("  Then again: brenvik check --rights    exit 2"))


def runs(
    project: Project, rows: Sequence[Mapping[str, Any]], withdrawn: Mapping[int, int] = _NOBODY, *, json: bool
) -> None:
    """``withdrawn`` tells which runs are taken back, and by which run."""
    if json:
        paper.print_json(project, runs=[{**row, "withdrawn_by": withdrawn.get(row["run"])} for row in rows])
        return
    out = paper.console()
    paper.heading(out, project, dated=True)
    if not rows:
        out.print(Text("  No run yet. Next: brenvik preview, then brenvik load"))
        return
    rows = [{**row, "untouched": sum(row[name] or 0 for name in _UNTOUCHED)} for row in rows]
    shown = [name for name in (*DECISIONS, "untouched") if name not in _UNTOUCHED and any(row[name] for row in rows)]
    wrote = ("wrote",) if any("files" in row for row in rows) else ()
    table = paper.table_of(
        "run", "started", "table", "from", "state", "read", *shown, "rows", *wrote,
        right=("run", "read", *shown, "rows", *wrote),
    )  # fmt: skip
    for row in rows:
        numbers = [paper.count(row[name]) for name in shown]
        size = "–" if row["rows_before"] is None else f"{row['rows_before']:,}→{row['rows_after']:,}"
        table.add_row(
            str(row["run"]),
            f"{row['started_at']:%m-%d %H:%M}",
            row["table_name"],
            _taken(row),
            paper.state("withdrawn" if row["run"] in withdrawn else row["state"]),
            paper.count(row["read"]),
            *numbers,
            size,
            *([paper.size(row["bytes"]) if row.get("bytes") else "–"] if wrote else []),
        )
    paper.indented(out, table)
    for row in rows:
        if row["message"]:
            first, *rest = row["message"].splitlines()
            more = f"    more: brenvik runs {row['run']}" if rest else ""
            out.print(Text(f"\n  run {row['run']}: {first}{more}"))


def files_of(wrote: Written | None) -> dict[str, int]:
    """What a run tells of files beside its entry in the ledger; nothing in a store without files."""
    return {"files": wrote.files, "bytes": wrote.bytes, "rows_marked_gone": wrote.gone} if wrote else {}


def _taken(row: Mapping[str, Any]) -> str:
    """What a run took, in few words: up to where, or which files."""
    if row["kind"] == "watermark":
        return f"set to {row['window_high'][:16]}"
    if row["kind"] == "extract" and row["window_high"]:
        return f"extract of {row['window_high'][:16].removesuffix(' 00:00')}"
    return (
        f"up to {row['window_high'][:16]}"
        if row["window_high"]
        else paper.short((row["source"] or "–").rpartition("/")[2], 24)
    )


def rejects(project: Project, rows: Sequence[Mapping[str, Any]], *, json: bool) -> None:
    if json:
        paper.print_json(project, rejects=rows)
        return
    out = paper.console()
    paper.heading(out, project, dated=True)
    if not rows:
        out.print(Text("  No reject is open."))
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
    out.print(Text(f"  {len(rows)} open. Nothing is lost: each row is kept whole; --json prints all of it."))
    out.print()
    out.print(Text(f"  rules are mended   brenvik rejects retake {name}"))
    out.print(Text(f"  to mend the rows   brenvik rejects export {name} FILE"))
    out.print(Text(f"  let one go         brenvik rejects drop {name} {rows[0]['reject']}"))


def proposal(made: Proposal, *, written: bool) -> None:
    out = paper.console()
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
    words = [] if made.is_new_project else [made.table]
    words += [] if str(made.project) == "brenvik.toml" else ["--project", str(made.project)]
    steps = {"check": "what each column would be", "preview": "what a load would do", "load": "do it"}
    commands = {shlex.join(["brenvik", step, *words]): why for step, why in steps.items()}
    for command, why in commands.items():
        out.print(Text(f"  {command:<{max(map(len, commands))}}  {why}"))
