"""What is wrong with values that cannot be rules, in words."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from datetime import date, datetime
from typing import Any
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from pydantic import ValidationError

from brenvik.model.suggest import suggestion
from brenvik.model.types import CAN_BE_EFFECTIVE, ColumnType
from brenvik.model.watermarks import parse_period


def faults_of(error: ValidationError, known: Sequence[str]) -> list[str]:
    """All faults, each with its place; ``known`` are the rules there are."""
    return [f"{_place(item['loc'])}: {_message_of(item, known)}" for item in error.errors(include_url=False)]


def _place(loc: tuple[int | str, ...]) -> str:
    loc = ("table", *loc[1:]) if loc[:1] == (0,) else loc  # the one rule that can be given without its name
    return ".".join(str(part) for part in loc if not str(part).startswith(("function-", "union"))) or "declaration"


def _message_of(item: Any, known: Sequence[str]) -> str:
    kind = item["type"]
    if kind in {"unexpected_keyword_argument", "extra_forbidden"}:
        near = suggestion(str(item["loc"][-1]), known)
        return f"is not a table rule{near or '; valid rules are ' + ', '.join(known)}"
    if kind in {"missing", "missing_keyword_only_argument"}:
        example = {"natural_key": 'natural_key = ["buoy_code"]'}.get(str(item["loc"][-1]), "")
        return f"missing; expected as in {example}" if example else "missing"
    return str(item["msg"]).removeprefix("Value error, ")


def table_in(data: Any) -> str:
    """The name of the table in what was given, as far as it can be found."""
    values = getattr(data, "args", None) or ()
    named = getattr(data, "kwargs", None) or (data if isinstance(data, dict) else {})
    return repr(values[0] if values else named.get("table", "?"))


def checked_period(value: object) -> object:
    """The same value: whether there is a change log, or for how long. Raises ValueError for another one."""
    if not isinstance(value, bool):
        try:
            parse_period(value)
        except ValueError:
            raise ValueError(f'expected true, false, or a period as in "400 days", got {value!r}') from None
    return value


def checked_date(value: object) -> object:
    """The same value, or one that is written as a date or timestamp. Raises ValueError for other texts."""
    if isinstance(value, str):  # "9999-12-31" is a day, not a moment
        try:
            return date.fromisoformat(value) if len(value) == len("9999-12-31") else datetime.fromisoformat(value)
        except ValueError:
            raise ValueError(f'expected a date or timestamp as in "9999-12-31", got {value!r}') from None
    return value


def faults_of_limits(limits: Mapping[str, int | float | None]) -> Iterator[str]:
    """What is wrong with limits, by rule: each is a number, a share, or None."""
    for name, limit in limits.items():
        if isinstance(limit, bool) or (limit is not None and not limit >= 0):
            yield f"{name}: expected a whole number, 0 or more, or a share between 0.0 and 1.0, got {limit!r}"
        elif isinstance(limit, float) and limit > 1:
            yield f"{name}: {limit} is not a share between 0.0 and 1.0; write a number of rows as a whole number"


def faults_of_log(change_log: bool | str, deletes: str, *, by_arrival: bool) -> Iterator[str]:
    """What is wrong with the rule about the change log; ``by_arrival``: what arrived first matters."""
    if deletes in ("review", "ignore") and not change_log:
        yield f"deletes: {deletes!r} needs change_log = true, where such deletes are recorded"
    if isinstance(change_log, str) and by_arrival:
        yield 'change_log: with a period it would be unknown what arrived first (type_0_changes = "first_arrived")'


def faults_of_zone(time_zone: str) -> Iterator[str]:
    """What is wrong with the name of a time zone."""
    try:
        ZoneInfo(time_zone)
    except (ZoneInfoNotFoundError, ValueError, OSError):
        yield f"time_zone: {time_zone!r} is not a valid time zone; expected one as in Europe/Oslo or UTC"


def faults_of_renamed(renamed: Mapping[str, str], former: Collection[str]) -> Iterator[str]:
    """What is wrong with new names of columns; ``former`` are the columns that other rules name."""
    for old, new in renamed.items():
        if not new or new in renamed:
            yield f"renamed.{old}: expected a new name that is not a former name itself, got {new!r}"
        if old in former:
            yield f"{old}: is a former name ({new} under renamed); use the new one"
    for new, times in Counter(renamed.values()).items():
        if times > 1:
            yield f"renamed: several columns would be named {new}"


def faults_of_ignored(ignored_differences: Mapping[str, Any], elsewhere: Collection[str]) -> Iterator[str]:
    """What is wrong with ignored differences; columns ``elsewhere`` are not compared."""
    for column, ignored in ignored_differences.items():
        place = f"ignored_differences.{column}"
        if column in elsewhere:
            yield f"{place}: is in natural_key, not_compared or exclude; expected a column whose values are compared"
        digits = ignored.get("round") if isinstance(ignored, Mapping) else None
        if not ignored or (isinstance(ignored, Mapping) and (digits is None or not 0 <= digits <= 15)):
            yield f'{place}: expected a list as in ["case", "blanks"], or digits as in {{ round = 2 }}, 0 to 15'


def faults_of_effective_time(
    column: str,
    effective: ColumnType,
    time_precision: str | None,
    open_end: datetime | date | int | None,
    *,
    has_period: bool,
) -> Iterator[str]:
    """What is wrong with the type of the effective column, or with rules that depend on it; ``has_period``: the change log has a
    period."""
    if effective.kind not in CAN_BE_EFFECTIVE:
        yield f"{column}: effective column is {effective}; it must be a timestamp, date or integer"
        return
    if has_period and effective.kind == "integer":
        yield f"change_log: {column} is integer; a period needs a date or timestamp as effective time"
    coarse = time_precision in {"week", "month"} and effective.kind == "date"
    if time_precision and effective.kind in {"integer", "date"} and not coarse:
        yield f"time_precision: {column} is {effective}, which has no {time_precision}s"
    if open_end is not None:
        holds = {"integer": int, "date": date}.get(effective.kind, (date, datetime))
        if not isinstance(open_end, holds) or (effective.kind == "date" and isinstance(open_end, datetime)):
            yield f"open_end: {open_end!s} does not fit {column}, which is {effective}"


_OF_KEYS = (
    "natural_key_form", "order_by", "effective_at", "time_precision", "ties", "type_0", "type_1", "type_2", "type_0_changes",
    "type_3", "other_columns", "not_compared", "ignored_differences", "deletes", "delete_if", "max_deletes", "max_changes",
    "open_end",
)  # fmt: skip
"""Rules that mean nothing without a natural key."""


def faults_without_key(
    declared: Collection[str], surrogate_key: str, stamps: Mapping[str, Iterable[str]]
) -> Iterator[str]:
    """What is wrong with the rules of a table without a natural key; ``declared`` are those that are not as by default."""
    for name in _OF_KEYS:
        if name in declared:
            yield f'{name}: needs a natural key, as in natural_key = ["buoy_code"]; without one, rows are only appended'
    if surrogate_key == "hash":
        yield 'surrogate_key: "hash" needs a natural key; expected "counter", "uuid" or "identity"'
    for name, events in stamps.items():
        if others := [event for event in events if event != "added"]:
            yield f"stamps.{name}: {', '.join(others)} needs a natural key; rows that are only appended never change"


def faults_of_marks(stamps: Mapping[str, Collection[str]], deletes: str) -> Iterator[str]:
    """What is wrong with stamps of rows that an extract lacks."""
    for name, events in stamps.items():
        if "missing" in events and len(events) > 1:
            yield f"stamps.{name}: missing is the only event of a stamp; use another column for the others"
        if "missing" in events and deletes != "ignore":
            yield f'stamps.{name}.missing: needs deletes = "ignore"; otherwise a key that an extract lacks is deleted'


STAMP_VALUES = ("run", "feed", "loaded_at")
"""What expressions of stamps can refer to."""


def faults_of_expressions(
    conditions: Mapping[str, str],
    derive: Mapping[str, str],
    stamps: Mapping[str, Mapping[Any, str]],
    elsewhere: Collection[str],
) -> Iterator[str]:
    """What is wrong with the expressions of rules. ``conditions`` are by the place of their declaration; derived columns
    cannot be ``elsewhere``."""
    expressions = {**conditions, **{f"derive.{name}": text for name, text in derive.items()}}
    stamped = {f"stamps.{name}.{event}": text for name, events in stamps.items() for event, text in events.items()}
    if not (expressions or stamped):
        return
    from brenvik.model.conditions import columns_of, parse

    for place, text in (expressions | stamped).items():
        try:
            parse(text)
        except ValueError as error:
            yield f"{place}: {error}"
            continue
        if place.startswith("derive.") and (others := [name for name in columns_of(text) if name in derive]):
            yield f"{place}: {', '.join(others)} is derived itself; expected columns of the feed"
        if place in stamped and (unknown := [name for name in columns_of(text) if name not in STAMP_VALUES]):
            yield f"{place}: {', '.join(unknown)} is not known here; expected {', '.join(STAMP_VALUES)} or constants"
    for name in derive:
        if name in elsewhere:
            yield f"derive.{name}: cannot be in natural_key, order_by, effective_at or exclude"
