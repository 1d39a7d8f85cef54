"""The row changes of a run as values: what becomes of which rows of the table and of its change log.

On the current path the decisions say it all (see ``current_path``), for replayed keys the relation ``actions`` (see ``diff``).
"""

from __future__ import annotations

from collections.abc import Iterable
from functools import lru_cache

from brenvik.merge import row_ids, sql
from brenvik.merge.current_path import before_column, decided, is_present, needs_earlier, not_returning
from brenvik.merge.diff import ENDED, FROM, TO
from brenvik.merge.row_changes import DeleteRows, InsertRows, UpdateRows, Values
from brenvik.merge.schema import COLUMN_SET, DELETE, EFFECTIVE_AT, RUN, SEQUENCE_NO, TableSchema
from brenvik.merge.surrogate_keys import Counter

_IN_PLACE = ", 1 AS brenvik_ends_differ, 0 AS brenvik_is_current"
_AS_REPLAYED = ", a.brenvik_ends_differ, a.brenvik_is_current"


def _stamps(schema: TableSchema) -> list[tuple[str | None, str]]:
    own = schema.system_column
    return [(own("last_run"), ":run"), (own("last_loaded_at"), "CAST(:loaded_at AS TIMESTAMP)")]


def _overwritten(schema: TableSchema) -> list[tuple[str | None, str]]:
    return [(stamp.name, value) for stamp in schema.stamps if (value := stamp.on("overwritten"))]


def _closed(schema: TableSchema, *, also_overwritten: bool = False) -> list[tuple[str | None, str]]:
    """Stamps of rows whose ends may change: where ``brenvik_ends_differ`` is 1, to whether the row is current then."""
    items: list[tuple[str | None, str]] = []
    for stamp in schema.stamps:
        value = stamp.on("overwritten") if also_overwritten else None
        if stamp.marks_ends:
            end = f"CASE WHEN s.brenvik_is_current = 0 THEN {stamp.at_end(f's.{ENDED} = 1')} END"
            value = f"CASE WHEN s.brenvik_ends_differ = 1 THEN {end} ELSE {value or stamp.own} END"
        if value:
            items.append((stamp.name, value))
    return items


def _held(items: Iterable[tuple[str | None, str]]) -> Values:
    return tuple((name, value) for name, value in items if name)


def _until(schema: TableSchema) -> str:
    """The end of a version as the table has it."""
    return f"COALESCE(s.{TO}, {schema.open_end})" if schema.has_open_end else f"s.{TO}"


def _ends(schema: TableSchema, *, deletes: bool) -> list[tuple[str | None, str]]:
    """The columns that mark the end of a version. ``deletes`` says whether deletes can be involved; otherwise ``is_deleted`` is
    left alone."""
    own = schema.system_column
    current = f"(s.{TO} IS NULL)" if own("valid_to") else f"(s.{ENDED} = 0)"
    ended = [(own("is_deleted"), f"(s.{ENDED} = 1)")] if deletes else []
    return [(own("valid_to"), _until(schema)), (own("is_current"), current), *ended]


def _changes_of(condition: str) -> str:
    """The rows of the current path that meet a condition, each with its change."""
    return (
        f"FROM {sql.work('current_path')} p JOIN {sql.work('changes')} c ON c.{SEQUENCE_NO} = p.{SEQUENCE_NO} "
        f"WHERE {condition}"
    )


@lru_cache(maxsize=256)
def close(schema: TableSchema, *, current: bool, replayed: bool, deletes: bool, some_overwritten: bool) -> UpdateRows:
    """Closes (or reopens) versions of both paths, or of one; sets only the columns that mark the end. ``some_overwritten``: some
    versions are closed and overwritten at once, which is another row change."""
    sources, marks = [], schema.stamps_ends
    if current:
        closes = schema.deletes == "close" and deletes
        ending = decided("p", "versioned", "deleted") if closes else decided("p", "versioned")
        ending += " AND p.brenvik_sets_type_1 = 0" if some_overwritten else ""
        sources.append(
            f"SELECT {row_ids.listed(schema, 'p')}, p.{EFFECTIVE_AT} AS {TO}, {sql.flag(decided('p', 'deleted'))} AS {ENDED}"
            f"{_IN_PLACE if marks else ''} FROM {sql.work('current_path')} p WHERE {ending}"
        )
    if replayed:
        sources.append(
            f"SELECT {row_ids.listed(schema, 'a')}, a.{TO}, a.{ENDED}{_AS_REPLAYED if marks else ''} "
            f"FROM {sql.work('actions')} a WHERE a.brenvik_action = 'close'"
        )
    columns = _held([*_ends(schema, deletes=deletes), *_closed(schema), *_stamps(schema)])
    return UpdateRows(schema.table, columns, f"({' UNION ALL '.join(sources)})", schema.row_ids, "closed")


def _new_values(schema: TableSchema, names: Iterable[str]) -> list[str]:
    """Select items: the values that a change on the current path gives to columns; where it lacks one, the one from before."""
    of, items = {previous: column for column, previous in schema.previous}, []
    for name in names:
        value, before = f"c.{sql.quote(name)}", f"p.{before_column(schema, name)}"
        here = is_present(schema, "c", of.get(name, name))
        if name in of:
            new, old = f"c.{sql.quote(of[name])}", f"p.{before_column(schema, of[name])}"
            differs = " AND ".join(filter(None, [here, schema.differs(of[name], new, old)]))
            value = f"CASE WHEN {differs} THEN {old} ELSE {before} END"
        elif name in schema.type_0:
            value = f"COALESCE({before}, {value})"
        elif name in dict(schema.ignored):
            differs = " AND ".join(filter(None, [here, schema.differs(name, value, before)]))
            value = f"CASE WHEN {differs} THEN {value} ELSE {before} END"
        elif here:
            value = f"CASE WHEN {here} THEN {value} ELSE {before} END"
        items.append(sql.named(value, name))
    return items


def _with_previous(schema: TableSchema, names: Iterable[str]) -> tuple[str, ...]:
    """Columns, and those that keep their previous values."""
    names = tuple(names)
    return (*names, *(previous for column, previous in schema.previous if column in names))


def _given(names: Iterable[str]) -> list[tuple[str | None, str]]:
    return [(name, f"s.{sql.quote(name)}") for name in names]


@lru_cache(maxsize=256)
def close_and_overwrite(schema: TableSchema, names: tuple[str, ...]) -> UpdateRows:
    """Closes versions and overwrites their type 1 columns ``names``."""
    names = _with_previous(schema, names)
    items = [
        row_ids.listed(schema, "p"),
        f"p.{EFFECTIVE_AT} AS {TO}",
        f"0 AS {ENDED}{_IN_PLACE if schema.stamps_ends else ''}",
        *_new_values(schema, names),
    ]
    both = f"{decided('p', 'versioned')} AND p.brenvik_sets_type_1 = 1"
    both_stamps = _closed(schema, also_overwritten=True)
    columns = _held([*_ends(schema, deletes=False), *_given(names), *both_stamps, *_stamps(schema)])
    source = f"(SELECT {', '.join(items)} {_changes_of(both)})"
    return UpdateRows(schema.table, columns, source, schema.row_ids, "closed and overwritten")


@lru_cache(maxsize=256)
def overwrite(schema: TableSchema, names: tuple[str, ...], *, spreads: bool) -> UpdateRows:
    """Overwrites the columns ``names`` for changes on the current path; with ``spreads`` in closed versions as well."""
    names = _with_previous(schema, names)
    path = sql.work("current_path")
    items = sql.listed(row_ids.listed(schema, "r"), *_new_values(schema, names), sep=", ")
    ids = row_ids.listed(schema, "p")
    rows = (
        f"SELECT {ids}, p.{SEQUENCE_NO} FROM {path} p "
        f"WHERE p.brenvik_sets_type_1 = 1 AND {decided('p', 'overwritten', 'protected', 'unchanged')}"
    )
    if spreads:
        rows += f" UNION ALL SELECT {row_ids.listed(schema, 'o')}, o.{SEQUENCE_NO} FROM {sql.work('closed_versions')} o"
    before = ""
    if any(needs_earlier(schema, name) for name in names):
        before = f" JOIN {path} p ON p.{SEQUENCE_NO} = r.{SEQUENCE_NO}"
    in_order = ""
    if schema.store.whole_rows:  # else pages are read at random
        in_order = f" ORDER BY {row_ids.listed(schema, 'r')}"
    source = (
        f"(SELECT {items} FROM ({rows}) r "
        f"JOIN {sql.work('changes')} c ON c.{SEQUENCE_NO} = r.{SEQUENCE_NO}{before}{in_order})"
    )
    columns = _held([*_given(names), *_overwritten(schema), *_stamps(schema)])
    return UpdateRows(schema.table, columns, source, schema.row_ids, "overwritten")


@lru_cache(maxsize=256)
def update(schema: TableSchema, names: tuple[str, ...]) -> UpdateRows:
    """Updates rows of replayed keys, but only the columns ``names``: values, or what working relations call beginning and end."""
    items = _given(name for name in names if name in schema.stored_values)
    if FROM in names:
        items.append((schema.system_column("valid_from"), f"s.{FROM}"))
    items += [(column, key.value("s", f"s.{FROM}")) for column, key in schema.followed_keys]
    if TO in names or ENDED in names:
        items += _ends(schema, deletes=True)
    source = f"(SELECT a.* FROM {sql.work('actions')} a WHERE a.brenvik_action = 'update')"
    items += _closed(schema, also_overwritten=True)
    return UpdateRows(schema.table, _held([*items, *_stamps(schema)]), source, schema.row_ids, "updated")


@lru_cache(maxsize=256)
def find_removed_rows(schema: TableSchema) -> str:
    """The rows that deletes on the current path remove, where deletes remove."""
    return f"""
SELECT {row_ids.taken(schema, "t")}
FROM {sql.work("stored")} t
WHERE EXISTS (
  SELECT 1 {_changes_of(decided("p", "deleted"))} AND {sql.same("t", "c", schema.keys)})"""


@lru_cache(maxsize=256)
def delete(schema: TableSchema, *, current: bool, replayed: bool) -> DeleteRows:
    """Deletes rows of both paths, or of one."""
    sources = []
    if current:
        sources.append(f"SELECT {row_ids.listed(schema, 'r')} FROM {sql.work('removed_rows')} r")
    if replayed:
        sources.append(
            f"SELECT {row_ids.listed(schema, 'a')} FROM {sql.work('actions')} a WHERE a.brenvik_action = 'delete'"
        )
    return DeleteRows(schema.table, f"({' UNION ALL '.join(sources)})", schema.row_ids)


def _added(schema: TableSchema) -> list[tuple[str | None, str]]:
    """Stamps of new rows, of which some end already."""
    items: list[tuple[str | None, str]] = []
    for stamp in schema.stamps:
        value = stamp.on("added") or "NULL"
        if stamp.marks_ends:
            value = f"CASE WHEN s.brenvik_current THEN {value} ELSE {stamp.at_end(f's.{ENDED}')} END"
        items.append((stamp.name, value))
    return items


@lru_cache(maxsize=256)
def insert(schema: TableSchema, *, current: bool, replayed: bool, some_returning: bool) -> InsertRows:
    """Inserts the new rows of both paths, or of one."""
    own = schema.system_column
    sources = []
    if current:
        values = _new_values(schema, schema.stored_values)
        content = sql.listed(sql.columns(schema.keys, "c"), *values, sep=", ")
        which = decided("p", "inserted", "versioned") + (not_returning("p") if some_returning else "")
        sources.append(
            f"SELECT {content}, c.{EFFECTIVE_AT} AS brenvik_valid_from, {schema.open_end} AS {TO}, TRUE AS brenvik_current, "
            f"FALSE AS {ENDED} {_changes_of(which)}"
        )
    if replayed:
        content = sql.columns((*schema.keys, *schema.stored_values), "s")
        sources.append(
            f"SELECT {content}, s.{FROM} AS brenvik_valid_from, {_until(schema)} AS {TO}, (s.{TO} IS NULL) AS brenvik_current, "
            f"(s.{ENDED} = 1) AS {ENDED} FROM {sql.work('actions')} s WHERE s.brenvik_action = 'insert'"
        )
    given = None if schema.surrogate_keys.follows else schema.surrogate_keys.value("s", "s.brenvik_valid_from")
    items = [
        *([(own("surrogate_key"), given)] if given else []),
        *((column, key.value("s", "s.brenvik_valid_from")) for column, key in schema.followed_keys),
        *_given((*schema.keys, *schema.stored_values)),
        *_added(schema),
        (own("valid_from"), "s.brenvik_valid_from"),
        (own("valid_to"), f"CAST(s.{TO} AS {schema.effective_type.sql})"),
        (own("is_current"), "s.brenvik_current"),
        (own("is_deleted"), f"s.{ENDED}"),
        (own("first_run"), ":run"),
        (own("last_run"), ":run"),
        (own("first_loaded_at"), "CAST(:loaded_at AS TIMESTAMP)"),
        (own("last_loaded_at"), "CAST(:loaded_at AS TIMESTAMP)"),
    ]
    return InsertRows(schema.table, _held(items), f"({' UNION ALL '.join(sources)})")


@lru_cache(maxsize=256)
def append(schema: TableSchema) -> InsertRows:
    """Inserts the rows in ``changes`` as they are, with consecutive surrogate keys in the order of their source."""
    own, key = schema.system_column, schema.surrogate_keys
    value = (
        f":last_key + row_number() OVER (ORDER BY s.{SEQUENCE_NO})" if isinstance(key, Counter) else key.value("s", "")
    )
    items = [
        *([(own("surrogate_key"), value)] if value else []),
        *_given(schema.values),
        *_added(schema),
        (own("first_run"), ":run"),
        (own("first_loaded_at"), "CAST(:loaded_at AS TIMESTAMP)"),
    ]
    return InsertRows(schema.table, _held(items), sql.work("changes"))


def _logged(schema: TableSchema, source: str, *, run: str, what: str) -> InsertRows:
    assert schema.change_log
    names = (SEQUENCE_NO, COLUMN_SET, DELETE, EFFECTIVE_AT, *schema.change_columns)
    return InsertRows(schema.change_log, ((RUN, run), *_held(_given(names))), source, what)


@lru_cache(maxsize=256)
def log_changes(schema: TableSchema, *, some_duplicates: bool) -> InsertRows:
    """Appends the accepted changes that are not duplicates to the change log."""
    source = sql.work("changes")
    if some_duplicates:
        source = (
            f"(SELECT c.* FROM {source} c WHERE NOT EXISTS ("
            f"SELECT 1 FROM {sql.work('duplicates')} d WHERE d.{SEQUENCE_NO} = c.{SEQUENCE_NO}))"
        )
    return _logged(schema, source, run=":run", what="logged")


@lru_cache(maxsize=256)
def log_deletes(schema: TableSchema) -> InsertRows:
    """Appends the inactive deletes to the change log."""
    source = f"(SELECT c.* FROM {sql.work('decided_deletes')} c WHERE c.brenvik_decision <> 'duplicate')"
    return _logged(schema, source, run=":run", what="logged")


@lru_cache(maxsize=256)
def log_explicit(schema: TableSchema, relations: tuple[str, ...]) -> InsertRows:
    """Appends explicit changes, of any runs, to the change log."""
    names = sql.columns((RUN, SEQUENCE_NO, COLUMN_SET, DELETE, EFFECTIVE_AT, *schema.change_columns), "k")
    source = " UNION ALL ".join(f"SELECT {names} FROM {relation} k" for relation in relations)
    return _logged(schema, f"({source})", run=f"s.{RUN}", what="logged")
