"""Rows that a full extract lacks, in a table that ignores deletes: they stay, and are marked as missing until they are back."""

from __future__ import annotations

from functools import lru_cache

from brenvik.merge import conditions, row_ids, sql
from brenvik.merge.current_path import decided
from brenvik.merge.row_changes import UpdateRows
from brenvik.merge.schema import TableSchema

MARKS = "marks"


@lru_cache(maxsize=256)
def find_marks(schema: TableSchema, scope: str | None, *, some_current: bool, some_replayed: bool) -> str:
    """The query for ``marks``: the current rows whose keys the extract (``staged``) lacks and that are not marked yet
    (``brenvik_is_missing`` is 1), and those that are marked although it has their keys (0).

    A row outside of ``scope`` cannot be missing. A row that the run changes loses its mark by that.
    """
    present = sql.flag(f"EXISTS (SELECT 1 FROM {sql.work('staged')} s WHERE {sql.same('s', 't', schema.keys)})")
    marked = sql.flag(sql.any_of(f"t.{sql.quote(stamp.name)} IS NOT NULL" for stamp in schema.marks))
    within = f", {sql.flag(conditions.of_row(scope, 't', schema))} AS brenvik_is_within" if scope else ""
    stays = []
    if some_current:
        changed = f"{row_ids.same(schema, 'p', 'r')} AND {decided('p', 'versioned', 'overwritten', 'deleted')}"
        stays.append(f" AND NOT EXISTS (SELECT 1 FROM {sql.work('current_path')} p WHERE {changed})")
    if some_replayed:
        stays.append(f" AND NOT EXISTS (SELECT 1 FROM {sql.work('actions')} p WHERE {row_ids.same(schema, 'p', 'r')})")
    return f"""
SELECT {sql.columns(schema.keys, "r")}, {row_ids.listed(schema, "r")}, 1 - r.brenvik_is_marked AS brenvik_is_missing
FROM (
  SELECT {sql.columns(schema.keys, "t")}, {row_ids.taken(schema, "t")}, {marked} AS brenvik_is_marked,
    {present} AS brenvik_is_present{within}
  FROM {sql.relation(schema.table)} t WHERE {schema.is_current("t")}
) r
WHERE (r.brenvik_is_marked = 0 AND r.brenvik_is_present = 0{" AND r.brenvik_is_within = 1" if scope else ""})
  OR (r.brenvik_is_marked = 1 AND r.brenvik_is_present = 1{"".join(stays)})"""


def count_marks() -> str:
    """How many rows become ``missing``, and how many are ``back``."""
    missing = sql.total("m.brenvik_is_missing")
    return f"SELECT {missing} AS missing, count(*) - {missing} AS back FROM {sql.work(MARKS)} m"


@lru_cache(maxsize=256)
def mark(schema: TableSchema) -> UpdateRows:
    """Marks rows as missing, and takes the marks from those that are back."""
    own = schema.system_column
    items = [
        *((stamp.name, f"CASE WHEN s.brenvik_is_missing = 1 THEN {stamp.on('missing')} END") for stamp in schema.marks),
        (own("last_run"), ":run"),
        (own("last_loaded_at"), "CAST(:loaded_at AS TIMESTAMP)"),
    ]
    columns = tuple((name, value) for name, value in items if name)
    return UpdateRows(schema.table, columns, sql.work(MARKS), schema.row_ids, "marked as missing or back")
