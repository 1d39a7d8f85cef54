"""Recomputing keys, or some moment of the past, from the change log: which changes are active, and which keys are affected.

``unreverted_changes`` is the log without the changes of some runs, ``active_changes`` what of it is active.
"""

from __future__ import annotations

from functools import lru_cache

from brenvik.merge import conditions, pending_deletes, sequence, sql
from brenvik.merge.schema import COLUMN_SET, DELETE, EFFECTIVE_AT, RUN, SEQUENCE_NO, TableSchema
from brenvik.merge.table_changes import SetColumns
from brenvik.model.types import ColumnType


def log_columns(schema: TableSchema) -> tuple[str, ...]:
    """The columns of the change log."""
    return (RUN, SEQUENCE_NO, COLUMN_SET, DELETE, EFFECTIVE_AT, *schema.change_columns)


@lru_cache(maxsize=256)
def unreverted_changes(schema: TableSchema, excluded: tuple[int, ...], *, explicit: tuple[str, ...] = ()) -> str:
    """The log without the changes of some runs, and with those of the relations ``explicit``, which are not logged yet."""
    names = sql.columns(log_columns(schema), "k")
    without = f" WHERE k.{RUN} NOT IN ({', '.join(map(str, excluded))})" if excluded else ""
    logs = (sql.relation(str(schema.change_log)), *explicit)
    return " UNION ALL ".join(f"SELECT {names} FROM {log} k{without}" for log in logs)


@lru_cache(maxsize=256)
def active_changes(schema: TableSchema) -> str:
    """Those that are active, where deletes have no effect by themselves: of these the approved ones only."""
    names = sql.columns(log_columns(schema), "k")
    return f"SELECT {names} FROM {sql.work('unreverted_changes')} k WHERE {pending_deletes.is_active('k')}"


def _explicitly(schema: TableSchema, column_set: int, keys: str, *, deleted: bool) -> str:
    """A query for explicit changes, one for each key of a relation ``b``: its values in ``d``, or a delete."""
    others = [name for name in schema.change_columns if name not in schema.keys]
    present = dict(schema.column_sets)[column_set]
    values = [
        f"d.{sql.quote(name)}"
        if name in schema.values and name in present and not deleted
        else f"CAST(NULL AS {schema.type_of(name).sql})"
        for name in others
    ]
    shown = ", ".join(sql.named(value, name) for value, name in zip(values, others, strict=True))
    head = sql.listed(sql.columns(schema.keys, "b"), shown, sep=", ")
    return f"SELECT {int(deleted)} AS {DELETE}, {head} FROM {keys}"


def _numbered(schema: TableSchema, column_set: int, changes: str) -> str:
    """Explicit changes of the extract ``to_run``, numbered from ``explicit_from``, in the form of the change log."""
    others = [name for name in schema.change_columns if name not in schema.keys]
    order = sql.columns((DELETE, *schema.keys), "x")
    number = f"CAST(:explicit_from AS BIGINT) + 2 * row_number() OVER (ORDER BY {order})"
    when = f"CAST(:extract_at AS {schema.effective_type.sql})"
    return f"""
SELECT CAST(:to_run AS BIGINT) AS {RUN}, {number} AS {SEQUENCE_NO}, {column_set} AS {COLUMN_SET}, x.{DELETE},
  {when} AS {EFFECTIVE_AT}, {sql.columns((*schema.keys, *others), "x")}
FROM ({changes}) x"""


def _living(schema: TableSchema, alias: str = "d") -> str:
    return f"{sql.same(alias, 'b', schema.keys)} AND {alias}.brenvik_valid_to IS NULL"


@lru_cache(maxsize=256)
def make_explicit(
    schema: TableSchema, *, column_set: int, absences: bool, scope: str | None, pending: str, rejected: str
) -> str:
    """What an extract (``to_run``, at ``extract_at``) said of the replayed keys, as changes: the current version of each in
    ``target_versions``, or with ``absences`` that there is none. Numbered from ``explicit_from``.

    A version outside of ``scope`` was not in the extract. Where deletes await approval, neither was a key whose delete is in the
    relation ``pending``; its absence has no effect by itself. Of the keys (as text) in the relation ``rejected`` it said nothing
    usable.
    """
    desired, keys = sql.work("target_versions"), f"{sql.work('replay_keys')} b"
    taken = f"NOT EXISTS (SELECT 1 FROM {rejected} r WHERE r.key = {schema.key_text('b')})"
    tests = [_living(schema), *([f"({conditions.of_row(scope, 'd', schema)})"] if scope else [])]
    if schema.inactive_deletes:
        kept = sql.relation(str(schema.change_log))
        waits = f"SELECT 1 FROM {pending} h JOIN {kept} k ON k.{RUN} = h.run AND k.{SEQUENCE_NO} = h.sequence_no"
        tests.append(f"NOT EXISTS ({waits} WHERE {sql.same('k', 'b', schema.keys)})")
    there = " AND ".join(tests)
    changes = f"{_explicitly(schema, column_set, f'{keys} JOIN {desired} d ON {there}', deleted=False)} WHERE {taken}"
    if absences:
        gone = f"NOT EXISTS (SELECT 1 FROM {desired} d WHERE {there})"
        changes += f" UNION ALL {_explicitly(schema, column_set, keys, deleted=True)} WHERE {taken} AND {gone}"
    return _numbered(schema, column_set, changes)


@lru_cache(maxsize=256)
def make_absence_explicit(schema: TableSchema, *, column_set: int, scope: str, rejected: str, present: str) -> str:
    """A delete for each key whose current version in ``target_versions`` lies within ``scope`` and that is not in the
    relation ``present`` (see ``make_explicit``)."""
    said = f"SELECT 1 FROM {present} x WHERE {sql.same('x', 'b', schema.keys)}"
    keys = f"{sql.work('replay_keys')} b JOIN {sql.work('target_versions')} d ON {_living(schema)}"
    return _numbered(
        schema,
        column_set,
        f"""{_explicitly(schema, column_set, keys, deleted=True)}
WHERE ({conditions.of_row(scope, "d", schema)}) AND NOT EXISTS ({said})
  AND NOT EXISTS (SELECT 1 FROM {rejected} r WHERE r.key = {schema.key_text("b")})""",
    )


@lru_cache(maxsize=256)
def count_unsettled(schema: TableSchema, runs: tuple[int, ...], rejected: str, explicit: tuple[str, ...]) -> str:
    """How many changes (``n``) of some runs concern keys that the extract ``to_run`` left open: it rejected their rows
    (``rejected``), or where deletes await approval, did not contain them. ``explicit`` are relations with explicit changes."""
    kept = sql.relation(str(schema.change_log))
    left = f"EXISTS (SELECT 1 FROM {rejected} r WHERE r.key = {schema.key_text('k')})"
    if schema.inactive_deletes:
        said = f"SELECT 1 FROM {{}} o WHERE o.{RUN} = :to_run AND o.{DELETE} = 0 AND {sql.same('o', 'k', schema.keys)}"
        left = " AND ".join(f"NOT EXISTS ({said.format(place)})" for place in (kept, *explicit))
    return f"SELECT count(*) AS n FROM {kept} k WHERE {of_runs(runs)} AND {left}"


def highest_explicit(schema: TableSchema) -> str:
    """The highest number of an explicit change of the extract ``to_run`` (``n``)."""
    return f"""
SELECT max(k.{SEQUENCE_NO}) AS n FROM {sql.relation(str(schema.change_log))} k
WHERE k.{RUN} = :to_run AND {sequence.is_explicit(f"k.{SEQUENCE_NO}")}"""


def not_mentioned_in(schema: TableSchema) -> str:
    """A test: whether the extract ``to_run`` logged no change of the key of ``k``."""
    return f"""NOT EXISTS (
  SELECT 1 FROM {sql.relation(str(schema.change_log))} o WHERE o.{RUN} = :to_run AND {sql.same("o", "k", schema.keys)})"""


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
    """The query for ``replay_keys`` from the logged changes that fit ``where``; without it, from all keys there are."""
    keys = sql.columns(schema.keys, "k")
    found = f"SELECT {keys} FROM {sql.relation(str(schema.change_log))} k"
    found += f" WHERE {where}" if where else f" UNION SELECT {keys} FROM {sql.relation(schema.table)} k"
    return f"SELECT DISTINCT {sql.columns(schema.keys, 'b')}, 1 AS brenvik_full_replay FROM ({found}) b"


def set_effective_at(schema: TableSchema, column: str) -> SetColumns:
    """Sets the effective time of all logged changes from another column."""
    return SetColumns(str(schema.change_log), ((EFFECTIVE_AT, effective_time(schema, sql.quote(column))),))


def effective_time(schema: TableSchema, value: str) -> str:
    """The effective time of a logged change whose effective column has this value."""
    return schema.truncated(value)


@lru_cache(maxsize=256)
def as_rows(schema: TableSchema, *tests: str) -> str:
    """The rows of ``target_versions`` that fit the tests, as the table would hold them, without surrogate keys and stamps."""
    where = f"WHERE {' AND '.join(tests)}" if tests else ""
    own = schema.system_column
    until = f"COALESCE(d.brenvik_valid_to, {schema.open_end})" if schema.has_open_end else "d.brenvik_valid_to"
    items = [
        *((name, f"d.{sql.quote(name)}") for name in (*schema.keys, *schema.stored_values)),
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
