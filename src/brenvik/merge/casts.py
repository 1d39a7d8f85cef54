"""How a value of a feed is cast to a column's type, and which values are invalid.

Each value is cast once, into a column of its own next to the value; tests and rows refer to that column. A text in a
declared format is converted first, into another column. Everything is in DuckDB's dialect except ``within`` and ``beyond``, which
every store understands.
"""

from __future__ import annotations

from collections.abc import Mapping

from brenvik.merge import sql
from brenvik.merge.schema import TableSchema
from brenvik.merge.value_formats import canonical_text
from brenvik.model.types import ColumnType
from brenvik.model.value_formats import FormattedText

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


def cast_of(name: str, of: ColumnType, to: ColumnType) -> tuple[str, str]:
    """The value of a feed's column in the type of the table, and a test for values that do not fit; both over the feed's columns
    and ``cast_columns``."""
    value = value_of(name, of, to)
    cast = _cast_column(name, to) if _is_cast(of, to) else value
    if _is_same(of, to):
        too_long = f"length({value}) > {to.length}" if to.length is not None and of.length != to.length else ""
        return cast, too_long or beyond(value, to)
    if to.length is not None:
        return cast, f"length({cast}) > {to.length}"
    tests = _text_tests(value, cast, to) if of.kind == "text" else _typed_tests(value, cast, of, to)
    if to.bits:
        tests = (*tests, beyond(cast, to))
    return cast, f"{value} IS NOT NULL AND {sql.any_of(tests)}"


def value_of(name: str, of: ColumnType, to: ColumnType) -> str:
    """The column with the value that is cast: the feed's own, or that of its canonical text."""
    return sql.quote(f"brenvik_{to.kind}_text_of_{name}") if isinstance(of, FormattedText) else sql.quote(name)


def cast_columns(
    schema: TableSchema, types: Mapping[str, ColumnType], extract_time: str | None
) -> tuple[list[str], list[str]]:
    """A column for each canonical text, for a query over the feed; and one for each value that must be cast, for a query over
    those."""
    wanted = [(column.name, column.type) for column in schema.columns] + list(schema.beside)
    wanted += [(extract_time, schema.effective_type)] if extract_time else []
    texts, casts = {}, {}
    for name, to in wanted:
        of = types.get(name)
        if isinstance(of, FormattedText):
            texts[value_of(name, of, to)] = canonical_text(sql.quote(name), of, to)
        if of and _is_cast(of, to):
            casts[_cast_column(name, to)] = _cast(value_of(name, of, to), of, to, schema.time_zone)
    return _items(texts), _items(casts)


def _items(columns: Mapping[str, str]) -> list[str]:
    return [f"{value} AS {column}" for column, value in columns.items()]


def _cast_column(name: str, to: ColumnType) -> str:
    return sql.quote(f"brenvik_{to.kind}_of_{name}")


def _is_same(of: ColumnType, to: ColumnType) -> bool:
    """Whether a value of one type has the other type without a cast, apart from length and bits."""
    return of.kind == to.kind and (of.kind != "decimal" or (of.precision, of.scale) == (to.precision, to.scale))


def _is_cast(of: ColumnType, to: ColumnType) -> bool:
    """Whether a value has a cast column; a time has one because 24:00 is none."""
    return to.kind == "time" or not _is_same(of, to)


def _cast(value: str, of: ColumnType, to: ColumnType, zone: str) -> str:
    """The value in the type of the table; null where it is not valid, or loses something that no test could see."""
    match of.kind, to.kind:
        case "time", "time":
            return _of_day(value)
        case "text", "timestamp":
            return _moment(value)
        case "text", "timestamp with time zone":
            utc = zone.upper() == "UTC"
            return _instant(value) if utc else _by_zone(value, _in_zone(_local(value), zone), _instant(value))
        case "timestamp", "timestamp with time zone":
            return _in_zone(value, zone)
        case "timestamp with time zone", "timestamp":
            return f"timezone('UTC', {value})"
    cast = f"TRY_CAST({value} AS {duck(to)})"
    return _of_day(cast) if (of.kind, to.kind) == ("text", "time") else cast


def _local(value: str) -> str:
    return f"TRY_CAST({value} AS TIMESTAMP)"


def _text_tests(value: str, cast: str, to: ColumnType) -> tuple[str, ...]:
    """Tests for texts that are not valid or whose cast loses something."""
    invalid = f"{cast} IS NULL"
    match to.kind:
        case "integer":
            return invalid, f"NOT regexp_full_match({value}, '{_WHOLE}')"
        case "decimal":
            some = rf"\d+(\.\d{{0,{to.scale}}}0*)?|\.\d{{1,{to.scale}}}0*" if to.scale else r"\d+(\.0*)?"
            return invalid, rf"NOT regexp_full_match({value}, '\s*[+-]?({some})\s*')"
        case "double":
            beyond_all = f"isinf({cast}) AND NOT contains(lower({value}), 'inf')"
            below_all = f"{cast} = 0 AND regexp_matches({value}, '^[^eE]*[1-9]')"
            return invalid, f"NOT regexp_full_match({value}, '{_DOUBLE}')", beyond_all, below_all
        case "date":
            other = f"{_moment(value)} IS DISTINCT FROM CAST({cast} AS TIMESTAMP)"
            is_none = f"NOT regexp_full_match({value}, '{_MOMENT}')"
            return invalid, is_none, f"NOT {within(cast, to)}", f"(contains({value}, ':') AND {other})"
        case "time":
            return invalid, f"NOT regexp_full_match({value}, '{_HOUR_ALONE}')"
        case "timestamp" | "timestamp with time zone":
            return (f"{within(cast, to)} IS NOT TRUE",)
    return (invalid,)


def _typed_tests(value: str, cast: str, of: ColumnType, to: ColumnType) -> tuple[str, ...]:
    """Tests for values of a type that do not fit another one."""
    if of.kind.startswith("timestamp") and to.kind.startswith("timestamp"):
        return (f"{within(cast, to)} IS NOT TRUE",)
    if to.kind in {"text", "binary"} or of.kind == to.kind != "decimal":
        return (f"{cast} IS NULL",)
    lost = f"CAST({cast} AS {duck(of)}) IS DISTINCT FROM {value}"
    return (lost, f"NOT {within(cast, to)}") if to.is_temporal else (lost,)


def _instant(value: str) -> str:
    """The instant that a text denotes. DuckDB wants no blank before an offset and one before a zone's name; a local time
    that clocks skipped in a named zone is none."""
    joined = rf"regexp_replace({value}, '\s+([+-]\d|Z\s*$)', '\1')"
    joined = rf"regexp_replace({joined}, '(\d)({_ZONE}\s*)$', '\1 \2')"
    read = f"COALESCE({', '.join(f'TRY_CAST({text} AS TIMESTAMP WITH TIME ZONE)' for text in (value, joined))})"
    zone = f"regexp_extract({value}, ':[0-9.:]*\\s*({_ZONE})\\s*$', 1)"
    local = f"TRY_CAST(regexp_extract({value}, '{_DAY}[ T]{_HOUR}') AS TIMESTAMP)"
    return f"""CASE WHEN NOT regexp_full_match({value}, '{_MOMENT}') THEN NULL
    WHEN NOT regexp_full_match({value}, '{_IN_ZONE}') THEN {read}
    WHEN timezone({zone}, {read}) = {local} THEN {read} END"""


def _in_zone(local: str, zone: str) -> str:
    """The instant of a local time in a zone; null where clocks skipped it, so that the instant is another local time."""
    if zone.upper() == "UTC":
        return f"timezone('UTC', {local})"
    instant = f"timezone({sql.literal(zone)}, {local})"
    return f"CASE WHEN timezone({sql.literal(zone)}, {instant}) = {local} THEN {instant} END"


def skipped_in(name: str, of: ColumnType, to: ColumnType, zone: str) -> str:
    """A test for local times that clocks skipped in a zone; empty where that cannot happen."""
    if to.kind != "timestamp with time zone" or of.kind not in {"text", "timestamp"} or zone.upper() == "UTC":
        return ""
    value = value_of(name, of, to)
    local = value if of.kind == "timestamp" else _local(value)
    test = f"{local} IS NOT NULL AND {_cast_column(name, to)} IS NULL"
    return test if of.kind == "timestamp" else f"regexp_full_match({value}, '{_WITHOUT_ZONE}') AND {test}"


def _moment(value: str) -> str:
    """The moment that a text denotes, in UTC where it has a zone; DuckDB's own cast ignores whatever follows the time."""
    return _by_zone(value, _local(value), f"timezone('UTC', {_instant(value)})")


def _by_zone(value: str, without: str, zoned: str) -> str:
    return f"CASE WHEN regexp_full_match({value}, '{_WITHOUT_ZONE}') THEN {without} ELSE {zoned} END"


def _of_day(value: str) -> str:
    """A time of day; null for 24:00."""
    return f"CASE WHEN {value} < {_MIDNIGHT_AFTER} THEN {value} END"


def within(value: str, kind: ColumnType) -> str:
    """Whether a date or moment lies within the years that every store, and its readers, can hold."""
    zone, last = ("+00:00" if kind.kind.endswith("zone") else "", "" if kind.kind == "date" else " 23:59:59.999999")
    bounds = f"CAST('0001-01-01{zone and ' 00:00:00' + zone}' AS {kind.sql}) AND CAST('9999-12-31{last}{zone}' AS {kind.sql})"
    return f"({value} BETWEEN {bounds})"


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
