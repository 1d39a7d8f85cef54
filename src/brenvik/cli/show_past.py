"""How answers look: what runs did that worked keys out again, what a run decided, the story of a key."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Any

from rich.text import Text

from brenvik.cli import paper, show
from brenvik.ledger_tables import DECISIONS, LOADS, ROW_COUNTS
from brenvik.outcome import Outcome

if TYPE_CHECKING:
    from rich.console import Console

    from brenvik.project import Project
    from brenvik.rules import TableRules
    from brenvik.stores.base import Relocated, Tidied

_SHOWN_KEYS = 20
_SHOWN_VALUES = 4
_LEFT = {"ahead": "ahead of the source's clock", "without_watermark": "without a watermark"}


def in_words(known_at: int | None, without: Sequence[int] | None) -> str:
    """Of which past something is shown; '' for none."""
    parts = [f"as known after run {known_at}"] if known_at is not None else []
    parts += [f"without run {', '.join(map(str, without))}"] if without else []
    return ", ".join(parts)


def worked_out_again(project: Project, rules: TableRules, outcome: Outcome, *, json: bool) -> None:
    touched = outcome.touched.to_pylist() if outcome.touched is not None else []
    if json:
        paper.print_json(project, outcome=outcome.to_dict(), touched=touched)
        return
    out = paper.console()
    preview = outcome.state == "preview"
    what = "nothing is written" if preview else f"run {outcome.run}"
    paper.heading(out, project, rules.table, outcome.source, what)
    if touched:
        table = paper.table_of("key", "added", "changed", "removed", right=("added", "changed", "removed"))
        for row in touched[:_SHOWN_KEYS]:
            key = paper.key_of({name: row[name] for name in rules.natural_key})
            table.add_row(key, *(paper.count(row[f"brenvik_{name}"]) for name in ("added", "changed", "removed")))
        paper.indented(out, table)
        if len(touched) > _SHOWN_KEYS:
            out.print(Text(f"  and {paper.many(len(touched) - _SHOWN_KEYS, 'keys')} more"))
        out.print()
    told_below = outcome.source == "rebuilt" and outcome.notes
    same = "" if touched or told_below else "No row differs. "
    out.print(Text(f"  {same}{_rows(outcome)}"))
    for note in outcome.notes:
        out.print(Text(f"  {note}"))


def _rows(outcome: Outcome) -> str:
    changed = outcome.counts["rows_updated"]
    return outcome.sums()[1] + (f", {changed:,} changed" if changed else "")


def tidied(project: Project, address: str, done: Sequence[Tidied], *, json: bool) -> None:
    if json:
        paper.print_json(project, tidied=[asdict(each) for each in done])
        return
    out = paper.console()
    paper.heading(out, project, "put in order", dated=True)
    if not done:
        out.print(Text(f"  {address} sees to the order of its tables by itself, or holds none yet; nothing to do."))
        return
    right = ("files", "gone rows", "snapshots", "taken away", "")
    table = paper.table_of("table", *right, right=right)
    for each in done:
        before_and_after = (paper.from_to(*pair) for pair in (each.files, each.gone, each.snapshots))
        swept = (paper.many(each.swept, "files"), paper.size(each.swept_bytes)) if each.swept else ("–", "")
        table.add_row(each.table, *before_and_after, *swept)
    paper.indented(out, table)
    out.print()
    out.print(Text("  The rows are the same as before."))


def relocated(project: Project, address: str, done: Sequence[Relocated], *, json: bool) -> None:
    if json:
        paper.print_json(project, relocated=[asdict(each) for each in done])
        return
    out = paper.console()
    paper.heading(out, project, "relocated", dated=True)
    if not done:
        out.print(Text(f"  All tables of {address} point to their own files; nothing to do."))
        return
    table = paper.table_of("table", "files", right=("files",))
    for each in done:
        table.add_row(each.table, f"{each.files:,}")
    paper.indented(out, table)
    out.print()
    out.print(Text(f"  They pointed to files in {done[0].before}; now they point to those in {address}."))


def held(project: Project, found: Mapping[str, Sequence[Mapping[str, Any]]], *, json: bool) -> None:
    if json:
        paper.print_json(project, held=found)
        return
    out = paper.console()
    paper.heading(out, project, "held deletes", dated=True)
    there = {name: rows for name, rows in found.items() if rows}
    if not there:
        out.print(Text("  No delete is held." if found else "  No table of this project holds deletes."))
        return
    for name, rows in there.items():
        keys = project.table(name).rules.natural_key
        values = [column for column in rows[0] if not column.startswith("brenvik_") and column not in keys]
        shown = values[:_SHOWN_VALUES]
        table = paper.table_of(
            "", "table", *keys, *shown, "told by", "run", "would end", "held since", right=("", "run")
        )
        for row in rows:
            table.add_row(
                str(row["brenvik_hold"]),
                name,
                *(paper.shown(row[column]) for column in keys),
                *(paper.short(paper.shown(row[column]), 24) for column in shown),
                row["brenvik_feed"],
                str(row["brenvik_run"]),
                paper.moment(row["brenvik_effective"]),
                f"{row['brenvik_since']:%Y-%m-%d %H:%M}",
            )
        paper.indented(out, table)
    first, rows = next(iter(there.items()))
    number = rows[0]["brenvik_hold"]
    out.print()
    out.print(Text(f"  let it happen   brenvik held release {first} {number}"))
    out.print(Text(f"  let it be       brenvik held drop {first} {number}"))


def run(
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
    show.decisions(out, decided)
    folded = [f"{row[name]:,} {name}" for name in ("duplicate", "rejected") if row[name]]
    if folded:
        out.print(Text(f"  {', '.join(folded)}, not kept as changes and not shown here"))


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
        "holds at": high if row["kind"] == "extract" else "",
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
    sums += [_rows(outcome)] if row["rows_before"] is not None else []
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
    if row["state"] != "done" or not (its and its.rules.keep_changes):
        return []
    number = row["run"]
    if withdrawn:
        return [f"put it back    brenvik withdraw {number} --put-back --preview"]
    return [f"row by row     brenvik runs {number} --rows", f"take it back   brenvik withdraw {number} --preview"]


def story(project: Project, rules: TableRules, key: Any, told: Sequence[Mapping[str, Any]], *, json: bool) -> None:
    if json:
        paper.print_json(project, table=rules.table, key=key, changes=told)
        return
    out = paper.console()
    shown_key = paper.key_of(key) if isinstance(key, dict) else str(key)
    if not told:
        out.print(Text(f"{project.title} · {rules.table} {shown_key} · no change of it was ever kept"))
        return
    paper.heading(out, project, f"{rules.table} {shown_key}", paper.many(len(told), "changes"), "in order of arrival")
    table = paper.table_of(
        "run", "arrived", "from", "line", "effective", "decision", "what it did", right=("run", "line")
    )
    for row in told:
        table.add_row(
            str(row["run"]),
            f"{row['arrived_at']:%m-%d %H:%M}" if row["arrived_at"] else "–",
            paper.short(row["file"] or "–", 26),
            str(row["line"] or "–"),
            paper.moment(row["effective"]),
            paper.state(row["decision"]),
            paper.short(row["reason"].replace("\n", "⏎"), 60)
            + (f"  (withdrawn by run {row['withdrawn_by']})" if row["withdrawn_by"] else ""),
        )
    paper.indented(out, table)


def exported(project: Project, table: str, file: Path, count: int, *, json: bool) -> None:
    if json:
        paper.print_json(project, table=table, file=str(file), rejects=count)
        return
    out = paper.console()
    paper.heading(out, project, table, f"{paper.many(count, 'rejects')} in {file}")
    out.print(Text('  Each line tells what was wrong; mend its "row", take lines out that shall stay open, then'))
    out.print(Text(f"  look     brenvik rejects retake {table} {file} --preview"))
    out.print(Text(f"  do it    brenvik rejects retake {table} {file}"))


def dropped(project: Project, outcome: Outcome, *, json: bool) -> None:
    if json:
        paper.print_json(project, outcome=outcome.to_dict())
        return
    paper.heading(paper.console(), project, outcome.table, outcome.source, f"run {outcome.run}")
