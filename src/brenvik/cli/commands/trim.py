"""brenvik trim."""

from __future__ import annotations

from typing import Annotated

import typer

from brenvik.cli.app import (
    HERE,
    Environment,
    Json,
    Preview,
    ProjectFile,
    Reason,
    Tables,
    Wait,
    app,
    opened,
    read,
)


@app.command()
def trim(
    tables: Tables = None,
    keep: Annotated[
        str | None, typer.Option("--keep", help="Keep changes younger than this.", metavar="DURATION")
    ] = None,
    reason: Reason = None,
    preview: Preview = False,
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Trim change logs: older changes become base states. Tables stay as they are.

    Loads do this by themselves for tables whose rules give a period (change_log = "400 days"); these are meant when no table is
    named.
    """
    from brenvik.cli.render.trim import show_trimmed

    declared = read(project, env)
    rules = [declared.table(name).rules for name in tables or declared.tables]
    chosen = rules if tables else [each for each in rules if each.log_period is not None]
    with opened(declared, read_only=preview, wait_s=wait) as store:
        done = [store.trim(each, keep=keep, reason=reason, preview=preview, wait_s=wait) for each in chosen]
    show_trimmed(declared, done, keep=keep, preview=preview, json=json)
