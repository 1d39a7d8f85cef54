"""Runs: a list of them, or one."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

from rich.console import Console
from rich.text import Text

from brenvik.cli.render import paper
from brenvik.cli.render.preview import show_decisions
from brenvik.ledger.schema import LOADS, ROW_COUNTS, TRIM
from brenvik.model.decisions import DECISIONS
from brenvik.outcome import Outcome

if TYPE_CHECKING:
    from brenvik.engines.protocol import Written
    from brenvik.project.project import Project

_NO_EFFECT = ("protected", "unchanged", "superseded", "ignored", "duplicate")
_NOBODY: Mapping[int, int] = {}
_SKIPPED = {"future_rows": "dated in the future", "without_watermark": "without a watermark"}


def show_runs(
    project: Project, rows: Sequence[Mapping[str, Any]], reverted: Mapping[int, int] = _NOBODY, *, json: bool
) -> None:
    """``reverted`` maps reverted runs to the runs that reverted them."""
    if json:
        paper.print_json(project, runs=[{**row, "reverted_by": reverted.get(row["run"])} for row in rows])
        return
    out = paper.console()
    paper.heading(out, project, dated=True)
    if not rows:
        out.print(Text("  There are no runs yet. Next: brenvik preview, then brenvik load"))
        return
    rows = [{**row, "no effect": sum(row[name] or 0 for name in _NO_EFFECT)} for row in rows]
    shown = [name for name in (*DECISIONS, "no effect") if name not in _NO_EFFECT and any(row[name] for row in rows)]
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
            _loaded(row),
            paper.state("reverted" if row["run"] in reverted else row["state"]),
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
    """What a run wrote to files; nothing in a store without files."""
    return {"files": wrote.files, "bytes": wrote.bytes, "rows_deleted_in_files": wrote.deleted} if wrote else {}


def _loaded(row: Mapping[str, Any]) -> str:
    """What a run loaded, in a few words: up to where, or which files."""
    if row["kind"] == "watermark":
        return f"set to {row['window_high'][:16]}"
    if row["kind"] == TRIM:
        return "change log"
    if row["kind"] == "full_extract" and row["window_high"]:
        return f"extract of {row['window_high'][:16].removesuffix(' 00:00')}"
    up_to = "in full, to" if (row["source"] or "").endswith(" in full") else "up to"
    return (
        f"{up_to} {row['window_high'][:16]}"
        if row["window_high"]
        else paper.short((row["source"] or "–").rpartition("/")[2], 24)
    )


def show_run(
    project: Project,
    row: Mapping[str, Any],
    decided: Sequence[Mapping[str, Any]] | None,
    *,
    reverted: Mapping[str, Any] | None = None,
    trimmed: bool = False,
    json: bool,
) -> None:
    """One run; with ``decided``, its decisions row by row. ``reverted`` is the run that reverted it; ``trimmed``: its changes are
    among those that can be trimmed from the log."""
    if json:
        by = reverted["run"] if reverted else None
        paper.print_json(project, run={**row, "reverted_by": by}, decisions=decided)
        return
    out = paper.console()
    paper.heading(out, project, row["table_name"], f"run {row['run']}", "reverted" if reverted else row["state"])
    if decided is None:
        _about_run(out, project, row, reverted, trimmed=trimmed)
        return
    show_decisions(out, decided)
    beside = [f"{row[name]:,} {name}" for name in ("duplicate", "rejected") if row[name]]
    if beside:
        out.print(Text(f"  {', '.join(beside)}, not in the change log and not shown here"))


def _about_run(
    out: Console, project: Project, row: Mapping[str, Any], reverted: Mapping[str, Any] | None, *, trimmed: bool
) -> None:
    is_load = row["kind"] in LOADS
    low, high = (_day(row[name]) for name in ("window_low", "window_high"))
    left = [f"{row[name]:,} {what}" for name, what in _SKIPPED.items() if row[name]]
    took = f", took {(row['ended_at'] - row['started_at']).total_seconds():.2f} s" if row["ended_at"] else ""
    files = f"{paper.many(row['files'], 'files')}, {paper.size(row['bytes'])}" if "files" in row else ""
    deleted = (
        f", {paper.many(row['rows_deleted_in_files'], 'rows')} deleted by position"
        if row.get("rows_deleted_in_files")
        else ""
    )
    why = reverted["reason"] if reverted else None
    about = {
        "feed": f"{row['feed']}, {row['kind']}" if row["feed"] else "",
        "from" if is_load else "what": row["source"],
        "as of": high if row["kind"] == "full_extract" else "",
        "scope": row["extract_scope"],
        "moved": f"{low or 'the start'} → {high or 'the start'}" if row["kind"] == "watermark" else "",
        "skipped": ", ".join(left),
        "label": row["label"] if row["kind"] != TRIM else "",
        "old": f"from before {high}, loaded up to run {row['label']}"
        if row["kind"] == TRIM and row["label"] != "0"
        else "",
        "reason": row["reason"],
        "started": f"{row['started_at']:%Y-%m-%d %H:%M:%S} UTC{took}",
        "by": f"process {row['pid']} on {row['host']}, Brenvik {row['version']}",
        "wrote": files + deleted,
        "reverted": f"by run {reverted['run']}{f': {why}' if why else ''}" if reverted else "",
    }
    for name, value in about.items():
        if value:
            out.print(Text(f"  {name:<9}  {value}"))
    counts = {name: row[name] or 0 for name in ("read", "derived", *DECISIONS, *ROW_COUNTS)}
    outcome = Outcome(row["table_name"], row["feed"], row["run"], row["state"], counts=counts)
    sums = [outcome.sums()[0]] if row["read"] is not None else []
    sums += [paper.sums_of_rows(outcome)] if row["rows_before"] is not None else []
    next_steps = _next_steps(project, row, reverted, trimmed=trimmed)
    for lines in (sums, (row["message"] or "").splitlines(), next_steps if is_load else ()):
        if lines:
            out.print()
        for line in lines:
            out.print(Text(f"  {line}"))


def _day(mark: str | None) -> str:
    """A watermark of the ledger without the parts of its time that are zero."""
    return (mark or "").removesuffix(":00").removesuffix(" 00:00")


def _next_steps(
    project: Project, row: Mapping[str, Any], reverted: Mapping[str, Any] | None, *, trimmed: bool
) -> list[str]:
    its = project.tables.get(row["table_name"])
    if row["state"] != "done" or not (its and its.rules.is_logged):
        return []
    number = row["run"]
    if trimmed:
        return ["The change log is trimmed: its decisions are not known any more, and it cannot be reverted."]
    if reverted:
        return [f"to restore it   brenvik revert {number} --undo --preview"]
    return [f"row by row      brenvik runs {number} --rows", f"to revert it    brenvik revert {number} --preview"]
