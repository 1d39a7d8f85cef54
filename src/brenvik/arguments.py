"""Calls of the library: arguments are checked before anything is done, and a store carries out one call at a time."""

from __future__ import annotations

import inspect
import math
from collections.abc import Callable, Mapping
from datetime import date, timedelta
from functools import wraps
from typing import Any, ParamSpec, TypeVar

from brenvik.errors import DeclarationError
from brenvik.model.feeds import FeedColumns, Operations
from brenvik.model.rules import TableRules
from brenvik.model.watermarks import parse_period

_P = ParamSpec("_P")
_R = TypeVar("_R")


def _is_number(value: Any) -> bool:
    return hasattr(value, "__index__") and not isinstance(value, bool)


def _is_seconds(value: Any) -> bool:
    return isinstance(value, (int, float)) and not isinstance(value, bool) and not math.isnan(value) and value >= 0


def _is_text(value: Any) -> bool:
    return isinstance(value, str)


def _is_bool(value: Any) -> bool:
    return isinstance(value, bool)


_Expected = tuple[Callable[[Any], bool], str, bool]
_TEXT: _Expected = (_is_text, "a string", True)
_FLAG: _Expected = (_is_bool, "True or False", False)
_COUNT: _Expected = (lambda value: _is_number(value) and value >= 0, "a whole number, 0 or more", True)
_EXPECTED: dict[str, _Expected] = {
    "rules": (lambda value: isinstance(value, TableRules), "the TableRules of a table", False),
    "kind": (_is_text, "a string", False),
    "operation": (lambda value: isinstance(value, (str, Operations)), "the name of a column, or Operations", True),
    "columns": (lambda value: isinstance(value, FeedColumns), "FeedColumns", True),
    "feed": (_is_text, "the name of a feed", False),
    "at": (lambda value: isinstance(value, (str, date)), "a date, a datetime, or one as a string", True),
    "when": (
        lambda value: isinstance(value, (str, date)) or _is_number(value),
        "a date, a datetime, a number, or one as a string",
        False,
    ),
    "run": (_is_number, "the number of a run", False),
    "known_at": (_is_number, "the number of a run", True),
    "wait_s": (_is_seconds, "a number of seconds, 0 or more", False),
    "explain": (_is_bool, "True or False", True),
    **dict.fromkeys(("extract_scope", "label", "reason", "unlogged", "memory_limit"), _TEXT),
    **dict.fromkeys(("undo", "preview", "every", "drop_columns", "read_only"), _FLAG),
    **dict.fromkeys(("allow_deletes", "allow_changes", "allow_type_0"), _COUNT),
}
"""What a parameter must be, by its name: the test, what is told when it fails, and whether None is let through."""
SEVERAL: _Expected = (
    lambda value: all(isinstance(each, TableRules) for each in value),
    "the TableRules of tables",
    False,
)
COLUMNS: _Expected = (
    lambda value: isinstance(value, Mapping) and all(map(_is_text, (*value, *value.values()))),
    "a dict of columns and their types",
    True,
)


def check_call(what: str, **given: Any) -> None:
    """Raises DeclarationError when ``what`` was called with arguments of a wrong kind."""
    _check(what, given, _EXPECTED)


def _check(what: str, given: Mapping[str, Any], expected: Mapping[str, _Expected]) -> None:
    faults = [
        f"{name}: expected {told}, got {value!r}"
        for name, value in given.items()
        if name in expected
        for fits, told, none in [expected[name]]
        if not (fits(value) or (none and value is None))
    ]
    if faults:
        raise DeclarationError(f"{what} was called with invalid arguments:", faults)


def period_of(keep: str | timedelta) -> timedelta:
    """How long something is kept. Raises DeclarationError for what is not a period."""
    try:
        return parse_period(keep)
    except ValueError as error:
        raise DeclarationError(f"keep: {error}") from None


def one_at_a_time(**others: _Expected) -> Callable[[Callable[_P, _R]], Callable[_P, _R]]:
    """Has a method of a store raise DeclarationError for arguments of a wrong kind, and wait for its turn. ``others`` says what
    those parameters must be that mean something else than elsewhere."""
    expected = {**_EXPECTED, **others}

    def of(method: Callable[_P, _R]) -> Callable[_P, _R]:
        signature = inspect.signature(method)

        @wraps(method)
        def call(*words: _P.args, **named: _P.kwargs) -> _R:
            given = signature.bind(*words, **named).arguments
            _check(method.__qualname__, given, expected)
            engine = given["self"].engine
            with engine.turn.taken(engine.address, given.get("wait_s")):
                return method(*words, **named)

        return call

    return of
