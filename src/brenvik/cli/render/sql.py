"""The statements of a load."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from typing import TYPE_CHECKING

from brenvik.cli.render import paper
from brenvik.cli.render.characters import visible
from brenvik.project.statements import TRIED, Statement

if TYPE_CHECKING:
    from brenvik.project.project import Project

_STAGES = {
    "deletes": "deletes that wait for review, or are ignored",
    "validate": "from staged rows to changes and rejects",
    "compare": "an extract against the table",
    "classify": "which path each change takes",
    "current path": "keys with one newer change",
    "replay": "the versions of all other keys",
    "diff": "the rows that exist against the rows that should",
    "write": "the table, in one transaction with all that follows",
    "log": "what is recorded beside the table",
}


def show_statements(
    project: Project, table: str, own: str, dialect: str | None, found: Sequence[Statement], *, json: bool
) -> None:
    language = dialect or own
    if json:
        paper.print_json(project, table=table, language=language, tried=language in TRIED, statements=list(found))
        return
    print(f"-- {project.title} · a load of {table}, as {language} runs it when it meets every case; nothing was run")
    if language not in TRIED:
        print(
            f"-- NEVER RUN: there is no store of Brenvik for {language}. These are translations that nobody has tried."
        )
    print("-- Values are parameters. Working tables begin with brenvik_work_ and go when the load has ended.")
    if project.store.startswith("lakehouse:") and not dialect:
        print(
            "-- The tables are views of files: what adds, updates or deletes rows becomes a file of rows and one of positions."
        )
    stage = ""
    for each in found:
        if each.stage != stage:
            stage = each.stage
            print(f"\n\n-- {stage}: {_STAGES[stage]}")
        print(f"\n-- {each.note}")
        if each.beside:
            print(
                "-- (in the DuckDB of the loading process, for every store: a text becomes the same value everywhere)"
            )
        print(f"{visible(each.text) if sys.stdout.isatty() else each.text};")
