"""Which way each change goes, and which changes are there already.

*Late* is a change that is not strictly above both the highest order and the highest effective ever taken. A key goes
through the windows when it has several changes in the batch, or when it must be worked out again in *full*: because
a change is late, or because its current version alone does not tell everything. All other keys take the plain join.
"""

from __future__ import annotations

from functools import lru_cache

from brenvik.merge import sequence, sql
from brenvik.merge.schema import ARRIVAL, DELETE, EFFECTIVE, RUN, SHAPE, Blueprint

HIGH = "brenvik_high"


def _above(blueprint: Blueprint, alias: str) -> str:
    """Whether a change's order is strictly above the highest ever taken, column by column."""
    test = ""
    for index, name in reversed(list(enumerate(blueprint.order))):
        value, high = f"{alias}.{sql.quote(name)}", f"CAST(:high_order_{index} AS {blueprint.type_of(name).sql})"
        test = f"({value} > {high} OR ({value} = {high} AND {test}))" if test else f"{value} > {high}"
    return test or "1 = 1"


def is_late(blueprint: Blueprint, alias: str) -> str:
    """Needs the parameters ``high_effective`` and ``high_order_0``, … ."""
    high = f"CAST(:high_effective AS {blueprint.effective_type.sql})"
    return f"NOT ({_above(blueprint, alias)} AND {alias}.{EFFECTIVE} > {high})"


@lru_cache(maxsize=256)
def sums(blueprint: Blueprint, *, first: bool, derives: bool) -> str:
    """How many rows of ``screened`` have a fault (``faulty``), are ``derived`` and are ``late``; and where one column orders, or
    none, what ``highest`` asks for, in the same pass."""
    derived = sequence.count_derived("c") if derives else "0"
    late = "0" if first else f"sum({sql.flag(is_late(blueprint, 'c'))})"
    items = [
        "count(c.brenvik_fault) AS faulty",
        f"CAST(COALESCE({derived}, 0) AS BIGINT) AS derived",
        f"CAST(COALESCE({late}, 0) AS BIGINT) AS late",
    ]
    if len(blueprint.order) < 2:
        items.append(_maxima(blueprint, above_all=not first))
    return f"SELECT {', '.join(items)} FROM {sql.work('screened')} c"


def _maxima(blueprint: Blueprint, *, above_all: bool) -> str:
    """The highest order (of one column, or none) and effective time of a relation ``c``, as text; ``above_all`` counts only those
    above the highest ever taken."""
    items = []
    for name in blueprint.order:
        value = f"c.{sql.quote(name)}"
        above = f"CASE WHEN {_above(blueprint, 'c')} THEN {value} END" if above_all else value
        items.append(f"CAST(max({above}) AS TEXT) AS {sql.quote(name)}")
    high = f"CAST(:high_effective AS {blueprint.effective_type.sql})"
    newer = f"CASE WHEN c.{EFFECTIVE} > {high} THEN c.{EFFECTIVE} END" if above_all else f"c.{EFFECTIVE}"
    return ", ".join([*items, f"CAST(max({newer}) AS TEXT) AS {HIGH}"])


@lru_cache(maxsize=256)
def mark_busy(blueprint: Blueprint, *, some_late: bool) -> str:
    """Makes ``busy``: the keys that go through the windows; ``brenvik_full`` where late changes ask for all of the key."""
    late = f"max({sql.flag(is_late(blueprint, 'c'))})" if some_late else "0"
    having = f"count(*) > 1 OR {late} = 1" if some_late else "count(*) > 1"
    keys = sql.columns(blueprint.keys, "c")
    return f"""
CREATE TEMP TABLE {sql.work("busy")} AS
SELECT {keys}, {late} AS brenvik_full
FROM {sql.work("screened")} c
GROUP BY {keys}
HAVING {having}"""


@lru_cache(maxsize=256)
def find_duplicates(blueprint: Blueprint, *, first: bool) -> str:
    """Makes ``duplicates``: arrival numbers of changes whose identity stands earlier in the batch or in the kept changes.

    Without order columns arrival decides, and the same content later is another change: nothing is a duplicate then.
    """
    within = (*blueprint.keys, EFFECTIVE, DELETE, SHAPE, *blueprint.carried)
    parts = []
    if blueprint.order:
        parts.append(f"""
SELECT n.{ARRIVAL} FROM (
  SELECT c.{ARRIVAL}, row_number() OVER (
    PARTITION BY {sql.columns(dict.fromkeys(within), "c")} ORDER BY c.{ARRIVAL}) AS brenvik_nth
  FROM {sql.work("screened")} c
  WHERE EXISTS (SELECT 1 FROM {sql.work("busy")} b WHERE {sql.same("b", "c", blueprint.keys)})
) n WHERE n.brenvik_nth > 1""")
    if blueprint.order and blueprint.kept and not first:
        never_null = (*blueprint.keys, *blueprint.order, EFFECTIVE, DELETE, SHAPE)
        others = [name for name in blueprint.carried if name not in never_null]
        parts.append(f"""
SELECT c.{ARRIVAL}
FROM {sql.work("screened")} c
JOIN {blueprint.counting} k ON {sql.same("k", "c", never_null)} AND {sql.alike("k", "c", others)}
WHERE EXISTS (
  SELECT 1 FROM {sql.work("busy")} b WHERE {sql.same("b", "c", blueprint.keys)} AND b.brenvik_full = 1)""")
    nothing = f"SELECT c.{ARRIVAL} FROM {sql.work('screened')} c WHERE 1 = 0"
    return f"CREATE TEMP TABLE {sql.work('duplicates')} AS {' UNION '.join(parts) or nothing}"


@lru_cache(maxsize=256)
def count_late_duplicates(blueprint: Blueprint) -> str:
    """How many late changes (``n``) are duplicates."""
    return f"""
SELECT count(*) AS n FROM {sql.work("duplicates")} d JOIN {sql.work("screened")} c ON c.{ARRIVAL} = d.{ARRIVAL}
WHERE {is_late(blueprint, "c")}"""


@lru_cache(maxsize=256)
def folded(blueprint: Blueprint) -> str:
    """How many duplicates are of changes that which earlier run kept (``of_run``, ``n``)."""
    never_null = (*blueprint.keys, *blueprint.order, EFFECTIVE, DELETE, SHAPE)
    others = [name for name in blueprint.carried if name not in never_null]
    return f"""
SELECT k.{RUN} AS of_run, count(DISTINCT c.{ARRIVAL}) AS n
FROM {sql.work("duplicates")} d
JOIN {sql.work("screened")} c ON c.{ARRIVAL} = d.{ARRIVAL}
JOIN {blueprint.counting} k ON {sql.same("k", "c", never_null)} AND {sql.alike("k", "c", others)}
GROUP BY k.{RUN}"""


@lru_cache(maxsize=256)
def widen_busy(blueprint: Blueprint) -> str:
    """Busy keys whose living version does not tell everything are worked out in full.

    That is a key without a living version (has it closed ones? was it removed before?), one whose type 0 value is not
    known yet (finding it touches all versions of the life), and one with a delete that takes closed versions away too.
    """
    busy = sql.work("busy")

    def same_key(alias: str) -> str:
        return " AND ".join(f"{alias}.{sql.quote(k)} = {busy}.{sql.quote(k)}" for k in blueprint.keys)

    known = "".join(f" AND t.{sql.quote(name)} IS NOT NULL" for name in blueprint.type_0)
    tests = [
        f"NOT EXISTS (SELECT 1 FROM {sql.relation(blueprint.table)} t "
        f"WHERE {same_key('t')} AND {blueprint.is_open('t')}{known})"
    ]
    if blueprint.has_versions and not blueprint.keeps_lives:
        tests.append(f"EXISTS (SELECT 1 FROM {sql.work('screened')} c WHERE {same_key('c')} AND c.{DELETE} = 1)")
    return f"UPDATE {busy} SET brenvik_full = 1 WHERE brenvik_full = 0 AND {sql.any_of(tests)}"


@lru_cache(maxsize=256)
def highest(blueprint: Blueprint, *, first: bool) -> str:
    """The highest order of the batch that is above the highest ever taken, and the same of the effective times (as
    ``brenvik_high``); null where there is none. Every value comes as text."""
    return highest_of(blueprint, sql.work("screened"), above_all=not first)


def highest_of(blueprint: Blueprint, relation: str, *, above_all: bool = False) -> str:
    """The same of any relation; ``above_all`` counts only what is above the highest ever taken."""
    if len(blueprint.order) < 2:
        return f"SELECT {_maxima(blueprint, above_all=above_all)} FROM {relation} c"
    high = f"CAST(:high_effective AS {blueprint.effective_type.sql})"
    newer, above = (f"WHERE c.{EFFECTIVE} > {high}", f"WHERE {_above(blueprint, 'c')}") if above_all else ("", "")
    order = [f"CAST(c.{sql.quote(name)} AS TEXT) AS {sql.quote(name)}" for name in blueprint.order]
    latest = ", ".join(f"c.{sql.quote(name)} DESC" for name in blueprint.order)
    return f"""
SELECT {sql.columns(blueprint.order, "o")}, e.{HIGH}
FROM (SELECT CAST(max(c.{EFFECTIVE}) AS TEXT) AS {HIGH} FROM {relation} c {newer}) e
LEFT JOIN (SELECT {", ".join(order)} FROM {relation} c {above} ORDER BY {latest} LIMIT 1) o ON 1 = 1"""


@lru_cache(maxsize=256)
def keep(blueprint: Blueprint, *, some_duplicates: bool) -> str:
    """Appends the accepted changes that are no duplicates to the kept ones."""
    assert blueprint.kept
    fresh = f"WHERE NOT EXISTS (SELECT 1 FROM {sql.work('duplicates')} d WHERE d.{ARRIVAL} = c.{ARRIVAL})"
    names = (ARRIVAL, SHAPE, DELETE, EFFECTIVE, *blueprint.carried)
    return f"""
INSERT INTO {sql.relation(blueprint.kept)} ({RUN}, {sql.columns(names)})
SELECT :run, {sql.columns(names, "c")}
FROM {sql.work("screened")} c
{fresh if some_duplicates else ""}"""
