"""brenvik held."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from brenvik.cli.app import (
    HERE,
    All,
    Environment,
    Json,
    Preview,
    ProjectFile,
    Reason,
    TableName,
    Wait,
    held_app,
    opened,
    read,
    reading,
    wrong,
)

Numbers = Annotated[list[int] | None, typer.Argument(help="Their numbers: brenvik held", metavar="[NUMBER]...")]


@held_app.callback(invoke_without_command=True)
def held(
    context: typer.Context,
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """List the deletes that wait for a person, each with the row it would end, who told it, and since when."""
    if context.invoked_subcommand:
        return
    from brenvik.cli.render.held import show_held

    with reading(project, env, wait) as (declared, store):
        found = {}
        for name, table in declared.tables.items():
            if table.rules.deletes == "review" and store.ledger.exists() and store.ledger.state(name):
                found[name] = store.held(table.rules).to_pylist()
        show_held(declared, found, json=json)


@held_app.command()
def release(
    table: TableName,
    numbers: Numbers = None,
    everything: All = False,
    reason: Reason = None,
    preview: Preview = False,
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Let held deletes happen, each from when the source said it; entered as a run."""
    _decide(table, numbers, everything, reason, preview, wait, project, env, json, drop=False)


@held_app.command()
def drop(
    table: TableName,
    numbers: Numbers = None,
    everything: All = False,
    reason: Reason = None,
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Put held deletes away for good: the rows stay; entered as a run."""
    _decide(table, numbers, everything, reason, False, wait, project, env, json, drop=True)


def _decide(
    table: str,
    numbers: list[int] | None,
    everything: bool,
    reason: str | None,
    preview: bool,
    wait: float,
    project: Path,
    env: str | None,
    json: bool,
    *,
    drop: bool,
) -> None:
    from brenvik.cli.render.recomputed import show_recomputed

    if bool(numbers) == everything:
        raise wrong("Say which: their numbers (brenvik held), or --all.")
    declared = read(project, env)
    rules = declared.table(table).rules
    with opened(declared, read_only=preview, wait_s=wait) as store:
        outcome = store.release(
            rules, *(numbers or ()), every=everything, drop=drop, reason=reason, preview=preview, wait_s=wait
        )
    show_recomputed(declared, rules, outcome, json=json)
