"""A project: the file ``brenvik.toml`` with a store, tables and their feeds."""

from __future__ import annotations

import os
import re
import tomllib
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from brenvik.core.screen import Operations
from brenvik.errors import BrenvikError, Busy, ProjectError, Refused, RulesError
from brenvik.outcome import Outcome
from brenvik.rules import TableRules
from brenvik.store import Store, open_store

if TYPE_CHECKING:
    from brenvik.feeds.files import FileSource
    from brenvik.stores.base import IfBusy

FILE = "brenvik.toml"
_ENVIRONMENT = re.compile(r"\$\{([^}]*)\}")
_PROJECT_KEYS = ("name", "store", "time_zone", "table")
_FEED_KEYS = ("kind", "files", "operation")
_CODES = ("column", "insert", "update", "delete")


@dataclass(frozen=True)
class FeedRules:
    """What a person declares about a feed of files."""

    name: str
    kind: str
    files: str
    operations: Operations | None

    def source(self, folder: Path) -> FileSource:
        from brenvik.feeds.files import FileSource

        return FileSource(self.files, folder=folder, name=self.name, kind=self.kind)


@dataclass(frozen=True)
class ProjectTable:
    rules: TableRules
    feeds: tuple[FeedRules, ...]


@dataclass(frozen=True)
class Project:
    """A project as its file declares it. Paths in it are relative to ``folder``, where the file stands."""

    name: str
    folder: Path
    store: str
    tables: Mapping[str, ProjectTable]

    def open(self, *, read_only: bool = False, wait_s: float = 30.0) -> Store:
        """The project's store; see ``brenvik.open_store``."""
        return open_store(self.store, read_only=read_only, wait_s=wait_s)

    def table(self, name: str) -> ProjectTable:
        """A table by its name. Raises ProjectError with the names that there are."""
        if name not in self.tables:
            raise ProjectError(f"{self.name} has no table {name!r}; it has {', '.join(self.tables)}.")
        return self.tables[name]

    def load(
        self,
        tables: Iterable[str] | None = None,
        *,
        preview: bool = False,
        if_busy: IfBusy = "wait",
        wait_s: float = 30.0,
        watch: Callable[[str, int], None] | None = None,
        store: Store | None = None,
    ) -> list[Outcome]:
        """Loads tables (all, in the order of the file) from each of their feeds.

        One table that fails keeps no other from loading: its outcome has the state ``failed``, ``refused``, ``busy`` or
        ``skipped`` and the error. ``if_busy`` says what to do while another load holds a table or the store:
        wait up to ``wait_s`` seconds, skip the table, or fail at once. ``watch`` is told the table and the rows read.
        """
        chosen = [self.table(name) for name in (self.tables if tables is None else tables)]
        patience = wait_s if if_busy == "wait" else 0.0
        if store is not None:
            return list(self._load(store, chosen, preview=preview, if_busy=if_busy, wait_s=patience, watch=watch))
        with self.open(read_only=preview, wait_s=patience) as opened:
            return list(self._load(opened, chosen, preview=preview, if_busy=if_busy, wait_s=patience, watch=watch))

    def _load(
        self,
        store: Store,
        tables: Sequence[ProjectTable],
        *,
        preview: bool,
        if_busy: IfBusy,
        wait_s: float,
        watch: Callable[[str, int], None] | None,
    ) -> Iterable[Outcome]:
        for table in tables:
            for feed in table.feeds:
                name = table.rules.table
                try:
                    yield store.load_from(
                        table.rules,
                        feed.source(self.folder),
                        operations=feed.operations,
                        preview=preview,
                        explain=True if preview else None,
                        wait_s=wait_s,
                        watch=(lambda rows, name=name: watch(name, rows)) if watch else None,  # type: ignore[misc]
                    )
                except BrenvikError as error:
                    state = "failed"
                    if isinstance(error, Refused):
                        state = "refused"
                    elif isinstance(error, Busy):
                        state = "skipped" if if_busy == "skip" else "busy"
                    yield Outcome.stopped(name, feed.name, state, error)


def read_project(path: str | Path = FILE) -> Project:
    """The project that a file declares.

    ``${NAME}`` in any text stands for an environment variable. Raises ProjectError with every fault of the file.
    """
    path = Path(path)
    try:
        text = path.read_text(encoding="utf-8")
        declared = tomllib.loads(text)
    except FileNotFoundError:
        raise ProjectError(
            f"There is no {path}. Name the project's file with --project, or make one: brenvik new FILE"
        ) from None
    except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError) as error:
        raise ProjectError(f"{path} cannot be read: {error}") from error
    faults: list[str] = []
    declared = _with_environment(declared, "", faults)
    faults += [
        f"{key}: is no key of a project; known are {', '.join(_PROJECT_KEYS)}"
        for key in declared
        if key not in _PROJECT_KEYS
    ]
    store = declared.get("store")
    if not isinstance(store, str):
        faults.append('store: is missing; expected an address as in store = "duckdb:coast.duckdb"')
        store = ""
    tables = {}
    found = declared.get("table", {})
    if not isinstance(found, dict) or not found:
        faults.append("table: no table is declared; expected at least one [table.NAME]")
        found = {}
    for name, entry in found.items():
        tables[name] = _table(name, entry, str(declared.get("time_zone", "UTC")), faults)
    if faults:
        raise ProjectError(f"{path} has faults:", faults)
    folder = path.resolve().parent
    return Project(
        name=str(declared.get("name", folder.name)),
        folder=folder,
        store=_beside(store, folder),
        tables={name: table for name, table in tables.items() if table},
    )


def _table(name: str, entry: Any, time_zone: str, faults: list[str]) -> ProjectTable | None:
    if not isinstance(entry, dict):
        faults.append(f"table.{name}: expected a table of keys, got {entry!r}")
        return None
    declared = {key: value for key, value in entry.items() if key != "feed"}
    rules = None
    try:
        rules = TableRules(name, **{"time_zone": time_zone, **declared})
    except RulesError as error:
        faults += [f"table.{name}: {fault}" for fault in error.faults]
    feeds = entry.get("feed", {})
    if not isinstance(feeds, dict) or not feeds:
        faults.append(f"table.{name}: has no feed; expected at least one [table.{name}.feed.NAME]")
        feeds = {}
    made = [_feed(f"table.{name}.feed.{feed}", feed, given, faults) for feed, given in feeds.items()]
    return ProjectTable(rules, tuple(feed for feed in made if feed)) if rules else None


def _feed(place: str, name: str, given: Any, faults: list[str]) -> FeedRules | None:
    if not isinstance(given, dict):
        faults.append(f"{place}: expected a table of keys, got {given!r}")
        return None
    before = len(faults)
    faults += [
        f"{place}.{key}: is no key of a feed; known are {', '.join(_FEED_KEYS)}"
        for key in given
        if key not in _FEED_KEYS
    ]
    kind, files, operation = given.get("kind"), given.get("files"), given.get("operation")
    if kind not in {"changes", "upserts"}:
        faults.append(f"{place}.kind: is {kind!r}; expected 'changes' or 'upserts'")
    if not isinstance(files, str) or not files:
        faults.append(f'{place}.files: expected a pattern as in files = "inbox/buoy_*.csv", got {files!r}')
    operations = None
    if kind == "changes" and operation is None:
        faults.append(
            f'{place}.operation: is missing; a feed of changes needs operation = "op" or {{ column = "op", … }}'
        )
    elif kind == "upserts" and operation is not None:
        faults.append(f"{place}.operation: a feed of upserts has no operations; say kind = 'changes' or leave it out")
    elif operation is not None:
        operations = _operations(f"{place}.operation", operation, faults)
    return FeedRules(name, str(kind), str(files), operations) if len(faults) == before else None


def _operations(place: str, given: Any, faults: list[str]) -> Operations | None:
    if isinstance(given, str):
        return Operations(given)
    if not isinstance(given, dict) or not isinstance(given.get("column"), str):
        faults.append(
            f'{place}: expected the name of a column, or {{ column = "op", insert = ["I"], … }}, got {given!r}'
        )
        return None
    faults += [f"{place}.{key}: is unknown; known are {', '.join(_CODES)}" for key in given if key not in _CODES]
    codes: dict[str, tuple[str, ...]] = {}
    for key in ("insert", "update", "delete"):
        value = given.get(key)
        if value is None:
            continue
        value = [value] if isinstance(value, str) else value
        if not isinstance(value, list) or not all(isinstance(code, str) for code in value):
            faults.append(f"{place}.{key}: expected a list of codes, got {given[key]!r}")
            continue
        codes[key] = tuple(value)
    made = Operations(given["column"], **codes)
    both = sorted(set(made.keeping) & set(made.deleting))
    if both:
        faults.append(f"{place}: {', '.join(both)} would both keep and delete a row")
    return made


def _with_environment(value: Any, place: str, faults: list[str]) -> Any:
    """The declaration with ``${NAME}`` filled in everywhere."""
    if isinstance(value, dict):
        return {key: _with_environment(inner, f"{place}.{key}".lstrip("."), faults) for key, inner in value.items()}
    if isinstance(value, list):
        return [_with_environment(inner, place, faults) for inner in value]
    if not isinstance(value, str):
        return value

    def fill(match: re.Match[str]) -> str:
        found = os.environ.get(match[1])
        if found is None:
            faults.append(f"{place}: the environment variable {match[1]!r} is not set")
        return found or ""

    return _ENVIRONMENT.sub(fill, value)


def _beside(store: str, folder: Path) -> str:
    """A store in a file stands beside the project's file unless its path is absolute."""
    kind, _, place = store.partition(":")
    return f"{kind}:{folder / place}" if kind == "duckdb" and place not in {"", ":memory:"} else store
