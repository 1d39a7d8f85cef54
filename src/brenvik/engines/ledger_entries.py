"""Entries of the ledger as statements, for stores in which its tables are tables."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from brenvik.ledger.records import ChangedRows, LedgerEntry, NewRows, NewRowsFrom
from brenvik.ledger.schema import TABLES, place
from brenvik.merge import sql


def entry_statement(entry: LedgerEntry, *, also: Iterable[str] = ()) -> tuple[str, dict[str, Any]]:
    """The statement, in the core's dialect, that writes an entry, and its parameters; ``also`` are further assignments for rows
    that change."""
    match entry:
        case NewRows():
            names = list(entry.rows[0])
            values = {f"{name}_{n}": row[name] for n, row in enumerate(entry.rows) for name in names}
            rows = (f"({', '.join(f':{name}_{n}' for name in names)})" for n in range(len(entry.rows)))
            return f"INSERT INTO {place(entry.table)} ({sql.columns(names)}) VALUES {', '.join(rows)}", values
        case NewRowsFrom():
            return f"INSERT INTO {place(entry.table)} ({sql.columns(TABLES[entry.table])})\n{entry.query.strip()}", {}
        case ChangedRows():
            given = [f"{sql.quote(name)} = :set_{name}" for name in entry.values]
            tests = [
                f"{sql.quote(name)} IS NULL" if value is None else f"{sql.quote(name)} = :where_{name}"
                for name, value in entry.where.items()
            ]
            if entry.numbers:
                tests.append(f"{sql.quote(entry.numbers[0])} IN ({', '.join(map(str, entry.numbers[1]))})")
            values = {f"set_{name}": value for name, value in entry.values.items()}
            values |= {f"where_{name}": value for name, value in entry.where.items() if value is not None}
            where = f" WHERE {' AND '.join(tests)}" if tests else ""
            return f"UPDATE {place(entry.table)} SET {', '.join([*given, *also])}{where}", values
