"""A natural key as a caller gives it, checked against the types of its columns."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date, datetime, time
from decimal import Decimal, InvalidOperation
from typing import Any

from brenvik.errors import DeclarationError
from brenvik.model.positions import KINDS, kind_of
from brenvik.model.rules import TableRules
from brenvik.model.text_forms import in_form
from brenvik.model.types import ColumnType

Key = str | int | bytes | date | datetime | Mapping[str, Any]
"""A value, or for a key of several columns a dict of their values; each typed or as text."""

_BOOLEANS = {"true": "true", "t": "true", "1": "true", "false": "false", "f": "false", "0": "false"}


def key_values(rules: TableRules, key: Key, types: Mapping[str, ColumnType]) -> dict[str, str | bytes]:
    """The key as query parameters ``key_0``, …: as text, which the store casts to the column's type, or as bytes.

    Columns without a known type, such as those of a table that does not exist yet, are not checked. Raises DeclarationError when
    columns are missing or unknown, and for values that do not fit the column's type.
    """
    if rules.appends:
        raise DeclarationError(
            f"Table {rules.table!r} has no natural key, so its rows have no history and cannot be found by a key."
        )
    named = ", ".join(rules.natural_key)
    if isinstance(key, (list, tuple, set, frozenset)):
        raise DeclarationError(
            f"The key of {rules.table!r} must be a value, or a dict with values for {named}; got {key!r}."
        )
    if not isinstance(key, Mapping):
        if len(rules.natural_key) > 1:
            raise DeclarationError(
                f"The key of {rules.table!r} has the columns {named}; expected a dict with their values."
            )
        key = {rules.natural_key[0]: key}
    if set(key) != set(rules.natural_key):
        raise DeclarationError(f"The key of {rules.table!r} has the columns {named}; got {', '.join(map(str, key))}.")
    found: dict[str, str | bytes] = {}
    for index, name in enumerate(rules.natural_key):
        try:
            found[f"key_{index}"] = _as_text(key[name], types.get(name), rules)
        except ValueError as error:
            raise DeclarationError(f"The key of {rules.table!r}: {name}: {error}") from None
    return found


def _as_text(value: Any, kind: ColumnType | None, rules: TableRules) -> str | bytes:
    if value is None:
        raise ValueError("a key cannot be null")
    if isinstance(value, bytes) and (kind is None or kind.kind == "binary"):
        return value
    text = str(value)
    if kind is None or kind.kind in ("text", "binary"):
        return text if kind and kind.kind == "binary" else in_form(text, rules.natural_key_form)
    if kind.kind in KINDS:
        mark = kind_of(kind.kind).parse(value, zone=rules.time_zone)
        if isinstance(mark, int) and not -(2**63) <= mark < 2**63:
            raise ValueError(f"expected a 64-bit integer, got {value!r}")
        return str(mark)
    if kind.kind == "boolean":
        fits = _BOOLEANS.get(text.lower())
    else:
        fits = _as_time(text) if kind.kind == "time" else _as_decimal(text, kind)
    if fits is None:
        raise ValueError(f"expected a {kind}, got {value!r}")
    return fits


def _as_decimal(text: str, kind: ColumnType) -> str | None:
    assert kind.precision is not None
    scale = kind.scale or 0
    try:
        number = Decimal(text)
    except InvalidOperation:
        return None
    if not number.is_finite() or number.adjusted() > kind.precision:
        return None
    plain = f"{number:f}"
    whole, _, fraction = plain.lstrip("-").partition(".")
    fits = len(whole.lstrip("0")) <= kind.precision - scale and len(fraction.rstrip("0")) <= scale
    return plain if fits else None


def _as_time(text: str) -> str | None:
    try:
        found = time.fromisoformat(text)
    except ValueError:
        return None
    return str(found) if found.tzinfo is None else None
