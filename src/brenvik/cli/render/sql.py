"""The statements of a load."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from typing import TYPE_CHECKING

from brenvik.cli.render import paper
from brenvik.cli.render.characters import visible
from brenvik.merge.plan.steps import STAGES
from brenvik.project.statements import TRIED, Statement

if TYPE_CHECKING:
    from brenvik.project.project import Project


def show_statements(
    project: Project, table: str, own: str, dialect: str | None, found: Sequence[Statement], *, json: bool
) -> None:
    language = dialect or own
    if json:
        paper.print_json(project, table=table, language=language, tried=language in TRIED, statements=list(found))
        return
    print(f"-- {project.title} · a load of {table}, as {language} runs it when it meets every case; nothing is run")
    if language not in TRIED:
        print(f"-- NEVER RUN: Brenvik has no store in {language}. These are untested translations.")
    print("-- Values are parameters. Working tables begin with brenvik_work_ and are dropped after the load.")
    if project.store.startswith("lakehouse:") and not dialect:
        print(
            "-- The tables are views of files: inserts, updates and deletes become a file of rows and one of positions."
        )
    stage = ""
    for each in found:
        if each.stage != stage:
            stage = each.stage
            print(f"\n\n-- {stage}: {STAGES[each.stage]}")
        print(f"\n-- {each.purpose}{f' ({each.when})' if each.when else ''}")
        if each.in_process:
            print("-- in the DuckDB of the loading process, so that a text becomes the same value in every store")
        print(f"{visible(each.text) if sys.stdout.isatty() else each.text};")
