"""What can be loaded: frames, declared feeds, and sources of any kind."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from brenvik.errors import DeclarationError
from brenvik.ledger.schema import LOADS
from brenvik.model.feeds import AS_THEY_ARE, Connection, DatabaseFeed, FeedColumns, FileFeed, Operations, faults_of_kind
from brenvik.model.rules import TableRules
from brenvik.runs.load import LoadOptions

if TYPE_CHECKING:
    from brenvik.engines.protocol import Engine
    from brenvik.feeds.protocol import Source


@dataclass(frozen=True)
class Called:
    """What ``Table.load`` was called with: a source, and the options that belong to it."""

    source: Source
    options: LoadOptions


def source_of_call(
    engine: Engine,
    rules: TableRules,
    rows: Any,
    kind: str | None,
    operation: str | Operations | None,
    feed: str,
    at: str | date | datetime | None,
    extract_scope: str | None,
    columns: FeedColumns | None,
) -> Called:
    """What can be loaded, of the arguments of ``Table.load``."""
    from brenvik.feeds.protocol import Source

    codes = Operations(operation) if isinstance(operation, str) else operation
    if not isinstance(rows, (FileFeed, DatabaseFeed, Source)):
        source = _frame(rows, kind, codes, feed, at, extract_scope)
        dated = None if at is None or kind == "full_extract" else str(at)
        return Called(source, LoadOptions(codes, columns or AS_THEY_ARE, at=dated, extract_scope=extract_scope))
    if kind is not None:
        raise DeclarationError("kind is for frames; a feed has a kind of its own.")
    dated = None if at is None else str(at)
    if isinstance(rows, (FileFeed, DatabaseFeed)):
        from brenvik.feeds.opening import source_of

        if faults := list(faults_of_kind(rows, rules)):
            raise DeclarationError(f"Feed {rows.name!r} cannot be one of table {rules.table!r}:", faults)
        url = rows.connection
        connections = {url: Connection(url, url)} if url else {}
        opened = source_of(rows, rules, connections, folder=Path.cwd(), engine=engine)
        codes, columns, extract_scope = (
            rows.operations or codes,
            columns or rows.columns,
            rows.extract_scope or extract_scope,
        )
        return Called(opened, LoadOptions(codes, columns, at=dated, extract_scope=extract_scope))
    return Called(rows, LoadOptions(codes, columns or AS_THEY_ARE, at=dated, extract_scope=extract_scope))


def _frame(
    frame: Any,
    kind: str | None,
    operations: Operations | None,
    feed: str,
    at: str | date | datetime | None,
    extract_scope: str | None,
) -> Source:
    if kind not in LOADS:
        raise DeclarationError(f"kind is {kind!r}; expected 'changes', 'upserts', 'full_extract' or 'append'")
    if extract_scope is not None and kind != "full_extract":
        raise DeclarationError("extract_scope is for extracts; other rows cannot mean a delete by absence")
    if (kind == "changes") != (operations is not None):
        raise DeclarationError(
            "kind 'changes' needs the column with the operation (insert, update or delete): operation = 'op'"
            if kind == "changes"
            else f"kind {kind!r} has no operations; omit operation, or use kind = 'changes'"
        )
    from brenvik.feeds.frames import FrameSource

    return FrameSource(frame, name=feed, kind=kind, at=str(at) if at is not None and kind == "full_extract" else None)
