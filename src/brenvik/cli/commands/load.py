"""brenvik load and brenvik preview."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import suppress
from dataclasses import astuple, dataclass
from enum import StrEnum
from functools import partial
from typing import TYPE_CHECKING, Annotated

import typer

from brenvik.cli.app import (
    HERE,
    Environment,
    FeedName,
    Group,
    Json,
    ProjectFile,
    Tables,
    Wait,
    app,
    opened,
    read,
    watching,
    wrong,
)
from brenvik.cli.exits import most_severe

if TYPE_CHECKING:
    from brenvik.feeds.protocol import LoadRequest
    from brenvik.outcome import Outcome
    from brenvik.project.project import Project
    from brenvik.runs.guards import Allowed
    from brenvik.store import Store


class Log(StrEnum):
    text = "text"
    json = "json"


class IfBusy(StrEnum):
    wait = "wait"
    skip = "skip"
    fail = "fail"


IfLocked = Annotated[IfBusy, typer.Option("--if-busy", help="What to do if the table is locked by another run.")]
After = Annotated[
    str | None,
    typer.Option("--from", help="Load what is above this value again; the watermark stays.", metavar="VALUE"),
]
Until = Annotated[str | None, typer.Option("--to", help="Load only up to this value.", metavar="VALUE")]
Again = Annotated[
    str | None, typer.Option("--again", help="Load what this run loaded, or this file, again.", metavar="RUN|FILE")
]
FromStart = Annotated[
    bool, typer.Option("--from-start", help="Load everything again; only rows that differ are changed.")
]
Full = Annotated[
    bool, typer.Option("--full", help="Read the whole source, whatever its watermark; keys that it lacks are deleted.")
]
Files = Annotated[
    str | None, typer.Option("--files", help="Load only new files that match this pattern.", metavar="GLOB")
]
AllowDeletes = Annotated[
    int | None, typer.Option("--allow-deletes", help="Allow this many deletes, once.", min=0, metavar="N")
]
AllowChanges = Annotated[
    int | None, typer.Option("--allow-changes", help="Allow this many changed rows, once.", min=0, metavar="N")
]
AllowType0 = Annotated[
    int | None,
    typer.Option("--allow-type-0", help="Allow this many changes of type 0 columns, once.", min=0, metavar="N"),
]
Quiet = Annotated[
    bool, typer.Option("--quiet", help="Print nothing about tables without new data; nothing at all if none has any.")
]
AcceptRejects = Annotated[
    bool, typer.Option("--accept-rejects", help="Exit with 0 even if rows were rejected or deletes are pending.")
]
Every = Annotated[
    str | None,
    typer.Option("--every", help="Load repeatedly at this interval, as in 30s, until stopped.", metavar="DURATION"),
]
Label = Annotated[str | None, typer.Option("--label", help="A label recorded with the runs.", metavar="TEXT")]
At = Annotated[
    str | None,
    typer.Option("--at", help="The time of rows that have none, as in 2024-05-31. By default now.", metavar="TIME"),
]
LogForm = Annotated[Log | None, typer.Option("--log", help="Write log records to stderr.")]


@app.command()
def load(
    tables: Tables = None,
    group: Group = None,
    feed: FeedName = None,
    after: After = None,
    until: Until = None,
    again: Again = None,
    from_start: FromStart = False,
    full: Full = False,
    files: Files = None,
    at: At = None,
    allow_deletes: AllowDeletes = None,
    allow_changes: AllowChanges = None,
    allow_type_0: AllowType0 = None,
    quiet: Quiet = False,
    if_busy: IfLocked = IfBusy.wait,
    wait: Wait = 30.0,
    accept_rejects: AcceptRejects = False,
    every: Every = None,
    label: Label = None,
    log: LogForm = None,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Load new data into the tables.

    Exit code 0: done; 1: a table failed; 2: wrong call or project; 3: rows were rejected or deletes are pending; 4: a load was
    blocked and needs approval; 5: temporary, try again later.
    """
    from brenvik.cli.render.load import show_loads
    from brenvik.runs.guards import Allowed
    from brenvik.runs.load import LoadOptions

    _begin_log(log)
    declared = read(project, env)
    asked = _Asked(after, until, again, files, from_start, full)
    allowed = Allowed(allow_deletes, allow_changes, allow_type_0)
    patience = wait if if_busy is IfBusy.wait else 0.0
    do = partial(declared.load, group=group, if_busy=if_busy.value)

    def once(store: Store) -> list[Outcome]:
        named, of_feed, request = asked.request(store, tables, feed)
        options = LoadOptions(request=request, at=at, label=label, wait_s=wait, allowed=allowed)
        with watching(declared) as on_progress:
            return do(named, feed=of_feed, options=options, on_progress=on_progress, store=store)

    _check_words(tables, allowed, at, every, asked)
    if every is not None:
        _repeat(declared, every, lambda: _within(declared, once, wait_s=patience), json=json)
        return
    with opened(declared, read_only=False, wait_s=patience, skip=if_busy is IfBusy.skip) as store:
        outcomes = once(store)
        code = most_severe(outcomes, accept_rejects=accept_rejects)
        show_loads(declared, outcomes, code, json=json, quiet=quiet)
    raise typer.Exit(code)


def _begin_log(form: Log | None) -> None:
    if form:
        from brenvik.cli import log

        log.begin(form.value)


def _check_words(
    tables: list[str] | None,
    allowed: Allowed,
    at: str | None,
    every: str | None,
    asked: _Asked,
) -> None:
    """Raises DeclarationError for options that cannot be combined."""
    if any(number is not None for number in astuple(allowed)) and len(tables or ()) != 1:
        raise wrong(
            "--allow-deletes, --allow-changes and --allow-type-0 apply to one table; name it: brenvik load TABLE"
        )
    _check_at(tables, at)
    if every is not None and at is not None:
        raise wrong("--every loads what is new at its time; it cannot be combined with --at.")
    if every is not None and asked:
        raise wrong(
            "--every loads new data only; it cannot be combined with --from, --to, --again, --files, --from-start or "
            "--full."
        )


def _check_at(tables: list[str] | None, at: str | None) -> None:
    if at is not None and len(tables or ()) != 1:
        raise wrong("--at applies to one table; name it: brenvik load TABLE --at TIME")


@app.command()
def preview(
    tables: Tables = None,
    group: Group = None,
    feed: FeedName = None,
    at: At = None,
    full: Full = False,
    everything: Annotated[bool, typer.Option("--all", help="Include unchanged rows.")] = False,
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Show what a load would do, row by row; nothing is written."""
    from brenvik.cli.render.preview import show_previews
    from brenvik.feeds.protocol import LoadRequest
    from brenvik.runs.load import LoadOptions

    _check_at(tables, at)
    declared = read(project, env)
    with opened(declared, read_only=True, wait_s=wait) as store:
        with watching(declared) as on_progress:
            request = LoadRequest(full=True) if full else None
            options = LoadOptions(request=request, at=at, preview=True, wait_s=wait)
            outcomes = declared.load(
                tables, group=group, feed=feed, options=options, on_progress=on_progress, store=store
            )
        do_it = f"load {outcomes[0].table} --full" if full else None
        show_previews(declared, outcomes, everything=everything, json=json, do_it=do_it)
    raise typer.Exit(most_severe(outcomes, accept_rejects=True))


def _within(project: Project, do: Callable[[Store], list[Outcome]], *, wait_s: float) -> list[Outcome]:
    with project.open(wait_s=wait_s) as store:
        return do(store)


def _repeat(project: Project, every: str, load: Callable[[], list[Outcome]], *, json: bool) -> None:
    """Loads until a signal arrives; a load in progress is completed."""
    import signal
    import threading
    from datetime import timedelta

    from brenvik.cli.render.load import show_round
    from brenvik.model.watermarks import parse_span
    from brenvik.project.repeat import load_every

    often = None
    with suppress(ValueError):
        often = parse_span(every)
    if not isinstance(often, timedelta) or not often:
        raise wrong(f'--every: expected an interval as in 30s or "5 minutes", got {every!r}')
    stop = threading.Event()
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, lambda *_: stop.set())
    for found in load_every(often, load, stop):
        show_round(project, found, stopping=stop.is_set(), json=json)


@dataclass(frozen=True)
class _Asked:
    """What a load is asked to read instead of new data."""

    after: str | None = None
    until: str | None = None
    again: str | None = None
    files: str | None = None
    from_start: bool = False
    full: bool = False

    def __bool__(self) -> bool:
        return self != _Asked()

    def request(
        self, store: Store, tables: list[str] | None, feed: str | None
    ) -> tuple[list[str] | None, str | None, LoadRequest | None]:
        """From which tables and feed, and what."""
        from brenvik.errors import DeclarationError
        from brenvik.feeds.protocol import LoadRequest

        by_window = self.after is not None or self.until is not None
        if by_window + (self.again is not None) + (self.files is not None) + self.from_start + self.full > 1:
            raise DeclarationError(
                "--from and --to, --again, --files, --from-start and --full cannot be combined; use one of them."
            )
        if not self:
            return tables, feed, None
        if self.again is None:
            every, full = self.from_start, self.full
            request = LoadRequest(self.after, self.until, everything=every, pattern=self.files, full=full)
            return tables, feed, request
        if not self.again.isdigit():
            return tables, feed, LoadRequest(files=(self.again,))
        from brenvik.project.status import loaded_by

        table, name, request = loaded_by(store, int(self.again))
        if (tables and tables != [table]) or feed not in {None, name}:
            raise DeclarationError(
                f"Run {self.again} was of {table} from {name}; name that table and feed, or neither."
            )
        return [table], name, request
