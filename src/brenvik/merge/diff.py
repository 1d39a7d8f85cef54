"""What has to be done to the table's rows: the difference between the rows it has and the rows it should have.

Plain changes say it themselves (see ``plain``). For the busy keys, ``desired`` is held against ``stored``: matched by
(key, valid_from), what is left over is matched pairwise in the order of valid_from, so that rows keep their
surrogate keys. The outcome is in four tables:

    closes   rows that only end: locator, new end, whether a delete ended it
    sets     rows whose values change: locator and all of their new content
    adds     numbers (``brenvik_no``) of the desired rows that are new
    removes  locators of rows to take away
"""

from __future__ import annotations

from functools import lru_cache

from brenvik.merge import sql
from brenvik.merge.current_path import carries, decided, removed_keys, was
from brenvik.merge.schema import ARRIVAL, EFFECTIVE, Blueprint


@lru_cache(maxsize=256)
def plain_effects(blueprint: Blueprint, *, some_busy: bool) -> tuple[str, str | None]:
    """Makes ``closes`` and ``removes`` of the plain changes; where no others will be added, ``closes`` is only a view, and
    ``removes`` is not made when it would be empty."""
    removed: str | None
    if blueprint.deletes == "close":
        ending = decided("p", "versioned", "deleted")
        removed = f"SELECT brenvik_locator FROM {sql.work('plain')} WHERE 1 = 0" if some_busy else None
    else:
        ending = decided("p", "versioned")
        removed = removed_keys(blueprint)
    return (
        f"""
CREATE TEMP {"TABLE" if some_busy else "VIEW"} {sql.work("closes")} AS
SELECT p.brenvik_locator, p.{EFFECTIVE} AS brenvik_until, {sql.flag(decided("p", "deleted"))} AS brenvik_ended
FROM {sql.work("plain")} p
WHERE {ending}""",
        f"CREATE TEMP TABLE {sql.work('removes')} AS {removed}" if removed else None,
    )


def as_desired(blueprint: Blueprint) -> str:
    """What to select of a row ``t`` of the table to have it in the form of ``desired``."""
    own = blueprint.own
    living = blueprint.is_open("t")
    until = f"CASE WHEN {living} THEN NULL ELSE t.{sql.quote(own('valid_to') or '')} END" if own("valid_to") else "NULL"
    ended = sql.flag(f"t.{sql.quote(own('is_deleted') or '')} = TRUE" if own("is_deleted") else f"NOT ({living})")
    start = f"t.{sql.quote(own('valid_from') or '')}" if own("valid_from") else "NULL"
    kind = blueprint.effective_type.sql
    times = (
        f"CAST({start} AS {kind}) AS {EFFECTIVE}, CAST({until} AS {kind}) AS brenvik_until, {ended} AS brenvik_ended"
    )
    return sql.listed(sql.columns(blueprint.keys, "t"), times, sql.columns(blueprint.values, "t"), sep=", ")


@lru_cache(maxsize=256)
def as_it_was(blueprint: Blueprint, relation: str) -> str:
    """Makes ``desired`` of a relation that has the rows of the table as they were."""
    return f"CREATE TEMP TABLE {sql.work('desired')} AS SELECT {as_desired(blueprint)} FROM {relation} t"


@lru_cache(maxsize=256)
def find_stored(blueprint: Blueprint) -> str:
    """Makes ``stored``: the rows of the busy keys that ``desired`` is held against, ends and deletes in one form."""
    scope = f" AND (b.brenvik_full = 1 OR {blueprint.is_open('t')})" if blueprint.has_versions else ""
    flag = _flag(blueprint)
    flagged = f", {sql.flag(f't.{sql.quote(flag)} = TRUE')} AS brenvik_flagged" if flag else ""
    return f"""
CREATE TEMP TABLE {sql.work("stored")} AS
SELECT t.{sql.quote(blueprint.locator)} AS brenvik_locator, {as_desired(blueprint)}, b.brenvik_full{flagged}
FROM {sql.relation(blueprint.table)} t
JOIN {sql.work("busy")} b ON {sql.same("b", "t", blueprint.keys)}{scope}"""


@lru_cache(maxsize=256)
def pair(blueprint: Blueprint, *, several: bool = False) -> str:
    """Makes ``pairs``: which desired row (``brenvik_no``) becomes of which stored one.

    ``several`` stored rows may stand for one: under another key they were different ones, or somebody else put them there."""
    keys = blueprint.keys
    match = sql.same("d", "s", keys)
    exact = f"{match} AND d.{EFFECTIVE} = s.{EFFECTIVE}" if blueprint.own("valid_from") else match

    def rest(relation: str, column: str, alias: str) -> str:
        order = f"PARTITION BY {sql.columns(keys, alias)} ORDER BY {alias}.{EFFECTIVE}"
        return f"""
SELECT {sql.columns(keys, alias)}, {alias}.{column}, row_number() OVER ({order}) AS brenvik_nth
FROM {sql.work(relation)} {alias}
WHERE NOT EXISTS (SELECT 1 FROM exact e WHERE e.{column} = {alias}.{column})"""

    matched = f"""SELECT d.brenvik_no, s.brenvik_locator FROM {sql.work("desired")} d JOIN {sql.work("stored")} s ON {exact}"""
    if several:
        matched = (
            f"SELECT m.brenvik_no, min(m.brenvik_locator) AS brenvik_locator FROM ({matched}) m GROUP BY m.brenvik_no"
        )
    return f"""
CREATE TEMP TABLE {sql.work("pairs")} AS
WITH exact AS (
  {matched}
), new_left AS ({rest("desired", "brenvik_no", "d")}
), old_left AS ({rest("stored", "brenvik_locator", "s")}
)
SELECT brenvik_no, brenvik_locator FROM exact
UNION ALL
SELECT d.brenvik_no, s.brenvik_locator FROM new_left d JOIN old_left s ON {match} AND d.brenvik_nth = s.brenvik_nth"""


def _compared(blueprint: Blueprint) -> tuple[str, ...]:
    """The columns of ``desired`` and ``stored`` that the table really holds."""
    held = []
    if blueprint.own("valid_from"):
        held.append(EFFECTIVE)
    held += list(blueprint.values)
    return tuple(held)


def _flag(blueprint: Blueprint) -> str | None:
    """The column that says which rows are current beside valid_to, which says it, too."""
    return blueprint.own("is_current") if blueprint.own("valid_to") else None


def _ends(blueprint: Blueprint) -> tuple[str, ...]:
    ends = []
    if blueprint.own("valid_to"):
        ends.append("brenvik_until")
    if blueprint.own("is_deleted") or blueprint.own("valid_to") is None:
        ends.append("brenvik_ended")
    return tuple(ends)


@lru_cache(maxsize=256)
def busy_effects(blueprint: Blueprint) -> tuple[tuple[str, str], ...]:
    """Adds to ``closes`` and ``removes`` and makes ``sets`` and ``adds`` from the pairs: the table each statement adds to, and
    the statement."""
    content = sql.differ((f"d.{sql.quote(c)}", f"s.{sql.quote(c)}") for c in _compared(blueprint))
    ends = sql.differ((f"d.{sql.quote(c)}", f"s.{sql.quote(c)}") for c in _ends(blueprint))
    if _flag(blueprint):
        ends = f"({ends} OR s.brenvik_flagged <> {sql.flag('d.brenvik_until IS NULL')})"
    pairs = f"""
FROM {sql.work("pairs")} p
JOIN {sql.work("desired")} d ON d.brenvik_no = p.brenvik_no
JOIN {sql.work("stored")} s ON s.brenvik_locator = p.brenvik_locator"""
    shown = (EFFECTIVE, "brenvik_until", "brenvik_ended", *blueprint.values)
    statements = [
        (
            "closes",
            f"INSERT INTO {sql.work('closes')} SELECT s.brenvik_locator, d.brenvik_until, d.brenvik_ended {pairs} "
            f"WHERE NOT ({content}) AND {ends}",
        ),
        (
            "sets",
            f"CREATE TEMP TABLE {sql.work('sets')} AS SELECT s.brenvik_locator, {sql.columns(shown, 'd')} {pairs} "
            f"WHERE {content}",
        ),
        (
            "adds",
            f"CREATE TEMP TABLE {sql.work('adds')} AS SELECT d.brenvik_no FROM {sql.work('desired')} d "
            f"WHERE NOT EXISTS (SELECT 1 FROM {sql.work('pairs')} p WHERE p.brenvik_no = d.brenvik_no)",
        ),
        (
            "removes",
            f"INSERT INTO {sql.work('removes')} SELECT s.brenvik_locator FROM {sql.work('stored')} s "
            f"WHERE NOT EXISTS (SELECT 1 FROM {sql.work('pairs')} p WHERE p.brenvik_locator = s.brenvik_locator)",
        ),
    ]
    if blueprint.type_1 and blueprint.has_versions:
        # Closed versions of keys that were worked out from their living version alone follow in type 1.
        own = blueprint.own
        values = [
            f"x.{sql.quote(name)}" if name in blueprint.type_1 else f"t.{sql.quote(name)}" for name in blueprint.values
        ]
        ended = f"CASE WHEN t.{sql.quote(own('is_deleted') or '')} THEN 1 ELSE 0 END" if own("is_deleted") else "0"
        some = sql.differ((f"x.{sql.quote(name)}", f"t.{sql.quote(name)}") for name in blueprint.type_1)
        statements.append(
            (
                "sets",
                f"""
INSERT INTO {sql.work("sets")}
SELECT t.{sql.quote(blueprint.locator)}, t.{sql.quote(own("valid_from") or "")}, t.{sql.quote(own("valid_to") or "")}, {ended},
  {", ".join(values)}
FROM (
  SELECT DISTINCT {sql.columns(blueprint.keys, "d")}, {sql.columns(blueprint.type_1, "d")} FROM {sql.work("desired")} d
) x
JOIN {sql.work("busy")} b ON {sql.same("b", "x", blueprint.keys)} AND b.brenvik_full = 0
JOIN {sql.relation(blueprint.table)} t ON {sql.same("t", "x", blueprint.keys)}
WHERE NOT ({blueprint.is_open("t")}) AND {some}""",
            )
        )
    return tuple(statements)


@lru_cache(maxsize=256)
def count_alive(blueprint: Blueprint) -> str:
    """How many busy keys are alive in the table (``before``), how many will be (``after``), and how many of the first will not
    be (``lost``)."""
    alive = f"SELECT count(*) FROM {sql.work('stored')} s WHERE s.brenvik_until IS NULL AND s.brenvik_ended = 0"
    will_be = (
        f"SELECT 1 FROM {sql.work('desired')} d WHERE {sql.same('d', 's', blueprint.keys)} AND d.brenvik_until IS NULL"
    )
    return f"""
SELECT ({alive}) AS before, ({alive} AND NOT EXISTS ({will_be})) AS lost,
  (SELECT count(*) FROM {sql.work("desired")} d WHERE d.brenvik_until IS NULL) AS after"""


@lru_cache(maxsize=256)
def touched(blueprint: Blueprint) -> str:
    """For each column of ``sets``, whether any row differs in it (0 or 1)."""
    names = (EFFECTIVE, "brenvik_until", "brenvik_ended", *blueprint.values)
    own = dict(blueprint.housekeeping)
    stored = {EFFECTIVE: own["valid_from"], "brenvik_until": own["valid_to"], "brenvik_ended": own["is_deleted"]}
    flags = []
    for name in names:
        column = stored.get(name, name)
        if column is None:
            flags.append(f"0 AS {sql.quote(name)}")
            continue
        value = f"t.{sql.quote(column)}"
        new = f"s.{sql.quote(name)}"
        if name == "brenvik_until":
            new = f"COALESCE({new}, {blueprint.open_end})"
        if name == "brenvik_ended":
            new = f"({new} = 1)"
        flags.append(f"max({sql.flag(f'{value} IS DISTINCT FROM {new}')}) AS {sql.quote(name)}")
    return f"""
SELECT {", ".join(flags)}
FROM {sql.work("sets")} s
JOIN {sql.relation(blueprint.table)} t ON t.{sql.quote(blueprint.locator)} = s.brenvik_locator"""


def _stamp(blueprint: Blueprint) -> list[str]:
    return [
        f"{sql.quote(name)} = {value}"
        for name, value in (
            (blueprint.own("last_run"), ":run"),
            (blueprint.own("last_loaded_at"), "CAST(:loaded_at AS TIMESTAMP)"),
        )
        if name
    ]


def _current(blueprint: Blueprint, until: str, ended: str) -> str:
    return f"({until} IS NULL)" if blueprint.own("valid_to") else f"({ended} = 0)"


@lru_cache(maxsize=256)
def write_closes(blueprint: Blueprint, *, deletes: bool) -> str:
    """Ends (or reopens) versions, touching no other column than those that say so.

    ``deletes`` says whether a delete can have to do with any of them; else ``is_deleted`` is left as it is.
    """
    own = blueprint.own
    items = [
        (
            own("valid_to"),
            f"COALESCE(s.brenvik_until, {blueprint.open_end})" if blueprint.has_open_end else "s.brenvik_until",
        ),
        (own("is_current"), _current(blueprint, "s.brenvik_until", "s.brenvik_ended")),
    ]
    if deletes:
        items.append((own("is_deleted"), "(s.brenvik_ended = 1)"))
    given = [f"{sql.quote(name)} = {value}" for name, value in items if name]
    return _update(blueprint, [*given, *_stamp(blueprint)], f"{sql.work('closes')} s", "s")


@lru_cache(maxsize=256)
def write_sets(blueprint: Blueprint, names: tuple[str, ...]) -> str:
    """Gives the rows of ``sets`` their new content, in the columns ``names`` (those of ``touched``) only."""
    own = blueprint.own
    items: list[tuple[str | None, str]] = [(name, f"s.{sql.quote(name)}") for name in names if name in blueprint.values]
    if EFFECTIVE in names:
        items.append((own("valid_from"), f"s.{EFFECTIVE}"))
    if "brenvik_until" in names or "brenvik_ended" in names:
        items.append((own("valid_to"), f"COALESCE(s.brenvik_until, {blueprint.open_end})"))
        items.append((own("is_deleted"), "(s.brenvik_ended = 1)"))
        items.append((own("is_current"), _current(blueprint, "s.brenvik_until", "s.brenvik_ended")))
    given = [f"{sql.quote(name)} = {value}" for name, value in items if name]
    return _update(blueprint, [*given, *_stamp(blueprint)], f"{sql.work('sets')} s", "s")


@lru_cache(maxsize=256)
def write_type_1(blueprint: Blueprint, names: tuple[str, ...], *, spreads: bool) -> str:
    """Overwrites type 1 columns for plain changes, in the columns ``names`` only."""
    rows = f"SELECT brenvik_locator, {ARRIVAL} FROM {sql.work('plain')} WHERE brenvik_sets = 1"
    if spreads:
        rows += f" UNION ALL SELECT brenvik_locator, {ARRIVAL} FROM {sql.work('spread')}"
    target = sql.relation(blueprint.table)
    given = []
    for name in names:
        value = f"s.{sql.quote(name)}"
        if here := carries(blueprint, "s", name):
            value = f"CASE WHEN {here} THEN {value} ELSE {target}.{sql.quote(name)} END"
        given.append(f"{sql.quote(name)} = {value}")
    in_order = (
        " ORDER BY r.brenvik_locator" if blueprint.store.whole_rows else ""
    )  # else pages are visited back and forth
    source = f"""(
  SELECT r.brenvik_locator, c.brenvik_shape, {sql.columns(names, "c")}
  FROM ({rows}) r JOIN {sql.work("screened")} c ON c.{ARRIVAL} = r.{ARRIVAL}{in_order}
) s"""
    return _update(blueprint, [*given, *_stamp(blueprint)], source, "s")


def _update(blueprint: Blueprint, items: list[str], source: str, alias: str) -> str:
    target = sql.relation(blueprint.table)
    found = f"{target}.{sql.quote(blueprint.locator)} = {alias}.brenvik_locator"
    # A table that keeps no word of ends or runs is still told apart: its first key column is written as it is.
    items = items or [f"{sql.quote(blueprint.keys[0])} = {target}.{sql.quote(blueprint.keys[0])}"]
    return f"UPDATE {target} SET {', '.join(items)} FROM {source} WHERE {found}"


@lru_cache(maxsize=256)
def write_removes(blueprint: Blueprint) -> str:
    target = sql.relation(blueprint.table)
    removed = f"SELECT r.brenvik_locator FROM {sql.work('removes')} r"
    return f"DELETE FROM {target} WHERE {target}.{sql.quote(blueprint.locator)} IN ({removed})"


@lru_cache(maxsize=256)
def write_adds(blueprint: Blueprint, *, plain: bool, busy: bool) -> str:
    """Adds the new rows of plain and of busy keys. Surrogate keys go on from the parameter ``last_key``."""
    own = blueprint.own
    sources = []
    if plain:
        values = []
        for name in blueprint.values:
            new, before = f"c.{sql.quote(name)}", f"p.{was(blueprint, name)}"
            if name in blueprint.type_0:
                new = f"COALESCE({before}, {new})"
            elif here := carries(blueprint, "c", name):
                new = f"CASE WHEN {here} THEN {new} ELSE {before} END"
            values.append(f"{new} AS {sql.quote(name)}")
        content = sql.listed(sql.columns(blueprint.keys, "c"), *values, sep=", ")
        sources.append(f"""
SELECT {content}, c.{EFFECTIVE} AS brenvik_start, {blueprint.open_end} AS brenvik_end,
  TRUE AS brenvik_open, FALSE AS brenvik_ended
FROM {sql.work("plain")} p JOIN {sql.work("screened")} c ON c.{ARRIVAL} = p.{ARRIVAL}
WHERE {decided("p", "inserted", "versioned")}""")
    if busy:
        content = sql.columns((*blueprint.keys, *blueprint.values), "d")
        until = f"COALESCE(d.brenvik_until, {blueprint.open_end})" if blueprint.has_open_end else "d.brenvik_until"
        sources.append(f"""
SELECT {content}, d.{EFFECTIVE} AS brenvik_start, {until} AS brenvik_end,
  (d.brenvik_until IS NULL) AS brenvik_open, (d.brenvik_ended = 1) AS brenvik_ended
FROM {sql.work("adds")} a JOIN {sql.work("desired")} d ON d.brenvik_no = a.brenvik_no""")
    shown = (*blueprint.keys, *blueprint.values)
    items = [
        (None if blueprint.numbered_by_store else own("surrogate_key"), ":last_key + row_number() OVER ()"),
        *((name, f"n.{sql.quote(name)}") for name in shown),
        (own("valid_from"), "n.brenvik_start"),
        (own("valid_to"), f"CAST(n.brenvik_end AS {blueprint.effective_type.sql})"),
        (own("is_current"), "n.brenvik_open"),
        (own("is_deleted"), "n.brenvik_ended"),
        (own("first_run"), ":run"),
        (own("last_run"), ":run"),
        (own("first_loaded_at"), "CAST(:loaded_at AS TIMESTAMP)"),
        (own("last_loaded_at"), "CAST(:loaded_at AS TIMESTAMP)"),
    ]
    held = [(name, value) for name, value in items if name]
    return f"""
INSERT INTO {sql.relation(blueprint.table)} ({", ".join(sql.quote(name) for name, _ in held)})
SELECT {", ".join(value for _, value in held)}
FROM ({" UNION ALL ".join(sources)}) n"""
