"""Working keys out again, or some of the past, from the changes kept before: what counts, which keys, which changes.

``left_out`` holds the runs whose changes do not count; ``counting`` is what is left of the kept ones.
"""

from __future__ import annotations

from functools import lru_cache

from brenvik.merge import classify, conditions, pending_deletes, sequence, sql
from brenvik.merge.schema import ARRIVAL, DELETE, EFFECTIVE, RUN, SHAPE, Blueprint
from brenvik.model.types import ColumnType

LEFT_OUT = f"CREATE TEMP TABLE {sql.work('left_out')} (run BIGINT)"
AT_ONCE = 100


def leave_out(runs: int = 1) -> str:
    """Enters so many runs in ``left_out``, at most ``AT_ONCE``: the parameters ``left_out_0``, …"""
    return f"INSERT INTO {sql.work('left_out')} (run) VALUES " + ", ".join(f"(:left_out_{n})" for n in range(runs))


def kept_columns(blueprint: Blueprint) -> tuple[str, ...]:
    """The columns of kept changes."""
    return (RUN, ARRIVAL, SHAPE, DELETE, EFFECTIVE, *blueprint.carried)


@lru_cache(maxsize=256)
def count_others(blueprint: Blueprint, *, some_explicit: bool = False) -> str:
    """Makes ``counting``; with what was made explicit, but is not kept yet. Where deletes are held, released ones count."""
    assert blueprint.kept
    released = f" AND {pending_deletes.counts('k')}" if blueprint.holds else ""
    names = sql.columns(kept_columns(blueprint), "k")
    counts = f"NOT EXISTS (SELECT 1 FROM {sql.work('left_out')} o WHERE o.run = k.{RUN})"
    explicit = (
        f" UNION ALL SELECT {names} FROM {sql.work('explicit')} k WHERE {counts}{released}" if some_explicit else ""
    )
    return f"""
CREATE TEMP VIEW {sql.work("counting")} AS
SELECT {names} FROM {sql.relation(blueprint.kept)} k
WHERE {counts}{released}{explicit}"""


@lru_cache(maxsize=256)
def explicit_table(blueprint: Blueprint) -> str:
    """Makes ``explicit``, empty: changes as they are kept."""
    names = sql.columns(kept_columns(blueprint), "k")
    return f"""
CREATE TEMP TABLE {sql.work("explicit")} AS SELECT {names} FROM {sql.relation(str(blueprint.kept))} k WHERE 1 = 0"""


def _explicitly(blueprint: Blueprint, shape: int, *, deleted: bool) -> str:
    """The beginning of a statement that adds to ``explicit`` for each row ``b``: its key is as ``d`` has it, or is gone."""
    others = [name for name in blueprint.carried if name not in blueprint.keys]
    carried = dict(blueprint.shapes)[shape]
    values = [
        f"d.{sql.quote(name)}"
        if name in blueprint.values and name in carried and not deleted
        else f"CAST(NULL AS {blueprint.type_of(name).sql})"
        for name in others
    ]
    number = f":explicit_from + 2 * row_number() OVER (ORDER BY {sql.columns(blueprint.keys, 'b')})"
    when = f"CAST(:extract_at AS {blueprint.effective_type.sql})"
    head = f":to_run, {number}, {shape}, {int(deleted)}, {when}"
    return f"""
INSERT INTO {sql.work("explicit")} ({sql.columns((RUN, ARRIVAL, SHAPE, DELETE, EFFECTIVE, *blueprint.keys, *others))})
SELECT {sql.listed(head, sql.columns(blueprint.keys, "b"), *values, sep=", ")}
FROM {sql.work("busy")} b"""


def _living(blueprint: Blueprint, alias: str = "d") -> str:
    return f"{sql.same(alias, 'b', blueprint.keys)} AND {alias}.brenvik_until IS NULL"


@lru_cache(maxsize=256)
def make_explicit(blueprint: Blueprint, *, shape: int, living: bool, scope: str | None, held: str, refused: str) -> str:
    """Adds to ``explicit`` what an extract (``to_run``, at ``extract_at``) said of the busy keys: the ``living`` version of each
    in ``desired``; or else that there is none. Numbered on from ``explicit_from``.

    A version outside of ``scope`` did not stand in it. Neither did, where deletes wait, a key whose delete the relation ``held``
    has; that a key is gone does not count there by itself. Of the keys (as text) of the relation ``refused`` it said nothing
    that could be taken."""
    desired = sql.work("desired")
    taken = f"NOT EXISTS (SELECT 1 FROM {refused} r WHERE r.key = {blueprint.key_text('b')})"
    tests = [_living(blueprint), *([f"({conditions.of_row(scope, 'd', blueprint)})"] if scope else [])]
    if blueprint.holds:
        kept = sql.relation(str(blueprint.kept))
        waits = f"SELECT 1 FROM {held} h JOIN {kept} k ON k.{RUN} = h.run AND k.{ARRIVAL} = h.arrival"
        tests.append(f"NOT EXISTS ({waits} WHERE {sql.same('k', 'b', blueprint.keys)})")
    there = " AND ".join(tests)
    if living:
        return f"{_explicitly(blueprint, shape, deleted=False)} JOIN {desired} d ON {there} WHERE {taken}"
    gone = f"NOT EXISTS (SELECT 1 FROM {desired} d WHERE {there})"
    return f"{_explicitly(blueprint, shape, deleted=True)} WHERE {taken} AND {gone}"


@lru_cache(maxsize=256)
def make_missing_explicit(blueprint: Blueprint, *, shape: int, scope: str, refused: str) -> str:
    """Adds to ``explicit`` a delete of each busy key whose living version in ``desired`` lies within ``scope``, and that is not
    in there already for this extract (see ``make_explicit``)."""
    said = f"SELECT 1 FROM {sql.work('explicit')} x WHERE x.{RUN} = :to_run AND {sql.same('x', 'b', blueprint.keys)}"
    return f"""{_explicitly(blueprint, shape, deleted=True)}
JOIN {sql.work("desired")} d ON {_living(blueprint)}
WHERE ({conditions.of_row(scope, "d", blueprint)}) AND NOT EXISTS ({said})
  AND NOT EXISTS (SELECT 1 FROM {refused} r WHERE r.key = {blueprint.key_text("b")})"""


@lru_cache(maxsize=256)
def count_open(blueprint: Blueprint, runs: tuple[int, ...], refused: str) -> str:
    """How many changes (``n``) of some runs are of keys that the extract ``to_run`` left open: it ``refused`` them (see
    ``make_explicit``); or where deletes wait, did not say that they are there."""
    kept = sql.relation(str(blueprint.kept))
    left = f"EXISTS (SELECT 1 FROM {refused} r WHERE r.key = {blueprint.key_text('k')})"
    if blueprint.holds:
        said = (
            f"SELECT 1 FROM {{}} o WHERE o.{RUN} = :to_run AND o.{DELETE} = 0 AND {sql.same('o', 'k', blueprint.keys)}"
        )
        left = " AND ".join(f"NOT EXISTS ({said.format(place)})" for place in (kept, sql.work("explicit")))
    return f"SELECT count(*) AS n FROM {kept} k WHERE {of_runs(runs)} AND {left}"


@lru_cache(maxsize=256)
def keep_explicit(blueprint: Blueprint) -> str:
    names = kept_columns(blueprint)
    return f"""
INSERT INTO {sql.relation(str(blueprint.kept))} ({sql.columns(names)})
SELECT {sql.columns(names, "k")} FROM {sql.work("explicit")} k"""


def highest_explicit(blueprint: Blueprint) -> str:
    """The highest number of what was made explicit of the extract ``to_run`` (``n``)."""
    return f"""
SELECT max(k.{ARRIVAL}) AS n FROM {sql.relation(str(blueprint.kept))} k
WHERE k.{RUN} = :to_run AND {sequence.is_explicit(f"k.{ARRIVAL}")}"""


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
def nothing_new(blueprint: Blueprint) -> str:
    """Makes ``screened``, empty."""
    assert blueprint.kept
    names = sql.columns((ARRIVAL, SHAPE, DELETE, EFFECTIVE, *blueprint.carried), "k")
    return f"""
CREATE TEMP TABLE {sql.work("screened")} AS
SELECT {names} FROM {sql.relation(blueprint.kept)} k WHERE 1 = 0"""


def of_runs(runs: tuple[int, ...]) -> str:
    return f"k.{RUN} IN ({', '.join(str(int(run)) for run in runs)})"


def of_key(blueprint: Blueprint, alias: str = "k") -> str:
    """Needs the parameters ``key_0``, … as text."""
    return " AND ".join(
        f"{alias}.{sql.quote(name)} = CAST(:key_{index} AS {blueprint.type_of(name).sql})"
        for index, name in enumerate(blueprint.keys)
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


def hold_from(blueprint: Blueprint, column: str) -> str:
    """Has the kept changes hold from another column."""
    when = sql.quote(column)
    if blueprint.grain:
        when = f"CAST(date_trunc('{blueprint.grain}', {when}) AS {blueprint.effective_type.sql})"
    return f"UPDATE {sql.relation(str(blueprint.kept))} SET {EFFECTIVE} = {when}"


@lru_cache(maxsize=256)
def as_rows(blueprint: Blueprint, *tests: str) -> str:
    """The rows of ``desired`` that fit some tests, as the table would hold them, without surrogate keys and stamps."""
    where = f"WHERE {' AND '.join(tests)}" if tests else ""
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
    """Whether a row of ``desired`` holds at the parameter ``moment``."""
    moment = f"CAST(:moment AS {effective.sql})"
    return f"d.{EFFECTIVE} <= {moment} AND (d.brenvik_until IS NULL OR d.brenvik_until > {moment})"


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
def highest(blueprint: Blueprint) -> str:
    """As ``classify.highest`` has it, of all kept changes that count."""
    return classify.highest_of(blueprint, blueprint.counting)
