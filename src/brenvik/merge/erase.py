"""A key erased for good: its rows and its changes in the log, as relations; and rows of erased keys that a source has again.

What is remembered of an erased key is a digest: the MD5 sum of a salt, which each table has one of, and the key as text.
"""

from __future__ import annotations

from functools import lru_cache

from brenvik.merge import row_ids, sql
from brenvik.merge.row_changes import DeleteRows
from brenvik.merge.schema import SEQUENCE_NO, TableSchema

KEY, ROWS, CHANGES = "erased_key", "erased_rows", "erased_changes"
STAGED, ERASED = "rows_as_staged", "rows_of_erased_keys"


@lru_cache(maxsize=256)
def one_key(schema: TableSchema) -> str:
    """The query for ``erased_key``: the key in the parameters ``key_0``, …, in the form of keys."""
    values = (sql.named(f"CAST(:key_{n} AS {schema.type_of(name).sql})", name) for n, name in enumerate(schema.keys))
    return f"SELECT {', '.join(values)}"


@lru_cache(maxsize=256)
def describe(schema: TableSchema) -> str:
    """The key as text (``key``), and its ``digest`` with the parameter ``salt``."""
    return f"SELECT {schema.key_text('k')} AS key, {digest(schema, 'k')} AS digest FROM {sql.work(KEY)} k"


def parts_of_key(schema: TableSchema) -> str:
    """The values of the key as texts, by column."""
    texts = (sql.named(schema.key_part_text("k", name), name) for name in schema.keys)
    return f"SELECT {', '.join(texts)} FROM {sql.work(KEY)} k"


def digest(schema: TableSchema, alias: str) -> str:
    return schema.store.md5.format(f"(CAST(:salt AS TEXT) || ':' || {schema.key_text(alias)})")


@lru_cache(maxsize=256)
def find_rows(schema: TableSchema) -> str:
    """The query for ``erased_rows``: the rows of the table with the key, and whether each is current."""
    current = sql.flag(schema.is_current("t"))
    return f"""
SELECT {row_ids.taken(schema, "t")}, {current} AS brenvik_is_current
FROM {sql.work("stored_of_key")} t JOIN {sql.work(KEY)} k ON {sql.same("k", "t", schema.keys)}"""


def count_rows() -> str:
    current = sql.total("r.brenvik_is_current")
    return f"SELECT count(*) AS n, {current} AS current FROM {sql.work(ROWS)} r"


def find_changes(schema: TableSchema) -> str:
    """The query for ``erased_changes``: the changes of the key in the log."""
    log, row = sql.relation(str(schema.change_log)), sql.quote(schema.store.row_id.name)
    return f"""
SELECT l.{row} AS brenvik_row_id FROM {log} l JOIN {sql.work(KEY)} k ON {sql.same("k", "l", schema.keys)}"""


def delete_rows(schema: TableSchema) -> DeleteRows:
    return DeleteRows(schema.table, sql.work(ROWS), schema.row_ids, "erased")


def delete_changes(schema: TableSchema) -> DeleteRows:
    row = ((schema.store.row_id.name, "brenvik_row_id"),)
    return DeleteRows(str(schema.change_log), sql.work(CHANGES), row, "erased from the change log")


@lru_cache(maxsize=256)
def find_pending(schema: TableSchema, pending: str) -> str:
    """The numbers of pending deletes (the relation ``pending``) of the key."""
    log = sql.relation(str(schema.change_log))
    return f"""
SELECT h.delete_no FROM {pending} h
JOIN {log} l ON l.brenvik_run = h.run AND l.brenvik_sequence_no = h.sequence_no
JOIN {sql.work(KEY)} k ON {sql.same("k", "l", schema.keys)}"""


@lru_cache(maxsize=256)
def find_erased(schema: TableSchema, erased: str) -> str:
    """The query for ``rows_of_erased_keys``: staged rows whose keys are erased; ``erased`` is a relation with their digests."""
    there = " AND ".join(f"s.{sql.quote(name)} IS NOT NULL" for name in schema.keys)
    return f"""
SELECT s.* FROM {sql.work(STAGED)} s
WHERE {there} AND EXISTS (SELECT 1 FROM {erased} e WHERE e.digest = {digest(schema, "s")})"""


@lru_cache(maxsize=256)
def without_erased(schema: TableSchema) -> str:
    """The query for the rows that remain."""
    return f"""
SELECT s.* FROM {sql.work(STAGED)} s
WHERE NOT EXISTS (SELECT 1 FROM {sql.work(ERASED)} e WHERE e.{SEQUENCE_NO} = s.{SEQUENCE_NO})"""
