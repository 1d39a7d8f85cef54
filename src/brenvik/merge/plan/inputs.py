"""What a plan depends on besides the schema of the table."""

from __future__ import annotations

from dataclasses import dataclass

from brenvik.merge.validate import Staging
from brenvik.model.feeds import Operations
from brenvik.model.types import ColumnType

EXPLAINED_UNASKED = 100_000
"""Up to this many rows a load keeps old values for ``Outcome.decisions`` unless ``explain`` says otherwise."""


@dataclass(frozen=True)
class Rows:
    """The rows of a load: their columns, how they arrive, and for an extract its time and scope. ``is_complete`` says that they
    are upserts of all keys there are.

    ``some_erased``: keys of the table were erased; ``some_beyond``: its change log was trimmed, so that rows can be too late.
    ``malformed`` is how lines that are not rows are staged. ``column_sets`` maps
    what a row has to the number of its column set. ``store_query`` is a query for rows that are in the store. For the others see
    ``feeds.protocol.Batch``; ``last_file`` is the number of its last file.
    """

    columns: tuple[tuple[str, ColumnType], ...]
    malformed: Staging
    operations: Operations | None = None
    column_sets: tuple[tuple[int, int], ...] = ((0, 1),)
    keeps_raw: bool = False
    can_derive: bool = False
    can_reread: bool = True
    store_query: str | None = None
    is_extract: bool = False
    is_complete: bool = False
    time_column: str | None = None
    scope: str | None = None
    last_file: int = 0
    some_erased: bool = False
    some_beyond: bool = False


@dataclass(frozen=True)
class LedgerSql:
    """Queries and relations of the ledger that are part of a plan; see ``ledger.schema``."""

    approved: str
    pending: str
    known_rejects: str
    record_pending: str
    record_rejects: str
    record_rejected_keys: str
    erased: str = ""
    """The digests of erased keys, as a relation (digest) in parentheses."""
    open_rejects: str = ""
    """Open rejects of the feed that are not retried, as a relation (reason, content) in parentheses; '' without a ledger."""
    has_ledger: bool = True
