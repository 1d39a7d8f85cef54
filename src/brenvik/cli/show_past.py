"""How answers look: what runs did that worked keys out again, what a run decided, the story of a key."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Any

from rich.text import Text

from brenvik.cli import paper, show

if TYPE_CHECKING:
    from brenvik.outcome import Outcome
    from brenvik.project import Project
    from brenvik.rules import TableRules
    from brenvik.stores.base import Tidied

_SHOWN_KEYS = 20
_SHOWN_VALUES = 4


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
    changed = outcome.counts["rows_updated"]
    same = "" if touched else "No row differs. "
    out.print(Text(f"  {same}{outcome.sums()[1]}" + (f", {changed:,} changed" if changed else "")))
    for note in outcome.notes:
        out.print(Text(f"  {note}"))


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


def run(project: Project, row: Mapping[str, Any], decided: Sequence[Mapping[str, Any]] | None, *, json: bool) -> None:
    """One run whole; with ``decided``, what it decided row by row."""
    if json:
        paper.print_json(project, run=row, decisions=decided)
        return
    out = paper.console()
    paper.heading(out, project, row["table_name"], f"run {row['run']}", row["state"])
    if decided is None:
        width = max(len(name) for name in row)
        for name, value in row.items():
            if value not in (None, 0) and name not in {"rules", "run", "table_name", "state"}:
                out.print(Text(f"  {name:<{width}}  {paper.shown(value)}"))
        return
    show.decisions(out, decided)
    folded = [f"{row[name]:,} {name}" for name in ("duplicate", "rejected") if row[name]]
    if folded:
        out.print(Text(f"  {', '.join(folded)}, not kept as changes and not shown here"))


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
            f"{row['arrived_at']:%m-%d %H:%M}",
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
