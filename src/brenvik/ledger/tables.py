"""Tables in the ledger."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from typing import Any

from brenvik.ledger.entries import Entries, H
from brenvik.ledger.schema import place
from brenvik.merge.schema import TableSchema
from brenvik.model.conditions import with_names
from brenvik.model.rules import TableRules


class Tables(Entries[H]):
    """Tables, their state, and the column sets of their changes."""

    def progress(self) -> dict[tuple[str, str], dict[str, Any]]:
        """The progress of every feed that ever loaded something, by table and feed, as in the view ``feed_progress``."""
        rows = self._rows(f"SELECT * FROM {place('feed_progress')}") if self.exists() else []
        return {(row["table_name"], row["feed"]): row for row in rows}

    def status(self) -> dict[str, dict[str, Any]]:
        """The status of every table that was ever loaded, by name, as in the view ``table_status``."""
        rows = self._rows(f"SELECT * FROM {place('table_status')}") if self.exists() else []
        return {row["table_name"]: row for row in rows}

    def owner_of(self, stored_as: str) -> str | None:
        """The table whose rows are stored under a name; None where there is none."""
        capabilities = self.engine.capabilities

        def known_as(name: str) -> str:
            return (name if capabilities.cased else name.casefold()).removeprefix(f"{capabilities.home}.")

        found = self._rows(f"SELECT table_name, rules FROM {place('tables')}") if self.exists() else []
        names = {known_as(json.loads(row["rules"])["table_name"]): str(row["table_name"]) for row in found}
        return names.get(known_as(stored_as))

    def set_state(
        self,
        schema: TableSchema,
        rules: TableRules,
        *,
        high_order: Sequence[str] | None,
        high_effective: str | None,
        last_key: int,
        row_count: int,
        current_keys: int,
        first_run: int | None,
    ) -> None:
        """Records the state of a table; ``first_run`` where nothing was known before."""
        values = {
            "columns": json.dumps(schema.as_plain()),
            "rules": json.dumps(rules._for_ledger(), default=str),
            "high_order": json.dumps(high_order) if high_order else None,
            "high_effective": high_effective,
            "last_key": last_key,
            "row_count": row_count,
            "current_keys": current_keys,
        }
        if first_run is not None:
            self._insert("tables", {"table_name": rules.table, **values, "first_run": first_run})
            return
        self._update("tables", values, {"table_name": rules.table})

    def rename_columns(self, table: str, column_sets: Mapping[int, Sequence[str]], names: Mapping[str, str]) -> None:
        """Records new names of a table's columns: in its column sets, as given, and in the scopes of its extracts."""
        for column_set, columns in column_sets.items():
            self._update(
                "column_sets",
                {"columns": json.dumps(list(columns))},
                {"table_name": table, "column_set": column_set},
            )
        scopes = self._rows(
            f"SELECT DISTINCT extract_scope FROM {place('runs')} "
            "WHERE table_name = :table_name AND extract_scope IS NOT NULL",
            {"table_name": table},
        )
        for scope in (row["extract_scope"] for row in scopes):
            if (new := with_names(scope, names)) != scope:
                self._update("runs", {"extract_scope": new}, {"table_name": table, "extract_scope": scope})

    def add_column_sets(self, table: str, column_sets: Mapping[int, Sequence[str]]) -> None:
        """Records new column sets of a table's changes, by number."""
        for column_set, columns in column_sets.items():
            self._insert(
                "column_sets", {"table_name": table, "column_set": column_set, "columns": json.dumps(list(columns))}
            )
