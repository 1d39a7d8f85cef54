"""Which path each change takes, and which changes are duplicates.

A change is *late* when it is not strictly above both the highest order and the highest effective time ever loaded. A key
takes the replay path when the batch has several changes of it, or when all of its log must be replayed (*full replay*):
because a change is late, or because the current version is not sufficient. All other keys take the current path.
"""

from __future__ import annotations

from functools import lru_cache

from brenvik.merge import current_path, sequence, sql
from brenvik.merge.schema import COLUMN_SET, DELETE, EFFECTIVE_AT, RUN, SEQUENCE_NO, TableSchema

HIGHEST = "brenvik_highest"
"""What answers call the highest effective time."""


def highest_order(schema: TableSchema) -> tuple[str, ...]:
    """What answers call the highest value of each order column."""
    return tuple(f"{HIGHEST}_{index}" for index in range(len(schema.order)))


def _above(schema: TableSchema, alias: str) -> str:
    """A test: whether a change's order is strictly above the highest ever loaded, column by column; '' without order columns."""
    test = ""
    for index, name in reversed(list(enumerate(schema.order))):
        value, high = f"{alias}.{sql.quote(name)}", f"CAST(:high_order_{index} AS {schema.type_of(name).sql})"
        test = f"({value} > {high} OR ({value} = {high} AND {test}))" if test else f"{value} > {high}"
    return test


def _newer(schema: TableSchema, alias: str) -> str:
    """A test: whether the effective time of a change is above the highest ever loaded."""
    return f"{alias}.{EFFECTIVE_AT} > CAST(:high_effective AS {schema.effective_type.sql})"


def is_late(schema: TableSchema, alias: str) -> str:
    """Needs the parameters ``high_effective`` and ``high_order_0``, … ."""
    return f"NOT ({' AND '.join(filter(None, (_above(schema, alias), _newer(schema, alias))))})"


@lru_cache(maxsize=256)
def summarize(schema: TableSchema, *, first: bool, derives: bool, of: str) -> str:
    """One row about the relation ``of``: how many rows are ``invalid``; how many valid ones are ``inactive`` deletes, ``late``
    and ``changes`` (those that are active); how many keys have such changes (``changed_keys``). ``derived`` counts rows that were
    derived from others, be they valid or not.

    Also what ``highest`` asks for.
    """
    rows, valid = sql.work(of), "c.brenvik_error IS NULL"
    active = f"{valid} AND c.{DELETE} = 0" if schema.inactive_deletes else valid

    derived = f"CAST(COALESCE({sequence.count_derived('c')}, 0) AS BIGINT)" if derives else "0"
    inactive = sql.count_if(f"{valid} AND c.{DELETE} = 1") if schema.inactive_deletes else "0"
    late = "" if first else is_late(schema, "c")
    one_order = len(schema.order) < 2
    highest = _maxima(schema, above_all=not first, which=active, order=one_order)
    keys = f"SELECT DISTINCT {sql.columns(schema.keys, 'c')} FROM {rows} c WHERE {active}"
    sums = f"""SELECT count(c.brenvik_error) AS invalid, {inactive} AS inactive, {derived} AS derived,
  {sql.count_if(active)} AS changes, {sql.count_if(f"{valid} AND {late}") if late else "0"} AS late, {highest},
  (SELECT count(*) FROM ({keys}) k) AS changed_keys
FROM {rows} c"""
    if one_order:
        return sums
    last = _last(schema, rows, above_all=not first, which=active)
    return f"SELECT s.*, {sql.columns(highest_order(schema), 'o')} FROM ({sums}) s LEFT JOIN ({last}) o ON TRUE"


def _maxima(schema: TableSchema, *, above_all: bool, which: str = "", order: bool = True) -> str:
    """The highest effective time of a relation ``c``, and of at most one column the highest ``order``, as text; ``above_all``
    considers only values above the highest ever loaded, ``which`` only rows for which that test holds."""

    def highest(value: str, is_above: str, name: str) -> str:
        test = " AND ".join(filter(None, (which, is_above if above_all else "")))
        counted = f"CASE WHEN {test} THEN {value} END" if test else value
        return f"CAST(max({counted}) AS TEXT) AS {sql.quote(name)}"

    names = zip(schema.order, highest_order(schema), strict=True)
    items = [highest(f"c.{sql.quote(name)}", _above(schema, "c"), into) for name, into in names if order]
    return ", ".join([*items, highest(f"c.{EFFECTIVE_AT}", _newer(schema, "c"), HIGHEST)])


def _last(schema: TableSchema, relation: str, *, above_all: bool, which: str = "") -> str:
    """A query for the highest order, of several columns, as text; no row where there is none."""
    names = zip(schema.order, highest_order(schema), strict=True)
    order = [f"CAST(c.{sql.quote(name)} AS TEXT) AS {into}" for name, into in names]
    latest = ", ".join(f"c.{sql.quote(name)} DESC" for name in schema.order)
    where = " AND ".join(filter(None, (which, _above(schema, "c") if above_all else "")))
    return f"SELECT {', '.join(order)} FROM {relation} c {f'WHERE {where} ' if where else ''}ORDER BY {latest} LIMIT 1"


@lru_cache(maxsize=256)
def highest(schema: TableSchema, relation: str) -> str:
    """The highest order of a relation (as ``highest_order``), and its highest effective time (as ``HIGHEST``); null where there
    is none. All values are text."""
    if len(schema.order) < 2:
        return f"SELECT {_maxima(schema, above_all=False)} FROM {relation} c"
    return f"""
SELECT {sql.columns(highest_order(schema), "o")}, e.{HIGHEST}
FROM (SELECT {_maxima(schema, above_all=False, order=False)} FROM {relation} c) e
LEFT JOIN ({_last(schema, relation, above_all=False)}) o ON TRUE"""


@lru_cache(maxsize=256)
def find_late_or_several(schema: TableSchema, *, some_late: bool, first: bool, matched: bool) -> str:
    """The keys with several changes, or with late ones, and how many changes each has (``brenvik_changes``).
    ``brenvik_full_replay`` is 1 for those with late changes, and for those whose current version is not sufficient.

    The latter have no current version (does the key have closed ones? was it removed before?), or one whose type 0 value is
    not known yet (it will be set on all versions of the lifetime), or a delete that also removes closed versions. ``matched``:
    ``met`` has current versions only.
    """
    late = f"max({sql.flag(is_late(schema, 'c'))})" if some_late else "0"
    having = f"count(*) > 1 OR {late} = 1" if some_late else "count(*) > 1"
    keys, rows, count = sql.columns(schema.keys, "c"), sql.work("changes"), "count(*) AS brenvik_changes"
    if first:
        return f"SELECT {keys}, {late} AS brenvik_full_replay, {count} FROM {rows} c GROUP BY {keys} HAVING {having}"
    removes = schema.has_versions and not schema.keeps_lifetimes
    deletes = f", max(c.{DELETE}) AS brenvik_deletes" if removes else ""
    sufficient = [sql.same("t", "k", schema.keys), *([] if matched else [schema.is_current("t")])]
    sufficient += [f"t.{sql.quote(name)} IS NOT NULL" for name in schema.type_0]
    full = [f"t.{sql.quote(schema.keys[0])} IS NULL"]
    full += ["k.brenvik_late = 1"] if some_late else []
    full += ["k.brenvik_deletes = 1"] if removes else []
    return f"""
SELECT {sql.columns(schema.keys, "k")}, {sql.flag(" OR ".join(full))} AS brenvik_full_replay, k.brenvik_changes
FROM (
  SELECT {keys}, {late} AS brenvik_late, {count}{deletes} FROM {rows} c GROUP BY {keys} HAVING {having}
) k
LEFT JOIN {sql.work("met")} t ON {" AND ".join(sufficient)}"""


def count_late_or_several() -> str:
    """How many keys have several changes or late ones (``replay_keys``), and how many changes they have (``replayed``)."""
    return f"SELECT count(*) AS replay_keys, {sql.total('k.brenvik_changes')} AS replayed FROM {sql.work('late_or_several')} k"


@lru_cache(maxsize=256)
def find_duplicates(schema: TableSchema, *, logged: bool) -> str:
    """Sequence numbers of changes that occur earlier in the batch or, where a change may be ``logged`` already, in the change
    log: only late ones are.

    Without order columns the order of arrival decides, and the same content later is another change: nothing is a duplicate.
    """
    place = (*schema.keys, EFFECTIVE_AT)
    within = sql.listed(sql.columns(_never_null(schema), "c"), *compared_values(schema, "c").values(), sep=", ")
    changes, names = sql.work("changes"), sql.columns(place, "e")
    parts = [
        f"""
SELECT n.{SEQUENCE_NO} FROM (
  SELECT c.{SEQUENCE_NO}, row_number() OVER (
    PARTITION BY {within} ORDER BY c.{SEQUENCE_NO}) AS brenvik_nth
  FROM {changes} c
  JOIN (SELECT {names} FROM {changes} e GROUP BY {names} HAVING count(*) > 1) s ON {sql.same("s", "c", place)}
) n WHERE n.brenvik_nth > 1"""
    ]
    if schema.change_log and logged:
        parts.append(f"""
SELECT c.{SEQUENCE_NO}
FROM {changes} c
JOIN {sql.work("active_changes")} k ON {same_change(schema, "k", "c")}
WHERE EXISTS (
  SELECT 1 FROM {sql.work("replay_keys")} b WHERE {sql.same("b", "c", schema.keys)} AND b.brenvik_full_replay = 1)""")
    return " UNION ".join(parts)


def place(schema: TableSchema) -> tuple[str, ...]:
    """The columns that say where a change belongs: its key, effective time and order."""
    return tuple(dict.fromkeys((*schema.keys, EFFECTIVE_AT, *schema.order)))


def _never_null(schema: TableSchema) -> tuple[str, ...]:
    return (*place(schema), DELETE, COLUMN_SET)


def compared_values(schema: TableSchema, alias: str) -> dict[str, str]:
    """What of the other values of a change makes it another one: not columns that are not compared, nor differences that are
    ignored. By column."""
    known = (*place(schema), *schema.not_compared)
    names = (name for name in schema.change_columns if name not in known)
    return {name: schema.compared(name, f"{alias}.{sql.quote(name)}") for name in names}


def same_change(schema: TableSchema, left: str, right: str) -> str:
    """A test: whether two changes are the same."""
    ours, theirs = compared_values(schema, left), compared_values(schema, right)
    alike = (f"{ours[name]} IS NOT DISTINCT FROM {theirs[name]}" for name in ours)
    return " AND ".join((sql.same(left, right, _never_null(schema)), *alike))


@lru_cache(maxsize=256)
def count_deduplicated(schema: TableSchema) -> str:
    """How many duplicates there are of changes of each earlier run (``of_run``, ``n``)."""
    return f"""
SELECT k.{RUN} AS of_run, count(DISTINCT c.{SEQUENCE_NO}) AS n
FROM {sql.work("duplicates")} d
JOIN {sql.work("changes")} c ON c.{SEQUENCE_NO} = d.{SEQUENCE_NO}
JOIN {sql.work("active_changes")} k ON {same_change(schema, "k", "c")}
GROUP BY k.{RUN}"""


@lru_cache(maxsize=256)
def find_replay_keys(schema: TableSchema, *, some_late_or_several: bool, some_full: bool, some_returning: bool) -> str:
    """All keys that are replayed: those in ``late_or_several``, and those that the current path cannot decide."""
    keys, same = sql.columns(schema.keys, "c"), f"c.{SEQUENCE_NO} = p.{SEQUENCE_NO}"
    sources = []
    if some_late_or_several:
        sources.append(
            f"SELECT {sql.columns(schema.keys, 'k')}, k.brenvik_full_replay FROM {sql.work('late_or_several')} k"
        )
    for relation, some, which in (
        ("current_path", some_full, f" WHERE {current_path.decided('p', current_path.FULL)}"),
        ("returning_changes", some_returning, ""),
    ):
        if some:
            sources.append(
                f"SELECT {keys}, 1 AS brenvik_full_replay FROM {sql.work(relation)} p "
                f"JOIN {sql.work('changes')} c ON {same}{which}"
            )
    return " UNION ALL ".join(sources)
