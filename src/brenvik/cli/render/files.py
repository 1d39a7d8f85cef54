"""Files of a lakehouse, compacted or relocated."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict
from typing import TYPE_CHECKING

from rich.text import Text

from brenvik.cli.render import paper

if TYPE_CHECKING:
    from brenvik.engines.protocol import Compacted, Relocated
    from brenvik.project.project import Project


def show_compacted(project: Project, address: str, done: Sequence[Compacted], *, json: bool) -> None:
    if json:
        paper.print_json(project, compacted=[asdict(each) for each in done])
        return
    out = paper.console()
    paper.heading(out, project, "compacted", dated=True)
    if not done:
        out.print(Text(f"  {address} manages its own storage, or has no tables yet; nothing to do."))
        return
    right = ("files", "deleted rows", "snapshots", "removed", "")
    table = paper.table_of("table", *right, right=right)
    for each in done:
        before_and_after = (paper.from_to(*pair) for pair in (each.files, each.deleted, each.snapshots))
        swept = (paper.many(each.swept, "files"), paper.size(each.swept_bytes)) if each.swept else ("–", "")
        table.add_row(each.table, *before_and_after, *swept)
    paper.indented(out, table)
    out.print()
    out.print(Text("  The rows of the tables are unchanged."))


def show_relocated(project: Project, address: str, done: Sequence[Relocated], *, json: bool) -> None:
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


def show_upgraded(project: Project, address: str, versions: tuple[int, int] | None, *, json: bool) -> None:
    if json:
        paper.print_json(
            project, upgraded=None if versions is None else dict(zip(("from", "to"), versions, strict=True))
        )
        return
    out = paper.console()
    paper.heading(out, project, "upgrade", dated=True)
    if versions is None:
        out.print(Text(f"  The ledger in {address} is up to date; nothing to do."))
    else:
        out.print(Text(f"  The ledger in {address}: schema version {versions[0]} → {versions[1]}."))
