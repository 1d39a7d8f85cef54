"""What the pages take from the program itself: its commands, and the steps of a load."""

from __future__ import annotations

import logging
import tempfile
from collections.abc import Iterator
from itertools import groupby
from pathlib import Path
from typing import Any

import typer.main
from docutils import nodes
from sphinx.application import Sphinx
from sphinx.util.docutils import SphinxDirective

from brenvik import read_project
from brenvik.cli.main import app as command_line
from brenvik.demo import scenario
from brenvik.demo.tour import in_store
from brenvik.merge.plan.steps import STAGES
from brenvik.project.statements import Statement, statements_of


class Generated(SphinxDirective):
    """A directive whose content is Markdown that the program gives."""

    has_content = False

    def lines(self) -> Iterator[str]:
        raise NotImplementedError

    def run(self) -> list[nodes.Node]:
        return self.parse_text_to_nodes("\n".join(self.lines()), allow_section_headings=True)


class Commands(Generated):
    """All commands with their options, as ``--help`` has them."""

    def lines(self) -> Iterator[str]:
        group: Any = typer.main.get_command(command_line)
        for name, command in group.commands.items():
            yield from _command(f"brenvik {name}", command)


def _command(name: str, command: Any) -> Iterator[str]:
    options = [each for each in command.params if each.param_type_name == "option" and not each.hidden]
    usage = " ".join([name, *(_metavar(each) for each in command.params if each.param_type_name == "argument")])
    yield from (f"## {name}", "", f"`{usage}`", "", *(command.help or "").splitlines(), "")
    for option in options:
        yield f"`{', '.join(option.opts)}`"
        yield f": {option.help or ''}"
        yield ""
    for sub, other in getattr(command, "commands", {}).items():
        yield from _command(f"{name} {sub}", other)


def _metavar(argument: Any) -> str:
    name = (argument.metavar or argument.name).upper().strip("[]")
    name = name if argument.nargs == 1 else f"{name.rstrip('.')}…"
    return name if argument.required else f"[{name}]"


def steps_of_a_load() -> list[Statement]:
    """The steps of the second day of the demo, from its plan."""
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "brenvik.toml"
        file.write_text(in_store(scenario.PROJECT, "duckdb::memory:"), encoding="utf-8")
        (Path(folder) / "inbox").mkdir()
        scenario.write_day("buoy_01.csv", Path(folder) / "inbox")
        project = read_project(file)
        with project.open() as store:
            project.load("buoy", store=store)
            scenario.write_day("buoy_02.csv", Path(folder) / "inbox")
            return statements_of(project, "buoy", store)


class Plan(Generated):
    """The steps of a load, stage by stage, each with when it runs."""

    def lines(self) -> Iterator[str]:
        for stage, steps in groupby(steps_of_a_load(), lambda step: step.stage):
            yield from (f"## {stage[0].upper()}{stage[1:]}", "", f"{STAGES[stage]}", "", "| step | runs |", "|:--|:--|")
            for step in steps:
                yield f"| {step.purpose} | {step.when or 'always'} |"
            yield ""


def setup(app: Sphinx) -> dict[str, bool]:
    logging.getLogger("brenvik").setLevel(logging.WARNING)
    app.add_directive("commands", Commands)
    app.add_directive("plan", Plan)
    return {"parallel_read_safe": True}
