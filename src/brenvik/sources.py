"""What can be loaded: frames, declared feeds, and sources of any kind."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from brenvik.errors import DeclarationError
from brenvik.ledger.schema import LOADS
from brenvik.model.feeds import AS_THEY_ARE, Connection, DatabaseFeed, FeedColumns, FileFeed, Operations
from brenvik.model.rules import TableRules

if TYPE_CHECKING:
    from brenvik.engines.protocol import Engine
    from brenvik.feeds.protocol import Source


@dataclass(frozen=True)
class Called:
    """What ``Table.load`` was called with: a source, its operations, its columns, the scope of an extract, and the time of rows
    that have none."""

    source: Source
    operations: Operations | None
    columns: FeedColumns
    extract_scope: str | None
    at: str | None = None


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

    if not isinstance(rows, (FileFeed, DatabaseFeed, Source)):
        source, codes = _frame(rows, kind, operation, feed, at, extract_scope)
        dated = None if at is None or kind == "full_extract" else str(at)
        return Called(source, codes, columns or AS_THEY_ARE, extract_scope, dated)
    if kind is not None:
        raise DeclarationError("kind is for frames; a feed has a kind of its own.")
    dated = None if at is None else str(at)
    codes = Operations(operation) if isinstance(operation, str) else operation
    if isinstance(rows, (FileFeed, DatabaseFeed)):
        from brenvik.feeds.opening import source_of

        url = rows.connection if isinstance(rows, DatabaseFeed) else None
        connections = {url: Connection(url, url)} if url else {}
        opened = source_of(rows, rules, connections, folder=Path.cwd(), engine=engine)
        scope = rows.extract_scope or extract_scope
        return Called(opened, rows.operations or codes, columns or rows.columns, scope, dated)
    return Called(rows, codes, columns or AS_THEY_ARE, extract_scope, dated)


def _frame(
    frame: Any,
    kind: str | None,
    operation: str | Operations | None,
    feed: str,
    at: str | date | datetime | None,
    extract_scope: str | None,
) -> tuple[Source, Operations | None]:
    if kind not in LOADS:
        raise DeclarationError(f"kind is {kind!r}; expected 'changes', 'upserts' or 'full_extract'")
    if extract_scope is not None and kind != "full_extract":
        raise DeclarationError("extract_scope is for extracts; changes and upserts cannot mean a delete by absence")
    if (kind == "changes") != (operation is not None):
        raise DeclarationError(
            "kind 'changes' needs the column with the operation (insert, update or delete): operation = 'op'"
            if kind == "changes"
            else f"kind {kind!r} has no operations; omit operation, or use kind = 'changes'"
        )
    from brenvik.feeds.frames import FrameSource

    codes = Operations(operation) if isinstance(operation, str) else operation
    of_extract = None if at is None or kind != "full_extract" else str(at)
    return FrameSource(frame, name=feed, kind=kind, at=of_extract), codes
