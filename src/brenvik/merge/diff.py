"""The difference between the rows that replayed keys have and those that they should have.

``stored_versions`` has the rows that there are, ``target_versions`` those that should be. They are matched by (key,
valid_from), the rest pairwise in the order of valid_from, so that rows keep their surrogate keys. The result is one relation,
``actions``, with a row for each row of the table that changes:

    close    its end changes, and nothing else
    update   its values change
    insert   it is new
    delete   it goes

Each has the stored row it is about (``brenvik_row_id``; null for new ones), the key, and what the row should be (null for those
that go). Rows that stay as they are are not in it, except those that the change log does not account for (``keep``).
"""

from __future__ import annotations

from functools import lru_cache

from brenvik.merge import accounting, row_ids, sql
from brenvik.merge.current_path import differs_column
from brenvik.merge.schema import EFFECTIVE_AT, TableSchema
from brenvik.model.decisions import DECISIONS

ACTIONS = ("close", "update", "insert", "delete")
FROM, TO, ENDED = EFFECTIVE_AT, "brenvik_valid_to", "brenvik_deleted"
"""How working relations call beginning and end of a version, and whether a delete ended it."""


def as_target(schema: TableSchema) -> str:
    """Select items: a row ``t`` of the table in the form of ``target_versions``."""
    own = schema.system_column
    is_current = schema.is_current("t")
    until = f"t.{sql.quote(own('valid_to') or '')}" if own("valid_to") else "NULL"
    if schema.has_open_end:
        until = f"CASE WHEN {is_current} THEN NULL ELSE {until} END"
    ended = sql.flag(f"t.{sql.quote(own('is_deleted') or '')} = TRUE" if own("is_deleted") else f"NOT ({is_current})")
    start = f"t.{sql.quote(own('valid_from') or '')}" if own("valid_from") else "NULL"
    kind = schema.effective_type.sql
    times = f"CAST({start} AS {kind}) AS {FROM}, CAST({until} AS {kind}) AS {TO}, {ended} AS {ENDED}"
    return sql.listed(sql.columns(schema.keys, "t"), times, sql.columns(schema.stored_values, "t"), sep=", ")


@lru_cache(maxsize=256)
def as_it_was(schema: TableSchema, relation: str) -> str:
    """The query for ``target_versions`` from a relation with the rows of the table as they were."""
    return f"SELECT {as_target(schema)} FROM {relation} t"


def _flag(schema: TableSchema) -> str | None:
    """The column is_current, where valid_to implies it."""
    return schema.system_column("is_current") if schema.system_column("valid_to") else None


@lru_cache(maxsize=256)
def find_stored_versions(schema: TableSchema) -> str:
    """The rows of the replayed keys, in the form of ``target_versions``: all of them where the replay is full, else the current
    ones."""
    current, flag = schema.is_current("t"), _flag(schema)
    some = f" AND (b.brenvik_full_replay = 1 OR {current})" if schema.has_versions else ""
    flagged = f", {sql.flag(f't.{sql.quote(flag)} = TRUE')} AS brenvik_flagged_current" if flag else ""
    keys = "".join(f", t.{sql.quote(column)} AS brenvik_key_{n}" for n, (column, _) in enumerate(schema.followed_keys))
    return f"""
SELECT {row_ids.taken(schema, "t")}, {as_target(schema)}, {sql.flag(current)} AS brenvik_is_current,
  b.brenvik_full_replay{flagged}{keys}
FROM {sql.work("stored_of_replay")} t
JOIN {sql.work("replay_keys")} b ON {sql.same("b", "t", schema.keys)}{some}"""


def _pairs(schema: TableSchema, *, several: bool) -> str:
    """Common table expressions that end with ``pairs``: which target version (``brenvik_version_no``) is which stored row; one of
    the two is null for rows that are new, and for rows that go.

    With ``several``, more than one stored row may match the same target version: under another key they were different
    versions, or something else wrote them. The first of them is it.
    """
    exact = sql.same("d", "s", schema.keys)
    exact += f" AND d.{FROM} = s.{FROM}" if schema.system_column("valid_from") else ""
    both = [*schema.keys, FROM]
    shown = ", ".join(f"COALESCE(d.{sql.quote(name)}, s.{sql.quote(name)}) AS {sql.quote(name)}" for name in both)
    ids, keys = row_ids.names(schema), sql.columns(schema.keys, "m")
    version, order = "d.brenvik_version_no", ", ".join(f"s.{each}" for each in ids)
    if several:
        first = f"row_number() OVER (PARTITION BY {version} ORDER BY {order}) = 1"
        version = f"CASE WHEN {first} THEN {version} END"
    left = f"m.brenvik_version_no IS NULL OR {row_ids.is_none(schema, 'm')}"
    side = "CASE WHEN m.brenvik_version_no IS NULL THEN 1 ELSE 0 END"
    nth = f"row_number() OVER (PARTITION BY {keys}, {side} ORDER BY m.{FROM})"
    chosen = ", ".join(f"max(r.{each}) AS {each}" for each in ids)
    return f"""matched AS (
  SELECT {shown}, {version} AS brenvik_version_no, {row_ids.listed(schema, "s")}
  FROM {sql.work("target_versions")} d FULL JOIN {sql.work("stored_versions")} s ON {exact}
), unmatched AS (
  SELECT {keys}, m.brenvik_version_no, {row_ids.listed(schema, "m")}, {nth} AS brenvik_nth FROM matched m WHERE {left}
), pairs AS (
  SELECT m.brenvik_version_no, {row_ids.listed(schema, "m")} FROM matched m WHERE NOT ({left})
  UNION ALL
  SELECT max(r.brenvik_version_no) AS brenvik_version_no, {chosen} FROM unmatched r
  GROUP BY {sql.columns(schema.keys, "r")}, r.brenvik_nth
)"""


def _content(schema: TableSchema) -> tuple[str, ...]:
    """The columns of ``target_versions`` and ``stored_versions`` that the table really has, besides the ends."""
    return (*([FROM] if schema.system_column("valid_from") else []), *schema.stored_values)


def _ends(schema: TableSchema) -> tuple[str, ...]:
    ends = [TO] if schema.system_column("valid_to") else []
    if schema.system_column("is_deleted") or schema.system_column("valid_to") is None:
        ends.append(ENDED)
    return tuple(ends)


def flagged_columns(schema: TableSchema) -> dict[str, str]:
    """The columns of which the write must know whether any update changes them, each with the column of ``actions`` that says
    so of one row (0 or 1)."""
    if schema.store.whole_rows:
        return {}
    ends = {name: f"brenvik_differs_{name.removeprefix('brenvik_')}" for name in (FROM, TO, ENDED)}
    there = {FROM: "valid_from", TO: "valid_to", ENDED: "is_deleted"}
    named = {name: flag for name, flag in ends.items() if schema.system_column(there[name])}
    return named | {name: differs_column(schema, name) for name in schema.stored_values}


def _current(alias: str) -> str:
    return sql.flag(f"{alias}.{TO} IS NULL AND {alias}.{ENDED} = 0")


@lru_cache(maxsize=256)
def find_actions(schema: TableSchema, *, check_log: accounting.Checked | None, several: bool) -> str:
    """The query for ``actions``. ``check_log`` says against what to check that the change log accounts for the stored rows;
    ``several`` see ``_pairs``."""
    closed_too = schema.has_versions and bool(schema.type_1)
    content = sql.differ((f"d.{sql.quote(c)}", f"s.{sql.quote(c)}") for c in _content(schema))
    for n, (_, key) in enumerate(schema.followed_keys):
        content = f"({content} OR s.brenvik_key_{n} IS DISTINCT FROM {key.value('d', f'd.{FROM}')})"
    ends = sql.differ((f"d.{sql.quote(c)}", f"s.{sql.quote(c)}") for c in _ends(schema))
    if _flag(schema):
        ends = f"({ends} OR s.brenvik_flagged_current <> {sql.flag(f'd.{TO} IS NULL')})"
    action = (
        f"CASE WHEN p.brenvik_version_no IS NULL THEN 'delete' WHEN {row_ids.is_none(schema, 'p')} THEN 'insert' "
        f"WHEN {content} THEN 'update' WHEN {ends} THEN 'close' ELSE 'keep' END"
    )
    keys = [f"COALESCE(d.{sql.quote(name)}, s.{sql.quote(name)}) AS {sql.quote(name)}" for name in schema.keys]
    flags = flagged_columns(schema)
    differ = [
        f"{sql.flag(f'd.{sql.quote(n)} IS DISTINCT FROM s.{sql.quote(n)}')} AS {flag}" for n, flag in flags.items()
    ]
    unlogged = accounting.is_unlogged(schema, check_log) if check_log else "0"
    shown = (FROM, TO, ENDED, *schema.stored_values)
    was, will = (f"COALESCE({_current(alias)}, 0)" for alias in ("s", "d"))
    differ += [f"{sql.flag(ends)} AS brenvik_ends_differ"] if schema.stamps_ends else []
    beside = (f"{was} AS brenvik_was_current", f"{will} AS brenvik_is_current", *differ)
    replayed = f"""
SELECT {action} AS brenvik_action, {row_ids.listed(schema, "p")}, {", ".join(keys)}, {sql.columns(shown, "d")},
  {", ".join(beside)}, {unlogged} AS brenvik_is_unlogged
FROM pairs p
LEFT JOIN {sql.work("target_versions")} d ON d.brenvik_version_no = p.brenvik_version_no
LEFT JOIN {sql.work("stored_versions")} s ON {row_ids.same(schema, "s", "p")}"""
    also = f" UNION ALL {_closed_versions(schema)}" if closed_too else ""
    return f"""
WITH {_pairs(schema, several=several)}, compared AS ({replayed}{also})
SELECT a.* FROM compared a WHERE a.brenvik_action <> 'keep' OR a.brenvik_is_unlogged = 1"""


def _closed_versions(schema: TableSchema) -> str:
    """Closed versions of keys that were replayed from their current version alone, which get its type 1 values as well."""
    alike = (*schema.type_1, *(name for _, name in schema.previous))
    some = sql.differ((f"x.{sql.quote(name)}", f"t.{sql.quote(name)}") for name in alike)
    own, ended = schema.system_column, schema.system_column("is_deleted")
    start, until = (f"t.{sql.quote(own(name) or '')}" for name in ("valid_from", "valid_to"))
    values = [f"{'x' if name in alike else 't'}.{sql.quote(name)}" for name in schema.stored_values]
    differ = [
        sql.flag(f"x.{sql.quote(name)} IS DISTINCT FROM t.{sql.quote(name)}") if name in alike else "0"
        for name in flagged_columns(schema)
    ]
    differ += ["0"] if schema.stamps_ends else []
    items = [
        "'update'", row_ids.taken(schema, "t"), sql.columns(schema.keys, "t"), start, until,
        sql.flag(f"t.{sql.quote(ended)} = TRUE") if ended else "0", *values, "0", "0", *differ, "0",
    ]  # fmt: skip
    return f"""
SELECT {", ".join(items)}
FROM (
  SELECT DISTINCT {sql.columns(schema.keys, "d")}, {sql.columns(alike, "d")} FROM {sql.work("target_versions")} d
) x
JOIN {sql.work("replay_keys")} b ON {sql.same("b", "x", schema.keys)} AND b.brenvik_full_replay = 0
JOIN {sql.work("stored_of_replay")} t ON {sql.same("t", "x", schema.keys)}
WHERE NOT ({schema.is_current("t")}) AND {some}"""


@lru_cache(maxsize=256)
def summarize(schema: TableSchema, *, decides: bool, duplicates: bool, late: str = "", tied: str = "") -> str:
    """One row about the replayed keys: how many rows have which action (``close``, …); how many more keys are current than
    before (``current_change``), and how many no longer (``ended``); how many keys have rows that the log does not account for
    (``unlogged``), and the first (``unlogged_key``); and for each flagged column whether an update changes it.

    ``decides``: also how many new changes have which decision and, where such changes are refused, other values of type 0 columns
    (``type_0``). ``duplicates``: how many are duplicates, and how many of these are
    ``late`` (a test of a change ``c``). ``tied`` is a further question.
    """
    actions, keys = sql.work("actions"), sql.columns(schema.keys, "a")
    key = f"CASE WHEN a.brenvik_is_unlogged = 1 THEN {schema.key_text('a')} END"
    items = [
        *(f"{sql.count_if(f'''a.brenvik_action = '{name}' ''')} AS {sql.quote(name)}" for name in ACTIONS),
        f"{sql.total('a.brenvik_is_current - a.brenvik_was_current')} AS current_change",
        f"count(DISTINCT {key}) AS unlogged", f"min({key}) AS unlogged_key",
        *(
            f"max(CASE WHEN a.brenvik_action = 'update' THEN a.{flag} ELSE 0 END) AS {flag}"
            for flag in flagged_columns(schema).values()
        ),
    ]  # fmt: skip
    parts = [
        f"(SELECT {', '.join(items)} FROM {actions} a) a",
        "(SELECT count(*) AS ended FROM ("
        f"SELECT {keys} FROM {actions} a GROUP BY {keys} "
        "HAVING max(a.brenvik_was_current) = 1 AND max(a.brenvik_is_current) = 0) k) e",
    ]
    shown = ["a.*", "e.ended"]
    if decides:
        counts = [f"{sql.count_if(f'''j.brenvik_decision = '{name}' ''')} AS {sql.quote(name)}" for name in DECIDED]
        counts += [f"{sql.total('j.brenvik_changes_type_0')} AS type_0"] if schema.counts_type_0_changes else []
        parts.append(f"(SELECT {', '.join(counts)} FROM {sql.work('decided')} j WHERE j.brenvik_is_new = 1) j")
        shown.append("j.*")
    if duplicates:
        of_late = f"{sql.count_if(late)} AS late_duplicates" if late else "0 AS late_duplicates"
        same = "d.brenvik_sequence_no = c.brenvik_sequence_no"
        join = f" JOIN {sql.work('changes')} c ON {same}" if late else ""
        parts.append(f"(SELECT count(*) AS duplicates, {of_late} FROM {sql.work('duplicates')} d{join}) d")
        shown.append("d.*")
    if tied:
        parts.append(f"({tied}) t")
        shown.append("t.*")
    return f"SELECT {', '.join(shown)} FROM {' CROSS JOIN '.join(parts)}"


DECIDED = tuple(name for name in DECISIONS if name not in ("rejected", "duplicate", "pending"))
"""The decisions that the replay makes."""


@lru_cache(maxsize=256)
def changed_keys(schema: TableSchema) -> str:
    """Per key: how many rows are added, changed (values or ends) and removed."""
    keys = sql.columns(schema.keys, "a")
    kinds = {"added": "= 'insert'", "changed": "IN ('update', 'close')", "removed": "= 'delete'"}
    sums = ", ".join(
        f"CAST(sum({sql.flag(f'a.brenvik_action {test}')}) AS BIGINT) AS brenvik_{name}" for name, test in kinds.items()
    )
    return f"SELECT {keys}, {sums} FROM {sql.work('actions')} a WHERE a.brenvik_action <> 'keep' GROUP BY {keys} ORDER BY {keys}"
