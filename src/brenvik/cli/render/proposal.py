"""What was found in a file, and the table that fits it."""

from __future__ import annotations

import shlex
from typing import TYPE_CHECKING

from rich.text import Text

from brenvik.cli.render import paper

if TYPE_CHECKING:
    from brenvik.project.propose import Proposal


def show_proposal(made: Proposal, *, written: bool) -> None:
    out = paper.console()
    if not written:
        out.print(Text(made.text))
        return
    where = "created" if made.is_new_project else "appended to"
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
