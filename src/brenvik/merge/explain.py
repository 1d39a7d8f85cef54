"""Decisions told change by change: with key, reason, and old values beside new ones.

Worked out of the working tables of a load when somebody asks. ``wide`` runs in the store; ``shape`` makes of its
answer one row per change, in DuckDB for every store.
"""

from __future__ import annotations

from functools import lru_cache

from brenvik.merge import sequence, sql
from brenvik.merge.casts import duck
from brenvik.merge.current_path import carries, decision, was
from brenvik.merge.schema import ARRIVAL, AS_OF, DELETE, EFFECTIVE, SHAPE, Blueprint

WIDE, REJECTED = "brenvik_wide", "brenvik_rejected"
_ARROW = " → "


@lru_cache(maxsize=256)
def wide(blueprint: Blueprint, *, plain: bool = True, busy: bool, aside: bool = False) -> str:
    """Every accepted change with its decision and (``brenvik_was_0``, …) what stood there before; of the keys that went the
    ``plain`` way, that were ``busy``, and of what was set ``aside``."""
    nothing = [f"CAST(NULL AS {blueprint.type_of(name).sql})" for name in blueprint.values]
    gone = "CASE WHEN j.brenvik_replaces IS NULL THEN j.brenvik_prev_delete ELSE j.brenvik_replaced_delete END = 1"
    before, stays = [], []  # what a delete says of values is nothing that was there
    for index, name in enumerate(blueprint.values):
        value = f"CASE WHEN NOT COALESCE({gone}, FALSE) THEN j.{was(blueprint, name)} END"
        if name in blueprint.type_0:  # what is first known through this change takes the place of what was known so far
            known, earlier = f"j.brenvik_known_{index}", "COALESCE(j.brenvik_replaces, j.brenvik_prev_at)"
            first = f"{known} > {earlier} AND {known} <= j.brenvik_at"
            was_known = f"j.{DELETE} = 1 OR {known} <= {earlier}"
            value = f"CASE WHEN {was_known} THEN {value} WHEN {first} THEN j.brenvik_before_{index} END"
            stays.append(sql.flag(f"NOT COALESCE({first}, FALSE)"))
        before.append(value)
    others = ["1"] * len(stays)
    change = sql.listed(
        f"c.{ARRIVAL}, c.{EFFECTIVE} AS brenvik_from, c.{DELETE}, c.{SHAPE}",
        sql.columns((*blueprint.keys, *blueprint.values), "c"),
        sep=", ",
    )
    met = [f"p.{was(blueprint, name)}" for name in blueprint.values]
    sources = []
    if plain:
        sources.append(f"""
SELECT {sql.listed(change, decision("p"), *met, *others, sep=", ")}
FROM {sql.work("plain")} p JOIN {sql.work("screened")} c ON c.{ARRIVAL} = p.{ARRIVAL}""")
    if aside:
        sources.append(f"""
SELECT {sql.listed(change, "c.brenvik_decision", *nothing, *others, sep=", ")} FROM {sql.work("aside")} c""")
    if busy:
        sources.append(f"""
SELECT {sql.listed(change, "'duplicate'", *nothing, *others, sep=", ")}
FROM {sql.work("duplicates")} p JOIN {sql.work("screened")} c ON c.{ARRIVAL} = p.{ARRIVAL}""")
        sources.append(f"""
SELECT {sql.listed(change, "COALESCE(j.brenvik_decision, 'superseded')", *before, *stays, sep=", ")}
FROM {sql.work("screened")} c
JOIN {sql.work("busy")} b ON {sql.same("b", "c", blueprint.keys)}
LEFT JOIN {sql.work("judged")} j ON j.{ARRIVAL} = c.{ARRIVAL} AND j.brenvik_new = 1
WHERE NOT EXISTS (SELECT 1 FROM {sql.work("duplicates")} d WHERE d.{ARRIVAL} = c.{ARRIVAL})""")
    told = sql.columns(
        (
            *(ARRIVAL, "brenvik_from", DELETE, SHAPE, *blueprint.keys, *blueprint.values, "brenvik_decision"),
            *(was(blueprint, name) for name in blueprint.values),
            *(_stays(blueprint, name) for name in blueprint.type_0),
        )
    )
    return f"WITH told ({told}) AS ({' UNION ALL '.join(sources)}) SELECT * FROM told"


def _stays(blueprint: Blueprint, name: str) -> str:
    """The column of ``wide`` that says whether a type 0 value stays what it was (1), or is known through the change (0)."""
    return f"brenvik_stays_{blueprint.values.index(name)}"


def rejected(*, none: bool) -> str:
    """The rows that were refused; ``none`` where the load knows that there are none."""
    if none:
        text = ", ".join(f"CAST(NULL AS TEXT) AS brenvik_{name}" for name in ("column", "value", "reason", "row"))
        return f"SELECT CAST(0 AS BIGINT) AS {ARRIVAL}, {text}, 0 AS brenvik_again WHERE 1 = 0"
    return f"""
SELECT {ARRIVAL}, brenvik_column, brenvik_value, brenvik_reason, brenvik_row, brenvik_again FROM {sql.work("rejected")}"""


KeyPlaces = tuple[tuple[str, tuple[str, ...]], ...]
"""JSON pointers by which columns of the key are found in a row as it came, where they are no members of it; the first counts that
leads anywhere."""


def _key_of_refused(blueprint: Blueprint, name: str, places: KeyPlaces) -> str:
    """A key column of a row that was refused, as far as it can be read in what was kept of it."""
    pointers = (*dict(places).get(name, ()), sql.member(name))
    found = ", ".join(f"json_extract_string(r.brenvik_row, {sql.literal(pointer)})" for pointer in pointers)
    value = f"CASE WHEN json_valid(r.brenvik_row) THEN COALESCE({found}) END"
    return f"TRY_CAST({value} AS {duck(blueprint.type_of(name))})"


_ENTRY = 'STRUCT("column" VARCHAR, before VARCHAR, after VARCHAR)'


def _text(name: str) -> str:
    return f"CAST(w.{name} AS VARCHAR)"


def _differs(blueprint: Blueprint, name: str) -> str:
    """Whether a change carries a column, and differs in it from what was there."""
    test = f"(w.{sql.quote(name)} IS DISTINCT FROM w.{was(blueprint, name)})"
    return " AND ".join(filter(None, [test, carries(blueprint, "w", name)]))


def _changes(blueprint: Blueprint) -> str:
    """The columns that a change set, or that ended with a delete, each with what was there before and after."""
    items, ended = [], []
    for name in blueprint.values:
        new, old = sql.quote(name), was(blueprint, name)
        label, test = sql.literal(name), _differs(blueprint, name)
        if name in blueprint.type_0:
            test += f" AND (w.{old} IS NULL OR w.brenvik_decision = 'protected' OR w.{_stays(blueprint, name)} = 0)"
        items.append(
            f'CASE WHEN {test} THEN struct_pack("column" := {label}, before := {_text(old)}, after := {_text(new)}) END'
        )
        ended.append(
            f"CASE WHEN w.{old} IS NOT NULL THEN "
            f'struct_pack("column" := {label}, before := {_text(old)}, after := CAST(NULL AS VARCHAR)) END'
        )
    if not items:
        return f"CAST([] AS {_ENTRY}[])"
    telling = "w.brenvik_decision IN ('inserted', 'versioned', 'overwritten', 'protected')"
    return (
        f"CASE WHEN {telling} THEN list_filter([{', '.join(items)}], lambda x: x IS NOT NULL) "
        f"WHEN w.brenvik_decision = 'deleted' THEN list_filter([{', '.join(ended)}], lambda x: x IS NOT NULL) "
        f"ELSE CAST([] AS {_ENTRY}[]) END"
    )


def _reason(blueprint: Blueprint) -> str:
    """Why a change got its decision, in words."""
    words = []
    for name in blueprint.values:
        new, old, label = sql.quote(name), was(blueprint, name), sql.literal(name)
        shown = (
            f"{label} || ' ' || COALESCE({_text(old)}, 'nothing') || '{_ARROW}' || COALESCE({_text(new)}, 'nothing')"
        )
        if name in blueprint.type_0:
            stays = f"{label} || ' stays ' || {_text(old)} || ', source says ' || COALESCE({_text(new)}, 'nothing')"
            enters = f"w.{old} IS NULL OR w.{_stays(blueprint, name)} = 0"
            shown = f"CASE WHEN {enters} THEN {shown} ELSE {stays} END"
        words.append(f"CASE WHEN {_differs(blueprint, name)} THEN {shown} END")
    ignored = "'deletes are ignored'" if blueprint.holds == "ignore" else "'delete of an unknown key'"
    deleted = "'deleted already, or held already'" if blueprint.holds else "'already deleted'"
    return f"""CASE WHEN {sequence.is_derived(f"w.{ARRIVAL}")} AND w.brenvik_decision = 'deleted'
    THEN CASE WHEN {sequence.is_absence(f"w.{ARRIVAL}")} THEN 'not in the extract'
      ELSE 'ends its life: the source gave it another key' END ELSE CASE w.brenvik_decision
    WHEN 'inserted' THEN 'first of its life'
    WHEN 'duplicate' THEN 'same as an earlier change'
    WHEN 'superseded' THEN 'a later change counts instead'
    WHEN 'held' THEN 'waits for a person'
    WHEN 'ignored' THEN {ignored}
    WHEN 'deleted' THEN 'ends its life'
    WHEN 'unchanged' THEN CASE WHEN w.{DELETE} = 1 THEN {deleted} ELSE 'equal' END
    ELSE COALESCE(NULLIF(concat_ws('; ', {", ".join(words) or "NULL"}), ''), 'takes the place of a change kept before') END END"""


@lru_cache(maxsize=256)
def shape(blueprint: Blueprint, files: tuple[tuple[int, str], ...], places: KeyPlaces = ()) -> str:
    """In DuckDB's flavour: of ``wide`` and ``rejected`` the columns file, line, key, effective, decision, reason, changes; before
    them the run, where several were decided again."""

    changes, reason = _changes(blueprint), _reason(blueprint)
    keys = [name for name in blueprint.keys if name != AS_OF]
    key = ", ".join(f"{sql.quote(name)} := w.{sql.quote(name)}" for name in keys)
    refused_key = ", ".join(f"{sql.quote(name)} := {_key_of_refused(blueprint, name, places)}" for name in keys)
    run = f"w.{AS_OF}" if AS_OF in blueprint.keys else "NULL"
    names = " ".join(f"WHEN {number} THEN '" + name.replace("'", "''") + "'" for number, name in files)
    file = f"CASE {sequence.file_of(ARRIVAL)} {names} END" if files else "CAST(NULL AS VARCHAR)"
    line = sequence.line_of(ARRIVAL)
    return f"""
SELECT {"run, " if AS_OF in blueprint.keys else ""}file, line, "key", effective, decision, reason, changes FROM (
  SELECT {ARRIVAL}, {run} AS run, {file} AS file, {line} AS line, struct_pack({key}) AS "key",
    w.brenvik_from AS effective, w.brenvik_decision AS decision, {reason} AS reason, {changes} AS changes
  FROM {WIDE} w
  UNION ALL
  SELECT {ARRIVAL}, NULL, {file}, {line}, struct_pack({refused_key}), NULL,
    CASE WHEN r.brenvik_again = 1 THEN 'duplicate' ELSE 'rejected' END,
    CASE WHEN r.brenvik_again = 1 THEN 'same as an open reject: ' || r.brenvik_reason ELSE r.brenvik_reason END,
    CASE WHEN r.brenvik_column IS NULL THEN CAST([] AS {_ENTRY}[])
      ELSE [struct_pack("column" := r.brenvik_column, before := CAST(NULL AS VARCHAR), after := r.brenvik_value)] END
  FROM {REJECTED} r
) told
ORDER BY {ARRIVAL}"""
