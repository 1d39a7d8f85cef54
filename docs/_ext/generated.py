"""What the pages take from the program itself: its commands, and the steps of a load."""

from __future__ import annotations

import dataclasses
import inspect
import json
import logging
import re
import tempfile
from collections.abc import Iterator, Mapping
from enum import Enum
from itertools import groupby
from pathlib import Path
from typing import Any

import typer.main
from docutils import nodes
from sphinx.application import Sphinx
from sphinx.util.docutils import SphinxDirective

from brenvik import TableRules, read_project
from brenvik.cli.exits import MEANINGS
from brenvik.cli.main import app as command_line
from brenvik.demo import scenario
from brenvik.demo.tour import in_store
from brenvik.merge.plan.steps import STAGES
from brenvik.model.decisions import DECISIONS, STATES
from brenvik.project import keys
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
        yield from (f"`{_usage(option)}`", f": {option.help or ''}{_default(option)}", "")
    for sub, other in getattr(command, "commands", {}).items():
        yield from _command(f"{name} {sub}", other)


class Keys(Generated):
    """Every key of the project file."""

    def lines(self) -> Iterator[str]:
        feed = "[table.NAME.feed.NAME]"
        yield from _keys("The project", "At the top of `brenvik.toml`.", keys.PROJECT)
        yield from _keys("A table", "In `[table.NAME]`, and in `[defaults]` for all tables.", dict(_rules()))
        yield from _keys("A table in the project", "In `[table.NAME]` as well.", keys.TABLE)
        yield from _keys("A feed", f"In `{feed}`.", keys.FEED)
        yield from _keys("A feed of files", f"In `{feed}`.", keys.FILES)
        yield from _keys("A feed from a database", f"In `{feed}`.", keys.DATABASE)
        yield from _keys("Operation codes", "In `operation = { … }`.", keys.OPERATION)
        yield from _keys("Added columns", "In `add = { NAME = { … } }`.", keys.ADD)
        yield from _keys("Values", "In `values = { … }`.", keys.VALUES)
        yield from _keys("CSV", "In `csv = { … }`.", keys.CSV)
        yield from _keys("Text without delimiters", "In `fixed_width = { … }`.", keys.FIXED_WIDTH)
        yield from _keys("Excel", "In `excel = { … }`.", keys.EXCEL)
        yield from _keys("JSON records", "In `record = { … }`.", keys.RECORD)


def _keys(title: str, where: str, described: Mapping[str, str]) -> Iterator[str]:
    yield from (f"## {title}", "", where, "")
    for name, says in described.items():
        yield from (", ".join(f"`{each}`" for each in name.split(", ")), f": {says}", "")


def _rules() -> Iterator[tuple[str, str]]:
    """The rules of a table, with their defaults."""
    fields = {field.name: field.default for field in dataclasses.fields(TableRules)}
    for names, says in _described(TableRules.__doc__ or ""):
        defaults = {name: fields[name] for name in names.split(", ") if isinstance(fields[name], (str, float, bool))}
        told = ", ".join(
            f"`{json.dumps(value)}`" + (f" for `{name}`" if "," in names else "") for name, value in defaults.items()
        )
        if names != "table":
            yield names, f"{says} Default: {told}." if told else says


def _described(docstring: str) -> Iterator[tuple[str, str]]:
    """The names and descriptions in a docstring that lists them."""
    for found in re.finditer(r"^(\w[\w, ]*)\n((?:    .+\n)+)", inspect.cleandoc(docstring) + "\n", re.MULTILINE):
        yield found[1], " ".join(found[2].split()).replace("``", "`")


class Decisions(Generated):
    """What can become of a change."""

    def lines(self) -> Iterator[str]:
        yield from ("| decision | when | table | logged |", "|:--|:--|:--|:--|")
        for name, decision in DECISIONS.items():
            yield f"| {name} | {' | '.join(decision)} |"


class States(Generated):
    """What can become of a run."""

    def lines(self) -> Iterator[str]:
        yield from ("| state | meaning |", "|:--|:--|")
        yield from (f"| `{name}` | {says} |" for name, says in STATES.items())


class ExitCodes(Generated):
    """What a command exits with."""

    def lines(self) -> Iterator[str]:
        yield from ("| code | meaning | what to do |", "|--:|:--|:--|")
        yield from (f"| {code} | {meaning} | {then} |" for code, (meaning, then) in MEANINGS.items())


def _metavar(argument: Any) -> str:
    name = re.sub(r"[^\w|]", "", argument.metavar or argument.name).upper()
    name = name if argument.nargs == 1 else f"{name}…"
    return name if argument.required else f"[{name}]"


def _usage(option: Any) -> str:
    names = ", ".join(option.opts)
    if option.is_flag:
        return names
    kind = option.type_descriptor.annotation
    choices = "|".join(each.value for each in kind) if isinstance(kind, type) and issubclass(kind, Enum) else ""
    return f"{names} {choices or option.metavar or 'N'}"


def _default(option: Any) -> str:
    value = getattr(option.default, "value", option.default)
    return "" if value in (None, False, ()) or callable(value) or option.name == "project" else f" Default: `{value}`."


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
    for name, directive in (("keys", Keys), ("decisions", Decisions), ("states", States), ("exit-codes", ExitCodes)):
        app.add_directive(name, directive)
    return {"parallel_read_safe": True}
