"""Ties: changes with the same key, effective time and order that differ otherwise.

Rows of an extract have one time, and those without order columns tie where their keys are the same. Columns that are not compared
make no tie, nor do differences that are ignored.
"""

from __future__ import annotations

from functools import lru_cache

from brenvik.merge import sql
from brenvik.merge.classify import compared_values, is_late, place, same_change
from brenvik.merge.schema import COLUMN_SET, DELETE, SEQUENCE_NO, TableSchema
from brenvik.merge.validate import ORIGINAL, also_invalid

ROWS = "rows_with_ties"
"""The working relation with the rows as they were staged."""


def _content(schema: TableSchema, alias: str) -> str:
    """Select items: what of a change can contradict another one at the same place."""
    values = compared_values(schema, alias).values()
    items = [f"{value} AS brenvik_content_{n}" for n, value in enumerate(values)]
    return sql.listed(sql.columns((*place(schema), DELETE, COLUMN_SET), alias), *items, sep=", ")


def _reasons(schema: TableSchema, *, is_extract: bool) -> tuple[str, str]:
    """Why a change is rejected that ties with another row, and one that ties with a change that was loaded before."""
    effective = [] if is_extract else filter(None, [schema.effective])
    names = list(dict.fromkeys((*schema.keys, *effective, *schema.order)))
    same = ", ".join(names[:-1]) + f" and {names[-1]}" if len(names) > 1 else names[0]
    return f"contradicts another row with the same {same}", f"contradicts a change loaded before with the same {same}"


@lru_cache(maxsize=64)
def find_ties(schema: TableSchema, *, is_extract: bool, logged: bool, open_rejects: str) -> str:
    """The query for ``ties``: sequence numbers of valid rows that tie, and whether with a change in the log
    (``brenvik_is_logged``) instead of another row.

    Repetitions of a change do not tie, be they in the batch or, with ``logged``, in the log. A row that was rejected as a tie
    before, and is among the ``open_rejects``, still is one.
    """
    where, rows = place(schema), sql.work(ROWS)
    if not (schema.order or is_extract):
        return f"SELECT c.{SEQUENCE_NO}, 0 AS brenvik_is_logged FROM {rows} c WHERE 1 = 0"
    valid = ["c.brenvik_error IS NULL"]
    tests, is_logged = ["p.brenvik_contents > 1"], "0"
    if logged:
        log, late = sql.work("unreverted_changes"), is_late(schema, "c")
        valid.append(f"NOT ({late} AND EXISTS (SELECT 1 FROM {log} k WHERE {same_change(schema, 'k', 'c')}))")
        tests.append(f"({late} AND EXISTS (SELECT 1 FROM {log} k WHERE {sql.same('k', 'c', where)}))")
        is_logged = sql.flag(f"p.brenvik_contents = 1 AND {tests[-1]}")
    if open_rejects:
        reasons = ", ".join(map(sql.literal, _reasons(schema, is_extract=is_extract)))
        same = f"r.content = c.{ORIGINAL} AND r.reason IN ({reasons})"
        tests.append(f"EXISTS (SELECT 1 FROM {open_rejects} r WHERE {same})")
    return f"""
WITH fresh AS (
  SELECT c.* FROM {rows} c WHERE {" AND ".join(valid)}
), contents AS (
  SELECT DISTINCT {_content(schema, "c")} FROM fresh c
), places AS (
  SELECT {sql.columns(where, "n")}, count(*) AS brenvik_contents FROM contents n GROUP BY {sql.columns(where, "n")}
)
SELECT c.{SEQUENCE_NO}, {is_logged} AS brenvik_is_logged
FROM fresh c
JOIN places p ON {sql.same("p", "c", where)}
WHERE {sql.any_of(tests)}"""


@lru_cache(maxsize=64)
def count_ties(schema: TableSchema, *, logged: bool) -> str:
    """How many keys have new changes that tie (``tied``), with others or, with ``logged``, with changes in the log; and the first
    of these keys (``tied_key``)."""
    where, names = place(schema), sql.columns(place(schema), "n")
    tests = []
    if schema.order:
        tests.append(f"NOT EXISTS (SELECT 1 FROM {sql.work('duplicates')} d WHERE d.{SEQUENCE_NO} = c.{SEQUENCE_NO})")
    tied = "p.brenvik_contents > 1"
    if logged:
        log = sql.work("active_changes")
        tests.append(f"NOT EXISTS (SELECT 1 FROM {log} k WHERE {same_change(schema, 'k', 'c')})")
        tied += f" OR EXISTS (SELECT 1 FROM {log} k WHERE {sql.same('k', 'p', where)})"
    fresh = f" WHERE {' AND '.join(tests)}" if tests else ""
    contents = f"SELECT DISTINCT {_content(schema, 'c')} FROM {sql.work('changes')} c{fresh}"
    places = f"SELECT {names}, count(*) AS brenvik_contents FROM ({contents}) n GROUP BY {names}"
    keys = sql.columns(schema.keys, "p")
    found = f"SELECT DISTINCT {keys} FROM ({places}) p WHERE {tied}"
    first = " || ', ' || ".join(schema.key_part_text("k", name) for name in schema.keys)
    return f"SELECT count(*) AS tied, min({first}) AS tied_key FROM ({found}) k"


@lru_cache(maxsize=64)
def reject_ties(schema: TableSchema, *, is_extract: bool) -> str:
    """The query for ``staged``, in which the rows in ``ties`` are invalid."""
    own, logged = map(sql.literal, _reasons(schema, is_extract=is_extract))
    reason = f"CASE WHEN t.brenvik_is_logged = 1 THEN {logged} ELSE {own} END"
    return also_invalid(schema, sql.work(ROWS), sql.work("ties"), schema.order or schema.keys, reason)
