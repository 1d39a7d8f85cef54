"""brenvik deletes."""

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
    deletes_app,
    opened,
    read,
    reading,
    wrong,
)

Numbers = Annotated[
    list[int] | None, typer.Argument(help="Their numbers, as listed by: brenvik deletes", metavar="NUMBER")
]


@deletes_app.callback(invoke_without_command=True)
def deletes(
    context: typer.Context,
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """List the deletes that await approval, each with the row it would end, its feed, and since when it has been pending."""
    if context.invoked_subcommand:
        return
    from brenvik.cli.render.deletes import show_pending_deletes

    with reading(project, env, wait) as (declared, store):
        found = {}
        for name, table in declared.tables.items():
            if table.rules.deletes == "review" and store.ledger.exists() and store.ledger.state(name):
                found[name] = store.pending_deletes(table.rules).to_pylist()
        show_pending_deletes(declared, found, json=json)


@deletes_app.command()
def approve(
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
    """Approve pending deletes: each takes effect at the time given by its source. Recorded as a run."""
    _decide(table, numbers, everything, reason, preview, wait, project, env, json, discard=False)


@deletes_app.command()
def discard(
    table: TableName,
    numbers: Numbers = None,
    everything: All = False,
    reason: Reason = None,
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Discard pending deletes for good: the rows stay. Recorded as a run."""
    _decide(table, numbers, everything, reason, False, wait, project, env, json, discard=True)


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
    discard: bool,
) -> None:
    from brenvik.cli.render.recomputed import show_recomputed

    if bool(numbers) == everything:
        raise wrong("Name the deletes by number (see brenvik deletes), or use --all.")
    declared = read(project, env)
    rules = declared.table(table).rules
    with opened(declared, read_only=preview, wait_s=wait) as store:
        decide = store.discard_deletes if discard else store.approve_deletes
        outcome = decide(rules, *(numbers or ()), every=everything, reason=reason, preview=preview, wait_s=wait)
    show_recomputed(declared, rules, outcome, json=json)
