"""Whether the kept changes account for the table's rows: a version begins where a change of its key holds, and ends where one
does. Where none is kept, the change log has lost entries, or somebody else wrote to the table.
"""

from __future__ import annotations

from functools import lru_cache

from brenvik.merge import baseline, sql
from brenvik.merge.schema import EFFECTIVE, Blueprint


def _no_change(blueprint: Blueprint, events: str, moment: str | None) -> str:
    """Whether none of some changes (as ``e``) is of the key of a row ``s`` and holds from a moment."""
    at = f" AND e.{EFFECTIVE} = {moment}" if moment else ""
    return f"NOT EXISTS (SELECT 1 FROM {events} e WHERE {sql.same('e', 's', blueprint.keys)}{at})"


def _unaccounted(blueprint: Blueprint, events: str) -> tuple[str, str | None]:
    """Tests of a row ``s`` in the form of ``desired``: no change is kept from which it begins, or at which it ends."""
    starts = _no_change(blueprint, events, f"s.{EFFECTIVE}" if blueprint.own("valid_from") else None)
    if not blueprint.own("valid_to"):
        return starts, None
    return starts, f"s.brenvik_until IS NOT NULL AND {_no_change(blueprint, events, 's.brenvik_until')}"


def _count(blueprint: Blueprint, rows: str, events: str) -> str:
    """Of how many keys (``n``) some row begins or ends without a change that accounts for it, and the first of them (``key``)."""
    found = " UNION ALL ".join(
        f"SELECT {blueprint.key_text('s')} AS brenvik_key FROM {rows} s WHERE {test}"
        for test in filter(None, _unaccounted(blueprint, events))
    )
    return f"SELECT count(DISTINCT q.brenvik_key) AS n, min(q.brenvik_key) AS key FROM ({found}) q"


@lru_cache(maxsize=256)
def count_in_load(blueprint: Blueprint) -> str:
    """The same of the stored rows of keys that a load works out in full."""
    rows = f"(SELECT * FROM {sql.work('stored')} a WHERE a.brenvik_full = 1)"
    before = f"(SELECT * FROM {sql.work('judged')} j WHERE j.brenvik_new = 0 OR j.brenvik_replaces IS NOT NULL)"
    return _count(blueprint, rows, before)


@lru_cache(maxsize=256)
def count_of_chosen(blueprint: Blueprint) -> str:
    """The same of the stored rows of keys that are worked out again; changes of withdrawn runs account for them as well."""
    return _count(blueprint, sql.work("stored"), sql.relation(str(blueprint.kept)))


@lru_cache(maxsize=256)
def count_in_table(blueprint: Blueprint) -> str:
    """The same of all rows of the table."""
    start, end = (blueprint.own(name) for name in ("valid_from", "valid_to"))
    begins = f", t.{sql.quote(start)} AS {EFFECTIVE}" if start else ""
    ends = f", CASE WHEN {blueprint.is_open('t')} THEN NULL ELSE t.{sql.quote(end)} END AS brenvik_until" if end else ""
    keys = sql.columns(blueprint.keys, "t")
    rows = f"(SELECT {keys}{begins}{ends} FROM {sql.relation(blueprint.table)} t)"
    return _count(blueprint, rows, sql.relation(str(blueprint.kept)))


@lru_cache(maxsize=64)
def make_up(blueprint: Blueprint, shape: int) -> tuple[str, str]:
    """Two statements that add changes to ``explicit`` that account for the rest of the table's rows, as an adoption would keep
    them; see ``baseline.keep_as_changes``, also for the parameters."""
    kept, into = sql.relation(str(blueprint.kept)), sql.work("explicit")
    start, end = (blueprint.own(name) for name in ("valid_from", "valid_to"))

    def none(column: str | None) -> str:
        at = f" AND e.{EFFECTIVE} = t.{sql.quote(column)}" if column else ""
        return f"NOT EXISTS (SELECT 1 FROM {kept} e WHERE {sql.same('e', 't', blueprint.keys)}{at})"

    return baseline.as_changes(blueprint, shape, into=into, begins=none(start), ends=none(end))
