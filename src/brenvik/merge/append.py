"""Tables without a natural key: every valid row is appended as it is, unless the rules drop rows that equal another one."""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache

from brenvik.merge import row_ids, sql
from brenvik.merge.schema import COLUMN_SET, DELETE, EFFECTIVE_AT, SEQUENCE_NO, TableSchema


def summarize(of: str) -> str:
    """How many rows of a relation are ``invalid``, and how many are not (``changes``)."""
    return (
        f"SELECT count(c.brenvik_error) AS invalid, count(*) - count(c.brenvik_error) AS changes FROM {sql.work(of)} c"
    )


@lru_cache(maxsize=256)
def find_duplicates(schema: TableSchema) -> str:
    """The query for ``duplicates``: the rows of ``accepted`` that equal an earlier one of them, or a row of the table; with the
    first run that appended that one (``brenvik_of_run``; null where the table does not say)."""
    rows, values = sql.work("accepted"), schema.values
    run = schema.system_column("first_run")
    of_run = f"min(t.{sql.quote(run)})" if run else "CAST(NULL AS BIGINT)"
    repeated = f"row_number() OVER (PARTITION BY {sql.columns(values, 'c')} ORDER BY c.{SEQUENCE_NO}) > 1"
    return f"""
WITH stored_before AS (
  SELECT c.{SEQUENCE_NO}, {of_run} AS brenvik_of_run
  FROM {rows} c JOIN {sql.relation(schema.table)} t ON {_equal(schema)}
  GROUP BY c.{SEQUENCE_NO}
), numbered AS (
  SELECT c.{SEQUENCE_NO}, {sql.flag(repeated)} AS brenvik_is_repeated FROM {rows} c
)
SELECT n.{SEQUENCE_NO}, b.brenvik_of_run
FROM numbered n LEFT JOIN stored_before b ON b.{SEQUENCE_NO} = n.{SEQUENCE_NO}
WHERE n.brenvik_is_repeated = 1 OR b.{SEQUENCE_NO} IS NOT NULL"""


def _equal(schema: TableSchema) -> str:
    """A test: whether a row ``c`` equals a row ``t`` of the table, where null equals null. Where the store can only find equal
    values by hashing that are not null, it compares texts first."""
    tests = [sql.alike("c", "t", schema.values)]
    if not schema.store.hashes_nulls:
        texts = ([f"COALESCE(CAST({a}.{sql.quote(name)} AS TEXT), '')" for a in "ct"] for name in schema.values)
        tests += [f"{left} = {right}" for left, right in texts]
    return " AND ".join(tests)


@lru_cache(maxsize=256)
def without_duplicates(schema: TableSchema) -> str:
    """The query for ``changes``: the rows of ``accepted`` that are not in ``duplicates``."""
    names = sql.columns((SEQUENCE_NO, COLUMN_SET, DELETE, EFFECTIVE_AT, *schema.change_columns), "c")
    return f"""
SELECT {names} FROM {sql.work("accepted")} c
WHERE NOT EXISTS (SELECT 1 FROM {sql.work("duplicates")} d WHERE d.{SEQUENCE_NO} = c.{SEQUENCE_NO})"""


def count_deduplicated() -> str:
    """How many duplicates there are of rows of each earlier run (``of_run``, ``n``)."""
    return (
        f"SELECT d.brenvik_of_run AS of_run, count(*) AS n FROM {sql.work('duplicates')} d "
        "WHERE d.brenvik_of_run IS NOT NULL GROUP BY d.brenvik_of_run"
    )


def find_rows_of_runs(schema: TableSchema, runs: Sequence[int]) -> str:
    """The query for ``removed_rows``: the rows that some runs appended."""
    run = f"t.{sql.quote(schema.system_column('first_run') or '')}"
    numbers = ", ".join(str(int(number)) for number in runs)
    return f"SELECT {row_ids.taken(schema, 't')} FROM {sql.relation(schema.table)} t WHERE {run} IN ({numbers})"


@lru_cache(maxsize=256)
def collect(schema: TableSchema) -> str:
    """Every accepted row with its decision, in the columns of ``explain.collect``."""
    columns = (
        f"c.{SEQUENCE_NO}, CAST(NULL AS TIMESTAMP) AS brenvik_from, c.{DELETE}, c.{COLUMN_SET}, "
        f"{sql.columns(schema.values, 'c')}"
    )
    befores = (
        f"CAST(NULL AS {schema.type_of(name).sql}) AS brenvik_before_{n}" for n, name in enumerate(schema.values)
    )
    before = ", ".join(befores)
    appended = f"SELECT {columns}, 'inserted' AS brenvik_decision, {before} FROM {sql.work('changes')} c"
    if not schema.drops_duplicates:
        return appended
    return f"""
{appended}
UNION ALL
SELECT {columns}, 'duplicate', {before}
FROM {sql.work("accepted")} c JOIN {sql.work("duplicates")} d ON d.{SEQUENCE_NO} = c.{SEQUENCE_NO}"""
