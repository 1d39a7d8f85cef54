"""Explains decisions change by change: key, reason, and old values beside new ones.

The answer comes from the working relations of a run, when asked for. ``collect`` runs in the store; ``tabulate`` turns its
result into one row per change, in DuckDB for every store.
"""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache

from brenvik.merge import append, erase, sequence, sql
from brenvik.merge.casts import duck
from brenvik.merge.current_path import before_column, decision, is_decided_here, is_present
from brenvik.merge.schema import COLUMN_SET, DELETE, EFFECTIVE_AT, REPLAYED_RUN, SEQUENCE_NO, TableSchema

WIDE, REJECTED = "brenvik_wide", "brenvik_rejected"
_ARROW = " → "
_ERASED = "erased"
"""How the decision on a row of an erased key is called here; it is ignored."""


def _before_replayed(schema: TableSchema) -> tuple[list[str], list[str]]:
    """The values before a change ``j`` that was replayed, and for type 0 columns whether they stay (1)."""
    gone = "CASE WHEN j.brenvik_replaces IS NULL THEN j.brenvik_prev_delete ELSE j.brenvik_replaced_delete END = 1"
    before, stays = [], []  # the values of a delete are not values from before
    for index, name in enumerate(schema.values):
        value = f"CASE WHEN NOT COALESCE({gone}, FALSE) THEN j.{before_column(schema, name)} END"
        if name in schema.type_0:  # a value first known through this change replaces what was known
            known, earlier = f"j.brenvik_known_at_{index}", "COALESCE(j.brenvik_replaces, j.brenvik_prev_position)"
            first = f"{known} > {earlier} AND {known} <= j.brenvik_position"
            was_known = f"j.{DELETE} = 1 OR {known} <= {earlier}"
            arms = [(was_known, value), (first, f"j.brenvik_prior_{index}")]
            if schema.type_0_changes == "first_arrived":  # it may have been known from a later time on
                arms.append((f"j.brenvik_source_{index} IS NOT NULL", f"j.{sql.quote(name)}"))
            value = f"CASE {' '.join(f'WHEN {test} THEN {known_value}' for test, known_value in arms)} END"
            stays.append(sql.flag(f"NOT COALESCE({first}, FALSE)"))
        before.append(value)
    return before, stays


@lru_cache(maxsize=256)
def collect(
    schema: TableSchema,
    *,
    current: bool = True,
    replayed: bool,
    inactive_deletes: bool = False,
    some_returning: bool = False,
    some_erased: bool = False,
) -> str:
    """Every accepted change with its decision and the values before it (``brenvik_before_0``, …): changes of the current path, of
    replayed keys, and inactive deletes; of a table without a natural key, every appended row and every duplicate."""
    if schema.appends:
        return append.collect(schema)
    nothing = [f"CAST(NULL AS {schema.type_of(name).sql})" for name in schema.values]
    before, stays = _before_replayed(schema)
    others = ["1"] * len(stays)
    ordered = bool(schema.order)  # else nothing is a duplicate
    change = sql.listed(
        f"c.{SEQUENCE_NO}, c.{EFFECTIVE_AT} AS brenvik_from, c.{DELETE}, c.{COLUMN_SET}",
        sql.columns((*schema.keys, *schema.values), "c"),
        sep=", ",
    )
    met = [f"p.{before_column(schema, name)}" for name in schema.values]
    sources = []
    if current:
        sources.append(f"""
SELECT {sql.listed(change, decision("p"), *met, *others, sep=", ")}
FROM {sql.work("current_path")} p JOIN {sql.work("changes")} c ON c.{SEQUENCE_NO} = p.{SEQUENCE_NO}
WHERE {is_decided_here("p", some_returning=some_returning)}""")
    if inactive_deletes:
        sources.append(f"""
SELECT {sql.listed(change, "c.brenvik_decision", *nothing, *others, sep=", ")} FROM {sql.work("decided_deletes")} c""")
    if some_erased:
        sources.append(f"""
SELECT {sql.listed(change, f"'{_ERASED}'", *nothing, *others, sep=", ")} FROM {sql.work(erase.ERASED)} c""")
    if replayed and ordered:
        sources.append(f"""
SELECT {sql.listed(change, "'duplicate'", *nothing, *others, sep=", ")}
FROM {sql.work("duplicates")} p JOIN {sql.work("changes")} c ON c.{SEQUENCE_NO} = p.{SEQUENCE_NO}""")
    if replayed:
        fresh = f"""
WHERE NOT EXISTS (SELECT 1 FROM {sql.work("duplicates")} d WHERE d.{SEQUENCE_NO} = c.{SEQUENCE_NO})"""
        sources.append(f"""
SELECT {sql.listed(change, "COALESCE(j.brenvik_decision, 'superseded')", *before, *stays, sep=", ")}
FROM {sql.work("changes")} c
JOIN {sql.work("replay_keys")} b ON {sql.same("b", "c", schema.keys)}
LEFT JOIN {sql.work("decided")} j ON j.{SEQUENCE_NO} = c.{SEQUENCE_NO} AND j.brenvik_is_new = 1{fresh if ordered else ""}""")
    if not sources:
        sources.append(f"""
SELECT {sql.listed(change, "CAST(NULL AS TEXT)", *nothing, *others, sep=", ")} FROM {sql.work("changes")} c""")
    explained = sql.columns(
        (
            *(SEQUENCE_NO, "brenvik_from", DELETE, COLUMN_SET, *schema.keys, *schema.values, "brenvik_decision"),
            *(before_column(schema, name) for name in schema.values),
            *(_stays(schema, name) for name in schema.type_0),
        )
    )
    return f"WITH explained ({explained}) AS ({' UNION ALL '.join(sources)}) SELECT * FROM explained"


def _stays(schema: TableSchema, name: str) -> str:
    """The column that says whether a type 0 value stays as it was (1) or becomes known through the change (0)."""
    return f"brenvik_stays_{schema.values.index(name)}"


def rejected(*, none: bool) -> str:
    """The rejected rows; ``none`` where there are none."""
    if none:
        text = ", ".join(f"CAST(NULL AS TEXT) AS brenvik_{name}" for name in ("column", "value", "reason", "row"))
        return f"SELECT CAST(0 AS BIGINT) AS {SEQUENCE_NO}, {text}, 0 AS brenvik_is_duplicate WHERE 1 = 0"
    return f"""
SELECT {SEQUENCE_NO}, brenvik_column, brenvik_value, brenvik_reason, brenvik_row, brenvik_is_duplicate
FROM {sql.work("rejected")}"""


KeyPlaces = tuple[tuple[str, tuple[str, ...]], ...]
"""JSON pointers to the key columns of an original row, where they are not members of it; the first that matches counts."""


def _key_of_rejected(schema: TableSchema, name: str, places: KeyPlaces) -> str:
    """A key column of a rejected row, as far as it can be read from the original row."""
    pointers = (*dict(places).get(name, ()), sql.member(name))
    found = ", ".join(f"json_extract_string(r.brenvik_row, {sql.literal(pointer)})" for pointer in pointers)
    value = f"CASE WHEN json_valid(r.brenvik_row) THEN COALESCE({found}) END"
    return f"TRY_CAST({value} AS {duck(schema.type_of(name))})"


_ENTRY = 'STRUCT("column" VARCHAR, before VARCHAR, after VARCHAR)'


def _text(name: str) -> str:
    return f"CAST(w.{name} AS VARCHAR)"


def _differs(schema: TableSchema, name: str) -> str:
    """A test: whether a change has a column and differs in it from before, and the row takes its value."""
    test = f"({schema.differs(name, f'w.{sql.quote(name)}', f'w.{before_column(schema, name)}', in_store=False)})"
    taken = ""
    if name in schema.not_compared:
        decisions = ("inserted", "versioned") if schema.has_versions else ("inserted", "overwritten")
        taken = f"w.brenvik_decision IN ({', '.join(map(sql.literal, decisions))})"
    return " AND ".join(filter(None, [test, is_present(schema, "w", name), taken]))


def _changes(schema: TableSchema) -> str:
    """The columns that a change set, or that ended with a delete, each with its value before and after."""
    items, ended = [], []
    for name in schema.values:
        new, old = sql.quote(name), before_column(schema, name)
        label, test = sql.literal(name), _differs(schema, name)
        if name in schema.type_0:
            test += f" AND (w.{old} IS NULL OR w.brenvik_decision = 'protected' OR w.{_stays(schema, name)} = 0)"
        items.append(
            f'CASE WHEN {test} THEN struct_pack("column" := {label}, before := {_text(old)}, after := {_text(new)}) END'
        )
        ended.append(
            f"CASE WHEN w.{old} IS NOT NULL THEN "
            f'struct_pack("column" := {label}, before := {_text(old)}, after := CAST(NULL AS VARCHAR)) END'
        )
    if not items:
        return f"CAST([] AS {_ENTRY}[])"
    explained = "w.brenvik_decision IN ('inserted', 'versioned', 'overwritten', 'protected')"
    return (
        f"CASE WHEN {explained} THEN list_filter([{', '.join(items)}], lambda x: x IS NOT NULL) "
        f"WHEN w.brenvik_decision = 'deleted' THEN list_filter([{', '.join(ended)}], lambda x: x IS NOT NULL) "
        f"ELSE CAST([] AS {_ENTRY}[]) END"
    )


def _protected(schema: TableSchema) -> str:
    """The columns of type 0 in which a change that set others has another value than the one that stays."""
    items = []
    for name in schema.type_0:
        new, old = f"w.{sql.quote(name)}", f"w.{before_column(schema, name)}"
        test = f"{_differs(schema, name)} AND {old} IS NOT NULL AND w.{_stays(schema, name)} = 1"
        entry = f'"column" := {sql.literal(name)}, before := CAST({old} AS VARCHAR), after := CAST({new} AS VARCHAR)'
        items.append(f"CASE WHEN {test} THEN struct_pack({entry}) END")
    if not items:
        return f"CAST([] AS {_ENTRY}[])"
    return (
        "CASE WHEN w.brenvik_decision IN ('versioned', 'overwritten') "
        f"THEN list_filter([{', '.join(items)}], lambda x: x IS NOT NULL) ELSE CAST([] AS {_ENTRY}[]) END"
    )


def _reason(schema: TableSchema) -> str:
    """The reason for a decision, in words."""
    words = []
    for name in schema.values:
        new, old, label = sql.quote(name), before_column(schema, name), sql.literal(name)
        shown = (
            f"{label} || ' ' || COALESCE({_text(old)}, 'nothing') || '{_ARROW}' || COALESCE({_text(new)}, 'nothing')"
        )
        if name in schema.type_0:
            stays = f"{label} || ' stays ' || {_text(old)} || '; the source has ' || COALESCE({_text(new)}, 'nothing')"
            enters = f"w.{old} IS NULL OR w.{_stays(schema, name)} = 0"
            shown = f"CASE WHEN {enters} THEN {shown} ELSE {stays} END"
        words.append(f"CASE WHEN {_differs(schema, name)} THEN {shown} END")
    ignored = "'deletes are ignored'" if schema.inactive_deletes == "ignore" else "'delete of an unknown key'"
    deleted = "'already deleted or pending'" if schema.inactive_deletes else "'already deleted'"
    return f"""CASE WHEN {sequence.is_derived(f"w.{SEQUENCE_NO}")} AND w.brenvik_decision = 'deleted'
    THEN CASE WHEN {sequence.is_absence(f"w.{SEQUENCE_NO}")} THEN 'not in the extract'
      ELSE 'deleted: the key changed in the source' END ELSE CASE w.brenvik_decision
    WHEN 'inserted' THEN {"'appended'" if schema.appends else "'first of its lifetime'"}
    WHEN 'duplicate' THEN {"'equals an earlier row'" if schema.appends else "'same as an earlier change'"}
    WHEN 'superseded' THEN 'superseded by a later change'
    WHEN 'pending' THEN 'awaits approval'
    WHEN 'ignored' THEN {ignored}
    WHEN '{_ERASED}' THEN 'the key was erased'
    WHEN 'deleted' THEN 'deleted'
    WHEN 'unchanged' THEN CASE WHEN w.{DELETE} = 1 THEN {deleted} ELSE 'equal' END
    ELSE COALESCE(NULLIF(concat_ws('; ', {", ".join(words) or "NULL"}), ''), 'replaces an earlier change') END END"""


def _key(values: Mapping[str, str]) -> str:
    """The key of a row, by column; null in a table without a natural key."""
    packed = ", ".join(f"{sql.quote(name)} := {value}" for name, value in values.items())
    return f"struct_pack({packed})" if packed else "NULL"


@lru_cache(maxsize=256)
def tabulate(schema: TableSchema, files: tuple[tuple[int, str], ...], places: KeyPlaces = ()) -> str:
    """In DuckDB's dialect: from ``collect`` and ``rejected`` the columns file, line, key, effective, decision, reason, changes,
    protected; before them the run, where several runs were decided."""

    changes, reason = _changes(schema), _reason(schema)
    keys = [name for name in schema.keys if name != REPLAYED_RUN]
    key = _key({name: f"w.{sql.quote(name)}" for name in keys})
    rejected_key = _key({name: _key_of_rejected(schema, name, places) for name in keys})
    run = f"w.{REPLAYED_RUN}" if REPLAYED_RUN in schema.keys else "NULL"
    names = " ".join(f"WHEN {number} THEN '" + name.replace("'", "''") + "'" for number, name in files)
    file = f"CASE {sequence.file_of(SEQUENCE_NO)} {names} END" if files else "CAST(NULL AS VARCHAR)"
    line, nothing = sequence.line_of(SEQUENCE_NO), f"CAST([] AS {_ENTRY}[])"
    return f"""
SELECT {"run, " if REPLAYED_RUN in schema.keys else ""}file, line, "key", effective, decision, reason, changes, protected FROM (
  SELECT {SEQUENCE_NO}, {run} AS run, {file} AS file, {line} AS line, {key} AS "key",
    w.brenvik_from AS effective, CASE w.brenvik_decision WHEN '{_ERASED}' THEN 'ignored' ELSE w.brenvik_decision END AS decision,
    {reason} AS reason, {changes} AS changes,
    {_protected(schema)} AS protected
  FROM {WIDE} w
  UNION ALL
  SELECT {SEQUENCE_NO}, NULL, {file}, {line}, {rejected_key}, NULL,
    CASE WHEN r.brenvik_is_duplicate = 1 THEN 'duplicate' ELSE 'rejected' END,
    CASE WHEN r.brenvik_is_duplicate = 1 THEN 'same as an open reject: ' || r.brenvik_reason ELSE r.brenvik_reason END,
    CASE WHEN r.brenvik_column IS NULL THEN {nothing}
      ELSE [struct_pack("column" := r.brenvik_column, before := CAST(NULL AS VARCHAR), after := r.brenvik_value)] END, {nothing}
  FROM {REJECTED} r
) explained
ORDER BY {SEQUENCE_NO}"""
