"""What all commands share: the app, common options, and opening a project and its store."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer
from typer.core import TyperGroup

from brenvik.cli.exits import DONE
from brenvik.cli.render.characters import visible

if TYPE_CHECKING:
    from brenvik.project.project import Project
    from brenvik.store import Store


class FirstOf(TyperGroup):
    """A group of commands whose first one is the default: ``rejects buoy`` means ``rejects list buoy``."""

    def parse_args(self, ctx: Any, args: list[str]) -> list[str]:
        if not args or args[0] not in {*self.commands, "--help"}:
            args = [next(iter(self.commands)), *args]
        return super().parse_args(ctx, args)


app = typer.Typer(
    help="Brenvik applies change feeds to warehouse tables: exactly once, with history, every decision explained.",
    no_args_is_help=True,
    add_completion=False,
    pretty_exceptions_enable=False,
    rich_markup_mode=None,
)
deletes_app = typer.Typer(help="Deletes that await approval: list, approve or discard them.")
rejects_app = typer.Typer(cls=FirstOf, help="Rejected rows: list, export, retry or discard them.")
watermarks_app = typer.Typer(
    help="How far each feed has been loaded, what is waiting in it, and what the next load will read."
)

ProjectFile = Annotated[Path, typer.Option("--project", help="The project file.", metavar="FILE")]
Environment = Annotated[
    str | None, typer.Option("--env", help="The environment of the project; by default BRENVIK_ENV.", metavar="NAME")
]
Group = Annotated[str | None, typer.Option("--group", help="Only the tables of this group.", metavar="NAME")]
Json = Annotated[bool, typer.Option("--json", help="Print JSON for programs.")]
Wait = Annotated[
    float,
    typer.Option("--wait", help="How many seconds to wait for a locked store or table.", metavar="SECONDS", min=0),
]
FeedName = Annotated[str | None, typer.Option("--feed", help="The feed, if the table has several.", metavar="NAME")]
Tables = Annotated[list[str] | None, typer.Argument(help="The tables; by default all.", metavar="TABLE")]
TableName = Annotated[str, typer.Argument(help="The table.", metavar="TABLE")]
Known = Annotated[int | None, typer.Option("--known-at", help="As known after this run.", metavar="RUN")]
Without = Annotated[
    list[int] | None, typer.Option("--without", help="As if this run had never been; can be repeated.", metavar="RUN")
]
Preview = Annotated[bool, typer.Option("--preview", help="Show what would change; write nothing.")]
All = Annotated[bool, typer.Option("--all", help="All of them.")]
KeyValues = Annotated[
    list[str], typer.Argument(help="The key; if it has several columns, COLUMN=VALUE for each.", metavar="KEY")
]
Yes = Annotated[bool, typer.Option("--yes", help="Do not ask for confirmation.")]
Reason = Annotated[str | None, typer.Option("--reason", help="Why; recorded with the run.", metavar="TEXT")]
HERE = Path("brenvik.toml")


def read(path: Path, environment: str | None) -> Project:
    from brenvik.project.file import read_project

    return read_project(path, environment=environment)


def wrong(message: str) -> Exception:
    from brenvik.errors import DeclarationError

    return DeclarationError(message)


@contextmanager
def opened(project: Project, *, read_only: bool, wait_s: float, skip: bool = False) -> Iterator[Store]:
    from brenvik.errors import Busy

    try:
        store = project.open(read_only=read_only, wait_s=wait_s)
    except Busy as error:
        if not skip:
            raise
        print(f"brenvik: skipped; {visible(str(error))}", file=sys.stderr)
        raise typer.Exit(DONE) from None
    with store:
        yield store


@contextmanager
def reading(path: Path, environment: str | None, wait_s: float) -> Iterator[tuple[Project, Store]]:
    """A project and its store, opened read-only."""
    project = read(path, environment)
    with opened(project, read_only=True, wait_s=wait_s) as store:
        yield project, store


@contextmanager
def watching(project: Project) -> Iterator[Callable[[str, int], None] | None]:
    """On a terminal, a line with the number of rows read so far; elsewhere nothing."""
    if not sys.stderr.isatty():
        yield None
        return
    from rich.console import Console

    with Console(stderr=True).status(f"{project.name}: looking for new data") as status:

        def watch(table: str, rows: int) -> None:
            status.update(f"{table}: {rows:,} rows read")

        yield watch


def key_of(columns: tuple[str, ...], given: list[str]) -> Any:
    from brenvik.errors import DeclarationError

    if not columns:  # the library says why there is no such key
        return given[0]
    if len(columns) == 1 and len(given) == 1:
        return given[0].removeprefix(f"{columns[0]}=")
    pairs = dict(part.partition("=")[::2] for part in given if "=" in part)
    if set(pairs) != set(columns) or len(pairs) != len(given):
        raise DeclarationError(f"Expected {' '.join(f'{name}=VALUE' for name in columns)}, got {' '.join(given)}.")
    return {name: pairs[name] for name in columns}
