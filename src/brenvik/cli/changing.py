"""The commands by which a person changes what is there: a watermark, a run taken back, a table worked out again."""

from __future__ import annotations

import sys
from enum import StrEnum
from pathlib import Path
from typing import Annotated, Literal

import typer

from brenvik.cli.call import (
    HERE,
    Environment,
    FeedName,
    Json,
    Preview,
    ProjectFile,
    Reason,
    TableName,
    Tables,
    Wait,
    app,
    held_app,
    opened,
    read,
    rejects_app,
    watermarks_app,
    wrong,
)
from brenvik.cli.exits import REFUSED, gravest


class Unlogged(StrEnum):
    keep = "keep"
    remove = "remove"


All = Annotated[bool, typer.Option("--all", help="All of them.")]


@watermarks_app.command("set")
def set_watermark(
    table: TableName,
    feed: FeedName = None,
    to: Annotated[str | None, typer.Option("--to", help="The new watermark.", metavar="VALUE")] = None,
    by: Annotated[
        str | None, typer.Option("--back", help='How far to set it back, as in "2 days".', metavar="SPAN")
    ] = None,
    reason: Reason = None,
    yes: Annotated[bool, typer.Option("--yes", help="Do not ask.")] = False,
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Set a watermark forward or back; asks first, and is entered as a run."""
    from brenvik.cli import show_progress
    from brenvik.errors import DeclarationError
    from brenvik.progress import plan_move
    from brenvik.progress import set_watermark as carry_out

    declared = read(project, env)
    with opened(declared, read_only=False, wait_s=wait) as store:
        move = plan_move(declared, store, table, feed, to=to, by=by)
        if not yes:
            if not sys.stdin.isatty():
                raise DeclarationError("Nobody can be asked here; say --yes to set the watermark without asking.")
            show_progress.move(declared, move)
            if not typer.confirm("  Set it?", default=False):
                raise typer.Exit(REFUSED)
        run = carry_out(store.ledger, move, reason=reason, wait_s=wait)
    show_progress.moved(declared, move, run, json=json)


@rejects_app.command()
def retake(
    table: TableName,
    file: Annotated[
        Path | None, typer.Argument(help="An exported file with mended rows; else all open rejects.", metavar="[FILE]")
    ] = None,
    preview: Preview = False,
    accept_rejects: Annotated[
        bool, typer.Option("--accept-rejects", help="End with 0 when rows were rejected again or held.")
    ] = False,
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Take rejects again: as they are, after the rules were mended, or as they stand in a file. Ends as load does."""
    from brenvik.cli import show
    from brenvik.mending import retake as take_again

    declared = read(project, env)
    with opened(declared, read_only=preview, wait_s=wait) as store:
        outcomes = take_again(declared, store, table, file, preview=preview, wait_s=wait)
        code = gravest(outcomes, accept_rejects=accept_rejects or preview)
        if preview:
            show.preview(
                declared, outcomes, everything=True, json=json, do_it=f"rejects retake {table} {file or ''}".rstrip()
            )
        else:
            show.load(declared, outcomes, code, json=json)
    raise typer.Exit(code)


@rejects_app.command("drop")
def drop_rejects(
    table: TableName,
    numbers: Annotated[
        list[int] | None, typer.Argument(help="Their numbers: brenvik rejects", metavar="[NUMBER]...")
    ] = None,
    everything: All = False,
    reason: Reason = None,
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Put rejects away for good: they are open no more, and their rows stay in the ledger; entered as a run."""
    from brenvik.cli import show_past
    from brenvik.mending import drop_rejects as put_away

    if bool(numbers) == everything:
        raise wrong("Say which: their numbers (brenvik rejects), or --all.")
    declared = read(project, env)
    with opened(declared, read_only=False, wait_s=wait) as store:
        outcome = put_away(store.ledger, declared.table(table).rules, numbers or None, reason=reason, wait_s=wait)
    show_past.dropped(declared, outcome, json=json)


Numbers = Annotated[list[int] | None, typer.Argument(help="Their numbers: brenvik held", metavar="[NUMBER]...")]


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
    from brenvik.cli import show_past

    if bool(numbers) == everything:
        raise wrong("Say which: their numbers (brenvik held), or --all.")
    declared = read(project, env)
    rules = declared.table(table).rules
    with opened(declared, read_only=preview, wait_s=wait) as store:
        outcome = store.release(
            rules, *(numbers or ()), every=everything, drop=drop, reason=reason, preview=preview, wait_s=wait
        )
    show_past.worked_out_again(declared, rules, outcome, json=json)


@app.command()
def withdraw(
    runs: Annotated[list[int], typer.Argument(help="The runs to take back.", metavar="RUN...")],
    reason: Reason = None,
    put_back: Annotated[bool, typer.Option("--put-back", help="Put withdrawn runs back instead.")] = False,
    preview: Preview = False,
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Take runs back, also when later ones came since: the table becomes what it would be without them.

    Watermarks and taken files stay: load --again RUN takes what a run took anew.
    """
    from brenvik.cli import show_past
    from brenvik.errors import DeclarationError

    declared = read(project, env)
    with opened(declared, read_only=preview, wait_s=wait) as store:
        rows = {number: store.ledger.run(number) for number in runs}
        if unknown := [str(number) for number, row in rows.items() if row is None]:
            raise DeclarationError(f"There is no run {', '.join(unknown)}: brenvik runs")
        if not (reason or put_back or preview):
            raise DeclarationError("Say why, for those who come after you: --reason TEXT. To look first: --preview")
        tables = {row["table_name"] for row in rows.values() if row}
        if len(tables) > 1:
            raise DeclarationError(
                f"These runs are of several tables ({', '.join(sorted(tables))}); withdraw them apart."
            )
        rules = declared.table(tables.pop()).rules
        outcome = store.withdraw(rules, *runs, reason=reason, put_back=put_back, preview=preview, wait_s=wait)
    show_past.worked_out_again(declared, rules, outcome, json=json)


@app.command()
def rebuild(
    table: TableName,
    preview: Preview = False,
    drop_columns: Annotated[
        bool, typer.Option("--drop-columns", help="Let the table lose columns that the rules leave out now.")
    ] = False,
    unlogged: Annotated[
        Unlogged | None,
        typer.Option("--unlogged", help="What to do with rows that have no change in the log.", show_default=False),
    ] = None,
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Work a table out again from its kept changes, under the rules as they are now; only rows that differ are written."""
    from brenvik.cli import show_past

    declared = read(project, env)
    rules = declared.table(table).rules
    with opened(declared, read_only=preview, wait_s=wait) as store:
        chosen: Literal["keep", "remove"] | None = unlogged.value if unlogged else None
        outcome = store.rebuild(rules, preview=preview, drop_columns=drop_columns, unlogged=chosen, wait_s=wait)
    show_past.worked_out_again(declared, rules, outcome, json=json)


@app.command()
def tidy(
    tables: Tables = None,
    keep: Annotated[str, typer.Option("--keep", help="Snapshots younger than this stay.", metavar="SPAN")] = "7 days",
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Put the files of a lakehouse in order: fewer and larger ones, without rows that are gone; what nobody needs is taken away.

    The rows stay the same for every reader, and so do runs and watermarks.
    """
    from brenvik.cli import show_past

    declared = read(project, env)
    rules = [declared.table(name).rules for name in tables or declared.tables]
    with opened(declared, read_only=False, wait_s=wait) as store:
        done = store.tidy(*rules, keep=keep, wait_s=wait)
        show_past.tidied(declared, store.engine.address, done, json=json)


@app.command()
def relocate(
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """After a lakehouse folder was copied, moved or restored elsewhere: make its tables point to the files in it.

    Data files are not rewritten, and the original folder is not touched.
    """
    from brenvik.cli import show_past

    declared = read(project, env)
    with opened(declared, read_only=False, wait_s=wait) as store:
        show_past.relocated(declared, store.engine.address, store.relocate(), json=json)


@app.command()
def adopt(
    table: TableName,
    allow_changes: Annotated[
        int, typer.Option("--allow-changes", help="Let this many rows be changed.", min=0, metavar="N")
    ] = 0,
    reason: Reason = None,
    preview: Preview = False,
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Take over a table that the store had before: every version is kept as changes of this run, surrogate keys stay."""
    from brenvik.adopting import adopt as take_over
    from brenvik.checking import carried_by
    from brenvik.cli import show_past
    from brenvik.progress import begin_watermarks

    declared = read(project, env)
    found = declared.table(table)
    with opened(declared, read_only=False, wait_s=wait) as store:
        outcome = take_over(
            store.ledger,
            found.rules,
            carried_by(declared, found, store),
            allow_changes=allow_changes,
            reason=reason,
            preview=preview,
            wait_s=wait,
        )
        outcome.notes += [] if preview else begin_watermarks(declared, store, found, wait_s=wait)
    show_past.worked_out_again(declared, found.rules, outcome, json=json)
