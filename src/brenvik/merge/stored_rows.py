"""Which rows of a table a run is about: those of its keys, as a relation to read.

A store with tables that are found by key gives the table itself; one whose tables are files reads these rows once.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from brenvik.merge import sql
from brenvik.merge.schema import TableSchema


@dataclass(frozen=True)
class StoredRows:
    """Rows of a table (as ``t``) whose keys are in the relation ``of`` and that fit ``where``; '' fits all. Where the store makes
    a relation of them, it is called ``name``."""

    name: str
    table: str
    keys: Sequence[str]
    of: str
    where: str


def stored_rows(schema: TableSchema, name: str, of: str, *, all_versions: bool) -> StoredRows:
    """The rows of the keys in a working relation; only their current versions, where others do not matter."""
    only_current = schema.keeps_lifetimes and not schema.type_1 and not all_versions
    return StoredRows(name, schema.table, schema.keys, sql.work(of), schema.is_current("t") if only_current else "")
