"""What is wrong with values that cannot be rules, in words."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from typing import Any

from pydantic import ValidationError

from brenvik.model.suggest import suggestion


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


def faults_of_limits(limits: Mapping[str, int | float | None]) -> Iterator[str]:
    """What is wrong with limits, by rule: each is a number, a share, or None."""
    for name, limit in limits.items():
        if isinstance(limit, bool) or (limit is not None and not limit >= 0):
            yield f"{name}: expected a whole number, 0 or more, or a share between 0.0 and 1.0, got {limit!r}"
        elif isinstance(limit, float) and limit > 1:
            yield f"{name}: {limit} is not a share between 0.0 and 1.0; write a number of rows as a whole number"


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
