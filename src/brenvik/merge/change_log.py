"""Recomputing keys, or some moment of the past, from the change log: which changes are active, and which keys are affected.

``excluded_runs`` holds the runs whose changes are not active; ``active_changes`` is the rest of the log.
"""

from __future__ import annotations

from functools import lru_cache

from brenvik.merge import classify, conditions, pending_deletes, sequence, sql
from brenvik.merge.schema import COLUMN_SET, DELETE, EFFECTIVE_AT, RUN, SEQUENCE_NO, TableSchema
from brenvik.model.types import ColumnType

EXCLUDED_RUNS = f"CREATE TEMP TABLE {sql.work('excluded_runs')} (run BIGINT)"
AT_ONCE = 100


def exclude_runs(runs: int = 1) -> str:
    """Adds runs to ``excluded_runs``, at most ``AT_ONCE``: the parameters ``excluded_0``, …"""
    return f"INSERT INTO {sql.work('excluded_runs')} (run) VALUES " + ", ".join(f"(:excluded_{n})" for n in range(runs))


def log_columns(schema: TableSchema) -> tuple[str, ...]:
    """The columns of the change log."""
    return (RUN, SEQUENCE_NO, COLUMN_SET, DELETE, EFFECTIVE_AT, *schema.change_columns)


@lru_cache(maxsize=256)
def active_changes(schema: TableSchema, *, some_explicit: bool = False) -> str:
    """Makes ``active_changes``, optionally with explicit changes that are not logged yet. Where deletes await approval, only
    approved ones are active."""
    assert schema.change_log
    released = f" AND {pending_deletes.is_active('k')}" if schema.inactive_deletes else ""
    names = sql.columns(log_columns(schema), "k")
    counts = f"NOT EXISTS (SELECT 1 FROM {sql.work('excluded_runs')} o WHERE o.run = k.{RUN})"
    explicit = (
        f" UNION ALL SELECT {names} FROM {sql.work('explicit')} k WHERE {counts}{released}" if some_explicit else ""
    )
    return f"""
CREATE TEMP VIEW {sql.work("active_changes")} AS
SELECT {names} FROM {sql.relation(schema.change_log)} k
WHERE {counts}{released}{explicit}"""


@lru_cache(maxsize=256)
def explicit_table(schema: TableSchema) -> str:
    """Makes ``explicit``, empty, with the columns of the change log."""
    names = sql.columns(log_columns(schema), "k")
    return f"""
CREATE TEMP TABLE {sql.work("explicit")} AS SELECT {names} FROM {sql.relation(str(schema.change_log))} k WHERE 1 = 0"""


def _explicitly(schema: TableSchema, column_set: int, *, deleted: bool) -> str:
    """The beginning of a statement that adds to ``explicit`` for each key ``b``: its values in ``d``, or a delete."""
    others = [name for name in schema.change_columns if name not in schema.keys]
    present = dict(schema.column_sets)[column_set]
    values = [
        f"d.{sql.quote(name)}"
        if name in schema.values and name in present and not deleted
        else f"CAST(NULL AS {schema.type_of(name).sql})"
        for name in others
    ]
    number = f":explicit_from + 2 * row_number() OVER (ORDER BY {sql.columns(schema.keys, 'b')})"
    when = f"CAST(:extract_at AS {schema.effective_type.sql})"
    head = f":to_run, {number}, {column_set}, {int(deleted)}, {when}"
    return f"""
INSERT INTO {sql.work("explicit")} ({sql.columns((RUN, SEQUENCE_NO, COLUMN_SET, DELETE, EFFECTIVE_AT, *schema.keys, *others))})
SELECT {sql.listed(head, sql.columns(schema.keys, "b"), *values, sep=", ")}
FROM {sql.work("replay_keys")} b"""


def _living(schema: TableSchema, alias: str = "d") -> str:
    return f"{sql.same(alias, 'b', schema.keys)} AND {alias}.brenvik_valid_to IS NULL"


@lru_cache(maxsize=256)
def make_explicit(
    schema: TableSchema, *, column_set: int, some_current: bool, scope: str | None, pending: str, rejected: str
) -> str:
    """Adds to ``explicit`` what an extract (``to_run``, at ``extract_at``) said of the replayed keys: the current version of
    each in ``target_versions`` (``some_current``), or that there is none. Numbered from ``explicit_from``.

    A version outside of ``scope`` was not in the extract. Where deletes await approval, neither was a key whose delete is in the
    relation ``pending``; its absence has no effect by itself. Of the keys (as text) in the relation ``blocked`` it said nothing
    usable.
    """
    desired = sql.work("target_versions")
    taken = f"NOT EXISTS (SELECT 1 FROM {rejected} r WHERE r.key = {schema.key_text('b')})"
    tests = [_living(schema), *([f"({conditions.of_row(scope, 'd', schema)})"] if scope else [])]
    if schema.inactive_deletes:
        kept = sql.relation(str(schema.change_log))
        waits = f"SELECT 1 FROM {pending} h JOIN {kept} k ON k.{RUN} = h.run AND k.{SEQUENCE_NO} = h.sequence_no"
        tests.append(f"NOT EXISTS ({waits} WHERE {sql.same('k', 'b', schema.keys)})")
    there = " AND ".join(tests)
    if some_current:
        return f"{_explicitly(schema, column_set, deleted=False)} JOIN {desired} d ON {there} WHERE {taken}"
    gone = f"NOT EXISTS (SELECT 1 FROM {desired} d WHERE {there})"
    return f"{_explicitly(schema, column_set, deleted=True)} WHERE {taken} AND {gone}"


@lru_cache(maxsize=256)
def make_absence_explicit(schema: TableSchema, *, column_set: int, scope: str, rejected: str) -> str:
    """Adds to ``explicit`` a delete for each key whose current version in ``target_versions`` lies within ``scope``
    and that is not there yet for this extract (see ``make_explicit``)."""
    said = f"SELECT 1 FROM {sql.work('explicit')} x WHERE x.{RUN} = :to_run AND {sql.same('x', 'b', schema.keys)}"
    return f"""{_explicitly(schema, column_set, deleted=True)}
JOIN {sql.work("target_versions")} d ON {_living(schema)}
WHERE ({conditions.of_row(scope, "d", schema)}) AND NOT EXISTS ({said})
  AND NOT EXISTS (SELECT 1 FROM {rejected} r WHERE r.key = {schema.key_text("b")})"""


@lru_cache(maxsize=256)
def count_unsettled(schema: TableSchema, runs: tuple[int, ...], rejected: str) -> str:
    """How many changes (``n``) of some runs concern keys that the extract ``to_run`` left open: it rejected their rows
    (``blocked``), or where deletes await approval, did not contain them."""
    kept = sql.relation(str(schema.change_log))
    left = f"EXISTS (SELECT 1 FROM {rejected} r WHERE r.key = {schema.key_text('k')})"
    if schema.inactive_deletes:
        said = f"SELECT 1 FROM {{}} o WHERE o.{RUN} = :to_run AND o.{DELETE} = 0 AND {sql.same('o', 'k', schema.keys)}"
        left = " AND ".join(f"NOT EXISTS ({said.format(place)})" for place in (kept, sql.work("explicit")))
    return f"SELECT count(*) AS n FROM {kept} k WHERE {of_runs(runs)} AND {left}"


@lru_cache(maxsize=256)
def log_explicit(schema: TableSchema) -> str:
    names = log_columns(schema)
    return f"""
INSERT INTO {sql.relation(str(schema.change_log))} ({sql.columns(names)})
SELECT {sql.columns(names, "k")} FROM {sql.work("explicit")} k"""


def highest_explicit(schema: TableSchema) -> str:
    """The highest number of an explicit change of the extract ``to_run`` (``n``)."""
    return f"""
SELECT max(k.{SEQUENCE_NO}) AS n FROM {sql.relation(str(schema.change_log))} k
WHERE k.{RUN} = :to_run AND {sequence.is_explicit(f"k.{SEQUENCE_NO}")}"""


def drop_replay(schema: TableSchema) -> tuple[str, ...]:
    """Drops the working relations of one replay, so that another can follow."""
    tables = ["excluded_runs", "changes", "replay_keys", "duplicates", "decided", "target_versions"]
    tables += ["approved"] if schema.inactive_deletes else []
    return (f"DROP VIEW {sql.work('active_changes')}", *(f"DROP TABLE {sql.work(name)}" for name in tables))


def not_mentioned_in(schema: TableSchema) -> str:
    """A test: whether the extract ``to_run`` logged no change of the key of ``k``."""
    return f"""NOT EXISTS (
  SELECT 1 FROM {sql.relation(str(schema.change_log))} o WHERE o.{RUN} = :to_run AND {sql.same("o", "k", schema.keys)})"""


@lru_cache(maxsize=256)
def no_changes(schema: TableSchema) -> str:
    """Makes ``changes``, empty."""
    assert schema.change_log
    names = sql.columns((SEQUENCE_NO, COLUMN_SET, DELETE, EFFECTIVE_AT, *schema.change_columns), "k")
    return f"""
CREATE TEMP TABLE {sql.work("changes")} AS
SELECT {names} FROM {sql.relation(schema.change_log)} k WHERE 1 = 0"""


def of_runs(runs: tuple[int, ...]) -> str:
    return f"k.{RUN} IN ({', '.join(str(int(run)) for run in runs)})"


def of_key(schema: TableSchema, alias: str = "k") -> str:
    """A test for one key; needs the parameters ``key_0``, … as text."""
    return " AND ".join(
        f"{alias}.{sql.quote(name)} = CAST(:key_{index} AS {schema.type_of(name).sql})"
        for index, name in enumerate(schema.keys)
    )


@lru_cache(maxsize=256)
def select_keys(schema: TableSchema, *, where: str = "") -> str:
    """Makes ``replay_keys`` from the logged changes that fit ``where``; without it, from all keys there are."""
    assert schema.change_log
    keys = sql.columns(schema.keys, "k")
    found = f"SELECT {keys} FROM {sql.relation(schema.change_log)} k"
    found += f" WHERE {where}" if where else f" UNION SELECT {keys} FROM {sql.relation(schema.table)} k"
    return f"""
CREATE TEMP TABLE {sql.work("replay_keys")} AS
SELECT DISTINCT {sql.columns(schema.keys, "b")}, 1 AS brenvik_full_replay FROM ({found}) b"""


def no_keys(schema: TableSchema) -> str:
    """Makes ``replay_keys``, empty."""
    keys = sql.columns(schema.keys, "t")
    return f"""
CREATE TEMP TABLE {sql.work("replay_keys")} AS
SELECT {keys}, 1 AS brenvik_full_replay FROM {sql.relation(schema.table)} t LIMIT 0"""


def set_effective_at(schema: TableSchema, column: str) -> str:
    """Sets the effective time of all logged changes from another column."""
    when = sql.quote(column)
    if schema.time_precision:
        when = f"CAST(date_trunc('{schema.time_precision}', {when}) AS {schema.effective_type.sql})"
    return f"UPDATE {sql.relation(str(schema.change_log))} SET {EFFECTIVE_AT} = {when}"


@lru_cache(maxsize=256)
def as_rows(schema: TableSchema, *tests: str) -> str:
    """The rows of ``target_versions`` that fit the tests, as the table would hold them, without surrogate keys and stamps."""
    where = f"WHERE {' AND '.join(tests)}" if tests else ""
    own = schema.system_column
    until = f"COALESCE(d.brenvik_valid_to, {schema.open_end})" if schema.has_open_end else "d.brenvik_valid_to"
    items = [
        *((name, f"d.{sql.quote(name)}") for name in (*schema.keys, *schema.values)),
        (own("valid_from"), f"d.{EFFECTIVE_AT}"),
        (own("valid_to"), f"CAST({until} AS {schema.effective_type.sql})"),
        (own("is_current"), "(d.brenvik_valid_to IS NULL)"),
        (own("is_deleted"), "(d.brenvik_deleted = 1)"),
    ]
    shown = ", ".join(f"{value} AS {sql.quote(name)}" for name, value in items if name)
    order = sql.columns((*schema.keys, EFFECTIVE_AT), "d")
    return f"SELECT {shown} FROM {sql.work('target_versions')} d {where} ORDER BY {order}"


def at_moment(effective: ColumnType) -> str:
    """A test: whether a row of ``target_versions`` is valid at the parameter ``moment``."""
    moment = f"CAST(:moment AS {effective.sql})"
    return f"d.{EFFECTIVE_AT} <= {moment} AND (d.brenvik_valid_to IS NULL OR d.brenvik_valid_to > {moment})"


@lru_cache(maxsize=256)
def changed_keys(schema: TableSchema) -> str:
    """Per key: how many rows are added, changed (values or ends) and removed."""
    keys = sql.columns(schema.keys, "r")
    stored = sql.work("stored_versions")

    def part(relation: str, other: str, column: str, kind: str) -> str:
        flags = ", ".join(f"{int(kind == each)} AS {each}" for each in ("added", "changed", "removed"))
        return (
            f"SELECT {sql.columns(schema.keys, 'o')}, {flags} FROM {sql.work(relation)} w "
            f"JOIN {other} o ON o.{column} = w.{column}"
        )

    parts = " UNION ALL ".join(
        (
            part("to_insert", sql.work("target_versions"), "brenvik_version_no", "added"),
            part("to_update", stored, "brenvik_row_id", "changed"),
            part("to_close", stored, "brenvik_row_id", "changed"),
            part("to_delete", stored, "brenvik_row_id", "removed"),
        )
    )
    sums = ", ".join(f"CAST(sum(r.{each}) AS BIGINT) AS brenvik_{each}" for each in ("added", "changed", "removed"))
    return f"SELECT {keys}, {sums} FROM ({parts}) r GROUP BY {keys} ORDER BY {keys}"


@lru_cache(maxsize=256)
def highest_in_log(schema: TableSchema) -> str:
    """As ``classify.highest``, for all active changes of the log."""
    return classify.highest_of(schema, schema.active_changes)
