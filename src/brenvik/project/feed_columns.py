"""The keys of a feed that say how its columns become those of the table: read and checked."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date
from typing import Any

from brenvik.errors import DeclarationError
from brenvik.model.feeds import Added, FeedColumns, Origin
from brenvik.model.suggest import suggestion
from brenvik.model.value_formats import ValueFormats
from brenvik.project import keys


def read_columns(
    place: str, given: Mapping[str, Any], faults: list[str], *, has_files: bool, in_store: bool
) -> FeedColumns:
    """How the columns of a feed become those of the table; every error is added to ``faults``. Only feeds with files know where
    a row comes from, and values that are in the store are not written in any way."""
    rename, add = given.get("rename", {}), given.get("add", {})
    if not isinstance(rename, dict) or not all(isinstance(new, str) and new.strip() for new in rename.values()):
        faults.append(f'{place}.rename: expected new names as in {{ "Buoy No" = "buoy_no" }}, got {rename!r}')
        rename = {}
    if twice := sorted({new for new in rename.values() if [*rename.values()].count(new) > 1}):
        faults.append(f"{place}.rename: several columns would be called {', '.join(twice)}")
    if not isinstance(add, dict):
        faults.append(f'{place}.add: expected columns as in {{ system = "north" }}, got {add!r}')
        add = {}
    added = {name: _added(f"{place}.add.{name}", value, faults, has_files=has_files) for name, value in add.items()}
    if "values" in given and in_store:
        faults.append(
            f"{place}.values: is for feeds whose values come as text; values in the store have their types already"
        )
    return FeedColumns(
        rename, added, _values(f"{place}.values", given["values"], faults) if "values" in given else None
    )


def _added(place: str, given: Any, faults: list[str], *, has_files: bool) -> Added:
    """A constant, or where a row comes from."""
    if isinstance(given, (str, int, float, bool, date)):
        return given
    if not isinstance(given, dict) or len(given) != 1 or not isinstance(next(iter(given.values())), str):
        faults.append(
            f"{place}: expected a constant, {{ from = \"file\" }} or {{ file_name = 'buoy_(\\d+)\\.csv' }}, got {given!r}"
        )
        return ""
    (key, value), *_ = given.items()
    if key not in keys.ADD:
        faults.append(f"{place}.{key}: is not a valid key; valid keys are {', '.join(keys.ADD)}")
    elif not has_files and value != "feed":
        faults.append(f'{place}: a database has no files; expected a constant or {{ from = "feed" }}')
    elif key == "file_name":
        try:
            return Origin(file_name=value)
        except DeclarationError as error:
            faults.append(f"{place}.{error}")
    elif value not in ("file", "line", "feed"):
        faults.append(f'{place}.from: expected "file", "line" or "feed", got {value!r}')
    else:
        return Origin(value)
    return ""


def _values(place: str, given: Any, faults: list[str]) -> ValueFormats | None:
    if not isinstance(given, dict):
        faults.append(f'{place}: expected keys as in values = {{ decimal_mark = "," }}, got {given!r}')
        return None
    unknown = [key for key in given if key not in keys.VALUES]
    faults += [
        f"{place}.{key}: is not a valid key{suggestion(key, keys.VALUES) or '; valid keys are ' + ', '.join(keys.VALUES)}"
        for key in unknown
    ]
    columns = given.get("columns", {})
    if not isinstance(columns, dict) or not all(isinstance(its, dict) for its in columns.values()):
        faults.append(f"{place}.columns: expected keys by column, as in {{ due = {{ trim = true }} }}, got {columns!r}")
        return None
    try:
        return ValueFormats(**{key: value for key, value in given.items() if key not in unknown})
    except DeclarationError as error:
        faults += (f"{place}.{fault}" for fault in error.faults)
        return None
