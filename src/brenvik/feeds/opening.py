"""From what a person declares about a feed to the feed itself."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from brenvik.feeds.reading import FIRST_SHEET, Dialect, Layout, ReadOptions, Record, Sheet
from brenvik.model.feeds import Connection, FeedRules, FileFeed
from brenvik.model.rules import SYSTEM_COLUMNS, TableRules

if TYPE_CHECKING:
    from brenvik.engines.protocol import Engine
    from brenvik.feeds.folders import Folder
    from brenvik.feeds.protocol import ProjectSource


def source_of(
    feed: FeedRules,
    rules: TableRules,
    connections: Mapping[str, Connection],
    *,
    folder: Path,
    engine: Engine,
    reads: Iterable[TableRules] = (),
) -> ProjectSource:
    """A feed of a table, ready to be opened: files below ``folder`` or in an object store, a database,
    or the store of the ``engine`` itself. ``reads`` has the rules of the tables that the feed reads there, if they are known."""
    if isinstance(feed, FileFeed):
        return _of_files(feed, rules, connections, folder)
    declared = {name: kind for name in rules.types if (kind := rules.declared_type(name))}
    if feed.connection is None:
        from brenvik.feeds.store_query import StoreQuery

        return StoreQuery(
            engine,
            name=feed.name,
            kind=feed.kind,
            table=feed.source_table,
            query=feed.query,
            watermark=feed.watermark,
            overlap=feed.overlap,
            lag=feed.lag,
            start_at=feed.start_at,
            window=feed.window,
            time_column=feed.extract_time.get("column"),
            types=declared,
            zone=rules.time_zone,
            ignored=_unnamed_system_columns(reads, rules, feed),
        )
    from brenvik.feeds.databases import DatabaseExtract, DatabaseSource

    connection = replace(connections[feed.connection], folder=folder)
    if feed.watermark is None:
        return DatabaseExtract(
            connection,
            name=feed.name,
            table=feed.source_table,
            query=feed.query,
            time_column=feed.extract_time.get("column"),
        )
    return DatabaseSource(
        connection,
        name=feed.name,
        kind=feed.kind,
        watermark=feed.watermark,
        table=feed.source_table,
        query=feed.query,
        overlap=feed.overlap,
        lag=feed.lag,
        start_at=feed.start_at,
        window=feed.window,
        types=declared,
        zone=rules.time_zone,
        ordered=not rules.order_by,
    )


def _unnamed_system_columns(reads: Iterable[TableRules], rules: TableRules, feed: FeedRules) -> set[str]:
    """The system columns of tables that the rules of the next one do not name: they are about the rows of those tables."""
    from brenvik.feeds.columns import known_columns

    own = {name for each in reads for column in SYSTEM_COLUMNS if (name := each.system_column_name(column))}
    return own - {*known_columns(rules, feed.operations, None), *feed.columns.rename}


def _of_files(feed: FileFeed, rules: TableRules, connections: Mapping[str, Connection], folder: Path) -> ProjectSource:
    from brenvik.feeds.files import FileSource

    place: Path | Folder = folder
    if feed.connection is not None:
        from brenvik.feeds.object_store import ObjectStore

        place = ObjectStore(connections[feed.connection])
    return FileSource(
        feed.files,
        folder=place,
        name=feed.name,
        kind=feed.kind,
        order=feed.file_order,
        min_age=feed.min_age,
        then=feed.then,
        move_to=feed.move_to,
        reading=ReadOptions(
            Dialect(**feed.csv) if feed.csv else None,
            record_of(feed, rules),
            Sheet(**feed.excel) if feed.excel else FIRST_SHEET,
            Layout(**feed.fixed_width) if feed.fixed_width else None,
        ),
        time_in_name=feed.extract_time.get("file_name"),
        time_column=feed.extract_time.get("column"),
        rewritten=feed.rewritten_files,
        one_by_one=feed.one_run_per_file,
        unreadable_to=feed.unreadable_to,
    )


def record_of(feed: FeedRules, rules: TableRules) -> Record:
    """How a row of a feed is read from JSON, in the names that the feed gives to columns."""
    given = feed.record if isinstance(feed, FileFeed) else {}
    there = {new: name for name, new in feed.columns.rename.items()}

    def written(names: Iterable[str]) -> tuple[str, ...]:
        return tuple(there.get(name, name) for name in names if name not in feed.columns.add)

    operations = feed.operations
    if operations:
        operations = replace(operations, column=there.get(operations.column, operations.column))
    needed = written(dict.fromkeys((*rules.natural_key, *rules.order_by, *filter(None, [rules.effective_column]))))
    expected = (*needed, operations.column) if operations else needed
    return Record(**given, keys=written(rules.natural_key), operations=operations, expected=expected)
