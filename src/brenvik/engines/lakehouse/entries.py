"""The ledger of a lakehouse: a log of entries in one table, ``brenvik.ledger``, that anybody can read.

An entry is a row of one of the ledger's tables (``entry_of``) as it was from some moment on (``seq``); of entries with the
same key the last counts. In DuckDB's memory the ledger's tables stand as they are everywhere, with one column more, which is
null in rows without an entry.
"""

from __future__ import annotations

from brenvik.engines.lakehouse.lake import LakeColumn, kind_of
from brenvik.engines.lakehouse.tables import MEMORY
from brenvik.ledger.schema import KEYS, SCHEMA, TABLES, VIEWS, place
from brenvik.merge import sql

LEDGER = (SCHEMA, "ledger")
SEQ = "brenvik_seq"
NEW = f"{MEMORY}.new_entries"
_COLUMNS = {name: kind for columns in TABLES.values() for name, kind in columns.items()}


def columns() -> tuple[LakeColumn, ...]:
    """The columns of the log: what identifies an entry, then those of all of the ledger's tables."""
    others = (LakeColumn(name, kind_of(kind), needed=False) for name, kind in _COLUMNS.items())
    return (LakeColumn("entry_of", "VARCHAR", needed=True), LakeColumn("seq", "BIGINT", needed=True), *others)


def tables() -> list[str]:
    """Statements that make the ledger's tables and views in memory."""
    made = [f"CREATE OR REPLACE TABLE {place(name)} ({_given(name)}, {SEQ} BIGINT)" for name in TABLES]
    return [*made, *(f"CREATE OR REPLACE VIEW {place(name)} AS {text}" for name, text in VIEWS.items())]


def _given(name: str) -> str:
    return ", ".join(f"{sql.quote(column)} {kind}" for column, kind in TABLES[name].items())


def not_entered(names: list[str], seq: int, *, all_of_them: bool = False) -> str:
    """The entries for rows of some tables that have none yet; or for all of their rows."""
    where = "" if all_of_them else f" WHERE t.{SEQ} IS NULL"
    return " UNION ALL ".join(
        f"SELECT '{name}' AS entry_of, COALESCE(t.{SEQ}, {seq}) AS seq, {_as_entry(name)} FROM {place(name)} t{where}"
        for name in names
    )


def _as_entry(name: str) -> str:
    return ", ".join(
        f"t.{sql.quote(column)}" if column in TABLES[name] else f"CAST(NULL AS {kind}) AS {sql.quote(column)}"
        for column, kind in _COLUMNS.items()
    )


def enter(names: list[str], seq: int) -> list[str]:
    return [f"UPDATE {place(name)} SET {SEQ} = {seq} WHERE {SEQ} IS NULL" for name in names]


def apply(name: str) -> list[str]:
    """Statements that bring the entries of ``NEW`` into one of the tables in memory."""
    keys, columns = KEYS[name], sql.columns(TABLES[name])
    same = " AND ".join(["1 = 1", *(f"n.{sql.quote(key)} = {place(name)}.{sql.quote(key)}" for key in keys)])
    there = " AND ".join(["1 = 1", *(f"n.{sql.quote(key)} = t.{sql.quote(key)}" for key in keys)])
    last = f"row_number() OVER ({f'PARTITION BY {sql.columns(keys)} ' if keys else ''}ORDER BY seq DESC) = 1"
    return [
        f"DELETE FROM {place(name)} WHERE EXISTS "
        f"(SELECT 1 FROM {NEW} n WHERE n.entry_of = '{name}' AND n.seq > {place(name)}.{SEQ} AND {same})",
        f"INSERT INTO {place(name)} ({columns}, {SEQ}) SELECT {columns}, seq FROM {NEW} n "
        f"WHERE n.entry_of = '{name}' AND NOT EXISTS (SELECT 1 FROM {place(name)} t WHERE {there}) QUALIFY {last}",
    ]
