"""A project: the file ``brenvik.toml`` with a store, tables and their feeds."""

from __future__ import annotations

import os
import re
import tomllib
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from brenvik.errors import BrenvikError, Busy, DeclarationError, ProjectError, Refused, RulesError
from brenvik.feed_rules import ConnectionRules, FeedRules, FileFeed, read_feed
from brenvik.outcome import Outcome
from brenvik.rules import TableRules
from brenvik.store import Store, open_store

if TYPE_CHECKING:
    from brenvik.feeds.base import StandingSource, Wanted
    from brenvik.stores.base import IfBusy

FILE = "brenvik.toml"
_ENVIRONMENT = re.compile(r"\$\{([^}]*)\}")
_PROJECT_KEYS = ("name", "store", "time_zone", "connections", "table")


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
    connections: Mapping[str, ConnectionRules] = field(default_factory=dict, repr=False)

    def source(self, table: ProjectTable, feed: FeedRules) -> StandingSource:
        """A feed of a table, ready to be opened."""
        return feed.source(self.folder, table.rules, self.connections)

    def feed(self, table: str, name: str | None = None) -> tuple[ProjectTable, FeedRules]:
        """A feed of a table; its only one when no name is given. Raises ProjectError with the names that there are."""
        found = self.table(table)
        there = {feed.name: feed for feed in found.feeds}
        if name is None and len(there) == 1:
            return found, found.feeds[0]
        if name not in there:
            asked = "has several feeds; name one with --feed" if name is None else f"has no feed {name!r}"
            raise ProjectError(f"Table {table} {asked}: {', '.join(there)}.")
        return found, there[name]

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
        feed: str | None = None,
        wanted: Wanted | None = None,
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

        ``feed`` names one feed of one table, and ``wanted`` asks it for something else than what is new. A feed whose
        windows are cut into pieces gives an outcome for each.
        """
        chosen = [self.table(name) for name in (self.tables if tables is None else tables)]
        pairs = [(table, each) for table in chosen for each in table.feeds if feed in {None, each.name}]
        if not pairs:
            raise ProjectError(f"No table of {', '.join(table.rules.table for table in chosen)} has a feed {feed!r}.")
        if wanted and len(pairs) > 1:
            told = ", ".join(f"{table.rules.table} {each.name}" for table, each in pairs)
            raise DeclarationError(
                f"Expected one feed to take again from, got {len(pairs)} ({told}); name table and --feed."
            )
        patience = wait_s if if_busy == "wait" else 0.0

        def work(opened: Store) -> list[Outcome]:
            done: list[Outcome] = []
            for table, each in pairs:
                done += self._load(
                    opened, table, each, wanted, preview=preview, if_busy=if_busy, wait_s=patience, watch=watch
                )
            return done

        if store is not None:
            return work(store)
        with self.open(read_only=preview, wait_s=patience) as opened:
            return work(opened)

    def _load(
        self,
        store: Store,
        table: ProjectTable,
        feed: FeedRules,
        wanted: Wanted | None,
        *,
        preview: bool,
        if_busy: IfBusy,
        wait_s: float,
        watch: Callable[[str, int], None] | None,
    ) -> Iterator[Outcome]:
        name = table.rules.table
        try:
            while True:
                outcome = store.load_from(
                    table.rules,
                    self.source(table, feed),
                    operations=feed.operations,
                    wanted=wanted,
                    preview=preview,
                    explain=True if preview else None,
                    wait_s=wait_s,
                    watch=(lambda rows: watch(name, rows)) if watch else None,
                )
                yield outcome
                if preview or not (outcome.window and outcome.window.more):
                    return
                if wanted:
                    wanted = replace(wanted, after=str(outcome.window.high))
        except BrenvikError as error:
            if wanted and isinstance(error, DeclarationError):
                raise
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
    connections = _connections(declared.get("connections", {}), faults)
    tables = {}
    found = declared.get("table", {})
    if not isinstance(found, dict) or not found:
        faults.append("table: no table is declared; expected at least one [table.NAME]")
        found = {}
    for name, entry in found.items():
        tables[name] = _table(name, entry, str(declared.get("time_zone", "UTC")), connections, faults)
    faults += _shared_files([table for table in tables.values() if table])
    if faults:
        raise ProjectError(f"{path} has faults:", faults)
    folder = path.resolve().parent
    return Project(
        name=str(declared.get("name", folder.name)),
        folder=folder,
        store=_beside(store, folder),
        tables={name: table for name, table in tables.items() if table},
        connections=connections,
    )


def _shared_files(tables: list[ProjectTable]) -> Iterator[str]:
    """Files that one feed would move away from under another."""
    feeds = [(f"table.{t.rules.table}.feed.{f.name}", f) for t in tables for f in t.feeds if isinstance(f, FileFeed)]
    for place, feed in feeds:
        others = [other for other, each in feeds if other != place and each.files == feed.files]
        if others and feed.then != "keep":
            yield f"{place}.taken_files: {others[0]} reads the same files, which would miss them; leave taken_files out"


def _connections(given: Any, faults: list[str]) -> dict[str, ConnectionRules]:
    if not isinstance(given, dict):
        faults.append(f'connections: expected entries as in registry = "${{REGISTRY_URL}}", got {given!r}')
        return {}
    made = {}
    for name, entry in given.items():
        parts = {"url": entry} if isinstance(entry, str) else entry
        if not isinstance(parts, dict) or not all(isinstance(value, str) for value in parts.values()):
            faults.append(f"connections.{name}: expected a URL, or a table with url, user and password")
        elif "url" not in parts or (odd := sorted(set(parts) - {"url", "user", "password"})):
            wrong = "url is missing" if "url" not in parts else f"{', '.join(odd)}: unknown"
            faults.append(f"connections.{name}: {wrong}; expected url, and if need be user and password")
        else:
            made[name] = ConnectionRules(name, **parts)
    return made


def _table(
    name: str, entry: Any, time_zone: str, connections: Mapping[str, ConnectionRules], faults: list[str]
) -> ProjectTable | None:
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
    made = [read_feed(f"table.{name}.feed.{feed}", feed, given, connections, faults) for feed, given in feeds.items()]
    return ProjectTable(rules, tuple(feed for feed in made if feed)) if rules else None


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
