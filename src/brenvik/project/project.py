"""A project: a store, tables and their feeds, loaded together. Read by ``project.file``."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from datetime import timedelta
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from brenvik.errors import BrenvikError, Busy, DeclarationError, DependencyFailed, ProjectError, UnreadableFile
from brenvik.feeds.protocol import skip_unreadable
from brenvik.merge import sql
from brenvik.model.feeds import Connection, DatabaseFeed, FeedRules
from brenvik.model.rules import TableRules
from brenvik.model.suggest import suggestion
from brenvik.outcome import Outcome, Outcomes
from brenvik.runs.load import LoadOptions
from brenvik.store import Store, open_store

if TYPE_CHECKING:
    from brenvik.engines.protocol import IfBusy
    from brenvik.feeds.protocol import ProjectSource


@dataclass(frozen=True)
class ProjectTable:
    """A table with its feeds.

    ``after`` are the tables it depends on, ``groups`` the groups it is loaded with; a table without a successful run for longer
    than ``expected_every`` is overdue.
    """

    rules: TableRules
    feeds: tuple[FeedRules, ...]
    after: tuple[str, ...] = ()
    groups: tuple[str, ...] = ()
    expected_every: timedelta | None = None


@dataclass(frozen=True)
class Project:
    """A project as declared in its file. Paths are relative to ``folder``, the folder of the file."""

    name: str
    folder: Path
    store: str = field(repr=False)  # may hold a password
    tables: Mapping[str, ProjectTable]
    connections: Mapping[str, Connection] = field(default_factory=dict, repr=False)
    environment: str | None = None
    memory_limit: str | None = None

    @property
    def title(self) -> str:
        """The name for headings, with the environment if there is one."""
        return f"{self.name} ({self.environment})" if self.environment else self.name

    def chosen(self, tables: Iterable[str] | None = None, *, group: str | None = None) -> list[ProjectTable]:
        """Tables by name (or one), otherwise those of a group, otherwise all; each after those it depends on.

        Raises ProjectError for names that the project does not have.
        """
        names = [tables] if isinstance(tables, str) else tables
        named = None if names is None else {self.table(name).rules.table for name in names}
        found = [
            t for name, t in self.tables.items() if (named is None or name in named) and group in {None, *t.groups}
        ]
        if not found:
            there = sorted({each for t in self.tables.values() for each in t.groups})
            raise ProjectError(
                f"{self.title} has no table in group {group!r}; valid groups are {', '.join(there) or 'none'}."
            )
        return found

    def source(self, table: ProjectTable, feed: FeedRules, store: Store) -> ProjectSource:
        """A feed of a table, ready to be opened."""
        from brenvik.feeds.opening import source_of

        reads = [self.tables[name].rules for name in self.tables_read(feed, store)]
        return source_of(feed, table.rules, self.connections, folder=self.folder, engine=store.engine, reads=reads)

    def tables_read(self, feed: FeedRules, store: Store) -> list[str]:
        """The tables of the project that a feed reads in the store, by name."""
        if not isinstance(feed, DatabaseFeed) or feed.connection:
            return []
        read = {feed.source_table} if feed.source_table else sql.tables_of(str(feed.query), store.engine.dialect)
        return [name for name, other in self.tables.items() if other.rules.stored_as in read]

    def tables_that_read(self, table: str, store: Store) -> list[str]:
        """The tables of the project with a feed that reads a table of it in the store, by name."""
        return [
            name
            for name, other in self.tables.items()
            if any(table in self.tables_read(feed, store) for feed in other.feeds)
        ]

    def feed(self, table: str, name: str | None = None) -> tuple[ProjectTable, FeedRules]:
        """A feed of a table; its only one when no name is given. Raises ProjectError with the valid names."""
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
        return open_store(self.store, read_only=read_only, wait_s=wait_s, memory_limit=self.memory_limit)

    def table(self, name: str) -> ProjectTable:
        """A table by name. Raises ProjectError with the valid names."""
        if name not in self.tables:
            near = suggestion(name, self.tables) or f"; it has {', '.join(self.tables)}."
            raise ProjectError(f"{self.name} has no table {name!r}{near}")
        return self.tables[name]

    def load(
        self,
        tables: Iterable[str] | None = None,
        *,
        group: str | None = None,
        feed: str | None = None,
        options: LoadOptions | None = None,
        if_busy: IfBusy = "wait",
        on_progress: Callable[[str, int], None] | None = None,
        store: Store | None = None,
    ) -> Outcomes:
        """Loads tables (by name, one or several; of a group; or all) from each of their feeds, in the order of the file and of
        ``after``.

        A table that fails stops only the tables that depend on it, which are ``skipped``: their outcomes have the state
        ``failed``, ``blocked``, ``busy`` or ``skipped`` and the error. ``if_busy`` says what to do while another run has locked a
        table or the store: wait as long as the options say, skip the table, or fail at once. ``on_progress`` is called with the
        table and the number of rows read.

        ``feed`` names one feed of one table; only then can the ``options`` request something other than new data. A feed with
        several windows or extracts waiting returns an outcome for each.
        """
        chosen = self.chosen(tables, group=group)
        pairs = [(table, each) for table in chosen for each in table.feeds if feed in {None, each.name}]
        if not pairs:
            raise ProjectError(f"No table of {', '.join(table.rules.table for table in chosen)} has a feed {feed!r}.")
        options = options or LoadOptions()
        if options.request and len(pairs) > 1:
            named = ", ".join(f"{table.rules.table} {each.name}" for table, each in pairs)
            raise DeclarationError(
                f"Expected one feed to load again, got {len(pairs)} ({named}); name the table and --feed."
            )
        if if_busy != "wait":
            options = replace(options, wait_s=0.0)

        def work(opened: Store) -> Outcomes:
            def one(table: ProjectTable, each: FeedRules) -> Iterable[Outcome]:
                name = table.rules.table
                watch = partial(on_progress, name) if on_progress else None
                return self._load(opened, table, each, replace(options, watch=watch), if_busy=if_busy)

            return _in_order(pairs, one)

        if store is not None:
            return work(store)
        with self.open(read_only=options.preview, wait_s=options.wait_s) as opened:
            return work(opened)

    def _load(
        self, store: Store, table: ProjectTable, feed: FeedRules, options: LoadOptions, *, if_busy: IfBusy
    ) -> Iterator[Outcome]:
        name, request = table.rules.table, options.request
        options = replace(
            options,
            operations=feed.operations,
            columns=feed.columns,
            extract_scope=feed.extract_scope,
            explain=True if options.preview else options.explain,
        )
        try:
            source = self.source(table, feed, store)
            while True:
                try:
                    outcome = store.table(table.rules).load_from(source, options)
                except UnreadableFile as error:
                    if not (error.moved_to or (options.preview and skip_unreadable(source, error))):
                        raise
                    yield Outcome.stopped(name, feed.name, error)
                    continue
                yield outcome
                if options.preview or not outcome.more:
                    return
                if options.request and outcome.window:
                    options = replace(options, request=replace(options.request, after=str(outcome.window.high)))
        except BrenvikError as error:
            if request and isinstance(error, DeclarationError):
                raise
            skipped = isinstance(error, Busy) and if_busy == "skip"
            yield Outcome.stopped(name, feed.name, error, state="skipped" if skipped else None)


def _in_order(
    pairs: Iterable[tuple[ProjectTable, FeedRules]], load: Callable[[ProjectTable, FeedRules], Iterable[Outcome]]
) -> Outcomes:
    """The outcomes of the feeds of tables, one by one; a table is skipped when one that it depends on failed."""
    done = Outcomes()
    stopped: set[str] = set()
    for table, feed in pairs:
        if before := [other for other in table.after if other in stopped]:
            error = DependencyFailed(f"skipped: it depends on {', '.join(before)}, which failed")
            done.append(Outcome.stopped(table.rules.table, feed.name, error, state="skipped"))
        else:
            done += load(table, feed)
        if done[-1].error:
            stopped.add(table.rules.table)
    return done
