"""The working relations of one run or query: what they are called in the store, and the parameters of its statements."""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any

from brenvik.merge import sql
from brenvik.merge.row_changes import RowChange
from brenvik.merge.stored_rows import StoredRows

if TYPE_CHECKING:
    import pyarrow as pa

    from brenvik.engines.protocol import Engine
    from brenvik.ledger.records import NewRowsFrom
    from brenvik.merge.schema import TableSchema
    from brenvik.merge.validate import Staging


@dataclass(frozen=True)
class Workspace:
    """Owns the working relations that are made through it.

    Each is made once, under a name of its own in the store. A relation may also be another one, or a table, under a name of this
    workspace: that costs nothing.
    """

    engine: Engine
    params: Mapping[str, Any]
    prefix: str
    _numbers: Iterator[int] = field(default_factory=lambda: itertools.count(1))
    """Of the workspaces beside this one."""
    _others: dict[str, str] = field(default_factory=dict)
    """Relations that are called otherwise in the store."""

    def with_params(self, **params: Any) -> Workspace:
        return replace(self, params={**self.params, **params})

    def beside(self) -> Workspace:
        """Another workspace with the same parameters; its relations are discarded with those of this one."""
        return Workspace(self.engine, self.params, f"{self.prefix}{next(self._numbers)}_")

    def name(self, relation: str) -> str:
        """What a working relation is called in the store, for statements of other workspaces."""
        return sql.of_work(self._resolved(sql.work(relation)), self.prefix)

    def make(
        self,
        relation: str,
        query: str,
        *,
        view: bool = False,
        compares: Iterable[str] = (),
        params: Mapping[str, Any] | None = None,
    ) -> int:
        """Makes a relation from a query; returns how many rows it has, anything for a view. ``compares``: relations that the
        query compares with a table of the store."""
        others = tuple(self._resolved(sql.work(name)) for name in compares)
        given = {**self.params, **(params or {})}
        return self.engine.make(relation, self._resolved(query), given, work=self.prefix, view=view, compares=others)

    def call(self, relation: str, original: str) -> None:
        """Gives a relation, quoted or as a query in parentheses, a name here."""
        self._others[sql.work(relation)] = self._resolved(original)

    def stage(self, rows: pa.RecordBatchReader, staging: Staging, params: Mapping[str, Any] | None = None) -> None:
        self.engine.stage(rows, staging, {**self.params, **(params or {})}, work=self.prefix)

    def read(self, rows: StoredRows) -> None:
        """Gives the rows that a table has of some keys a name here."""
        found = replace(rows, of=self._resolved(rows.of))
        self.call(rows.name, self.engine.current(found, self.params, work=self.prefix))

    def index(self, relation: str, keys: Iterable[str]) -> None:
        """Has rows of a relation found by key and by number."""
        self.engine.index_work(relation, tuple(keys), work=self.prefix)

    def apply(self, change: RowChange) -> int:
        """Changes rows of a table; returns how many."""
        resolved = replace(change, source=self._resolved(change.source))
        return self.engine.apply(resolved, self.params, work=self.prefix)

    def record(self, entry: NewRowsFrom) -> int:
        """Writes rows of working relations into the ledger; returns how many."""
        return self.engine.record(replace(entry, query=self._resolved(entry.query)), self.params, work=self.prefix)

    def ask(self, text: str, schema: TableSchema | None = None, **params: Any) -> pa.Table:
        """The result of a query; ``schema`` for one that has columns of the table under their names."""
        given, types = {**self.params, **params}, schema.answers if schema else None
        return self.engine.ask(self._resolved(text), given, work=self.prefix, types=types)

    def rows(self, text: str, params: Mapping[str, Any] | None = None) -> list[dict[str, Any]]:
        return self.engine.rows(self._resolved(text), {**self.params, **(params or {})}, work=self.prefix)

    def row(self, text: str, **params: Any) -> dict[str, Any]:
        (found,) = self.rows(text, params)
        return found

    def discard(self) -> None:
        """Drops the relations."""
        self.engine.on_discard(self.prefix)()

    def _resolved(self, text: str) -> str:
        for name, other in self._others.items():
            text = text.replace(name, other)
        return text
