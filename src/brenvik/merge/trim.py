"""A change log that is trimmed: the older changes of a key become base states, of which its history follows as before.

Changes are *settled* when their run, and whatever was decided on them since, is old enough, and so is their effective time. Of
the settled changes of a key, up to the first that is not settled, those at the last effective time stay as they are: sources
like to send them again. All before them are *old*. Of the old ones only those stay in the log on which the table depends, each
with the complete state after it (``BASE_STATES``): where a version begins or a lifetime ends, the last ones, and those that say
what a previous value is, or a value that is not compared. Where these are all, the key stays as it is.
"""

from __future__ import annotations

from functools import lru_cache

from brenvik.merge import sql
from brenvik.merge.change_log import log_columns
from brenvik.merge.replay_decisions import BEGINS, starts
from brenvik.merge.row_changes import DeleteRows
from brenvik.merge.schema import BASE, COLUMN_SET, DELETE, EFFECTIVE_AT, RUN, SEQUENCE_NO, TableSchema
from brenvik.merge.validate import ORIGINAL, also_invalid, may_be_beyond

OLD, BASE_STATES, TRIMMED_KEYS = "old_changes", "base_states", "trimmed_keys"
DROPPED, TRIMMED_LOG = "dropped_changes", "trimmed_log"
STAGED, BEYOND = "rows_of_any_time", "rows_beyond_the_log"


def _is_settled(schema: TableSchema, *, reverted: str, pending: str) -> str:
    """A test of a logged change ``k``; needs the parameters ``settled_run`` and ``settled_before``. ``reverted`` and ``pending``
    are relations of all reverts, and of all deletes that were ever pending."""
    when = f"CAST(:settled_before AS {schema.effective_type.sql})"
    since = "w.reverted_by > :settled_run OR w.undone_by > :settled_run"
    tests = [
        f"k.{RUN} <= :settled_run",
        f"k.{EFFECTIVE_AT} < {when}",
        f"NOT EXISTS (SELECT 1 FROM {reverted} w WHERE w.run = k.{RUN} AND ({since}))",
    ]
    if schema.inactive_deletes:
        waits = "h.decided_by IS NULL OR h.decided_by > :settled_run"
        same = f"h.run = k.{RUN} AND h.sequence_no = k.{SEQUENCE_NO}"
        tests.append(f"NOT (k.{DELETE} = 1 AND EXISTS (SELECT 1 FROM {pending} h WHERE {same} AND ({waits})))")
    return " AND ".join(tests)


@lru_cache(maxsize=64)
def find_old(schema: TableSchema, *, reverted: str, pending: str) -> str:
    """The query for ``old_changes``: those that are active, each with whether it is the last of its key at its effective time
    (``brenvik_counts``), and how many its key has (``brenvik_of_key``). For the parameters see ``_is_settled``."""
    settled = _is_settled(schema, reverted=reverted, pending=pending)
    keys, names = sql.columns(schema.keys, "k"), log_columns(schema)
    downward = ", ".join(f"s.{sql.quote(name)} DESC" for name in (*schema.order, RUN, SEQUENCE_NO))
    place = sql.columns((*schema.keys, EFFECTIVE_AT), "s")
    return f"""
WITH unsettled AS (
  SELECT {keys}, min(k.{EFFECTIVE_AT}) AS brenvik_limit
  FROM {sql.relation(str(schema.change_log))} k WHERE NOT ({settled}) GROUP BY {keys}
), settled AS (
  SELECT {sql.columns(names, "k")}
  FROM {sql.work("active_changes")} k LEFT JOIN unsettled u ON {sql.same("u", "k", schema.keys)}
  WHERE {settled} AND (u.brenvik_limit IS NULL OR k.{EFFECTIVE_AT} < u.brenvik_limit)
), lasts AS (
  SELECT {keys}, max(k.{EFFECTIVE_AT}) AS brenvik_last FROM settled k GROUP BY {keys}
)
SELECT {sql.columns(names, "s")},
  {sql.flag(f"row_number() OVER (PARTITION BY {place} ORDER BY {downward}) = 1")} AS brenvik_counts,
  count(*) OVER (PARTITION BY {sql.columns(schema.keys, "s")}) AS brenvik_of_key
FROM settled s JOIN lasts l ON {sql.same("l", "s", schema.keys)} AND s.{EFFECTIVE_AT} < l.brenvik_last"""


@lru_cache(maxsize=64)
def find_keys(schema: TableSchema) -> str:
    """The query for ``replay_keys``: the keys with several old changes that are not all base states."""
    keys, several = sql.columns(schema.keys, "o"), f"count(*) > 1 AND max(o.{COLUMN_SET}) > {BASE}"
    return f"SELECT {keys}, 1 AS brenvik_full_replay FROM {sql.work(OLD)} o GROUP BY {keys} HAVING {several}"


@lru_cache(maxsize=64)
def find_base_states(schema: TableSchema, decided: str) -> str:
    """The query for ``base_states``, in the form of the change log: of the old changes that count those on which the table
    depends, with the state after each, from the relation ``decided`` of a replay of the old changes. Only of keys that have other
    old changes as well."""
    own = (*schema.keys, *schema.order, *filter(None, [schema.effective]))  # these say where a change belongs
    values = [
        sql.named(f"CASE WHEN j.{DELETE} = 0 THEN j.{sql.quote(name)} END", name)
        if name in schema.values and name not in own
        else f"o.{sql.quote(name)}"
        for name in schema.change_columns
    ]
    by_key = f"PARTITION BY {sql.columns(schema.keys, 'j')}"
    last = {"brenvik_last": "j.brenvik_position", "brenvik_last_upsert": _where(f"j.{DELETE} = 0", "position")}
    for n, changes in enumerate(_changes(schema)):
        last[f"brenvik_changed_{n}"] = _where(changes, "position")
        last[f"brenvik_former_{n}"] = _where(changes, "prev_position")
    shown = ", ".join(f"max({value}) OVER ({by_key}) AS {name}" for name, value in last.items())
    needed = ["j.brenvik_starts_version = 1", f"(j.{DELETE} = 1 AND j.brenvik_prev_delete = 0)"]
    needed += [f"j.brenvik_position = j.{name}" for name in last]
    if not schema.keeps_lifetimes:  # of others than the last, the table has no rows
        of_last = f"j.{DELETE} = 0 AND j.brenvik_lifetime = j.brenvik_last_lifetime AND ({sql.any_of(needed)})"
        needed = ["j.brenvik_position = j.brenvik_last", f"({of_last})"]
    return f"""
SELECT {sql.columns(log_columns(schema), "b")}
FROM (
  SELECT o.{RUN}, o.{SEQUENCE_NO}, {BASE} AS {COLUMN_SET}, o.{DELETE}, o.{EFFECTIVE_AT}, {", ".join(values)},
    o.brenvik_of_key, count(*) OVER ({by_key}) AS brenvik_needed
  FROM (SELECT j.*, {shown} FROM {decided} j) j
  JOIN {sql.work(OLD)} o ON o.brenvik_counts = 1 AND {sql.same("o", "j", (*schema.keys, EFFECTIVE_AT))}
  WHERE {sql.any_of(needed)}
) b
WHERE b.brenvik_needed < b.brenvik_of_key"""


@lru_cache(maxsize=64)
def find_trimmed_keys(schema: TableSchema) -> str:
    """The query for ``trimmed_keys``: those that get base states."""
    keys = sql.columns(schema.keys, "b")
    return f"SELECT DISTINCT {keys}, 1 AS brenvik_full_replay FROM {sql.work(BASE_STATES)} b"


def _where(test: str, what: str) -> str:
    return f"CASE WHEN {test} THEN j.brenvik_{what} END"


def _changes(schema: TableSchema) -> list[str]:
    """Tests of an event ``j``, one for each value of a row that depends on what changed last: whether it changes that."""
    tests = [
        f"j.{DELETE} = 0 AND NOT ({BEGINS}) AND j.{sql.quote(column)} IS DISTINCT FROM "
        f"j.brenvik_prev_{schema.values.index(column)}"
        for column, _ in schema.previous
    ]
    if schema.not_compared and not schema.has_versions:
        tests.append(f"{starts(schema, schema.type_1)} = 1")
    return tests


@lru_cache(maxsize=64)
def trimmed_log(schema: TableSchema) -> str:
    """The query for the active changes as they will be."""
    names = log_columns(schema)
    chosen = f"SELECT 1 FROM {sql.work(TRIMMED_KEYS)} b WHERE {sql.same('b', 'o', schema.keys)}"
    old = f"SELECT 1 FROM {sql.work(OLD)} o WHERE o.{RUN} = k.{RUN} AND o.{SEQUENCE_NO} = k.{SEQUENCE_NO} AND EXISTS ({chosen})"
    return f"""
SELECT {sql.columns(names, "k")} FROM {sql.work("active_changes")} k WHERE NOT EXISTS ({old})
UNION ALL SELECT {sql.columns(names, "k")} FROM {sql.work(BASE_STATES)} k"""


@lru_cache(maxsize=64)
def count_differences(schema: TableSchema, before: str, after: str) -> str:
    """How many versions (``n``) two relations of target versions do not share."""
    names = (*schema.keys, EFFECTIVE_AT, "brenvik_valid_to", "brenvik_deleted", *schema.stored_values)
    one, other = (f"SELECT {sql.columns(names, 'v')} FROM {relation} v" for relation in (before, after))
    return f"""
SELECT count(*) AS n FROM (
  SELECT * FROM ({one} EXCEPT {other}) x UNION ALL SELECT * FROM ({other} EXCEPT {one}) y) d"""


@lru_cache(maxsize=64)
def find_dropped(schema: TableSchema, forgotten: tuple[int, ...]) -> str:
    """The query for ``dropped_changes``: the old changes of these keys, and those of the runs ``forgotten``."""
    row = f"l.{sql.quote(schema.store.row_id.name)} AS brenvik_row_id"
    log = f"{sql.relation(str(schema.change_log))} l"
    same = f"o.{RUN} = l.{RUN} AND o.{SEQUENCE_NO} = l.{SEQUENCE_NO} AND {sql.same('o', 'l', schema.keys)}"
    chosen = f"JOIN {sql.work(TRIMMED_KEYS)} b ON {sql.same('b', 'o', schema.keys)}"
    found = f"SELECT {row} FROM {sql.work(OLD)} o {chosen} JOIN {log} ON {same}"
    if forgotten:
        found += f" UNION SELECT {row} FROM {log} WHERE l.{RUN} IN ({', '.join(map(str, forgotten))})"
    return found


def drop_changes(schema: TableSchema) -> DeleteRows:
    row = ((schema.store.row_id.name, "brenvik_row_id"),)
    return DeleteRows(str(schema.change_log), sql.work(DROPPED), row, "trimmed from the change log")


def count_old(schema: TableSchema) -> str:
    """How many old changes the trimmed keys have (``n``)."""
    chosen = f"JOIN {sql.work(TRIMMED_KEYS)} b ON {sql.same('b', 'o', schema.keys)}"
    return f"SELECT count(*) AS n FROM {sql.work(OLD)} o {chosen}"


def _may_be_beyond(schema: TableSchema) -> str:
    return f"s.brenvik_error IS NULL AND {may_be_beyond(schema, f's.{EFFECTIVE_AT}')}"


def count_possibly_beyond(schema: TableSchema) -> str:
    """How many staged rows (``n``) may lie beyond the log."""
    return f"SELECT count(*) AS n FROM {sql.work(STAGED)} s WHERE {_may_be_beyond(schema)}"


@lru_cache(maxsize=64)
def find_beyond(schema: TableSchema) -> str:
    """The query for ``rows_beyond_the_log``: the numbers of staged rows that do not hold from after the last base state of their
    key, with the time of that (``brenvik_limit``)."""
    same = sql.same("k", "s", schema.keys)
    return f"""
SELECT s.{SEQUENCE_NO}, max(k.{EFFECTIVE_AT}) AS brenvik_limit
FROM {sql.work(STAGED)} s
JOIN {sql.relation(str(schema.change_log))} k ON {same} AND k.{COLUMN_SET} = {BASE} AND k.{EFFECTIVE_AT} >= s.{EFFECTIVE_AT}
WHERE {_may_be_beyond(schema)}
GROUP BY s.{SEQUENCE_NO}"""


@lru_cache(maxsize=64)
def reject_beyond(schema: TableSchema) -> str:
    """The query for all staged rows, in which those beyond the log are invalid."""
    columns = tuple(filter(None, [schema.effective])) or schema.keys
    reason = "'not after ' || CAST(t.brenvik_limit AS TEXT) || ', up to which the changes of its key are trimmed'"
    kept = (ORIGINAL,) if schema.rejects_ties else ()
    return also_invalid(schema, sql.work(STAGED), sql.work(BEYOND), columns, reason, kept)
