"""The windows: a key's changes in (effective, order) order become versions and decisions.

The *events* of a key are its new changes and a base: its living version where that is all that matters; its kept
changes where it is worked out in full (or, where none are kept, its stored versions).

The last event at an effective time counts. A counting delete ends a life; the next upsert begins another, of which
nothing is known at first. Within a life, values build up: a column that a change does not carry keeps its value (also
through upserts that do not count, unless the effective time ends in a delete), type 0 keeps the first known value.
Counting upserts whose type 2 columns equal those of the event before them open no version. Type 1 columns hold the
last value of the key in all its versions. An upsert from which on a life holds that was there before, only later, begins no
life: it opens a version.

A change is judged against the state just before it on the finished time line; one that takes the place of an event
kept earlier at the same effective time is judged against that event.

``brenvik_rank`` is 1 for all events where changes are kept. Where none are, stored versions (1) stand above late changes
(0) and below newer ones (2), at the same effective time and for type 1: old batches that come again touch nothing.
"""

from __future__ import annotations

from functools import lru_cache

from brenvik.merge import sql
from brenvik.merge.classify import is_late
from brenvik.merge.current_path import carries, was
from brenvik.merge.schema import ARRIVAL, DELETE, EFFECTIVE, RUN, SHAPE, Blueprint


def _time_only(blueprint: Blueprint) -> tuple[str, ...]:
    """Order columns that are no values of the table: stored versions do not have them."""
    return tuple(name for name in blueprint.carried if name not in (*blueprint.keys, *blueprint.values))


def _event_columns(blueprint: Blueprint) -> str:
    names = (*blueprint.keys, EFFECTIVE, "brenvik_rank", RUN, ARRIVAL, "brenvik_new", DELETE, SHAPE)
    return sql.columns(dict.fromkeys((*names, *blueprint.carried)))


def _new_events(blueprint: Blueprint, *, first: bool) -> str:
    rank, spliced = "1", ""
    if not blueprint.kept and not first:
        # Nothing tells how a stored version came to be: late changes never override what it says.
        late = is_late(blueprint, "c")
        rank = f"CASE WHEN {late} THEN 0 ELSE 2 END"
        if not blueprint.has_versions:  # of earlier lives nothing is stored
            start = blueprint.own("valid_from")
            before = f" AND c.{EFFECTIVE} < t.{sql.quote(start)}" if start else ""
            spliced = f"""
  AND NOT ({late} AND EXISTS (
    SELECT 1 FROM {sql.relation(blueprint.table)} t WHERE {sql.same("t", "c", blueprint.keys)}{before}))"""
    head = f"c.{EFFECTIVE}, {rank}, :run, c.{ARRIVAL}, 1, c.{DELETE}, c.{SHAPE}"
    return f"""
SELECT {sql.listed(sql.columns(blueprint.keys, "c"), head, sql.columns(_rest(blueprint), "c"))}
FROM {sql.work("screened")} c
WHERE EXISTS (SELECT 1 FROM {sql.work("busy")} b WHERE {sql.same("b", "c", blueprint.keys)})
  AND NOT EXISTS (SELECT 1 FROM {sql.work("duplicates")} d WHERE d.{ARRIVAL} = c.{ARRIVAL}){spliced}"""


def _rest(blueprint: Blueprint) -> tuple[str, ...]:
    return tuple(name for name in blueprint.carried if name not in blueprint.keys)


def _kept_events(blueprint: Blueprint) -> str:
    assert blueprint.kept
    head = f"k.{EFFECTIVE}, 1, k.{RUN}, k.{ARRIVAL}, 0, k.{DELETE}, k.{SHAPE}"
    return f"""
SELECT {sql.listed(sql.columns(blueprint.keys, "k"), head, sql.columns(_rest(blueprint), "k"))}
FROM {sql.work("busy")} b
JOIN {blueprint.counting} k ON {sql.same("k", "b", blueprint.keys)}
WHERE b.brenvik_full = 1"""


def _stored_events(blueprint: Blueprint, *, full: int) -> str:
    """Stored versions as upserts that carry every column: the living one, or (spliced) all of a key."""
    valid_from = blueprint.own("valid_from")
    effective = f"t.{sql.quote(valid_from)}" if valid_from else _high(blueprint)
    values = [
        f"CAST(NULL AS {blueprint.type_of(name).sql})" if name in _time_only(blueprint) else f"t.{sql.quote(name)}"
        for name in _rest(blueprint)
    ]
    living = "" if full else f" AND {blueprint.is_open('t')}"
    return f"""
SELECT {sql.listed(sql.columns(blueprint.keys, "t"), f"{effective}, 1, 0, 0, 0, 0, 0", *values)}
FROM {sql.relation(blueprint.table)} t
JOIN {sql.work("busy")} b ON {sql.same("b", "t", blueprint.keys)} AND b.brenvik_full = {full}{living}"""


def _stored_ends(blueprint: Blueprint) -> str:
    """Stored versions that no other one touches at their end, as deletes; for splicing."""
    valid_to, valid_from = blueprint.own("valid_to"), blueprint.own("valid_from")
    if valid_to is None:
        return ""
    until = f"t.{sql.quote(valid_to)}"
    touched = ""
    if valid_from:
        touched = f""" AND NOT EXISTS (
  SELECT 1 FROM {sql.relation(blueprint.table)} n
  WHERE {sql.same("n", "t", blueprint.keys)} AND n.{sql.quote(valid_from)} = {until})"""
    nothing = [f"CAST(NULL AS {blueprint.type_of(name).sql})" for name in _rest(blueprint)]
    return f"""
SELECT {sql.listed(sql.columns(blueprint.keys, "t"), f"{until}, 1, 0, 0, 0, 1, 0", *nothing)}
FROM {sql.relation(blueprint.table)} t
JOIN {sql.work("busy")} b ON {sql.same("b", "t", blueprint.keys)} AND b.brenvik_full = 1
WHERE NOT ({blueprint.is_open("t")}){touched}"""


def _high(blueprint: Blueprint) -> str:
    return f"CAST(:high_effective AS {blueprint.effective_type.sql})"


def _state(blueprint: Blueprint) -> str:
    """The value of each column after each event of a life, as select items; type 0 is the life's first known value."""
    within = f"PARTITION BY {sql.columns(blueprint.keys, 'l')}, l.brenvik_life, l.{DELETE}"
    items = []
    for name in blueprint.values:
        value, column = f"l.{sql.quote(name)}", blueprint.values.index(name)
        if name in blueprint.type_0:
            known = f"CASE WHEN {value} IS NULL THEN 1 ELSE 0 END"
            before = f"CASE WHEN l.brenvik_new = 0 THEN {value} END"
            unknown = f"CASE WHEN {before} IS NULL THEN 1 ELSE 0 END"
            items += [
                f"first_value({value}) OVER ({within} ORDER BY {known}, l.brenvik_at) AS {sql.quote(name)}",
                f"min(CASE WHEN {value} IS NOT NULL THEN l.brenvik_at END) OVER ({within}) AS brenvik_known_{column}",
                f"first_value({before}) OVER ({within} ORDER BY {unknown}, l.brenvik_at) AS brenvik_before_{column}",
                f"{value} AS brenvik_said_{column}",
            ]
        elif carries(blueprint, "l", name):
            items.append(
                f"first_value({value}) OVER ({within}, l.brenvik_step_{column} ORDER BY l.brenvik_at) AS {sql.quote(name)}"
            )
        else:
            items.append(f"{value} AS {sql.quote(name)}")
    return ", ".join(items)


def _steps(blueprint: Blueprint) -> str:
    """For columns that some changes do not carry: a number that grows with every change that does."""
    within = f"PARTITION BY {sql.columns(blueprint.keys, 'm')}, m.brenvik_life, m.{DELETE}"
    return "".join(
        f", sum({sql.flag(test)}) OVER ({within} ORDER BY m.brenvik_at ROWS UNBOUNDED PRECEDING)"
        f" AS brenvik_step_{blueprint.values.index(name)}"
        for name in blueprint.values
        if name not in blueprint.type_0 and (test := carries(blueprint, "m", name))
    )


def _reference(blueprint: Blueprint, value: str, alias: str = "s") -> str:
    """The value that an event is judged against: of the event whose place it takes, else of the one before it."""
    keys = sql.columns(blueprint.keys, alias)
    return (
        f"CASE WHEN {alias}.brenvik_new = 1 AND {alias}.brenvik_replaces IS NOT NULL THEN "
        f"first_value({alias}.{value}) OVER (PARTITION BY {keys}, {alias}.{EFFECTIVE} "
        f"ORDER BY {alias}.brenvik_new, {alias}.brenvik_at DESC) ELSE "
        f"lag({alias}.{value}) OVER (PARTITION BY {keys}, {alias}.brenvik_counts ORDER BY {alias}.brenvik_at) END"
    )


def _by_key(blueprint: Blueprint, alias: str) -> str:
    return f"PARTITION BY {sql.columns(blueprint.keys, alias)}"


def _events(blueprint: Blueprint, *, first: bool, all_full: bool) -> str:
    """The new changes, and the base that they are set upon."""
    bases = [] if first or all_full else [_stored_events(blueprint, full=0)]
    if not first and blueprint.kept:
        bases.append(_kept_events(blueprint))
    elif not first:
        bases += [_stored_events(blueprint, full=1), _stored_ends(blueprint)]
    return " UNION ALL ".join([_new_events(blueprint, first=first), *filter(None, bases)])


def _placed(blueprint: Blueprint) -> str:
    """Each event with its place in the key's order, and whether another stands above it at its effective time."""
    order = ("brenvik_rank", *blueprint.order, RUN, ARRIVAL)
    upward = sql.columns(order)
    downward = ", ".join(f"{sql.quote(name)} DESC NULLS FIRST" for name in order)
    by_key = _by_key(blueprint, "e")
    return f"""
  SELECT e.*,
    row_number() OVER ({by_key} ORDER BY {EFFECTIVE}, {upward}) AS brenvik_at,
    {sql.flag(f"lead({EFFECTIVE}) OVER ({by_key} ORDER BY {EFFECTIVE}, {upward}) = {EFFECTIVE}")} AS brenvik_passed,
    first_value({DELETE}) OVER ({by_key}, {EFFECTIVE} ORDER BY {downward}) AS brenvik_gone
  FROM events e"""


def _counted(blueprint: Blueprint) -> str:
    """Each event with whether it counts, and which earlier one it takes the place of."""
    by_key = _by_key(blueprint, "p")
    return f"""
  SELECT p.*, 1 - p.brenvik_passed AS brenvik_counts,
    max(CASE WHEN p.brenvik_new = 0 THEN p.brenvik_at END) OVER ({by_key}, p.{EFFECTIVE}) AS brenvik_replaces,
    first_value(p.{DELETE}) OVER (
      {by_key}, p.{EFFECTIVE} ORDER BY p.brenvik_new, p.brenvik_at DESC) AS brenvik_replaced_delete
  FROM placed p"""


def _lived(blueprint: Blueprint) -> str:
    """The events that say anything of values, each with the number of its life."""
    return f"""
  SELECT m.*{_steps(blueprint)}
  FROM (
    SELECT q.*,
      sum(q.{DELETE}) OVER ({_by_key(blueprint, "q")} ORDER BY q.brenvik_at ROWS UNBOUNDED PRECEDING) AS brenvik_life
    FROM counted q
    WHERE q.brenvik_counts = 1 OR (q.brenvik_gone = 0 AND q.{DELETE} = 0)
  ) m"""


def _place(blueprint: Blueprint) -> tuple[str, ...]:
    return (
        *blueprint.keys, EFFECTIVE, ARRIVAL, SHAPE, DELETE, "brenvik_new", "brenvik_at", "brenvik_life",
        "brenvik_replaces", "brenvik_replaced_delete", "brenvik_rank",
    )  # fmt: skip


def _states(blueprint: Blueprint) -> str:
    """The state after each event."""
    earlier = sql.flag(f"l.brenvik_new = 0 AND l.{DELETE} = 0")
    return f"""
  SELECT {sql.columns((*_place(blueprint), "brenvik_counts"), "l")},
    max({earlier}) OVER ({_by_key(blueprint, "l")}, l.brenvik_life) AS brenvik_lived,
    {_state(blueprint) or "0 AS brenvik_nothing"}
  FROM lived l"""


def _compared(blueprint: Blueprint) -> str:
    """Each state with the one that it is judged against."""
    references = "".join(
        f", {_reference(blueprint, sql.quote(name))} AS {was(blueprint, name)}" for name in blueprint.values
    )
    return f"""
  SELECT s.*{references}
  FROM states s"""


def _lined(blueprint: Blueprint) -> str:
    """The counting events alone, each with what stands just before it."""
    by_key = _by_key(blueprint, "s")
    shown = "".join(f", s.{sql.quote(name)}, s.{was(blueprint, name)}" for name in blueprint.values)
    known = "".join(
        f", s.brenvik_known_{i}, s.brenvik_said_{i}, s.brenvik_before_{i}"
        for i, name in enumerate(blueprint.values)
        if name in blueprint.type_0
    )
    previous = "".join(
        f", lag(s.{sql.quote(name)}) OVER brenvik_line AS brenvik_prev_{blueprint.values.index(name)}"
        for name in blueprint.type_2
    )
    return f"""
  SELECT {sql.columns((*_place(blueprint), "brenvik_lived"), "s")}{shown}{known}{previous},
    lag(s.{DELETE}) OVER brenvik_line AS brenvik_prev_delete,
    COALESCE(lag(s.brenvik_at) OVER brenvik_line, 0) AS brenvik_prev_at,
    max(CASE WHEN s.{DELETE} = 0 THEN s.brenvik_life END) OVER ({by_key}) AS brenvik_last_life,
    max(s.brenvik_life) OVER ({by_key}) AS brenvik_deaths
  FROM compared s
  WHERE s.brenvik_counts = 1
  WINDOW brenvik_line AS ({by_key} ORDER BY s.brenvik_at)"""


_BEGINS = "j.brenvik_prev_delete IS NULL OR j.brenvik_prev_delete = 1"


def _starts(blueprint: Blueprint) -> str:
    """Whether a version starts with an event: a life begins, or type 2 values differ from those just before."""
    differs = sql.differ(
        (f"j.{sql.quote(name)}", f"j.brenvik_prev_{blueprint.values.index(name)}") for name in blueprint.type_2
    )
    return sql.flag(f"j.{DELETE} = 0 AND ({_BEGINS} OR {differs})")


def _decision(blueprint: Blueprint) -> str:
    """What becomes of a change, the first case that fits."""

    def differs(names: tuple[str, ...]) -> str:
        return sql.differ((f"j.{sql.quote(name)}", f"j.{was(blueprint, name)}") for name in names)

    type_0 = [(i, name) for i, name in enumerate(blueprint.values) if name in blueprint.type_0]
    learns = sql.any_of(
        f"(j.brenvik_known_{i} > COALESCE(j.brenvik_replaces, j.brenvik_prev_at) AND j.brenvik_known_{i} <= j.brenvik_at)"
        for i, _ in type_0
    )
    tampers = sql.any_of(
        f"({carried + ' AND ' if (carried := carries(blueprint, 'j', name)) else ''}"
        f"j.brenvik_known_{i} <= j.brenvik_at AND j.brenvik_said_{i} IS DISTINCT FROM j.{sql.quote(name)})"
        for i, name in type_0
    )
    if blueprint.keeps_lives:
        forgotten = "1 = 0"
    elif blueprint.deletes == "remove":
        forgotten = f"j.{DELETE} = 0 AND j.brenvik_life < j.brenvik_deaths"
    else:
        forgotten = f"j.{DELETE} = 0 AND j.brenvik_life < j.brenvik_last_life"
    return f"""CASE
    WHEN {forgotten} THEN 'superseded'
    WHEN j.{DELETE} = 1 AND j.brenvik_replaces IS NOT NULL AND j.brenvik_replaced_delete = 0 THEN 'deleted'
    WHEN j.{DELETE} = 1 AND j.brenvik_replaces IS NOT NULL THEN 'unchanged'
    WHEN j.{DELETE} = 1 AND j.brenvik_prev_delete IS NULL THEN 'ignored'
    WHEN j.{DELETE} = 1 AND j.brenvik_prev_delete = 0 THEN 'deleted'
    WHEN j.{DELETE} = 1 THEN 'unchanged'
    WHEN j.brenvik_replaces IS NOT NULL AND j.brenvik_replaced_delete = 1 AND j.brenvik_prev_delete = 0 THEN 'versioned'
    WHEN (j.brenvik_replaces IS NULL OR j.brenvik_replaced_delete = 1) AND ({_BEGINS}) THEN
      CASE WHEN j.brenvik_lived = 0 THEN 'inserted' ELSE '{"versioned" if blueprint.type_2 else "overwritten"}' END
    WHEN {differs(blueprint.type_2)} THEN 'versioned'
    WHEN {differs(blueprint.type_1)} OR {learns} THEN 'overwritten'
    WHEN {tampers} THEN 'protected'
    ELSE 'unchanged'
  END"""


@lru_cache(maxsize=256)
def judge(blueprint: Blueprint, *, first: bool, all_full: bool = False) -> str:
    """Makes ``judged``: the counting events of the busy keys, each with the state after it, what it is judged against
    (``brenvik_was_0``, …), its decision, and whether a version starts with it. ``all_full`` says that every busy key is worked
    out in full."""
    return f"""
CREATE TEMP TABLE {sql.work("judged")} AS
WITH events ({_event_columns(blueprint)}) AS ({_events(blueprint, first=first, all_full=all_full)}
), placed AS ({_placed(blueprint)}
), counted AS ({_counted(blueprint)}
), lived AS ({_lived(blueprint)}
), states AS ({_states(blueprint)}
), compared AS ({_compared(blueprint)}
), lined AS ({_lined(blueprint)}
)
SELECT j.*,
  {_starts(blueprint)} AS brenvik_starts,
  {_decision(blueprint)} AS brenvik_decision
FROM lined j"""


@lru_cache(maxsize=256)
def draw_up(blueprint: Blueprint) -> str:
    """Makes ``desired``: the rows that the busy keys should have, numbered (``brenvik_no``)."""
    keys = sql.columns(blueprint.keys, "j")
    line = f"PARTITION BY {keys} ORDER BY j.brenvik_at"
    last = ", ".join(
        f"first_value(j.{sql.quote(name)}) OVER (PARTITION BY {keys} "
        f"ORDER BY j.{DELETE}, j.brenvik_rank DESC, j.brenvik_at DESC) AS {sql.quote(name)}"
        for name in blueprint.type_1
    )
    others = sql.columns((*blueprint.type_0, *blueprint.type_2), "j")
    if blueprint.keeps_lives:
        stays = "1 = 1"
    elif blueprint.deletes == "remove":
        stays = "v.brenvik_life = v.brenvik_deaths"
    else:
        stays = "v.brenvik_life = v.brenvik_last_life"
    return f"""
CREATE TEMP TABLE {sql.work("desired")} AS
WITH lasts AS (
  SELECT {keys}, j.{EFFECTIVE}, j.{DELETE}, j.brenvik_at, j.brenvik_life, j.brenvik_last_life, j.brenvik_deaths,
    j.brenvik_starts, j.brenvik_prev_delete{", " + last if last else ""}{", " + others if others else ""}
  FROM {sql.work("judged")} j
), spans AS (
  SELECT j.*, lead(j.{EFFECTIVE}) OVER ({line}) AS brenvik_until, lead(j.{DELETE}) OVER ({line}) AS brenvik_ended
  FROM lasts j
  WHERE j.brenvik_starts = 1 OR (j.{DELETE} = 1 AND j.brenvik_prev_delete = 0)
)
SELECT row_number() OVER (ORDER BY {sql.columns(blueprint.keys, "v")}, v.{EFFECTIVE}) AS brenvik_no,
  {sql.columns(blueprint.keys, "v")}, v.{EFFECTIVE}, v.brenvik_until, COALESCE(v.brenvik_ended, 0) AS brenvik_ended
  {"".join(f", v.{sql.quote(name)}" for name in blueprint.values)}
FROM spans v
WHERE v.{DELETE} = 0 AND {stays}"""


def summary() -> str:
    """How many new changes that count at their effective time have which decision."""
    return f"SELECT brenvik_decision, count(*) AS n FROM {sql.work('judged')} WHERE brenvik_new = 1 GROUP BY brenvik_decision"
