"""How a value of a feed is cast to a column's type, and which values are invalid.

Everything is in DuckDB's dialect except ``within`` and ``beyond``, which every store understands.
"""

from __future__ import annotations

from collections.abc import Mapping

from brenvik.merge import sql
from brenvik.merge.schema import TableSchema
from brenvik.model.types import ColumnType

_DOUBLE = r"\s*[+-]?((\d+(\.\d*)?|\.\d+)([eE][+-]?\d+)?|(?i:inf(inity)?|nan))\s*"
_WHOLE = r"\s*[+-]?\d+(\.0*)?\s*"
_DAY = r"\s*(\d{4}|[1-9]\d{4,})[-/]\d{1,2}[-/]\d{1,2}"
_HOUR = r"\d{1,2}:\d{1,2}(:\d{1,2}(\.\d+)?)?"
_HOUR_ALONE, _WITHOUT_ZONE = rf"\s*{_HOUR}\s*", rf"{_DAY}([ T]{_HOUR})?\s*"
_OFFSET = r"[+-](0\d|1[0-5])(:?[0-5]\d(:?[0-5]\d)?)?"
_ZONE = r"[A-Za-z][A-Za-z0-9_+/-]+"
_IN_ZONE = rf"{_DAY}[ T]{_HOUR}\s*{_ZONE}\s*"
_MOMENT = rf"{_DAY}([ T]{_HOUR}\s*(Z|{_OFFSET}|{_ZONE})?)?\s*"
"""DuckDB's own casts would also accept two-digit years, offsets beyond a day, and words such as epoch."""
_MIDNIGHT_AFTER = "CAST('24:00:00' AS TIME)"


def cast_of(name: str, of: ColumnType, to: ColumnType, zone: str) -> tuple[str, str]:
    """The value of a feed's column in the type of the table, and a test for values that do not fit."""
    value = sql.quote(name)
    if of.kind == to.kind and (of.kind != "decimal" or (of.precision, of.scale) == (to.precision, to.scale)):
        too_long = f"length({value}) > {to.length}" if to.length is not None and of.length != to.length else ""
        return _of_day(value) if to.kind == "time" else value, too_long or beyond(value, to)
    if _is_read(of, to):
        cast = _read(name, to)
        test = f"{within(cast, to)} IS NOT TRUE"
    elif of.kind == "text":
        cast, test = _text_cast(value, to)
    else:
        cast, test = _typed_cast(value, of, to, zone)
    if to.length is not None:
        return cast, f"length({cast}) > {to.length}"
    if to.bits:
        test = sql.any_of([test, beyond(cast, to)])
    return cast, f"{value} IS NOT NULL AND {test}"


def _text_cast(value: str, to: ColumnType) -> tuple[str, str]:
    """The cast of a text, and a test for texts that are not valid or must not be cast."""
    cast = f"TRY_CAST({value} AS {duck(to)})"
    match to.kind:
        case "integer":
            return cast, _unless(cast, f"NOT regexp_full_match({value}, '{_WHOLE}')")
        case "decimal":
            some = rf"\d+(\.\d{{0,{to.scale}}}0*)?|\.\d{{1,{to.scale}}}0*" if to.scale else r"\d+(\.0*)?"
            return cast, _unless(cast, rf"NOT regexp_full_match({value}, '\s*[+-]?({some})\s*')")
        case "double":
            beyond_all = f"isinf({cast}) AND NOT contains(lower({value}), 'inf')"
            below_all = f"{cast} = 0 AND regexp_matches({value}, '^[^eE]*[1-9]')"
            is_none = f"NOT regexp_full_match({value}, '{_DOUBLE}')"
            return cast, _unless(cast, is_none, beyond_all, below_all)
        case "date":
            other = f"{_moment(value)} IS DISTINCT FROM CAST({cast} AS TIMESTAMP)"
            is_none = f"NOT regexp_full_match({value}, '{_MOMENT}')"
            return cast, _unless(cast, is_none, f"NOT {within(cast, to)}", f"(contains({value}, ':') AND {other})")
        case "time":
            cast = _of_day(cast)
            return cast, _unless(cast, f"NOT regexp_full_match({value}, '{_HOUR_ALONE}')")
    return cast, _unless(cast)


def _unless(cast: str, *others: str) -> str:
    """A test for values that cannot be cast, or whose cast loses something."""
    return sql.any_of([f"({cast}) IS NULL", *others])


def _instant(value: str) -> str:
    """The instant that a text denotes. DuckDB wants no blank before an offset and one before a zone's name."""
    joined = rf"regexp_replace({value}, '\s+([+-]\d|Z\s*$)', '\1')"
    joined = rf"regexp_replace({joined}, '(\d)({_ZONE}\s*)$', '\1 \2')"
    read = f"COALESCE({', '.join(f'TRY_CAST({text} AS TIMESTAMP WITH TIME ZONE)' for text in (value, joined))})"
    local = f"TRY_CAST(regexp_extract({value}, '{_DAY}[ T]{_HOUR}') AS TIMESTAMP)"
    named = f"regexp_full_match({value}, '{_IN_ZONE}') AND {read} IS NOT NULL"
    zone = f"CASE WHEN {named} THEN regexp_extract({value}, ':[0-9.:]*\\s*({_ZONE})\\s*$', 1) ELSE 'UTC' END"
    skipped = f"{named} AND {_is_skipped(local, f'timezone({zone}, {read})')}"
    return f"CASE WHEN regexp_full_match({value}, '{_MOMENT}') AND NOT ({skipped}) THEN {read} END"


def _is_skipped(local: str, back: str) -> str:
    """Whether a local time never occurred because clocks were put forward: converted to an instant and ``back``, it differs."""
    return f"{back} IS DISTINCT FROM {local}"


def _in_zone(local: str, zone: str) -> str:
    """The instant of a local time in a zone; null where clocks skipped it."""
    if zone.upper() == "UTC":
        return f"timezone('UTC', {local})"
    instant = f"timezone({sql.literal(zone)}, {local})"
    return f"CASE WHEN NOT ({_is_skipped(local, f'timezone({sql.literal(zone)}, {instant})')}) THEN {instant} END"


def skipped_in(name: str, of: ColumnType, to: ColumnType, zone: str) -> str:
    """A test for local times that clocks skipped in a zone; empty where that cannot happen."""
    if to.kind != "timestamp with time zone" or of.kind not in {"text", "timestamp"} or zone.upper() == "UTC":
        return ""
    value = sql.quote(name)
    local = value if of.kind == "timestamp" else f"TRY_CAST({value} AS TIMESTAMP)"
    test = f"{local} IS NOT NULL AND {_in_zone(local, zone)} IS NULL"
    return test if of.kind == "timestamp" else f"regexp_full_match({value}, '{_WITHOUT_ZONE}') AND {test}"


def _moment(value: str) -> str:
    """The moment that a text denotes, in UTC where it has a zone; DuckDB's own cast ignores whatever follows the time."""
    return _by_zone(value, f"TRY_CAST({value} AS TIMESTAMP)", f"timezone('UTC', {_instant(value)})")


def _by_zone(value: str, without: str, zoned: str) -> str:
    return f"CASE WHEN regexp_full_match({value}, '{_WITHOUT_ZONE}') THEN {without} ELSE {zoned} END"


def _read(name: str, to: ColumnType) -> str:
    """The column that holds the text of another one read as a moment; see ``readings``."""
    return sql.quote(f"brenvik_{to.kind}_of_{name}")


def readings(schema: TableSchema, types: Mapping[str, ColumnType], extract_time: str | None) -> list[str]:
    """Texts read as moments, once for everything that uses them."""
    wanted = [(column.name, column.type) for column in schema.columns] + list(schema.beside)
    wanted += [(extract_time, schema.effective_type)] if extract_time else []
    zone, found = schema.time_zone, {}
    for name, kind in wanted:
        if name not in types or not _is_read(types[name], kind):
            continue
        value = sql.quote(name)
        read = _moment(value) if kind.kind == "timestamp" else _instant(value)
        if kind.kind != "timestamp" and zone.upper() != "UTC":
            read = _by_zone(value, _in_zone(f"TRY_CAST({value} AS TIMESTAMP)", zone), read)
        found[_read(name, kind)] = read
    return [f"{read} AS {name}" for name, read in found.items()]


def _is_read(of: ColumnType, to: ColumnType) -> bool:
    return of.kind == "text" and to.kind.startswith("timestamp")


def _of_day(value: str) -> str:
    """A time of day; null for 24:00."""
    return f"CASE WHEN {value} < {_MIDNIGHT_AFTER} THEN {value} END"


def within(value: str, kind: ColumnType) -> str:
    """Whether a date or moment lies within the years that every store, and its readers, can hold."""
    zone, last = ("+00:00" if kind.kind.endswith("zone") else "", "" if kind.kind == "date" else " 23:59:59.999999")
    bounds = f"CAST('0001-01-01{zone and ' 00:00:00' + zone}' AS {kind.sql}) AND CAST('9999-12-31{last}{zone}' AS {kind.sql})"
    return f"({value} BETWEEN {bounds})"


def _typed_cast(value: str, of: ColumnType, to: ColumnType, zone: str) -> tuple[str, str]:
    cast = f"TRY_CAST({value} AS {duck(to)})"
    if (of.kind, to.kind) == ("timestamp", "timestamp with time zone"):
        cast = _in_zone(value, zone)
        return cast, f"{within(cast, to)} IS NOT TRUE"
    if (of.kind, to.kind) == ("timestamp with time zone", "timestamp"):
        cast = f"timezone('UTC', {value})"
        return cast, f"{within(cast, to)} IS NOT TRUE"
    if to.kind in {"text", "binary"} or of.kind == to.kind != "decimal":
        return cast, _unless(cast)
    lost = f"CAST({cast} AS {duck(of)}) IS DISTINCT FROM {value}"
    return cast, sql.any_of([lost, f"NOT {within(cast, to)}"]) if to.is_temporal else lost


def duck(kind: ColumnType) -> str:
    """The name of a type in DuckDB."""
    return {"BYTEA": "BLOB", "DOUBLE PRECISION": "DOUBLE"}.get(kind.sql, kind.sql)


def beyond(value: str, kind: ColumnType) -> str:
    """A test for values that a store may hold but that are not valid: infinity, years out of range, 24:00, integers with too
    many bits."""
    if kind.kind == "time":
        return f"{value} >= {_MIDNIGHT_AFTER}"
    if kind.bits:
        return f"NOT ({value} BETWEEN {-(2 ** (kind.bits - 1))} AND {2 ** (kind.bits - 1) - 1})"
    return f"NOT {within(value, kind)}" if kind.is_temporal else ""
