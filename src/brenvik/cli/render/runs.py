"""Runs: a list of them, or one."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

from rich.console import Console
from rich.text import Text

from brenvik.cli.render import paper
from brenvik.cli.render.preview import show_decisions
from brenvik.ledger.schema import DECISIONS, LOADS, ROW_COUNTS
from brenvik.outcome import Outcome

if TYPE_CHECKING:
    from brenvik.engines.protocol import Written
    from brenvik.project.project import Project

_UNTOUCHED = ("protected", "unchanged", "superseded", "ignored", "duplicate")
_NOBODY: Mapping[int, int] = {}
_LEFT = {"ahead": "ahead of the source's clock", "without_watermark": "without a watermark"}


def show_runs(
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
    if row["kind"] == "full_extract" and row["window_high"]:
        return f"extract of {row['window_high'][:16].removesuffix(' 00:00')}"
    return (
        f"up to {row['window_high'][:16]}"
        if row["window_high"]
        else paper.short((row["source"] or "–").rpartition("/")[2], 24)
    )


def show_run(
    project: Project,
    row: Mapping[str, Any],
    decided: Sequence[Mapping[str, Any]] | None,
    *,
    withdrawn: Mapping[str, Any] | None = None,
    json: bool,
) -> None:
    """One run whole; with ``decided``, what it decided row by row. ``withdrawn`` is the run that took it back."""
    if json:
        by = withdrawn["run"] if withdrawn else None
        paper.print_json(project, run={**row, "withdrawn_by": by}, decisions=decided)
        return
    out = paper.console()
    paper.heading(out, project, row["table_name"], f"run {row['run']}", "withdrawn" if withdrawn else row["state"])
    if decided is None:
        _about_run(out, project, row, withdrawn)
        return
    show_decisions(out, decided)
    beside = [f"{row[name]:,} {name}" for name in ("duplicate", "rejected") if row[name]]
    if beside:
        out.print(Text(f"  {', '.join(beside)}, not kept as changes and not shown here"))


def _about_run(out: Console, project: Project, row: Mapping[str, Any], withdrawn: Mapping[str, Any] | None) -> None:
    is_load = row["kind"] in LOADS
    low, high = (_day(row[name]) for name in ("window_low", "window_high"))
    left = [f"{row[name]:,} {what}" for name, what in _LEFT.items() if row[name]]
    took = f", took {(row['ended_at'] - row['started_at']).total_seconds():.2f} s" if row["ended_at"] else ""
    files = f"{paper.many(row['files'], 'files')}, {paper.size(row['bytes'])}" if "files" in row else ""
    gone = f", {paper.many(row['rows_marked_gone'], 'rows')} marked as gone" if row.get("rows_marked_gone") else ""
    why = withdrawn["reason"] if withdrawn else None
    about = {
        "feed": f"{row['feed']}, {row['kind']}" if row["feed"] else "",
        "from" if is_load else "what": row["source"],
        "holds at": high if row["kind"] == "full_extract" else "",
        "part": row["extract_scope"],
        "moved": f"{low or 'the start'} → {high or 'the start'}" if row["kind"] == "watermark" else "",
        "left out": ", ".join(left),
        "label": row["label"],
        "reason": row["reason"],
        "started": f"{row['started_at']:%Y-%m-%d %H:%M:%S} UTC{took}",
        "by": f"process {row['pid']} on {row['host']}, Brenvik {row['version']}",
        "wrote": files + gone,
        "withdrawn": f"by run {withdrawn['run']}{f': {why}' if why else ''}" if withdrawn else "",
    }
    for name, value in about.items():
        if value:
            out.print(Text(f"  {name:<9}  {value}"))
    counts = {name: row[name] or 0 for name in ("read", "derived", *DECISIONS, *ROW_COUNTS)}
    outcome = Outcome(row["table_name"], row["feed"], row["run"], row["state"], counts=counts)
    sums = [outcome.sums()[0]] if row["read"] is not None else []
    sums += [paper.sums_of_rows(outcome)] if row["rows_before"] is not None else []
    for lines in (sums, (row["message"] or "").splitlines(), _next_steps(project, row, withdrawn) if is_load else ()):
        if lines:
            out.print()
        for line in lines:
            out.print(Text(f"  {line}"))


def _day(mark: str | None) -> str:
    """A mark of the ledger without the parts of its time that are zero."""
    return (mark or "").removesuffix(":00").removesuffix(" 00:00")


def _next_steps(project: Project, row: Mapping[str, Any], withdrawn: Mapping[str, Any] | None) -> list[str]:
    its = project.tables.get(row["table_name"])
    if row["state"] != "done" or not (its and its.rules.change_log):
        return []
    number = row["run"]
    if withdrawn:
        return [f"put it back    brenvik withdraw {number} --put-back --preview"]
    return [f"row by row     brenvik runs {number} --rows", f"take it back   brenvik withdraw {number} --preview"]
