"""Values as SQLite keeps them.

SQLite has numbers, texts and bytes only. What else there is, is kept as text of one form, so that equal values are equal
texts and, decimals aside, later ones sort later:

=============================  ==========================================
type                           kept as
=============================  ==========================================
date · time                    ``2024-05-13`` · ``08:00:00``
timestamp                      ``2024-05-13 08:00:00``, ``2024-05-13 08:00:00.500000``
timestamp with time zone       the same in UTC, with ``+00:00`` behind it
decimal(p,s)                   all digits behind the point: ``12.50``
boolean                        0 or 1
=============================  ==========================================
"""

from __future__ import annotations

import hashlib
import math
import re
from collections.abc import Callable, Sequence
from datetime import UTC, date, datetime, time, timedelta
from decimal import ROUND_HALF_UP, Context, Decimal, InvalidOperation
from functools import lru_cache
from typing import Any
from zoneinfo import ZoneInfo

import pyarrow as pa
import pyarrow.compute as pc

from brenvik.engines.arrays import of_values
from brenvik.errors import StoreError
from brenvik.model.text_forms import in_form, lower, upper
from brenvik.model.types import MAX_DIGITS, ColumnType, parse_type

_EXACT = Context(prec=2 * MAX_DIGITS)  # else 28 digits are all there are
_DECLARED = {
    "TEXT": "text", "INTEGER": "integer", "BIGINT": "integer", "INT": "integer", "REAL": "double", "DOUBLE PRECISION": "double",
    "DOUBLE": "double", "BOOLEAN": "boolean", "DATE": "date", "TIME": "time", "TIMESTAMP": "timestamp", "DATETIME": "timestamp",
    "TIMESTAMPTZ": "timestamp with time zone", "BLOB": "binary",
}  # fmt: skip


def type_of(type_name: str) -> ColumnType | None:
    """The type for what a column is declared to be; SQLite itself lets anything be in it."""
    upper = type_name.upper()
    if upper in _DECLARED:
        return parse_type(_DECLARED[upper])
    sized = re.fullmatch(r"(?:(VARCHAR)|DECIMAL_TEXT)\((\d+)(?:, ?(\d+))?\)", upper)
    if not sized:
        return None
    varchar, size, scale = sized.groups()
    return parse_type(f"text({size})" if varchar else f"decimal({size},{scale or 0})")


def plain(value: Any) -> Any:
    if isinstance(value, datetime):
        return _moment(value)
    if isinstance(value, Decimal):
        return f"{value:f}"
    return str(value) if isinstance(value, date) else value


def _moment(value: datetime) -> str:
    return str(value.astimezone(UTC)) if value.tzinfo else str(value)


def of_kind(value: Any, kind: str) -> Any:
    """A parameter as values of a type are kept; the types as the core writes them."""
    if value is None:
        return None
    try:
        match kind.partition("(")[0]:
            case "TIMESTAMP":
                moment = value if isinstance(value, datetime) else datetime.fromisoformat(str(value))
                return _moment(moment.astimezone(UTC).replace(tzinfo=None) if moment.tzinfo else moment)
            case "TIMESTAMPTZ":
                moment = value if isinstance(value, datetime) else datetime.fromisoformat(str(value))
                return _moment(moment if moment.tzinfo else moment.replace(tzinfo=UTC))
            case "DATE":
                return str(value if isinstance(value, date) else date.fromisoformat(str(value)[:10]))
            case "TIME":
                hour = time.fromisoformat(str(value))
                if hour.tzinfo is not None:
                    raise ValueError
                return str(hour)
            case "BIGINT" | "INT" | "INTEGER":
                return int(str(value))
            case "DECIMAL":
                scale = int(kind.rstrip(")").partition(",")[2] or 0)
                exact = _EXACT.quantize(Decimal(str(value)), Decimal(1).scaleb(-scale))
                return f"{abs(exact) if exact == 0 else exact:f}"
            case "BOOLEAN":
                return int({"true": True, "false": False, "1": True, "0": False}[str(value).lower()])
            case "BYTEA":
                return value if isinstance(value, bytes) else str(value).encode()
            case "DOUBLE PRECISION":
                return float(value)
    except (ValueError, KeyError, InvalidOperation):
        raise StoreError(f"{value!r} is not a valid {kind.lower()}") from None
    return str(value)


def kept_as(value: str, kind: str) -> str:
    """A value in DuckDB's flavour as it is kept, see the top."""
    text = f"CAST({value} AS VARCHAR)"
    match kind.partition("(")[0]:
        case "TIMESTAMP" | "TIMESTAMPTZ" | "TIME":
            zone = " || '+00:00'" if kind == "TIMESTAMPTZ" else ""
            form = "%H:%M:%S" if kind == "TIME" else "%Y-%m-%d %H:%M:%S"
            moment = f"CAST({value} AS TIMESTAMP)" if kind == "TIMESTAMPTZ" else value
            if kind == "TIME":
                moment = f"(DATE '2000-01-01' + {value})"
            return (
                f"CASE WHEN microsecond({moment}) % 1000000 = 0 THEN strftime({moment}, '{form}') "
                f"ELSE strftime({moment}, '{form}.%f') END{zone}"
            )
        case "DATE" | "DECIMAL":
            return text
        case "BOOLEAN":
            return f"CAST({value} AS INTEGER)"
    return value


_PLAIN = {int: pa.int64(), float: pa.float64(), str: pa.string(), bytes: pa.binary()}


def as_arrow(values: Sequence[Any], kind: ColumnType | None) -> pa.Array:
    if kind is None:
        given = {type(value) for value in values} - {type(None)}
        plain_kind = _PLAIN.get(given.pop(), pa.string()) if len(given) == 1 else None if given else pa.string()
        return of_values(values, plain_kind) if plain_kind else pa.array(values)
    match kind.kind:
        case "timestamp":
            return of_values(values, pa.string()).cast(pa.timestamp("us"))
        case "timestamp with time zone":
            return of_values(values, pa.string()).cast(pa.timestamp("us", tz="UTC"))
        case "date":
            return of_values(values, pa.string()).cast(pa.date32())
        case "time":
            moments = pc.binary_join_element_wise("2000-01-01", of_values(values, pa.string()), " ")
            return moments.cast(pa.timestamp("us")).cast(pa.time64("us"))  # there is no cast from text
        case "decimal":
            return of_values(values, pa.string()).cast(pa.decimal128(kind.precision, kind.scale))
        case "boolean":
            return of_values(values, pa.int64()).cast(pa.bool_())
    plain = {"integer": pa.int64(), "double": pa.float64(), "binary": pa.binary()}
    return of_values(values, plain.get(kind.kind, pa.string()))


_UNITS = ("YEAR", "MONTH", "DAY", "HOUR", "MINUTE", "SECOND")


def _begin(unit: str, moment: datetime) -> datetime:
    """The beginning of the unit that a time lies in."""
    if unit.upper() == "WEEK":
        unit, moment = "DAY", moment - timedelta(days=moment.weekday())
    kept = _UNITS.index(unit.upper()) + 1
    parts = [*moment.timetuple()[:6]][:kept] + [1, 1, 1, 0, 0, 0][kept:]
    return datetime(*parts, tzinfo=moment.tzinfo)  # type: ignore[arg-type,misc]


def _truncated(unit: str, value: str | None) -> str | None:
    """A time truncated to a unit."""
    if value is None:
        return None
    begin = _begin(unit, datetime.fromisoformat(value))
    return str(begin.date()) if len(value) == 10 else str(begin)


def _truncated_in(unit: str, value: str | None, zone: str) -> str | None:
    """An instant truncated to a unit of the local time in a zone."""
    if value is None:
        return None
    instant = datetime.fromisoformat(value).astimezone(UTC)
    local = instant.astimezone(ZoneInfo(zone)).replace(tzinfo=None)
    begin = _begin(unit, local)
    if unit.upper() in ("HOUR", "MINUTE", "SECOND"):
        return str(instant - (local - begin))
    return str(begin.replace(tzinfo=ZoneInfo(zone), fold=1).astimezone(UTC))


def _lower(value: Any) -> Any:
    return value if value is None else lower(str(value))


def _upper(value: Any) -> Any:
    return value if value is None else upper(str(value))


def _form(ignored: str, value: Any) -> Any:
    """What of a value is compared; see ``merge.forms``."""
    if value is None:
        return None
    if ignored.startswith("round "):
        digits = int(ignored.removeprefix("round "))
        if isinstance(value, str):
            rounded = Decimal(value).quantize(Decimal(1).scaleb(-digits), ROUND_HALF_UP, _EXACT)
            return f"{_EXACT.add(rounded, Decimal(0)):f}"  # without the sign of zero
        return float(math.floor(value * 10.0**digits + 0.5)) if abs(value) < 1e15 else value
    return in_form(str(value), ignored.split(","))


def _in_order(value: Any) -> str | None:
    """A number as a text that sorts as the number does; null where it is none."""
    try:
        return f"{int(_EXACT.scaleb(Decimal(str(value)), MAX_DIGITS)) + 10 ** (2 * MAX_DIGITS):0{2 * MAX_DIGITS + 1}d}"
    except (InvalidOperation, ValueError, OverflowError):
        return None


def _is_odd(value: Any, kind: str) -> int:
    """Whether a value is kept in another form than values of a type are."""
    if value is None or kind == "TEXT":
        return int(not (value is None or isinstance(value, str)))
    try:
        return int(of_kind(value, kind) != value)
    except StoreError:
        return 1


@lru_cache(maxsize=64)
def _type(declared: str) -> ColumnType:
    return parse_type(declared)


def _as(value: Any, of: str, to: str) -> Any:
    """A value of one type as values of another are kept; null where that cannot hold it."""
    before, after = _type(of), _type(to)
    if value is None:
        return None
    if after.kind == "text":
        text = _as_text(value, before.kind)
        return text if after.length is None or len(text) <= after.length else None
    if after.kind == "timestamp":
        return f"{value} 00:00:00"
    exact = Decimal(str(value))
    if after.kind == "double":
        return float(exact) if abs(exact.scaleb(before.scale, _EXACT)) <= 2**53 else None
    kept = of_kind(value, after.sql)
    return kept if Decimal(kept) == exact and len(Decimal(kept).as_tuple().digits) <= after.precision else None


def _as_text(value: Any, kind: str) -> str:
    """A value of a type as text, as DuckDB would cast it."""
    match kind:
        case "boolean":
            return "true" if value else "false"
        case "double":
            return repr(float(value) + 0.0)  # equal to -0.0
        case "timestamp with time zone":
            return f"{_without_zeros(value.removesuffix('+00:00'))}+00"
        case "time" | "timestamp":
            return _without_zeros(value)
    return str(value)


def _without_zeros(moment: str) -> str:
    """A time without the zeros that end its fraction of a second."""
    return moment.rstrip("0") if "." in moment else moment


def _md5(text: Any) -> str | None:
    return None if text is None else hashlib.md5(str(text).encode(), usedforsecurity=False).hexdigest()


FUNCTIONS: tuple[tuple[str, int, Callable[..., Any]], ...] = (
    ("brenvik_trunc", 2, _truncated),
    ("brenvik_trunc_in", 3, _truncated_in),
    ("brenvik_odd", 2, _is_odd),
    ("brenvik_as", 3, _as),
    ("brenvik_md5", 1, _md5),
    ("brenvik_in_order", 1, _in_order),
    ("brenvik_form", 2, _form),
    ("lower", 1, _lower),  # SQLite's own know the letters a to z
    ("upper", 1, _upper),
)
