"""The replay path: window functions turn the changes of a key, in (effective time, order), into versions and decisions.

The *events* of a key are its new changes and a base: its current version where that is enough; for full replay its change
log (or, without a log, its stored versions).

The last event at an effective time counts. A delete that counts ends a lifetime; the next upsert begins another one, of
which nothing is known at first. Within a lifetime, values accumulate: a column that a change lacks keeps its value (also
through upserts that do not count, unless the effective time ends in a delete); type 0 keeps the first known value.
Upserts that count but equal the event before them in type 2 columns open no version. Type 1 columns hold the key's last
value in all its versions. Columns that are not compared have the values of the upsert that opened the version; without type 2
columns, of the last one that overwrote the row. An upsert that moves the beginning of an existing lifetime to an earlier time
is not the first of a lifetime: it opens a version.

A change is compared with the state just before it on the finished timeline; one that takes the place of a logged event at
the same effective time is compared with that event.

``brenvik_rank`` is 1 for all events where there is a change log. Without one, at the same effective time and for type 1,
stored versions (1) outrank late changes (0) and yield to newer ones (2): loading old batches again changes nothing.
"""

from __future__ import annotations

from functools import lru_cache
from typing import Literal

from brenvik.merge import sql
from brenvik.merge.classify import is_late
from brenvik.merge.current_path import before_column, is_present
from brenvik.merge.replay_columns import beside, first_forms, kept_columns
from brenvik.merge.replay_decisions import changes_type_0, decision_of, starts
from brenvik.merge.schema import COLUMN_SET, DELETE, EFFECTIVE_AT, RUN, SEQUENCE_NO, TableSchema

Chosen = Literal["", "keys", "again"]
"""Which keys are replayed: those that a load found; chosen ``keys``, without new changes; or those of past runs that are decided
``again``. All but the first have a full replay."""


def _time_only(schema: TableSchema) -> tuple[str, ...]:
    """Order columns that are not in the table: stored versions do not have them."""
    return tuple(name for name in schema.change_columns if name not in (*schema.keys, *schema.values))


def _event_columns(schema: TableSchema) -> str:
    names = (*schema.keys, EFFECTIVE_AT, "brenvik_rank", RUN, SEQUENCE_NO, "brenvik_is_new", DELETE, COLUMN_SET)
    return sql.columns((*dict.fromkeys((*names, *schema.change_columns)), *_earlier(schema)))


def _earlier(schema: TableSchema) -> dict[str, str]:
    """For columns of type 3: what of stored versions is the previous value, by what events call it; changes have none."""
    return {f"brenvik_earlier_{schema.values.index(column)}": name for column, name in schema.previous}


def _nothing_earlier(schema: TableSchema) -> list[str]:
    return [f"CAST(NULL AS {schema.type_of(name).sql})" for name in _earlier(schema).values()]


def _new_events(schema: TableSchema, *, first: bool) -> str:
    rank, spliced = "1", ""
    if not schema.change_log and not first:
        # Without a log a stored version does not say how it came about: late changes never override it.
        late = is_late(schema, "c")
        rank = f"CASE WHEN {late} THEN 0 ELSE 2 END"
        if not schema.has_versions:  # earlier lifetimes are not stored
            before = f" AND c.{EFFECTIVE_AT} < s.{EFFECTIVE_AT}" if schema.system_column("valid_from") else ""
            spliced = f"""
  AND NOT ({late} AND EXISTS (
    SELECT 1 FROM {sql.work("stored_versions")} s WHERE {sql.same("s", "c", schema.keys)}{before}))"""
    head = f"c.{EFFECTIVE_AT}, {rank}, :run, c.{SEQUENCE_NO}, 1, c.{DELETE}, c.{COLUMN_SET}"
    fresh = f"""
  AND NOT EXISTS (SELECT 1 FROM {sql.work("duplicates")} d WHERE d.{SEQUENCE_NO} = c.{SEQUENCE_NO})"""
    return f"""
SELECT {sql.listed(sql.columns(schema.keys, "c"), head, sql.columns(_rest(schema), "c"), *_nothing_earlier(schema))}
FROM {sql.work("changes")} c
WHERE EXISTS (
  SELECT 1 FROM {sql.work("replay_keys")} b WHERE {sql.same("b", "c", schema.keys)}){fresh if schema.order else ""}{spliced}"""


def _rest(schema: TableSchema) -> tuple[str, ...]:
    return tuple(name for name in schema.change_columns if name not in schema.keys)


def _kept_events(schema: TableSchema) -> str:
    assert schema.change_log
    head = f"k.{EFFECTIVE_AT}, 1, k.{RUN}, k.{SEQUENCE_NO}, 0, k.{DELETE}, k.{COLUMN_SET}"
    return f"""
SELECT {sql.listed(sql.columns(schema.keys, "k"), head, sql.columns(_rest(schema), "k"), *_nothing_earlier(schema))}
FROM {sql.work("replay_keys")} b
JOIN {sql.work("active_changes")} k ON {sql.same("k", "b", schema.keys)}
WHERE b.brenvik_full_replay = 1"""


def _stored_events(schema: TableSchema, *, full: int) -> str:
    """Stored versions as upserts of all columns: the current one, or all of a key (spliced)."""
    effective = f"s.{EFFECTIVE_AT}" if schema.system_column("valid_from") else _high(schema)
    values = [
        f"CAST(NULL AS {schema.type_of(name).sql})" if name in _time_only(schema) else f"s.{sql.quote(name)}"
        for name in _rest(schema)
    ]
    values += [f"s.{sql.quote(name)}" for name in _earlier(schema).values()]
    is_current = "" if full else " AND s.brenvik_is_current = 1"
    return f"""
SELECT {sql.listed(sql.columns(schema.keys, "s"), f"{effective}, 1, 0, 0, 0, 0, 0", *values)}
FROM {sql.work("stored_versions")} s
WHERE s.brenvik_full_replay = {full}{is_current}"""


def _stored_ends(schema: TableSchema) -> str:
    """The ends of stored versions that no other version adjoins, as deletes; for splicing."""
    if schema.system_column("valid_to") is None:
        return ""
    touched = ""
    if schema.system_column("valid_from"):
        touched = f""" AND NOT EXISTS (
  SELECT 1 FROM {sql.work("stored_versions")} n
  WHERE {sql.same("n", "s", schema.keys)} AND n.{EFFECTIVE_AT} = s.brenvik_valid_to)"""
    nothing = [f"CAST(NULL AS {schema.type_of(name).sql})" for name in _rest(schema)] + _nothing_earlier(schema)
    return f"""
SELECT {sql.listed(sql.columns(schema.keys, "s"), "s.brenvik_valid_to, 1, 0, 0, 0, 1, 0", *nothing)}
FROM {sql.work("stored_versions")} s
WHERE s.brenvik_full_replay = 1 AND s.brenvik_is_current = 0{touched}"""


def _high(schema: TableSchema) -> str:
    return f"CAST(:high_effective AS {schema.effective_type.sql})"


def _state(schema: TableSchema) -> str:
    """Select items: the value of each column after each event of a lifetime; for type 0 the lifetime's first known value."""
    within = f"PARTITION BY {sql.columns(schema.keys, 'l')}, l.brenvik_lifetime, l.{DELETE}"
    items = []
    for name in schema.values:
        value, column = f"l.{sql.quote(name)}", schema.values.index(name)
        if name in schema.not_compared:
            items.append(value)
        elif name in schema.type_0:
            before = f"CASE WHEN l.brenvik_is_new = 0 THEN {value} END"
            known_at = f"CASE WHEN {value} IS NOT NULL THEN l.brenvik_position END"
            first = f"min({known_at}) OVER ({within})"
            if schema.type_0_changes == "first_arrived":
                first = _first_known(schema, known_at, within)
            items += [
                f"{_first_known(schema, value, within)} AS {sql.quote(name)}",
                f"{first} AS brenvik_known_at_{column}",
                f"{_first_known(schema, before, within)} AS brenvik_prior_{column}",
                f"{value} AS brenvik_source_{column}",
            ]
        elif is_present(schema, "l", name):
            items.append(
                f"first_value({value}) OVER ({within}, l.brenvik_step_{column} ORDER BY l.brenvik_position) AS {sql.quote(name)}"
            )
        else:
            items.append(value)
    return ", ".join(items)


def _first_known(schema: TableSchema, value: str, within: str) -> str:
    """The first value of a lifetime that is not null: in its history, or of those that arrived."""
    unknown = f"CASE WHEN {value} IS NULL THEN 1 ELSE 0 END"
    arrival = f"l.{RUN}, l.{SEQUENCE_NO}, " if schema.type_0_changes == "first_arrived" else ""
    return f"first_value({value}) OVER ({within} ORDER BY {unknown}, {arrival}l.brenvik_position)"


def _steps(schema: TableSchema) -> str:
    """For columns that some changes lack: a number that grows with every change that has the column."""
    within = f"PARTITION BY {sql.columns(schema.keys, 'm')}, m.brenvik_lifetime, m.{DELETE}"
    return "".join(
        f", sum({sql.flag(test)}) OVER ({within} ORDER BY m.brenvik_position ROWS UNBOUNDED PRECEDING)"
        f" AS brenvik_step_{schema.values.index(name)}"
        for name in (*schema.type_1, *schema.type_2)
        if (test := is_present(schema, "m", name))
    )


def _by_key(schema: TableSchema, alias: str) -> str:
    return f"PARTITION BY {sql.columns(schema.keys, alias)}"


def _events(schema: TableSchema, *, first: bool, chosen: Chosen) -> str:
    """The new changes and the base."""
    if chosen and schema.change_log:
        new = [_new_events(schema, first=False)] if chosen == "again" else []
        return " UNION ALL ".join([*new, _kept_events(schema)])
    bases = [] if first else [_stored_events(schema, full=0)]
    if not first and schema.change_log:
        bases.append(_kept_events(schema))
    elif not first:
        bases += [_stored_events(schema, full=1), _stored_ends(schema)]
    return " UNION ALL ".join([_new_events(schema, first=first), *filter(None, bases)])


def _accumulates(schema: TableSchema) -> bool:
    """Whether upserts that do not count contribute values: those of columns that other changes lack, or of type 0."""
    return bool(schema.type_0) or any(is_present(schema, "l", name) for name in (*schema.type_1, *schema.type_2))


def _placed(schema: TableSchema) -> str:
    """Each event with its position, and whether another event outranks it at its effective time."""
    order = ("brenvik_rank", *schema.order, RUN, SEQUENCE_NO)
    by_key = _by_key(schema, "e")
    outranked = f"lead({EFFECTIVE_AT}) OVER brenvik_line = {EFFECTIVE_AT}"
    ends = ""
    if _accumulates(schema):
        downward = ", ".join(f"{sql.quote(name)} DESC NULLS FIRST" for name in order)
        ends = f""",
    first_value({DELETE}) OVER ({by_key}, {EFFECTIVE_AT} ORDER BY {downward}) AS brenvik_ends_deleted"""
    return f"""
  SELECT e.*,
    row_number() OVER brenvik_line AS brenvik_position,
    {sql.flag(outranked)} AS brenvik_is_superseded{ends}
  FROM events e
  WINDOW brenvik_line AS ({by_key} ORDER BY {EFFECTIVE_AT}, {sql.columns(order)})"""


def _base(schema: TableSchema) -> str:
    """The last event of the base at each effective time of a key: its position, and whether it is a delete; and whether any
    event there is an upsert."""
    place = sql.columns((*schema.keys, EFFECTIVE_AT), "p")
    upsert = sql.flag(f"p.{DELETE} = 0")
    return f"""
  SELECT {place}, max(p.brenvik_position) AS brenvik_position, max(2 * p.brenvik_position + p.{DELETE}) AS brenvik_end,
    max({upsert}) AS brenvik_some_upsert
  FROM placed p
  WHERE p.brenvik_is_new = 0
  GROUP BY {place}"""


def _numbers_early(schema: TableSchema) -> bool:
    """Whether the number of a lifetime must be known before only the events that count are left."""
    return _accumulates(schema) or not schema.keeps_lifetimes or bool(kept_columns(schema))


def _lived(schema: TableSchema, *, meets_base: bool) -> str:
    """The events that count, contribute values or are replaced; each with the event of the base that it replaces."""
    items, rows = ["p.*", "1 - p.brenvik_is_superseded AS brenvik_is_last"], "placed p"
    if _numbers_early(schema):
        ends = f"CASE WHEN p.brenvik_is_superseded = 0 THEN p.{DELETE} ELSE 0 END"
        line = f"({_by_key(schema, 'p')} ORDER BY p.brenvik_position ROWS UNBOUNDED PRECEDING)"
        items.append(f"sum({ends}) OVER {line} AS brenvik_lifetime")
    if meets_base:
        known = f"p.brenvik_is_superseded = 0 AND p.{DELETE} = 0 AND b.brenvik_some_upsert = 1"
        items += [
            "b.brenvik_position AS brenvik_replaces",
            "b.brenvik_end - 2 * b.brenvik_position AS brenvik_replaced_delete",
            f"{sql.flag(known)} AS brenvik_was_known",
        ]
        rows += f" LEFT JOIN base b ON {sql.same('b', 'p', (*schema.keys, EFFECTIVE_AT))}"
    else:
        items += [f"CAST(NULL AS BIGINT) AS {name}" for name in ("brenvik_replaces", "brenvik_replaced_delete")]
    others = [f"(p.brenvik_ends_deleted = 0 AND p.{DELETE} = 0)"] if _accumulates(schema) else []
    others += ["p.brenvik_is_new = 0"] if meets_base and not others else []
    lived = f"""
  SELECT {", ".join(items)}
  FROM {rows}
  WHERE {" OR ".join(["p.brenvik_is_superseded = 0", *others])}"""
    steps = _steps(schema)
    return f"SELECT m.*{steps} FROM ({lived}) m" if steps else lived


def _place(schema: TableSchema, *, meets_base: bool) -> tuple[str, ...]:
    return (
        *schema.keys, EFFECTIVE_AT, SEQUENCE_NO, COLUMN_SET, DELETE, "brenvik_is_new", "brenvik_position",
        *(["brenvik_lifetime"] if _numbers_early(schema) else []), "brenvik_replaces", "brenvik_replaced_delete",
        *(["brenvik_was_known"] if meets_base else []), "brenvik_rank", *_earlier(schema),
    )  # fmt: skip


def _states(schema: TableSchema, *, meets_base: bool) -> str:
    """The state after each event."""
    place = sql.columns((*_place(schema, meets_base=meets_base), "brenvik_is_last"), "l")
    return f"""
  SELECT {sql.listed(place, _state(schema), sep=", ")}
  FROM lived l"""


def _replaced(schema: TableSchema, name: str) -> str:
    """The column with the value of the event that another one replaces."""
    return f"brenvik_replaced_{schema.values.index(name)}"


def _compared(schema: TableSchema) -> str:
    """Each state, and that of the event of the base that a new one replaces."""
    replaced = "".join(f", r.{sql.quote(name)} AS {_replaced(schema, name)}" for name in schema.values)
    replaces = "r.brenvik_position = CASE WHEN s.brenvik_is_new = 1 THEN s.brenvik_replaces END"
    return f"""
  SELECT s.*{replaced}
  FROM states s
  LEFT JOIN states r ON r.brenvik_is_new = 0 AND {sql.same("r", "s", schema.keys)} AND {replaces}"""


def _lined(schema: TableSchema, source: str, *, meets_base: bool) -> str:
    """Only the events that count, each with its predecessor and what it is compared with: the event it replaces, otherwise the
    one before it."""
    by_key, shown = _by_key(schema, "s"), []
    looked_at = {*schema.type_2, *(column for column, _ in schema.previous)}
    looked_at |= {*schema.type_1} if schema.not_compared and not schema.type_2 else set()
    for index, name in enumerate(schema.values):
        value = f"s.brenvik_kept_{index}" if (index, name) in kept_columns(schema) else f"s.{sql.quote(name)}"
        reference = before = f"lag({value}) OVER brenvik_line"
        if meets_base:
            replaces = "s.brenvik_is_new = 1 AND s.brenvik_replaces IS NOT NULL"
            reference = f"CASE WHEN {replaces} THEN s.{_replaced(schema, name)} ELSE {before} END"
        if name in schema.not_compared:
            shown.append(f"{value} AS brenvik_said_{index}")
            continue
        shown += [sql.named(value, name), f"{reference} AS {before_column(schema, name)}"]
        if name in schema.type_0:
            shown += [f"s.brenvik_{what}_{index}" for what in ("known_at", "source", "prior")]
        if name in looked_at:
            shown.append(f"{before} AS brenvik_prev_{index}")
    if not schema.keeps_lifetimes:
        last = f"max(CASE WHEN s.{DELETE} = 0 THEN s.brenvik_lifetime END) OVER ({by_key})"
        shown += [f"{last} AS brenvik_last_lifetime", f"max(s.brenvik_lifetime) OVER ({by_key}) AS brenvik_lifetimes"]
    if not _numbers_early(schema):
        shown.append(f"sum(s.{DELETE}) OVER brenvik_line AS brenvik_lifetime")
    return f"""
  SELECT {sql.listed(sql.columns(_place(schema, meets_base=meets_base), "s"), *shown, sep=", ")},
    lag(s.{DELETE}) OVER brenvik_line AS brenvik_prev_delete,
    COALESCE(lag(s.brenvik_position) OVER brenvik_line, 0) AS brenvik_prev_position
  FROM {source} s
  WHERE s.brenvik_is_last = 1
  WINDOW brenvik_line AS ({by_key} ORDER BY s.brenvik_position)"""


@lru_cache(maxsize=256)
def decide(schema: TableSchema, *, first: bool, chosen: Chosen = "", late: bool = True) -> str:
    """The query for ``decided``: the events that count, each with the state after it, what it is compared with
    (``brenvik_before_0``, …), its decision, and whether it starts a version. ``late``: whether any new change is; all others
    are later than whatever there is."""
    meets_base = chosen == "again" or (late and not (chosen or first))
    others, forms = beside(schema), first_forms(schema, meets_base=meets_base)
    source = list(forms)[-1] if forms else "compared" if meets_base else "states"
    counted = f",\n  {changes_type_0(schema)} AS brenvik_changes_type_0" if schema.counts_type_0_changes else ""
    parts = {
        f"events ({_event_columns(schema)})": _events(schema, first=first, chosen=chosen),
        "placed": _placed(schema),
        "base": _base(schema) if meets_base else "",
        "lived": _lived(schema, meets_base=meets_base),
        "states": _states(schema, meets_base=meets_base),
        "compared": _compared(schema) if meets_base else "",
        **forms,
        "lined": _lined(schema, source, meets_base=meets_base),
        **others,
    }
    return f"""
WITH {", ".join(f"{name} AS ({text}{chr(10)})" for name, text in parts.items() if text)}
SELECT j.*,
  {starts(schema, schema.type_2)} AS brenvik_starts_version,
  {decision_of(schema, meets_base=meets_base)} AS brenvik_decision{counted}
FROM {list(others)[-1] if others else "lined"} j"""


@lru_cache(maxsize=256)
def find_target_versions(schema: TableSchema) -> str:
    """The query for ``target_versions``: the rows that the replayed keys should have, numbered (``brenvik_version_no``)."""
    keys = sql.columns(schema.keys, "j")
    of_row = schema.not_compared if schema.has_versions else ()
    last = ", ".join(
        f"first_value(j.{sql.quote(name)}) OVER brenvik_latest AS {sql.quote(name)}"
        for name in (*schema.type_1, *_earlier(schema).values(), *(() if of_row else schema.not_compared))
    )
    latest = f"(PARTITION BY {keys} ORDER BY j.{DELETE}, j.brenvik_rank DESC, j.brenvik_position DESC)"
    window = f"\n  WINDOW brenvik_latest AS {latest}" if last else ""
    others = sql.columns((*schema.type_0, *schema.type_2, *of_row), "j")
    rest, stays = "".join(f", {each}" for each in (last, others) if each), ""
    if not schema.keeps_lifetimes:
        kept = "brenvik_lifetimes" if schema.deletes == "remove" else "brenvik_last_lifetime"
        rest += f", j.brenvik_lifetime, j.{kept}"
        stays = f" AND v.brenvik_lifetime = v.{kept}"
    return f"""
WITH lasts AS (
  SELECT {keys}, j.{EFFECTIVE_AT}, j.{DELETE}, j.brenvik_position, j.brenvik_starts_version, j.brenvik_prev_delete{rest}
  FROM {sql.work("decided")} j{window}
), spans AS (
  SELECT j.*, lead(j.{EFFECTIVE_AT}) OVER brenvik_line AS brenvik_valid_to,
    lead(j.{DELETE}) OVER brenvik_line AS brenvik_deleted
  FROM lasts j
  WHERE j.brenvik_starts_version = 1 OR (j.{DELETE} = 1 AND j.brenvik_prev_delete = 0)
  WINDOW brenvik_line AS (PARTITION BY {keys} ORDER BY j.brenvik_position)
)
SELECT row_number() OVER (ORDER BY {sql.columns(schema.keys, "v")}, v.{EFFECTIVE_AT}) AS brenvik_version_no,
  {sql.columns(schema.keys, "v")}, v.{EFFECTIVE_AT}, v.brenvik_valid_to, COALESCE(v.brenvik_deleted, 0) AS brenvik_deleted
  {"".join(f", v.{sql.quote(name)}" for name in schema.stored_values)}
FROM spans v
WHERE v.{DELETE} = 0{stays}"""
