"""Row changes: the difference between the rows that the table has and those it should have.

On the current path the decisions say it all (see ``current_path``). For replayed keys, ``target_versions`` is compared with
``stored_versions``: they are matched by (key, valid_from), the rest pairwise in the order of valid_from, so that rows keep
their surrogate keys. The result is in four relations:

    to_close   rows whose end changes: row id, new end, whether a delete ended it
    to_update  rows whose values change: row id and all new values
    to_insert  numbers (``brenvik_version_no``) of target versions that are new
    to_delete  row ids of rows to remove
"""

from __future__ import annotations

from functools import lru_cache

from brenvik.merge import sql
from brenvik.merge.current_path import before_column, decided, is_present, removed_keys
from brenvik.merge.schema import EFFECTIVE_AT, SEQUENCE_NO, TableSchema


@lru_cache(maxsize=256)
def close_on_current_path(schema: TableSchema, *, some_replayed: bool) -> str:
    """Makes ``to_close`` for the current path; only a view where no key is replayed."""
    ending = decided("p", "versioned", "deleted") if schema.deletes == "close" else decided("p", "versioned")
    return f"""
CREATE TEMP {"TABLE" if some_replayed else "VIEW"} {sql.work("to_close")} AS
SELECT p.brenvik_row_id, p.{EFFECTIVE_AT} AS brenvik_valid_to, {sql.flag(decided("p", "deleted"))} AS brenvik_deleted
FROM {sql.work("current_path")} p
WHERE {ending}"""


@lru_cache(maxsize=256)
def delete_on_current_path(schema: TableSchema) -> str:
    """Makes ``to_delete`` for the current path, where deletes remove rows."""
    return f"CREATE TEMP TABLE {sql.work('to_delete')} AS {removed_keys(schema)}"


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
    times = f"CAST({start} AS {kind}) AS {EFFECTIVE_AT}, CAST({until} AS {kind}) AS brenvik_valid_to, {ended} AS brenvik_deleted"
    return sql.listed(sql.columns(schema.keys, "t"), times, sql.columns(schema.values, "t"), sep=", ")


@lru_cache(maxsize=256)
def as_it_was(schema: TableSchema, relation: str) -> str:
    """Makes ``target_versions`` from a relation with the rows of the table as they were."""
    return f"CREATE TEMP TABLE {sql.work('target_versions')} AS SELECT {as_target(schema)} FROM {relation} t"


@lru_cache(maxsize=256)
def find_stored_versions(schema: TableSchema) -> str:
    """Makes ``stored_versions``: the rows of the replayed keys, in the form of ``target_versions``."""
    scope = f" AND (b.brenvik_full_replay = 1 OR {schema.is_current('t')})" if schema.has_versions else ""
    flag = _flag(schema)
    flagged = f", {sql.flag(f't.{sql.quote(flag)} = TRUE')} AS brenvik_flagged_current" if flag else ""
    return f"""
CREATE TEMP TABLE {sql.work("stored_versions")} AS
SELECT t.{sql.quote(schema.row_id)} AS brenvik_row_id, {as_target(schema)}, b.brenvik_full_replay{flagged}
FROM {sql.relation(schema.table)} t
JOIN {sql.work("replay_keys")} b ON {sql.same("b", "t", schema.keys)}{scope}"""


@lru_cache(maxsize=256)
def match_versions(schema: TableSchema, *, several: bool = False) -> str:
    """Makes ``matches``: which target version (``brenvik_version_no``) is which stored row.

    With ``several``, more than one stored row may match the same target version: under another key they were different
    versions, or something else wrote them.
    """
    keys = schema.keys
    match = sql.same("d", "s", keys)
    exact = f"{match} AND d.{EFFECTIVE_AT} = s.{EFFECTIVE_AT}" if schema.system_column("valid_from") else match

    def rest(relation: str, column: str, alias: str) -> str:
        order = f"PARTITION BY {sql.columns(keys, alias)} ORDER BY {alias}.{EFFECTIVE_AT}"
        return f"""
SELECT {sql.columns(keys, alias)}, {alias}.{column}, row_number() OVER ({order}) AS brenvik_nth
FROM {sql.work(relation)} {alias}
WHERE NOT EXISTS (SELECT 1 FROM exact e WHERE e.{column} = {alias}.{column})"""

    both = f"{sql.work('target_versions')} d JOIN {sql.work('stored_versions')} s ON {exact}"
    matched = f"SELECT d.brenvik_version_no, s.brenvik_row_id FROM {both}"
    if several:
        first = "min(m.brenvik_row_id) AS brenvik_row_id"
        matched = f"SELECT m.brenvik_version_no, {first} FROM ({matched}) m GROUP BY m.brenvik_version_no"
    return f"""
CREATE TEMP TABLE {sql.work("matches")} AS
WITH exact AS (
  {matched}
), new_left AS ({rest("target_versions", "brenvik_version_no", "d")}
), old_left AS ({rest("stored_versions", "brenvik_row_id", "s")}
)
SELECT brenvik_version_no, brenvik_row_id FROM exact
UNION ALL
SELECT d.brenvik_version_no, s.brenvik_row_id FROM new_left d JOIN old_left s ON {match} AND d.brenvik_nth = s.brenvik_nth"""


def _compared(schema: TableSchema) -> tuple[str, ...]:
    """The columns of ``target_versions`` and ``stored_versions`` that the table really has."""
    held = []
    if schema.system_column("valid_from"):
        held.append(EFFECTIVE_AT)
    held += list(schema.values)
    return tuple(held)


def _flag(schema: TableSchema) -> str | None:
    """The column is_current, where valid_to implies it."""
    return schema.system_column("is_current") if schema.system_column("valid_to") else None


def _ends(schema: TableSchema) -> tuple[str, ...]:
    ends = []
    if schema.system_column("valid_to"):
        ends.append("brenvik_valid_to")
    if schema.system_column("is_deleted") or schema.system_column("valid_to") is None:
        ends.append("brenvik_deleted")
    return tuple(ends)


@lru_cache(maxsize=256)
def replay_actions(schema: TableSchema) -> tuple[tuple[str, str], ...]:
    """Adds to ``to_close`` and makes ``to_update`` and ``to_insert``; adds to ``to_delete`` where the current path made it,
    else makes it. For each statement the relation that it fills, and its text."""
    content = sql.differ((f"d.{sql.quote(c)}", f"s.{sql.quote(c)}") for c in _compared(schema))
    ends = sql.differ((f"d.{sql.quote(c)}", f"s.{sql.quote(c)}") for c in _ends(schema))
    if _flag(schema):
        ends = f"({ends} OR s.brenvik_flagged_current <> {sql.flag('d.brenvik_valid_to IS NULL')})"
    pairs = f"""
FROM {sql.work("matches")} p
JOIN {sql.work("target_versions")} d ON d.brenvik_version_no = p.brenvik_version_no
JOIN {sql.work("stored_versions")} s ON s.brenvik_row_id = p.brenvik_row_id"""
    shown = (EFFECTIVE_AT, "brenvik_valid_to", "brenvik_deleted", *schema.values)
    to_delete = sql.work("to_delete")
    deleted = f"CREATE TEMP TABLE {to_delete} AS" if schema.deletes == "close" else f"INSERT INTO {to_delete}"
    statements = [
        (
            "to_close",
            f"INSERT INTO {sql.work('to_close')} SELECT s.brenvik_row_id, d.brenvik_valid_to, d.brenvik_deleted {pairs} "
            f"WHERE NOT ({content}) AND {ends}",
        ),
        (
            "to_update",
            f"CREATE TEMP TABLE {sql.work('to_update')} AS SELECT s.brenvik_row_id, {sql.columns(shown, 'd')} {pairs} "
            f"WHERE {content}",
        ),
        (
            "to_insert",
            f"CREATE TEMP TABLE {sql.work('to_insert')} AS SELECT d.brenvik_version_no FROM {sql.work('target_versions')} d "
            f"WHERE NOT EXISTS (SELECT 1 FROM {sql.work('matches')} p WHERE p.brenvik_version_no = d.brenvik_version_no)",
        ),
        (
            "to_delete",
            f"{deleted} SELECT s.brenvik_row_id FROM {sql.work('stored_versions')} s "
            f"WHERE NOT EXISTS (SELECT 1 FROM {sql.work('matches')} p WHERE p.brenvik_row_id = s.brenvik_row_id)",
        ),
    ]
    if schema.type_1 and schema.has_versions:
        # Closed versions of keys replayed from their current version alone get the type 1 values as well.
        own = schema.system_column
        values = [f"x.{sql.quote(name)}" if name in schema.type_1 else f"t.{sql.quote(name)}" for name in schema.values]
        ended = f"CASE WHEN t.{sql.quote(own('is_deleted') or '')} THEN 1 ELSE 0 END" if own("is_deleted") else "0"
        some = sql.differ((f"x.{sql.quote(name)}", f"t.{sql.quote(name)}") for name in schema.type_1)
        statements.append(
            (
                "to_update",
                f"""
INSERT INTO {sql.work("to_update")}
SELECT t.{sql.quote(schema.row_id)}, t.{sql.quote(own("valid_from") or "")}, t.{sql.quote(own("valid_to") or "")}, {ended},
  {", ".join(values)}
FROM (
  SELECT DISTINCT {sql.columns(schema.keys, "d")}, {sql.columns(schema.type_1, "d")} FROM {sql.work("target_versions")} d
) x
JOIN {sql.work("replay_keys")} b ON {sql.same("b", "x", schema.keys)} AND b.brenvik_full_replay = 0
JOIN {sql.relation(schema.table)} t ON {sql.same("t", "x", schema.keys)}
WHERE NOT ({schema.is_current("t")}) AND {some}""",
            )
        )
    return tuple(statements)


@lru_cache(maxsize=256)
def count_current(schema: TableSchema) -> str:
    """How many replayed keys are current in the table (``before``), how many will be (``after``), and how many of the first
    will not be (``ends``)."""
    current = f"SELECT count(*) FROM {sql.work('stored_versions')} s WHERE s.brenvik_valid_to IS NULL AND s.brenvik_deleted = 0"
    same_key = sql.same("d", "s", schema.keys)
    will_be = f"SELECT 1 FROM {sql.work('target_versions')} d WHERE {same_key} AND d.brenvik_valid_to IS NULL"
    return f"""
SELECT ({current}) AS before, ({current} AND NOT EXISTS ({will_be})) AS ends,
  (SELECT count(*) FROM {sql.work("target_versions")} d WHERE d.brenvik_valid_to IS NULL) AS after"""


@lru_cache(maxsize=256)
def changed_columns(schema: TableSchema) -> str:
    """For each column of ``to_update``, whether any row differs in it (0 or 1)."""
    names = (EFFECTIVE_AT, "brenvik_valid_to", "brenvik_deleted", *schema.values)
    own = dict(schema.system_columns)
    stored = {
        EFFECTIVE_AT: own["valid_from"],
        "brenvik_valid_to": own["valid_to"],
        "brenvik_deleted": own["is_deleted"],
    }
    flags = []
    for name in names:
        column = stored.get(name, name)
        if column is None:
            flags.append(f"0 AS {sql.quote(name)}")
            continue
        value = f"t.{sql.quote(column)}"
        new = f"s.{sql.quote(name)}"
        if name == "brenvik_valid_to":
            new = _until(schema, "s")
        if name == "brenvik_deleted":
            new = f"({new} = 1)"
        flags.append(f"max({sql.flag(f'{value} IS DISTINCT FROM {new}')}) AS {sql.quote(name)}")
    return f"""
SELECT {", ".join(flags)}
FROM {sql.work("to_update")} s
JOIN {sql.relation(schema.table)} t ON t.{sql.quote(schema.row_id)} = s.brenvik_row_id"""


def _stamp(schema: TableSchema) -> list[str]:
    return [
        f"{sql.quote(name)} = {value}"
        for name, value in (
            (schema.system_column("last_run"), ":run"),
            (schema.system_column("last_loaded_at"), "CAST(:loaded_at AS TIMESTAMP)"),
        )
        if name
    ]


def _until(schema: TableSchema, alias: str) -> str:
    """The end of a version as the table has it."""
    end = f"{alias}.brenvik_valid_to"
    return f"COALESCE({end}, {schema.open_end})" if schema.has_open_end else end


def _current(schema: TableSchema, until: str, ended: str) -> str:
    return f"({until} IS NULL)" if schema.system_column("valid_to") else f"({ended} = 0)"


@lru_cache(maxsize=256)
def close_rows(schema: TableSchema, *, deletes: bool) -> str:
    """Closes (or reopens) versions; sets only the columns that mark the end.

    ``deletes`` says whether deletes can be involved; otherwise ``is_deleted`` is left alone.
    """
    own = schema.system_column
    items = [
        (own("valid_to"), _until(schema, "s")),
        (own("is_current"), _current(schema, "s.brenvik_valid_to", "s.brenvik_deleted")),
    ]
    if deletes:
        items.append((own("is_deleted"), "(s.brenvik_deleted = 1)"))
    given = [f"{sql.quote(name)} = {value}" for name, value in items if name]
    return _update(schema, [*given, *_stamp(schema)], f"{sql.work('to_close')} s", "s")


@lru_cache(maxsize=256)
def update_rows(schema: TableSchema, names: tuple[str, ...]) -> str:
    """Updates the rows of ``to_update``, but only the columns ``names`` (those of ``changed_columns``)."""
    own = schema.system_column
    items: list[tuple[str | None, str]] = [(name, f"s.{sql.quote(name)}") for name in names if name in schema.values]
    if EFFECTIVE_AT in names:
        items.append((own("valid_from"), f"s.{EFFECTIVE_AT}"))
    if "brenvik_valid_to" in names or "brenvik_deleted" in names:
        items.append((own("valid_to"), _until(schema, "s")))
        items.append((own("is_deleted"), "(s.brenvik_deleted = 1)"))
        items.append((own("is_current"), _current(schema, "s.brenvik_valid_to", "s.brenvik_deleted")))
    given = [f"{sql.quote(name)} = {value}" for name, value in items if name]
    return _update(schema, [*given, *_stamp(schema)], f"{sql.work('to_update')} s", "s")


@lru_cache(maxsize=256)
def overwrite_type_1(schema: TableSchema, names: tuple[str, ...], *, spreads: bool) -> str:
    """Overwrites the type 1 columns ``names`` for changes on the current path."""
    rows = f"SELECT brenvik_row_id, {SEQUENCE_NO} FROM {sql.work('current_path')} WHERE brenvik_sets_type_1 = 1"
    if spreads:
        rows += f" UNION ALL SELECT brenvik_row_id, {SEQUENCE_NO} FROM {sql.work('to_overwrite')}"
    target = sql.relation(schema.table)
    given = []
    for name in names:
        value = f"s.{sql.quote(name)}"
        if here := is_present(schema, "s", name):
            value = f"CASE WHEN {here} THEN {value} ELSE {target}.{sql.quote(name)} END"
        given.append(f"{sql.quote(name)} = {value}")
    in_order = " ORDER BY r.brenvik_row_id" if schema.store.whole_rows else ""  # else pages are visited in random order
    source = f"""(
  SELECT r.brenvik_row_id, c.brenvik_column_set, {sql.columns(names, "c")}
  FROM ({rows}) r JOIN {sql.work("changes")} c ON c.{SEQUENCE_NO} = r.{SEQUENCE_NO}{in_order}
) s"""
    return _update(schema, [*given, *_stamp(schema)], source, "s")


def _update(schema: TableSchema, items: list[str], source: str, alias: str) -> str:
    target = sql.relation(schema.table)
    found = f"{target}.{sql.quote(schema.row_id)} = {alias}.brenvik_row_id"
    # A table without any such column still counts the rows: its first key column is set to itself.
    items = items or [f"{sql.quote(schema.keys[0])} = {target}.{sql.quote(schema.keys[0])}"]
    return f"UPDATE {target} SET {', '.join(items)} FROM {source} WHERE {found}"


@lru_cache(maxsize=256)
def delete_rows(schema: TableSchema) -> str:
    target = sql.relation(schema.table)
    removed = f"SELECT r.brenvik_row_id FROM {sql.work('to_delete')} r"
    return f"DELETE FROM {target} WHERE {target}.{sql.quote(schema.row_id)} IN ({removed})"


@lru_cache(maxsize=256)
def insert_rows(schema: TableSchema, *, current: bool, replayed: bool) -> str:
    """Inserts the new rows of both paths. Surrogate keys continue from the parameter ``last_key``."""
    own = schema.system_column
    sources = []
    if current:
        values = []
        for name in schema.values:
            new, earlier = f"c.{sql.quote(name)}", f"p.{before_column(schema, name)}"
            if name in schema.type_0:
                new = f"COALESCE({earlier}, {new})"
            elif here := is_present(schema, "c", name):
                new = f"CASE WHEN {here} THEN {new} ELSE {earlier} END"
            values.append(sql.named(new, name))
        content = sql.listed(sql.columns(schema.keys, "c"), *values, sep=", ")
        sources.append(f"""
SELECT {content}, c.{EFFECTIVE_AT} AS brenvik_valid_from, {schema.open_end} AS brenvik_valid_to,
  TRUE AS brenvik_current, FALSE AS brenvik_deleted
FROM {sql.work("current_path")} p JOIN {sql.work("changes")} c ON c.{SEQUENCE_NO} = p.{SEQUENCE_NO}
WHERE {decided("p", "inserted", "versioned")}""")
    if replayed:
        content = sql.columns((*schema.keys, *schema.values), "d")
        sources.append(f"""
SELECT {content}, d.{EFFECTIVE_AT} AS brenvik_valid_from, {_until(schema, "d")} AS brenvik_valid_to,
  (d.brenvik_valid_to IS NULL) AS brenvik_current, (d.brenvik_deleted = 1) AS brenvik_deleted
FROM {sql.work("to_insert")} a JOIN {sql.work("target_versions")} d ON d.brenvik_version_no = a.brenvik_version_no""")
    shown = (*schema.keys, *schema.values)
    items = [
        (None if schema.numbered_by_store else own("surrogate_key"), ":last_key + row_number() OVER ()"),
        *((name, f"n.{sql.quote(name)}") for name in shown),
        (own("valid_from"), "n.brenvik_valid_from"),
        (own("valid_to"), f"CAST(n.brenvik_valid_to AS {schema.effective_type.sql})"),
        (own("is_current"), "n.brenvik_current"),
        (own("is_deleted"), "n.brenvik_deleted"),
        (own("first_run"), ":run"),
        (own("last_run"), ":run"),
        (own("first_loaded_at"), "CAST(:loaded_at AS TIMESTAMP)"),
        (own("last_loaded_at"), "CAST(:loaded_at AS TIMESTAMP)"),
    ]
    held = [(name, value) for name, value in items if name]
    return f"""
INSERT INTO {sql.relation(schema.table)} ({", ".join(sql.quote(name) for name, _ in held)})
SELECT {", ".join(value for _, value in held)}
FROM ({" UNION ALL ".join(sources)}) n"""
