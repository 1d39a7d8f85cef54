"""Working keys out again, or some of the past, from the changes kept before: what counts, which keys, which changes.

``left_out`` holds the runs whose changes do not count; ``counting`` is what is left of the kept ones.
"""

from __future__ import annotations

from functools import lru_cache

from brenvik.core import arrivals, holds, sql
from brenvik.core.blueprint import ARRIVAL, DELETE, EFFECTIVE, RUN, SHAPE, Blueprint
from brenvik.types import ColumnType

LEFT_OUT = f"CREATE TEMP TABLE {sql.work('left_out')} (run BIGINT)"
LEAVE_OUT = f"INSERT INTO {sql.work('left_out')} (run) VALUES (:left_out)"


def _kept_columns(blueprint: Blueprint) -> tuple[str, ...]:
    return (RUN, ARRIVAL, SHAPE, DELETE, EFFECTIVE, *blueprint.carried)


@lru_cache(maxsize=256)
def count_others(blueprint: Blueprint, *, some_explicit: bool = False) -> str:
    """Makes ``counting``; with what was made explicit, but is not kept yet. Where deletes are held, released ones count."""
    assert blueprint.kept
    released = f" AND {holds.counts('k')}" if blueprint.holds else ""
    names = sql.columns(_kept_columns(blueprint), "k")
    counts = f"NOT EXISTS (SELECT 1 FROM {sql.work('left_out')} o WHERE o.run = k.{RUN})"
    explicit = f" UNION ALL SELECT {names} FROM {sql.work('explicit')} k WHERE {counts}" if some_explicit else ""
    return f"""
CREATE TEMP VIEW {sql.work("counting")} AS
SELECT {names} FROM {sql.relation(blueprint.kept)} k
WHERE {counts}{released}{explicit}"""


@lru_cache(maxsize=256)
def explicit_table(blueprint: Blueprint) -> str:
    """Makes ``explicit``, empty: changes as they are kept."""
    names = sql.columns(_kept_columns(blueprint), "k")
    return f"""
CREATE TEMP TABLE {sql.work("explicit")} AS SELECT {names} FROM {sql.relation(str(blueprint.kept))} k WHERE 1 = 0"""


@lru_cache(maxsize=256)
def make_explicit(blueprint: Blueprint, *, shape: int, held: str) -> str:
    """Adds to ``explicit`` what an extract (``to_run``, at ``extract_at``) said of the busy keys: the living version of each in
    ``desired``, or that there is none. Where deletes wait, a key without one says nothing, and neither does one whose delete
    the relation ``held`` has: it is alive and did not stand in the extract. Numbered on from ``explicit_from``."""
    waits = f"""
WHERE NOT EXISTS (
  SELECT 1 FROM {held} h JOIN {sql.relation(str(blueprint.kept))} k ON k.{RUN} = h.run AND k.{ARRIVAL} = h.arrival
  WHERE {sql.same("k", "b", blueprint.keys)})"""
    said = (*blueprint.keys, *blueprint.values)
    values = [
        f"d.{sql.quote(name)}" if name in said else f"CAST(NULL AS {blueprint.type_of(name).sql})"
        for name in blueprint.carried
        if name not in blueprint.keys
    ]
    others = [name for name in blueprint.carried if name not in blueprint.keys]
    return f"""
INSERT INTO {sql.work("explicit")} ({sql.columns((RUN, ARRIVAL, SHAPE, DELETE, EFFECTIVE, *blueprint.keys, *others))})
SELECT {
        sql.listed(
            f":to_run, :explicit_from + 2 * row_number() OVER (ORDER BY {sql.columns(blueprint.keys, 'b')}), {shape}",
            sql.flag("d.brenvik_no IS NULL"),
            f"CAST(:extract_at AS {blueprint.effective_type.sql})",
            sql.columns(blueprint.keys, "b"),
            *values,
            sep=", ",
        )
    }
FROM {sql.work("busy")} b
{"" if blueprint.holds else "LEFT "}JOIN {sql.work("desired")} d
  ON {sql.same("d", "b", blueprint.keys)} AND d.brenvik_until IS NULL{waits if blueprint.holds else ""}"""


@lru_cache(maxsize=256)
def keep_explicit(blueprint: Blueprint) -> str:
    names = _kept_columns(blueprint)
    return f"""
INSERT INTO {sql.relation(str(blueprint.kept))} ({sql.columns(names)})
SELECT {sql.columns(names, "k")} FROM {sql.work("explicit")} k"""


def highest_explicit(blueprint: Blueprint) -> str:
    """The highest number of what was made explicit of the extract ``to_run`` (``n``)."""
    return f"""
SELECT max(k.{ARRIVAL}) AS n FROM {sql.relation(str(blueprint.kept))} k
WHERE k.{RUN} = :to_run AND {arrivals.is_explicit(f"k.{ARRIVAL}")}"""


def start_again(blueprint: Blueprint) -> tuple[str, ...]:
    """Takes the working tables of one working out away, so that another can follow."""
    tables = ["left_out", "screened", "busy", "duplicates", "judged", "desired"]
    tables += ["released"] if blueprint.holds else []
    return (f"DROP VIEW {sql.work('counting')}", *(f"DROP TABLE {sql.work(name)}" for name in tables))


def said_nothing_in(blueprint: Blueprint) -> str:
    """Whether the extract ``to_run`` kept no change of the key of ``k``."""
    return f"""NOT EXISTS (
  SELECT 1 FROM {sql.relation(str(blueprint.kept))} o WHERE o.{RUN} = :to_run AND {sql.same("o", "k", blueprint.keys)})"""


@lru_cache(maxsize=256)
def screen_again(blueprint: Blueprint, *, where: str = "") -> str:
    """Makes ``screened`` of kept changes: none, or those that fit ``where`` (of ``k``)."""
    assert blueprint.kept
    names = sql.columns((ARRIVAL, SHAPE, DELETE, EFFECTIVE, *blueprint.carried), "k")
    return f"""
CREATE TEMP TABLE {sql.work("screened")} AS
SELECT {names} FROM {sql.relation(blueprint.kept)} k WHERE {where or "1 = 0"}"""


OF_RUN = f"k.{RUN} = :run AND NOT ({arrivals.is_explicit(f'k.{ARRIVAL}')})"


def of_runs(runs: tuple[int, ...]) -> str:
    return f"k.{RUN} IN ({', '.join(str(int(run)) for run in runs)})"


def of_key(blueprint: Blueprint, alias: str = "k") -> str:
    """Needs the parameters ``key_0``, … as text."""
    return " AND ".join(
        f"{alias}.{sql.quote(name)} = CAST(:key_{index} AS {blueprint.type_of(name).sql})"
        for index, name in enumerate(blueprint.keys)
    )


def runs_of_key(blueprint: Blueprint) -> str:
    """The runs that brought changes of a key, the earliest first."""
    return (
        f"SELECT DISTINCT k.{RUN} FROM {sql.relation(str(blueprint.kept))} k WHERE {of_key(blueprint)} ORDER BY k.{RUN}"
    )


@lru_cache(maxsize=256)
def choose(blueprint: Blueprint, *, where: str = "") -> str:
    """Makes ``busy`` of the keys of kept changes that fit ``where``; without it, of all keys there are."""
    assert blueprint.kept
    keys = sql.columns(blueprint.keys, "k")
    found = f"SELECT {keys} FROM {sql.relation(blueprint.kept)} k"
    found += f" WHERE {where}" if where else f" UNION SELECT {keys} FROM {sql.relation(blueprint.table)} k"
    return f"""
CREATE TEMP TABLE {sql.work("busy")} AS
SELECT DISTINCT {sql.columns(blueprint.keys, "b")}, 1 AS brenvik_full FROM ({found}) b"""


@lru_cache(maxsize=256)
def as_rows(blueprint: Blueprint, where: str) -> str:
    """The rows of ``desired`` as the table would hold them, without surrogate keys and stamps."""
    own = blueprint.own
    until = f"COALESCE(d.brenvik_until, {blueprint.open_end})" if blueprint.has_open_end else "d.brenvik_until"
    items = [
        *((name, f"d.{sql.quote(name)}") for name in (*blueprint.keys, *blueprint.values)),
        (own("valid_from"), f"d.{EFFECTIVE}"),
        (own("valid_to"), f"CAST({until} AS {blueprint.effective_type.sql})"),
        (own("is_current"), "(d.brenvik_until IS NULL)"),
        (own("is_deleted"), "(d.brenvik_ended = 1)"),
    ]
    shown = ", ".join(f"{value} AS {sql.quote(name)}" for name, value in items if name)
    order = sql.columns((*blueprint.keys, EFFECTIVE), "d")
    return f"SELECT {shown} FROM {sql.work('desired')} d {where} ORDER BY {order}"


def at_moment(effective: ColumnType) -> str:
    """Which rows of ``desired`` hold at the parameter ``moment``."""
    moment = f"CAST(:moment AS {effective.sql})"
    return f"WHERE d.{EFFECTIVE} <= {moment} AND (d.brenvik_until IS NULL OR d.brenvik_until > {moment})"


@lru_cache(maxsize=256)
def touched_keys(blueprint: Blueprint) -> str:
    """Per key what the diff asks for: how many rows are added, changed (values or ends) and removed."""
    keys = sql.columns(blueprint.keys, "r")
    stored = sql.work("stored")

    def part(relation: str, other: str, column: str, kind: str) -> str:
        flags = ", ".join(f"{int(kind == each)} AS {each}" for each in ("added", "changed", "removed"))
        return (
            f"SELECT {sql.columns(blueprint.keys, 'o')}, {flags} FROM {sql.work(relation)} w "
            f"JOIN {other} o ON o.{column} = w.{column}"
        )

    parts = " UNION ALL ".join(
        (
            part("adds", sql.work("desired"), "brenvik_no", "added"),
            part("sets", stored, "brenvik_locator", "changed"),
            part("closes", stored, "brenvik_locator", "changed"),
            part("removes", stored, "brenvik_locator", "removed"),
        )
    )
    sums = ", ".join(f"CAST(sum(r.{each}) AS BIGINT) AS brenvik_{each}" for each in ("added", "changed", "removed"))
    return f"SELECT {keys}, {sums} FROM ({parts}) r GROUP BY {keys} ORDER BY {keys}"


@lru_cache(maxsize=256)
def highest(blueprint: Blueprint) -> tuple[str, str]:
    """Two questions, as ``sort.highest`` has them, of all kept changes that count."""
    order = ", ".join(f"CAST(k.{sql.quote(name)} AS TEXT) AS {sql.quote(name)}" for name in blueprint.order)
    latest = ", ".join(f"k.{sql.quote(name)} DESC" for name in blueprint.order)
    return (
        f"SELECT {order} FROM {blueprint.counting} k ORDER BY {latest} LIMIT 1" if order else "",
        f"SELECT CAST(max(k.{EFFECTIVE}) AS TEXT) AS brenvik_high FROM {blueprint.counting} k",
    )
