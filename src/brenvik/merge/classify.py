"""Which path each change takes, and which changes are duplicates.

A change is *late* when it is not strictly above both the highest order and the highest effective time ever loaded. A key
takes the replay path when the batch has several changes of it, or when all of its log must be replayed (*full replay*):
because a change is late, or because the current version is not sufficient. All other keys take the current path.
"""

from __future__ import annotations

from functools import lru_cache

from brenvik.merge import sequence, sql
from brenvik.merge.schema import COLUMN_SET, DELETE, EFFECTIVE_AT, RUN, SEQUENCE_NO, TableSchema

HIGHEST = "brenvik_highest"


def _above(schema: TableSchema, alias: str) -> str:
    """A test: whether a change's order is strictly above the highest ever loaded, column by column; '' without order columns."""
    test = ""
    for index, name in reversed(list(enumerate(schema.order))):
        value, high = f"{alias}.{sql.quote(name)}", f"CAST(:high_order_{index} AS {schema.type_of(name).sql})"
        test = f"({value} > {high} OR ({value} = {high} AND {test}))" if test else f"{value} > {high}"
    return test


def is_late(schema: TableSchema, alias: str) -> str:
    """Needs the parameters ``high_effective`` and ``high_order_0``, … ."""
    newer = f"{alias}.{EFFECTIVE_AT} > CAST(:high_effective AS {schema.effective_type.sql})"
    return f"NOT ({' AND '.join(filter(None, (_above(schema, alias), newer)))})"


@lru_cache(maxsize=256)
def sums(schema: TableSchema, *, first: bool, derives: bool) -> str:
    """How many rows of ``changes`` are ``invalid`` and ``derived``, and how many valid ones are ``late``; and where at most one
    column orders, also what ``highest`` asks for, in the same pass."""
    derived = f"CAST(COALESCE({sequence.count_derived('c')}, 0) AS BIGINT)" if derives else "0"
    late = sql.flag(f"c.brenvik_error IS NULL AND {is_late(schema, 'c')}")
    late = "0" if first else f"CAST(COALESCE(sum({late}), 0) AS BIGINT)"
    items = ["count(c.brenvik_error) AS invalid", f"{derived} AS derived", f"{late} AS late"]
    if len(schema.order) < 2:
        items.append(_maxima(schema, above_all=not first, valid="c.brenvik_error IS NULL"))
    return f"SELECT {', '.join(items)} FROM {sql.work('changes')} c"


def _maxima(schema: TableSchema, *, above_all: bool, valid: str = "") -> str:
    """The highest order (of at most one column) and effective time of a relation ``c``, as text; ``above_all`` considers only
    values above the highest ever loaded, ``valid`` only rows for which that test holds."""

    def highest(value: str, is_above: str, name: str) -> str:
        test = " AND ".join(filter(None, (valid, is_above if above_all else "")))
        counted = f"CASE WHEN {test} THEN {value} END" if test else value
        return f"CAST(max({counted}) AS TEXT) AS {sql.quote(name)}"

    effective = f"c.{EFFECTIVE_AT}"
    newer = f"{effective} > CAST(:high_effective AS {schema.effective_type.sql})"
    items = [highest(f"c.{sql.quote(name)}", _above(schema, "c"), name) for name in schema.order]
    return ", ".join([*items, highest(effective, newer, HIGHEST)])


@lru_cache(maxsize=256)
def find_replay_keys(schema: TableSchema, *, some_late: bool) -> str:
    """Makes ``replay_keys``: the keys that take the replay path; ``brenvik_full_replay`` is 1 for keys with late changes."""
    late = f"max({sql.flag(is_late(schema, 'c'))})" if some_late else "0"
    having = f"count(*) > 1 OR {late} = 1" if some_late else "count(*) > 1"
    keys = sql.columns(schema.keys, "c")
    return f"""
CREATE TEMP TABLE {sql.work("replay_keys")} AS
SELECT {keys}, {late} AS brenvik_full_replay
FROM {sql.work("changes")} c
GROUP BY {keys}
HAVING {having}"""


@lru_cache(maxsize=256)
def find_duplicates(schema: TableSchema, *, first: bool) -> str:
    """Makes ``duplicates``: sequence numbers of changes that occur earlier in the batch or in the change log.

    Without order columns the order of arrival decides, and the same content later is another change: nothing is a duplicate.
    """
    within = (*schema.keys, EFFECTIVE_AT, DELETE, COLUMN_SET, *schema.change_columns)
    parts = []
    if schema.order:
        parts.append(f"""
SELECT n.{SEQUENCE_NO} FROM (
  SELECT c.{SEQUENCE_NO}, row_number() OVER (
    PARTITION BY {sql.columns(dict.fromkeys(within), "c")} ORDER BY c.{SEQUENCE_NO}) AS brenvik_nth
  FROM {sql.work("changes")} c
  WHERE EXISTS (SELECT 1 FROM {sql.work("replay_keys")} b WHERE {sql.same("b", "c", schema.keys)})
) n WHERE n.brenvik_nth > 1""")
    if schema.order and schema.change_log and not first:
        never_null = (*schema.keys, *schema.order, EFFECTIVE_AT, DELETE, COLUMN_SET)
        others = [name for name in schema.change_columns if name not in never_null]
        parts.append(f"""
SELECT c.{SEQUENCE_NO}
FROM {sql.work("changes")} c
JOIN {schema.active_changes} k ON {sql.same("k", "c", never_null)} AND {sql.alike("k", "c", others)}
WHERE EXISTS (
  SELECT 1 FROM {sql.work("replay_keys")} b WHERE {sql.same("b", "c", schema.keys)} AND b.brenvik_full_replay = 1)""")
    made = f"CREATE TEMP TABLE {sql.work('duplicates')}"
    return f"{made} AS {' UNION '.join(parts)}" if parts else f"{made} ({SEQUENCE_NO} BIGINT)"


@lru_cache(maxsize=256)
def count_late_duplicates(schema: TableSchema, *, some_replayed: bool, some_inactive_deletes: bool) -> str:
    """How many late changes (``n``) are duplicates; of those that were replayed, and of inactive deletes."""
    found = []
    if some_replayed:
        same = f"d.{SEQUENCE_NO} = c.{SEQUENCE_NO}"
        found.append(f"{sql.work('changes')} c JOIN {sql.work('duplicates')} d ON {same} WHERE {is_late(schema, 'c')}")
    if some_inactive_deletes:
        duplicate = "c.brenvik_decision = 'duplicate'"
        found.append(f"{sql.work('inactive_deletes')} c WHERE {duplicate} AND {is_late(schema, 'c')}")
    counts = " + ".join(f"(SELECT count(*) FROM {each})" for each in found)
    return f"SELECT {counts or '0'} AS n"


@lru_cache(maxsize=256)
def count_deduplicated(schema: TableSchema) -> str:
    """How many duplicates there are of changes of each earlier run (``of_run``, ``n``)."""
    never_null = (*schema.keys, *schema.order, EFFECTIVE_AT, DELETE, COLUMN_SET)
    others = [name for name in schema.change_columns if name not in never_null]
    return f"""
SELECT k.{RUN} AS of_run, count(DISTINCT c.{SEQUENCE_NO}) AS n
FROM {sql.work("duplicates")} d
JOIN {sql.work("changes")} c ON c.{SEQUENCE_NO} = d.{SEQUENCE_NO}
JOIN {schema.active_changes} k ON {sql.same("k", "c", never_null)} AND {sql.alike("k", "c", others)}
GROUP BY k.{RUN}"""


@lru_cache(maxsize=256)
def widen_to_full_replay(schema: TableSchema) -> str:
    """Marks keys whose current version is not sufficient for full replay.

    These are keys without a current version (does it have closed ones? was it removed before?), keys whose type 0 value is
    not known yet (it will be set on all versions of the lifetime), and keys with a delete that also removes closed versions.
    """
    replay_keys = sql.work("replay_keys")

    def same_key(alias: str) -> str:
        return " AND ".join(f"{alias}.{sql.quote(k)} = {replay_keys}.{sql.quote(k)}" for k in schema.keys)

    known = "".join(f" AND t.{sql.quote(name)} IS NOT NULL" for name in schema.type_0)
    tests = [
        f"NOT EXISTS (SELECT 1 FROM {sql.relation(schema.table)} t "
        f"WHERE {same_key('t')} AND {schema.is_current('t')}{known})"
    ]
    if schema.has_versions and not schema.keeps_lifetimes:
        tests.append(f"EXISTS (SELECT 1 FROM {sql.work('changes')} c WHERE {same_key('c')} AND c.{DELETE} = 1)")
    return f"UPDATE {replay_keys} SET brenvik_full_replay = 1 WHERE brenvik_full_replay = 0 AND {sql.any_of(tests)}"


@lru_cache(maxsize=256)
def highest(schema: TableSchema, *, first: bool) -> str:
    """The highest order of the batch above the highest ever loaded, and likewise the effective time (as
    ``brenvik_highest``); null where there is none. All values are text."""
    return highest_of(schema, sql.work("changes"), above_all=not first)


def highest_of(schema: TableSchema, relation: str, *, above_all: bool = False) -> str:
    """The same for any relation; ``above_all`` considers only what is above the highest ever loaded."""
    if len(schema.order) < 2:
        return f"SELECT {_maxima(schema, above_all=above_all)} FROM {relation} c"
    high = f"CAST(:high_effective AS {schema.effective_type.sql})"
    newer, above = (f"WHERE c.{EFFECTIVE_AT} > {high}", f"WHERE {_above(schema, 'c')}") if above_all else ("", "")
    order = [f"CAST(c.{sql.quote(name)} AS TEXT) AS {sql.quote(name)}" for name in schema.order]
    latest = ", ".join(f"c.{sql.quote(name)} DESC" for name in schema.order)
    return f"""
SELECT {sql.columns(schema.order, "o")}, e.{HIGHEST}
FROM (SELECT CAST(max(c.{EFFECTIVE_AT}) AS TEXT) AS {HIGHEST} FROM {relation} c {newer}) e
LEFT JOIN (SELECT {", ".join(order)} FROM {relation} c {above} ORDER BY {latest} LIMIT 1) o ON TRUE"""


@lru_cache(maxsize=256)
def log_changes(schema: TableSchema, *, some_duplicates: bool) -> str:
    """Appends the accepted changes that are not duplicates to the change log."""
    assert schema.change_log
    fresh = f"WHERE NOT EXISTS (SELECT 1 FROM {sql.work('duplicates')} d WHERE d.{SEQUENCE_NO} = c.{SEQUENCE_NO})"
    names = (SEQUENCE_NO, COLUMN_SET, DELETE, EFFECTIVE_AT, *schema.change_columns)
    return f"""
INSERT INTO {sql.relation(schema.change_log)} ({RUN}, {sql.columns(names)})
SELECT :run, {sql.columns(names, "c")}
FROM {sql.work("changes")} c
{fresh if some_duplicates else ""}"""
