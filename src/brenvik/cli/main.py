"""The commands. Each reads the project, calls the library and hands the answer to ``show``."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from brenvik.cli.exits import DONE, FAILED, REFUSED, TEMPORARY, WRONG_CALL, code_of, gravest

if TYPE_CHECKING:
    from brenvik.feeds.base import Wanted
    from brenvik.outcome import Outcome
    from brenvik.project import Project
    from brenvik.store import Store

app = typer.Typer(
    help="Brenvik applies change feeds to warehouse tables: exactly once, with history, every decision explained.",
    no_args_is_help=True,
    add_completion=False,
    pretty_exceptions_enable=False,
    rich_markup_mode=None,
)


class Log(StrEnum):
    text = "text"
    json = "json"


class IfBusy(StrEnum):
    wait = "wait"
    skip = "skip"
    fail = "fail"


ProjectFile = Annotated[Path, typer.Option("--project", help="The project's file.", metavar="FILE")]
Environment = Annotated[
    str | None, typer.Option("--env", help="The environment of the project; else BRENVIK_ENV.", metavar="NAME")
]
Group = Annotated[str | None, typer.Option("--group", help="Only the tables of this group.", metavar="NAME")]
Json = Annotated[bool, typer.Option("--json", help="Print JSON for programs.")]
Wait = Annotated[float, typer.Option("--wait", help="How long to wait for a store or table, in seconds.", min=0)]
FeedName = Annotated[str | None, typer.Option("--feed", help="The feed, where the table has several.", metavar="NAME")]
Tables = Annotated[list[str] | None, typer.Argument(help="The tables; all when none is named.", metavar="[TABLE]...")]
TableName = Annotated[str, typer.Argument(help="The table.", metavar="TABLE")]
_HERE = Path("brenvik.toml")


@app.callback(invoke_without_command=True)
def _root(
    context: typer.Context, version: Annotated[bool, typer.Option("--version", help="Print the version.")] = False
) -> None:
    if version:
        from brenvik import __version__

        typer.echo(f"brenvik {__version__}")
        raise typer.Exit


@app.command()
def load(
    tables: Tables = None,
    group: Group = None,
    feed: FeedName = None,
    after: Annotated[
        str | None,
        typer.Option("--from", help="Take what is above this value again; the watermark stays.", metavar="VALUE"),
    ] = None,
    until: Annotated[str | None, typer.Option("--to", help="And only up to this value.", metavar="VALUE")] = None,
    again: Annotated[
        str | None, typer.Option("--again", help="Take what this run took, or this file, again.", metavar="RUN|FILE")
    ] = None,
    from_start: Annotated[
        bool, typer.Option("--from-start", help="Take everything there is again; only what differs is changed.")
    ] = False,
    files: Annotated[
        str | None, typer.Option("--files", help="Take what is new among these files instead.", metavar="GLOB")
    ] = None,
    if_busy: Annotated[IfBusy, typer.Option("--if-busy", help="What to do while another load holds it.")] = IfBusy.wait,
    wait: Wait = 30.0,
    accept_rejects: Annotated[
        bool, typer.Option("--accept-rejects", help="End with 0 when rows were rejected.")
    ] = False,
    every: Annotated[
        str | None, typer.Option("--every", help="Load again and again, this often, until stopped.", metavar="30s")
    ] = None,
    label: Annotated[str | None, typer.Option("--label", help="Kept with the runs.", metavar="TEXT")] = None,
    log: Annotated[Log | None, typer.Option("--log", help="Log records on stderr.")] = None,
    project: ProjectFile = _HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Take what is new into the tables.

    Ends with 0 when all is done, 1 when a table failed, 2 for a wrong call or project, 3 when rows were rejected,
    4 when a load was refused and a person must decide, 5 when it may work later.
    """
    from brenvik.cli import show

    if log:
        from brenvik.cli import records

        records.begin(log.value)
    declared = _read(project, env)

    def once(store: Store) -> list[Outcome]:
        named, of_feed, wanted = _wanted(store, tables, feed, after, until, again, files, from_start=from_start)
        with _watching(declared) as watch:
            return declared.load(
                named,
                group=group,
                feed=of_feed,
                wanted=wanted,
                label=label,
                if_busy=if_busy.value,
                wait_s=wait,
                watch=watch,
                store=store,
            )

    if every is not None:
        if any((after, until, again, files, from_start)):
            raise _wrong("--every takes what is new; leave --from, --to, --again, --files and --from-start out.")
        _repeat(declared, every, lambda: _within(declared, once, wait_s=_patience(if_busy, wait)), json=json)
        return
    with _opened(declared, read_only=False, wait_s=_patience(if_busy, wait), skip=if_busy) as store:
        outcomes = once(store)
        code = gravest(outcomes, accept_rejects=accept_rejects)
        show.load(declared, outcomes, code, json=json)
    raise typer.Exit(code)


@app.command()
def preview(
    tables: Tables = None,
    group: Group = None,
    feed: FeedName = None,
    everything: Annotated[bool, typer.Option("--all", help="Show unchanged rows too.")] = False,
    wait: Wait = 30.0,
    project: ProjectFile = _HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Say what a load would do, row by row; nothing is written."""
    from brenvik.cli import show

    declared = _read(project, env)
    with _opened(declared, read_only=True, wait_s=wait) as store:
        with _watching(declared) as watch:
            outcomes = declared.load(
                tables, group=group, feed=feed, preview=True, wait_s=wait, watch=watch, store=store
            )
        show.preview(declared, outcomes, everything=everything, json=json)
    raise typer.Exit(gravest(outcomes, accept_rejects=True))


@app.command()
def check(
    tables: Tables = None, wait: Wait = 30.0, project: ProjectFile = _HERE, env: Environment = None, json: Json = False
) -> None:
    """Check the project, its feeds and its tables against each other, and say what each column is."""
    from brenvik.checking import check_table
    from brenvik.cli import show

    declared = _read(project, env)
    with _opened(declared, read_only=True, wait_s=wait) as store:
        findings = [check_table(declared, name, store) for name in tables or declared.tables]
    show.check(declared, findings, json=json)
    raise typer.Exit(WRONG_CALL if any(finding.faults for finding in findings) else DONE)


@app.command()
def runs(
    table: Annotated[str | None, typer.Argument(help="Only runs of this table.", metavar="[TABLE]")] = None,
    last: Annotated[int, typer.Option("--last", help="How many, the newest first.", min=1)] = 20,
    wait: Wait = 30.0,
    project: ProjectFile = _HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """List the runs: what was read, what was done, how it ended."""
    from brenvik.cli import show

    declared = _read(project, env)
    name = declared.table(table).rules.table if table else None
    with _opened(declared, read_only=True, wait_s=wait) as store:
        rows = store.ledger.runs(name, last=last).to_pylist() if store.ledger.exists() else []
    show.runs(declared, rows, json=json)


@app.command()
def status(
    tables: Tables = None,
    group: Group = None,
    wait: Wait = 30.0,
    project: ProjectFile = _HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Show how each table is: its last good run, how far it is behind, and what somebody should look at.

    Ends with 4 when a table is overdue (expected_every), with 5 when a source cannot be reached.
    """
    from brenvik.cli import show_progress
    from brenvik.progress import status_of

    declared = _read(project, env)
    with _opened(declared, read_only=True, wait_s=wait) as store:
        found = [status_of(declared, store, table) for table in declared.chosen(tables, group=group)]
    code = REFUSED if any(each.overdue for each in found) else TEMPORARY if any(each.errors for each in found) else DONE
    show_progress.status(declared, found, code, json=json)
    raise typer.Exit(code)


watermarks_app = typer.Typer(help="How far each feed is, what waits in it, and what the next load takes.")
app.add_typer(watermarks_app, name="watermarks")


@watermarks_app.callback(invoke_without_command=True)
def watermarks(
    context: typer.Context,
    wait: Wait = 30.0,
    project: ProjectFile = _HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Show how far each feed is, what waits in it and for how long, and what the next load takes.

    Ends with 5 when a source cannot be reached.
    """
    if context.invoked_subcommand:
        return
    from brenvik.cli import show_progress
    from brenvik.progress import how_far

    declared = _read(project, env)
    with _opened(declared, read_only=True, wait_s=wait) as store:
        found = [entry for table in declared.tables.values() for entry in how_far(declared, store, table)]
    show_progress.watermarks(declared, found, json=json)
    raise typer.Exit(TEMPORARY if any(entry.error for entry in found) else DONE)


@watermarks_app.command("set")
def set_watermark(
    table: TableName,
    feed: FeedName = None,
    to: Annotated[str | None, typer.Option("--to", help="The new watermark.", metavar="VALUE")] = None,
    by: Annotated[
        str | None, typer.Option("--back", help='How far to set it back, as in "2 days".', metavar="SPAN")
    ] = None,
    reason: Annotated[str | None, typer.Option("--reason", help="Why; kept with the run.", metavar="TEXT")] = None,
    yes: Annotated[bool, typer.Option("--yes", help="Do not ask.")] = False,
    wait: Wait = 30.0,
    project: ProjectFile = _HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Set a watermark forward or back; asks first, and is entered as a run."""
    from brenvik.cli import show_progress
    from brenvik.errors import DeclarationError
    from brenvik.progress import plan_move
    from brenvik.progress import set_watermark as carry_out

    declared = _read(project, env)
    with _opened(declared, read_only=False, wait_s=wait) as store:
        move = plan_move(declared, store, table, feed, to=to, by=by)
        if not yes:
            if not sys.stdin.isatty():
                raise DeclarationError("Nobody can be asked here; say --yes to set the watermark without asking.")
            show_progress.move(declared, move)
            if not typer.confirm("  Set it?", default=False):
                raise typer.Exit(REFUSED)
        run = carry_out(store.ledger, move, reason=reason, wait_s=wait)
    show_progress.moved(declared, move, run, json=json)


@app.command()
def rejects(
    table: Annotated[str | None, typer.Argument(help="Only rejects of this table.", metavar="[TABLE]")] = None,
    wait: Wait = 30.0,
    project: ProjectFile = _HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """List the rows that were refused and are open, each with its reason and its whole content."""
    from brenvik.cli import show

    declared = _read(project, env)
    name = declared.table(table).rules.table if table else None
    with _opened(declared, read_only=True, wait_s=wait) as store:
        rows = store.ledger.rejects(name).to_pylist() if store.ledger.exists() else []
    show.rejects(declared, rows, json=json)


@app.command()
def history(
    table: TableName,
    key: Annotated[list[str], typer.Argument(help="The key; for several columns COLUMN=VALUE each.", metavar="KEY...")],
    wait: Wait = 30.0,
    project: ProjectFile = _HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Show all versions of one key on a time line, and what changed between them."""
    from brenvik.cli import show_history

    declared = _read(project, env)
    rules = declared.table(table).rules
    wanted = _key(rules.natural_key, key)
    with _opened(declared, read_only=True, wait_s=wait) as store:
        rows = store.history(rules, wanted).to_pylist()
    show_history.history(declared, rules, wanted, rows, json=json)
    raise typer.Exit(DONE if rows else FAILED)


@app.command("as-of")
def as_of(
    table: TableName,
    when: Annotated[str, typer.Argument(help="A moment, a day (its first moment) or a number.", metavar="WHEN")],
    limit: Annotated[int, typer.Option("--limit", help="How many rows to show.", min=1)] = 40,
    wait: Wait = 30.0,
    project: ProjectFile = _HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Show the rows that held at a moment."""
    from brenvik.cli import show_history

    declared = _read(project, env)
    rules = declared.table(table).rules
    with _opened(declared, read_only=True, wait_s=wait) as store:
        rows = store.as_of(rules, when)
    show_history.as_of(declared, rules, when, rows, limit=limit, json=json)


@app.command()
def new(
    file: Annotated[Path, typer.Argument(help="A file of the feed (CSV, JSON Lines or Parquet).", metavar="FILE")],
    table: Annotated[str | None, typer.Option("--table", help="The table's name; else taken from the file's.")] = None,
    project: ProjectFile = _HERE,
    show_only: Annotated[bool, typer.Option("--print", help="Print the declaration, write nothing.")] = False,
) -> None:
    """Look at a file and write the declaration of a table that fits it, with comments on what was found."""
    from brenvik.cli import show
    from brenvik.proposing import propose

    proposal = propose(file, table=table, project=project)
    if not show_only:
        proposal.write()
    show.proposal(proposal, written=not show_only)


@app.command()
def demo(
    folder: Annotated[
        Path, typer.Argument(help="Where to put it; an empty or missing folder.", metavar="[FOLDER]")
    ] = Path("brenvik-demo"),
    rows: Annotated[int | None, typer.Option("--rows", help="Run at scale, with this many changes.", min=1000)] = None,
) -> None:
    """Three days of the buoys of Halvorsund, step by step; with --rows at the scale of a warehouse."""
    from brenvik.demo import tour

    tour.run(folder) if rows is None else tour.run_at_scale(folder, rows)


def main() -> None:
    """Runs a command; our own errors become a message and an exit code, a bug keeps its traceback."""
    from brenvik.errors import BrenvikError

    try:
        app(prog_name="brenvik")
    except BrenvikError as error:
        print(f"brenvik: {error}", file=sys.stderr)
        for note in getattr(error, "__notes__", ()):
            print(f"  {note}", file=sys.stderr)
        sys.exit(code_of(error))


def _read(path: Path, environment: str | None) -> Project:
    from brenvik.project_file import read_project

    return read_project(path, environment=environment)


def _wrong(message: str) -> Exception:
    from brenvik.errors import DeclarationError

    return DeclarationError(message)


def _within(project: Project, do: Callable[[Store], list[Outcome]], *, wait_s: float) -> list[Outcome]:
    with project.open(wait_s=wait_s) as store:
        return do(store)


def _repeat(project: Project, every: str, load: Callable[[], list[Outcome]], *, json: bool) -> None:
    """Loads until a signal comes; a load that runs then is brought to its end."""
    import signal
    import threading
    from datetime import timedelta

    from brenvik.cli import show
    from brenvik.core.windows import parse_span
    from brenvik.repeating import load_every

    try:
        often = parse_span(every)
        if not isinstance(often, timedelta) or not often:
            raise ValueError(f"expected a time as in 30s, got {every!r}")
    except ValueError as error:
        raise _wrong(f"--every: {error}") from None
    stop = threading.Event()
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, lambda *_: stop.set())
    for found in load_every(often, load, stop):
        show.round_of_loads(project, found, stopping=stop.is_set(), json=json)


def _wanted(
    store: Store,
    tables: list[str] | None,
    feed: str | None,
    after: str | None,
    until: str | None,
    again: str | None,
    files: str | None,
    *,
    from_start: bool,
) -> tuple[list[str] | None, str | None, Wanted | None]:
    """What a load is asked for instead of what is new, and of which tables and feed."""
    from brenvik.errors import DeclarationError

    window = after is not None or until is not None
    if window + (again is not None) + (files is not None) + from_start > 1:
        raise DeclarationError("Expected one of --from and --to, --again, --files, or --from-start, got several.")
    if not (window or again or files or from_start):
        return tables, feed, None
    from brenvik.feeds.base import Wanted

    if again is None:
        return tables, feed, Wanted(after=after, until=until, everything=from_start, pattern=files)
    if not again.isdigit():
        return tables, feed, Wanted(files=(again,))
    from brenvik.progress import taken_by

    table, name, wanted = taken_by(store, int(again))
    if (tables and tables != [table]) or feed not in {None, name}:
        raise DeclarationError(f"Run {again} was of {table} from {name}; leave table and feed out, or name those.")
    return [table], name, wanted


def _patience(if_busy: IfBusy, wait: float) -> float:
    return wait if if_busy is IfBusy.wait else 0.0


@contextmanager
def _opened(project: Project, *, read_only: bool, wait_s: float, skip: IfBusy = IfBusy.wait) -> Iterator[Store]:
    from brenvik.errors import Busy

    try:
        store = project.open(read_only=read_only, wait_s=wait_s)
    except Busy as error:
        if skip is not IfBusy.skip:
            raise
        print(f"brenvik: skipped; {error}", file=sys.stderr)
        raise typer.Exit(DONE) from None
    with store:
        yield store


@contextmanager
def _watching(project: Project) -> Iterator[Callable[[str, int], None] | None]:
    """On a terminal, a line that says how many rows were read; nothing elsewhere."""
    if not sys.stderr.isatty():
        yield None
        return
    from rich.console import Console

    with Console(stderr=True).status(f"{project.name}: looking for what is new") as status:

        def watch(table: str, rows: int) -> None:
            status.update(f"{table}: {rows:,} rows read")

        yield watch


def _key(columns: tuple[str, ...], given: list[str]) -> Any:
    from brenvik.errors import DeclarationError

    if len(columns) == 1 and len(given) == 1:
        return given[0].removeprefix(f"{columns[0]}=")
    pairs = dict(part.partition("=")[::2] for part in given if "=" in part)
    if set(pairs) != set(columns) or len(pairs) != len(given):
        raise DeclarationError(f"Expected {' '.join(f'{name}=VALUE' for name in columns)}, got {' '.join(given)}.")
    return {name: pairs[name] for name in columns}


if __name__ == "__main__":
    main()
