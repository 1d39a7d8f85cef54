"""A feed in the project file: read and checked as a whole."""

from __future__ import annotations

import codecs
import re
from collections.abc import Mapping
from dataclasses import replace
from datetime import timedelta
from typing import Any, get_args

from brenvik.model.feeds import Connection, DatabaseFeed, FeedRules, FileFeed, Operations, Then
from brenvik.model.positions import Span
from brenvik.model.rules import Kind
from brenvik.model.suggest import suggestion
from brenvik.model.watermarks import parse_span
from brenvik.project import keys
from brenvik.project.feed_columns import read_columns


def read_feed(
    place: str, name: str, given: Any, connections: Mapping[str, Connection], faults: list[str]
) -> FeedRules | None:
    """A feed in the project file; every error is added to ``faults``."""
    if not isinstance(given, dict):
        faults.append(f"{place}: expected a table of keys, got {given!r}")
        return None
    before = len(faults)
    own = [key for key in keys.DATABASE if key in given and key != "connection"]
    from_database = bool(own) or ("connection" in given and "files" not in given)
    known = (*keys.FEED, *(keys.DATABASE if from_database else (*keys.FILES, "connection")))
    for key in given:
        if key in keys.FILES and key not in known:
            other = own[0] if own else "connection"
            faults.append(f"{place}.{key}: a feed reads either files or a database; remove {key} or {other}")
        elif key not in known:
            named = dict.fromkeys((*known, *keys.FILES, *keys.DATABASE))
            near = suggestion(key, named) or f"; valid keys are {', '.join(named)}"
            faults.append(f"{place}.{key}: is not a feed key{near}")
    kind = given.get("kind")
    if kind not in get_args(Kind):
        faults.append(f"{place}.kind: is {kind!r}; expected 'changes', 'upserts', 'full_extract' or 'append'")
    operations = _operations_of(place, kind, given.get("operation"), faults)
    _check_scope(f"{place}.extract_scope", kind, given.get("extract_scope"), faults)
    in_store = from_database and "connection" not in given
    columns = read_columns(place, given, faults, has_files=not from_database, in_store=in_store)
    if len(faults) > before:
        return None
    read = _database if from_database else _files
    feed = read(place, name, str(kind), operations, given, connections, faults)
    return replace(feed, columns=columns) if feed else None


def _files(
    place: str,
    name: str,
    kind: str,
    operations: Operations | None,
    given: Mapping[str, Any],
    connections: Mapping[str, Connection],
    faults: list[str],
) -> FeedRules | None:
    files = given.get("files")
    if not isinstance(files, str) or not files:
        faults.append(
            f'{place}: expected files = "inbox/buoy_*.csv", or connection, source_table and watermark, '
            f"got {files!r} for files"
        )
        return None
    before = len(faults)
    if "://" in files:
        faults.append(
            f'{place}.files: expected a path; name the object store as a connection: connection = "archive", and under '
            '[connections] archive = "s3://bucket/folder"'
        )
    connection = _connection_of(place, given, connections, faults, has_files=True)
    min_age = _min_age(f"{place}.min_age", given.get("min_age", 0), faults)
    order = _file_order(f"{place}.file_order", given.get("file_order"), faults)
    dialect, sheet, layout = _formats(place, given, faults)
    record = _record(f"{place}.record", given.get("record", {}), operations, faults)
    time = _extract_time(f"{place}.extract_time", kind, given.get("extract_time", {}), faults)
    then, move_to = _then(f"{place}.after_load", given.get("after_load", "keep"), faults)
    unreadable_to = _unreadable(f"{place}.unreadable_files", given.get("unreadable_files", "stop"), faults)
    alone = given.get("one_run_per_file", False)
    if not isinstance(alone, bool):
        faults.append(f"{place}.one_run_per_file: expected true or false, got {alone!r}")
    rewritten = given.get("rewritten_files", "report")
    if rewritten not in ("report", "load"):
        faults.append(f'{place}.rewritten_files: expected "report" or "load", got {rewritten!r}')
    if len(faults) > before:
        return None
    return FileFeed(
        name,
        kind,
        operations,
        files,
        order,
        min_age,
        then,
        move_to,
        dialect,
        record,
        time,
        given.get("extract_scope"),
        rewritten,
        alone,
        unreadable_to,
        sheet,
        layout,
        connection=connection,
    )


def _connection_of(
    place: str, given: Mapping[str, Any], connections: Mapping[str, Connection], faults: list[str], *, has_files: bool
) -> str | None:
    """The name of the connection, checked: an object store if the feed has files, otherwise a database."""
    name = given.get("connection")
    if name is None:
        return None
    if not isinstance(name, str) or name not in connections:
        valid = [each for each, connection in connections.items() if connection.has_files == has_files]
        faults.append(
            f"{place}.connection: {name!r} is not in [connections]; valid connections are {', '.join(valid) or 'none'}"
        )
        return None
    if connections[name].has_files != has_files:
        faults.append(
            f"{place}.connection: {name} is a database; expected an object store for files, as in s3://bucket/folder"
            if has_files
            else f'{place}: {name} is an object store; expected files = "inbox/buoy_*.csv"'
        )
    return name


def _file_order(place: str, given: Any, faults: list[str]) -> str | None:
    """The pattern for the part of a file's name that orders the files."""
    try:
        if given is not None and re.compile(given).groups != 1:
            raise ValueError
    except (TypeError, ValueError, re.error):
        faults.append(f"{place}: expected a regular expression with one group, as in 'buoy_(\\d+)', got {given!r}")
        return None
    return None if given is None else str(given)


def _min_age(place: str, given: Any, faults: list[str]) -> timedelta | None:
    """How old a file must be; None for any age."""
    try:
        age = parse_span(given)
        if age and not isinstance(age, timedelta):
            raise ValueError(f'expected a time as in "30 seconds", got {age!r}')
    except ValueError as error:
        faults.append(f"{place}: {error}")
        return None
    return age if isinstance(age, timedelta) else None


def _formats(
    place: str, given: Mapping[str, Any], faults: list[str]
) -> tuple[dict[str, Any], dict[str, Any], dict[str, Any]]:
    """How CSV files, workbooks and text without delimiters are read."""
    dialect = _dialect(f"{place}.csv", given.get("csv", {}), faults)
    sheet = _sheet(f"{place}.excel", given.get("excel", {}), faults)
    layout = _layout(f"{place}.fixed_width", given.get("fixed_width", {}), faults)
    if layout and dialect:
        faults.append(f"{place}: csv and fixed_width cannot be combined")
    return dialect, sheet, layout


def _dialect(place: str, given: Any, faults: list[str]) -> dict[str, Any]:
    """The dialect of CSV files: its fields, checked."""
    if not isinstance(given, dict):
        faults.append(f'{place}: expected keys as in csv = {{ delimiter = ";" }}, got {given!r}')
        return {}
    made: dict[str, Any] = {}
    for key, value in given.items():
        if key in ("delimiter", "quote", "escape"):
            if not isinstance(value, str) or len(value) != 1 or not value.isascii() or value in "\r\n":
                faults.append(f"{place}.{key}: expected one character, got {value!r}")
            made[key] = value
        elif key == "encoding":
            _check_encoding(f"{place}.encoding", value, faults)
            made[key] = value
        elif key in ("columns", "null"):
            if not isinstance(value, list) or not all(isinstance(each, str) for each in value):
                faults.append(f"{place}.{key}: expected a list of strings, got {value!r}")
                continue
            made[key] = tuple(value)
        else:
            faults.append(f"{place}.{key}: is not a valid key; valid keys are {', '.join(keys.CSV)}")
    if made.get("delimiter", ",") in (made.get("quote", '"'), made.get("escape")):
        faults.append(f"{place}: delimiter, quote and escape must differ")
    return made


def _sheet(place: str, given: Any, faults: list[str]) -> dict[str, Any]:
    """The sheet of workbooks, checked."""
    if not isinstance(given, dict):
        faults.append(f'{place}: expected keys as in excel = {{ sheet = "Buoys" }}, got {given!r}')
        return {}
    faults += [
        f"{place}.{key}: is not a valid key; valid keys are {', '.join(keys.EXCEL)}"
        for key in given
        if key not in keys.EXCEL
    ]
    row, name = given.get("header_row", 1), given.get("sheet")
    if not isinstance(row, int) or isinstance(row, bool) or row < 1:
        faults.append(f"{place}.header_row: expected the number of a row, from 1, got {row!r}")
    if name is not None and not isinstance(name, str):
        faults.append(f"{place}.sheet: expected the name of a sheet, got {name!r}")
    return {"name": name, "header_row": row}


def _layout(place: str, given: Any, faults: list[str]) -> dict[str, Any]:
    """The places of columns in lines without delimiters, checked."""
    if given == {}:
        return {}
    columns = given.get("columns") if isinstance(given, dict) else None
    if not isinstance(columns, dict) or not columns:
        faults.append(
            f"{place}: expected places as in fixed_width = {{ columns = {{ buoy_code = [1, 8] }} }}, got {given!r}"
        )
        return {}
    faults += [
        f"{place}.{key}: is not a valid key; valid keys are {', '.join(keys.FIXED_WIDTH)}"
        for key in given
        if key not in keys.FIXED_WIDTH
    ]
    for name, span in columns.items():
        whole = isinstance(span, list) and len(span) == 2 and all(type(each) is int for each in span)
        if not whole or not 1 <= span[0] <= span[1]:
            faults.append(
                f"{place}.columns.{name}: expected the first and the last character, as in [1, 8], got {span!r}"
            )
            return {}
    encoding, header = given.get("encoding", "utf-8"), given.get("header_lines", 0)
    _check_encoding(f"{place}.encoding", encoding, faults)
    if type(header) is not int or header < 0:
        faults.append(f"{place}.header_lines: expected a number of lines, got {header!r}")
    places = tuple((name, *span) for name, span in columns.items())
    return {"columns": places, "encoding": encoding, "header_lines": header}


def _check_encoding(place: str, given: Any, faults: list[str]) -> None:
    try:
        codecs.lookup(given)
    except (LookupError, TypeError):
        faults.append(f"{place}: expected a name as in utf-8 or latin-1, got {given!r}")


def _record(place: str, given: Any, operations: Operations | None, faults: list[str]) -> dict[str, Any]:
    """Where in a JSON record the parts of a change are: JSON pointers, checked."""
    if not isinstance(given, dict):
        faults.append(f'{place}: expected keys as in record = {{ new_row = "/now" }}, got {given!r}')
        return {}
    made: dict[str, Any] = {}
    for key, value in given.items():
        if key == "columns" and isinstance(value, dict):
            for name, pointer in value.items():
                _pointer(f"{place}.columns.{name}", pointer, faults)
            made[key] = tuple(value.items())
        elif key in ("new_row", "old_row"):
            made[key] = _pointer(f"{place}.{key}", value, faults)
        elif key == "columns":
            faults.append(f'{place}.columns: expected names and pointers as in {{ changed_at = "/at" }}, got {value!r}')
        else:
            faults.append(f"{place}.{key}: is not a valid key; valid keys are {', '.join(keys.RECORD)}")
    if "old_row" in made and not (operations and operations.deleting):
        faults.append(f'{place}.old_row: is for deletes; it needs kind = "changes" and a delete code')
    return made


def _extract_time(place: str, kind: str, given: Any, faults: list[str]) -> dict[str, str]:
    """The time of an extract: in its name, or in a column."""
    if given and kind != "full_extract":
        faults.append(f"{place}: is for feeds of kind 'full_extract'; this one is {kind!r}")
    if given == {}:
        return {}
    if not isinstance(given, dict) or len(given) != 1 or not isinstance(next(iter(given.values())), str):
        faults.append(
            f"{place}: expected {{ file_name = 'keeper_(.+)\\.csv' }} or {{ column = \"as_at\" }}, got {given!r}"
        )
        return {}
    (key, value), *_ = given.items()
    if key not in keys.EXTRACT_TIME:
        faults.append(f"{place}.{key}: is not a valid key; valid keys are {', '.join(keys.EXTRACT_TIME)}")
    elif key == "file_name":
        try:
            if re.compile(value).groups != 1:
                raise ValueError
        except (ValueError, re.error):
            faults.append(f"{place}.file_name: expected a regular expression with one group, got {value!r}")
    return {key: value}


def _check_scope(place: str, kind: Any, given: Any, faults: list[str]) -> None:
    """The part of the table that an extract covers: a condition over the table's columns."""
    if given is None:
        return
    if kind != "full_extract":
        faults.append(f"{place}: is for feeds of kind 'full_extract'; this one is {kind!r}")
    if not isinstance(given, str) or not given.strip():
        faults.append(f"{place}: expected a condition as in \"region = 'north'\", got {given!r}")
        return
    from brenvik.model.conditions import columns_of

    try:
        if not columns_of(given):
            faults.append(f"{place}: {given!r} names no column of the table")
    except ValueError as error:
        faults.append(f"{place}: {error}")


def _pointer(place: str, given: Any, faults: list[str]) -> Any:
    """A JSON pointer: '' for the whole record, otherwise parts that each begin with a slash."""
    if not isinstance(given, str) or (given and not given.startswith("/")) or re.search("~(?![01])", given):
        faults.append(f'{place}: expected a JSON pointer as in "/now" or "/change/at", got {given!r}')
    return given


def _then(place: str, given: Any, faults: list[str]) -> tuple[Then, str]:
    """What to do with loaded files: keep, delete, or move them into a folder."""
    if given in ("keep", "delete"):
        return given, ""
    folder = _folder_of(place, given, '"keep", "delete"', faults)
    return ("move", folder) if folder else ("keep", "")


def _unreadable(place: str, given: Any, faults: list[str]) -> str:
    """The folder for files that cannot be read; '' where such a file stops the load."""
    return "" if given == "stop" else _folder_of(place, given, '"stop"', faults)


def _folder_of(place: str, given: Any, others: str, faults: list[str]) -> str:
    """The folder that files are moved into."""
    if (
        isinstance(given, dict)
        and list(given) == ["move_to"]
        and isinstance(given["move_to"], str)
        and given["move_to"]
    ):
        return str(given["move_to"])
    faults.append(f'{place}: expected {others} or {{ move_to = "loaded/" }}, got {given!r}')
    return ""


def _database(
    place: str,
    name: str,
    kind: str,
    operations: Operations | None,
    given: Mapping[str, Any],
    connections: Mapping[str, Connection],
    faults: list[str],
) -> FeedRules | None:
    before = len(faults)
    connection = _connection_of(place, given, connections, faults, has_files=False)
    texts = {key: given.get(key) for key in ("source_table", "query", "watermark")}
    for key, value in texts.items():
        if value is not None and (not isinstance(value, str) or not value.strip()):
            faults.append(f"{place}.{key}: expected a string, got {value!r}")
    if (texts["source_table"] is None) == (texts["query"] is None):
        faults.append(f"{place}: expected either source_table or query")
    if kind == "full_extract":
        faults += [
            f"{place}.{key}: is for feeds that are read by watermark; an extract is read whole"
            for key in keys.WATERMARK
            if key in given
        ]
    elif texts["watermark"] is None:
        faults.append(f"{place}.watermark: missing; expected the column that increases with every change of a row")
    spans: dict[str, Span | None] = {}
    for key in ("overlap", "lag", "window"):
        if key in given:
            try:
                spans[key] = parse_span(given[key])
                if key == "window" and not spans[key]:
                    raise ValueError(f'expected a number of rows from 1, or a time as in "1 day", got {given[key]!r}')
            except ValueError as error:
                faults.append(f"{place}.{key}: {error}")
    time = _extract_time(f"{place}.extract_time", kind, given.get("extract_time", {}), faults)
    if "file_name" in time:
        faults.append(f'{place}.extract_time.file_name: a database has no files; expected {{ column = "as_at" }}')
    if len(faults) > before:
        return None
    start_at = given.get("start_at")
    return DatabaseFeed(
        name,
        kind,
        operations,
        connection=connection,
        **texts,  # type: ignore[arg-type]
        **spans,  # type: ignore[arg-type]
        start_at=None if start_at is None else str(start_at),
        extract_time=time,
        extract_scope=given.get("extract_scope"),
    )


def _operations_of(place: str, kind: Any, operation: Any, faults: list[str]) -> Operations | None:
    if kind == "changes" and operation is None:
        faults.append(f'{place}.operation: missing; a feed of changes needs operation = "op" or {{ column = "op", … }}')
        return None
    if kind in get_args(Kind) and kind != "changes" and operation is not None:
        faults.append(f"{place}.operation: a feed of kind {kind!r} has no operations; use kind 'changes' or remove it")
        return None
    return None if operation is None else _operations(f"{place}.operation", operation, faults)


def _operations(place: str, given: Any, faults: list[str]) -> Operations | None:
    if isinstance(given, str):
        return Operations(given)
    if not isinstance(given, dict) or not isinstance(given.get("column"), str):
        faults.append(
            f'{place}: expected the name of a column, or {{ column = "op", insert = ["I"], … }}, got {given!r}'
        )
        return None
    faults += [
        f"{place}.{key}: is not a valid key; valid keys are {', '.join(keys.OPERATION)}"
        for key in given
        if key not in keys.OPERATION
    ]
    codes: dict[str, tuple[str, ...]] = {}
    for key in ("insert", "update", "delete"):
        value = given.get(key)
        if value is None:
            continue
        value = [value] if isinstance(value, str) else value
        if not isinstance(value, list) or not all(isinstance(code, str) for code in value):
            faults.append(f"{place}.{key}: expected a list of codes, got {given[key]!r}")
            continue
        codes[key] = tuple(value)
    made = Operations(given["column"], **codes)
    both = sorted(set(made.keeping) & set(made.deleting))
    if both:
        faults.append(f"{place}: {', '.join(both)} would mean both a delete and an insert or update")
    return made
