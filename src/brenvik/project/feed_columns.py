"""The column mapping of a feed in the project file: read and checked."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date
from typing import Any

from brenvik.errors import DeclarationError
from brenvik.model.feeds import AS_THEY_ARE, Added, FeedColumns, Origin
from brenvik.model.suggest import suggestion
from brenvik.model.value_formats import ValueFormats
from brenvik.project import keys


def read_columns(
    place: str, given: Mapping[str, Any], faults: list[str], *, has_files: bool, in_store: bool
) -> FeedColumns:
    """The column mapping of a feed; every error is added to ``faults``. Only rows of files have an origin besides the feed, and
    only text has formats: values in the store have types."""
    rename, add = given.get("rename", {}), given.get("add", {})
    if not isinstance(rename, dict):
        faults.append(f'{place}.rename: expected new names as in {{ "Buoy No" = "buoy_no" }}, got {rename!r}')
        rename = {}
    if not isinstance(add, dict):
        faults.append(f'{place}.add: expected columns as in {{ system = "north" }}, got {add!r}')
        add = {}
    added = {name: _added(f"{place}.add.{name}", value, faults, has_files=has_files) for name, value in add.items()}
    if "values" in given and in_store:
        faults.append(f"{place}.values: is for text values; columns in the store have types already")
    values = _values(f"{place}.values", given["values"], faults) if "values" in given else None
    try:
        return FeedColumns(rename, {name: value for name, value in added.items() if value is not None}, values)
    except DeclarationError as error:
        faults += (f"{place}.{fault}" for fault in error.faults)
        return AS_THEY_ARE


def _added(place: str, given: Any, faults: list[str], *, has_files: bool) -> Added | None:
    """A constant, or the origin of each row; None for what is neither."""
    if isinstance(given, (str, int, float, bool, date)):
        return given
    if not isinstance(given, dict) or len(given) != 1 or not isinstance(next(iter(given.values())), str):
        faults.append(
            f"{place}: expected a constant, {{ from = \"file\" }} or {{ file_name = 'buoy_(\\d+)\\.csv' }}, got {given!r}"
        )
        return None
    (key, value), *_ = given.items()
    if key not in keys.ADD:
        faults.append(f"{place}.{key}: is not a valid key; valid keys are {', '.join(keys.ADD)}")
    elif not has_files and value != "feed":
        faults.append(f'{place}: a database has no files; expected a constant or {{ from = "feed" }}')
    else:
        try:
            return Origin(file_name=value) if key == "file_name" else Origin(value)
        except DeclarationError as error:
            faults.append(f"{place}.{key}: {error}")
    return None


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
