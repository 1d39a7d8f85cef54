"""Which rows of a table a run is about: those of its keys, announced before anything is asked of the table."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from brenvik.merge import sql
from brenvik.merge.schema import TableSchema


@dataclass(frozen=True)
class CurrentRows:
    """Rows of a table (as ``t``) whose keys are in the relation ``of`` and that fit ``where``; '' fits all."""

    table: str
    keys: Sequence[str]
    of: str
    where: str


def near(schema: TableSchema, of: str, *, all_versions: bool) -> CurrentRows:
    """The rows of the keys in a working relation; only their current versions, where others do not matter."""
    only_current = schema.keeps_lifetimes and not schema.type_1 and not all_versions
    return CurrentRows(schema.table, schema.keys, sql.work(of), schema.is_current("t") if only_current else "")
