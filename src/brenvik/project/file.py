"""Reads the project file, ``brenvik.toml``; all errors in it are reported at once."""

from __future__ import annotations

import os
import re
import tomllib
from collections.abc import Iterator, Mapping
from datetime import timedelta
from graphlib import CycleError, TopologicalSorter
from pathlib import Path
from typing import Any

from brenvik.errors import ProjectError, RulesError
from brenvik.model.addresses import filled
from brenvik.model.feeds import Connection, FileFeed, faults_of_kind
from brenvik.model.rules import TableRules
from brenvik.model.suggest import suggestion
from brenvik.model.watermarks import parse_span
from brenvik.project import keys
from brenvik.project.feeds import read_feed
from brenvik.project.project import Project, ProjectTable
from brenvik.store import MEMORY

FILE = "brenvik.toml"
_ENVIRONMENT = re.compile(r"\$\{([^}]*)\}")


def read_project(path: str | Path = FILE, *, environment: str | None = None) -> Project:
    """The project that a file declares.

    ``environment`` names the section ``[environment.NAME]`` whose keys override those of the file; None: the variable
    BRENVIK_ENV, or none if that is not set. ``${NAME}`` in any string stands for an environment variable. Raises ProjectError
    with every error in the file.
    """
    if not isinstance(path, (str, os.PathLike)):
        raise ProjectError(f"expected the path of a project file, got {path!r}")
    path = Path(path)
    environment = environment or os.environ.get("BRENVIK_ENV") or None
    folder = path.resolve().parent
    faults: list[str] = []
    declared = _in_environment(_parsed(path), environment, faults)
    declared = _with_environment(declared, "", faults)
    faults += [
        f"{key}: is not a project key{suggestion(key, keys.PROJECT) or '; valid keys are ' + ', '.join(keys.PROJECT)}"
        for key in declared
        if key not in keys.PROJECT
    ]
    store = declared.get("store")
    if not isinstance(store, str):
        faults.append('store: missing; expected an address as in store = "duckdb:coast.duckdb"')
        store = ""
    memory_limit = declared.get("memory_limit")
    if memory_limit is not None and not (isinstance(memory_limit, str) and MEMORY.fullmatch(memory_limit)):
        faults.append(f'memory_limit: expected a size as in "500 MB" or "4 GB", got {memory_limit!r}')
    connections = _connections(declared.get("connections", {}), faults)
    entries = _entries(declared, folder, faults)
    time_zone = str(declared.get("time_zone", "UTC"))
    tables = {name: _table(name, entry, time_zone, connections, faults) for name, entry in entries.items()}
    order = _in_order({name: table for name, table in tables.items() if table}, faults)
    faults += _shared_tables(list(order.values()))
    faults += _shared_files(list(order.values()))
    if faults:
        raise ProjectError(f"{path} has errors:", faults)
    return Project(
        name=str(declared.get("name", folder.name)),
        folder=folder,
        store=_beside(store, folder),
        tables=order,
        connections=connections,
        environment=environment,
        memory_limit=memory_limit,
    )


def _parsed(path: Path) -> dict[str, Any]:
    try:
        return tomllib.loads(path.read_text(encoding="utf-8"))
    except FileNotFoundError:
        raise ProjectError(
            f"{path} does not exist. Name the project file with --project, or create one: brenvik new FILE"
        ) from None
    except IsADirectoryError:
        raise ProjectError(f"{path} is a folder; expected the project file, as in {path / FILE}") from None
    except UnicodeDecodeError as error:
        raise ProjectError(f"{path}: byte {error.start + 1:,} is not UTF-8; a project file must be UTF-8") from None
    except (OSError, tomllib.TOMLDecodeError) as error:
        raise ProjectError(f"{path} cannot be read: {error}") from error


def _in_environment(declared: dict[str, Any], environment: str | None, faults: list[str]) -> dict[str, Any]:
    """The declaration, overridden by the keys of one environment."""
    sections = declared.pop("environment", {})
    if not isinstance(sections, dict) or not all(isinstance(section, dict) for section in sections.values()):
        faults.append("environment: expected sections [environment.NAME]")
        return declared
    if environment is None:
        return declared
    if environment not in sections:
        there = ", ".join(sections) or "none"
        faults.append(f"environment: there is no [environment.{environment}]; valid environments are {there}")
        return declared
    return _laid_over(declared, sections[environment])


def _laid_over(below: Mapping[str, Any], above: Mapping[str, Any]) -> dict[str, Any]:
    """Both together, with ``above`` taking precedence. Tables of keys are merged."""
    merged = dict(below)
    for key, value in above.items():
        both = isinstance(value, dict) and isinstance(below.get(key), dict)
        merged[key] = _laid_over(below[key], value) if both else value
    return merged


def _entries(declared: Mapping[str, Any], folder: Path, faults: list[str]) -> dict[str, Any]:
    """All tables as declared, here and in the files of ``tables``, with defaults and ``like`` applied."""
    found = declared.get("table", {})
    if not isinstance(found, dict):
        faults.append("table: expected sections [table.NAME]")
        found = {}
    entries = dict(found)
    pattern = declared.get("tables")
    if pattern is not None and not isinstance(pattern, str):
        faults.append(f'tables: expected a pattern as in tables = "tables/*.toml", got {pattern!r}')
    elif pattern is not None:
        paths = sorted(folder.glob(pattern))
        if not paths:
            faults.append(f"tables: no file matches {pattern!r} in {folder}")
        for path in paths:
            inside = _with_environment(_parsed(path), path.name, faults)
            faults += [f"{path.name}: {key}: expected sections [table.NAME] only" for key in inside if key != "table"]
            for name, entry in inside.get("table", {}).items():
                if name in entries:
                    faults.append(f"{path.name}: table.{name} is declared twice")
                entries[name] = entry
    if not entries:
        faults.append("table: no table is declared; expected at least one [table.NAME]")
    defaults = declared.get("defaults", {})
    if not isinstance(defaults, dict):
        faults.append("defaults: expected a section of rules for all tables")
        defaults = {}
    return {name: _whole(name, entries, defaults, faults) for name in entries}


def _whole(name: str, entries: Mapping[str, Any], defaults: Mapping[str, Any], faults: list[str]) -> Any:
    """A table with what it inherits from the table it is like (all but its feeds), and from the defaults."""
    entry, seen = entries[name], [name]
    while isinstance(entry, dict) and (other := entry.get("like")) is not None:
        entry = {key: value for key, value in entry.items() if key != "like"}
        if other not in entries or other in seen:
            why = "is a circular reference" if other in seen else f"there is no table {other!r}"
            faults.append(f"table.{name}.like: {why}")
            break
        seen.append(other)
        base = entries[other] if isinstance(entries[other], dict) else {}
        entry = _laid_over({key: value for key, value in base.items() if key != "feed"}, entry)
    return _laid_over(defaults, entry) if isinstance(entry, dict) else entry


def _in_order(tables: Mapping[str, ProjectTable], faults: list[str]) -> dict[str, ProjectTable]:
    """The tables in the order of the file, each after those it depends on."""
    for name, table in tables.items():
        faults += [f"table.{name}.after: there is no table {other!r}" for other in table.after if other not in tables]
    graph = TopologicalSorter({name: [other for other in t.after if other in tables] for name, t in tables.items()})
    try:
        graph.prepare()
    except CycleError as error:
        faults.append(f"after: {' → '.join(reversed(error.args[1]))} is a circular dependency")
        return dict(tables)
    places = {name: place for place, name in enumerate(tables)}
    ready: list[str] = []
    order: dict[str, ProjectTable] = {}
    while graph.is_active():
        ready = sorted([*ready, *graph.get_ready()], key=places.__getitem__)
        first = ready.pop(0)
        order[first] = tables[first]
        graph.done(first)
    return order


def _shared_tables(tables: list[ProjectTable]) -> Iterator[str]:
    """Tables that two declarations would write to, neither knowing of the other."""
    first: dict[str, str] = {}
    for table in tables:
        name = table.rules.table
        other = first.setdefault(table.rules.stored_as.casefold(), name)
        if other != name:
            yield f"table.{name}: has the same name in the store as table.{other}: {table.rules.stored_as!r} (case is ignored)"


def _shared_files(tables: list[ProjectTable]) -> Iterator[str]:
    """Files that one feed would move away from another."""
    feeds = [(f"table.{t.rules.table}.feed.{f.name}", f) for t in tables for f in t.feeds if isinstance(f, FileFeed)]
    for place, feed in feeds:
        read = (feed.connection, feed.files)
        others = [other for other, each in feeds if other != place and (each.connection, each.files) == read]
        if others and feed.then != "keep":
            yield f"{place}.after_load: {others[0]} reads the same files and would miss them; remove after_load"


def _connections(given: Any, faults: list[str]) -> dict[str, Connection]:
    if not isinstance(given, dict):
        faults.append(f'connections: expected entries as in registry = "${{REGISTRY_URL}}", got {given!r}')
        return {}
    made = {}
    for name, entry in given.items():
        parts = {"url": entry} if isinstance(entry, str) else entry
        if not isinstance(parts, dict) or not all(isinstance(value, str) for value in parts.values()):
            faults.append(f"connections.{name}: expected a URL, or a table with url, user and password")
        elif "url" not in parts or (odd := sorted(set(parts) - {"url", "user", "password"})):
            wrong = "url is missing" if "url" not in parts else f"unknown keys {', '.join(odd)}"
            faults.append(f"connections.{name}: {wrong}; expected url, and optionally user and password")
        else:
            made[name] = Connection(name, **parts)
    return made


def _table(
    name: str, entry: Any, time_zone: str, connections: Mapping[str, Connection], faults: list[str]
) -> ProjectTable | None:
    if not isinstance(entry, dict):
        faults.append(f"table.{name}: expected a table of keys, got {entry!r}")
        return None
    declared = {key: value for key, value in entry.items() if key not in keys.TABLE}
    places: dict[str, Any] = {}
    for key in ("after", "groups"):
        value = entry.get(key, [])
        value = [value] if isinstance(value, str) else value
        if not isinstance(value, list) or not all(isinstance(each, str) for each in value):
            faults.append(f"table.{name}.{key}: expected a list of names, got {value!r}")
            value = []
        places[key] = tuple(value)
    if "expected_every" in entry:
        try:
            places["expected_every"] = parse_span(entry["expected_every"])
            if not isinstance(places["expected_every"], timedelta):
                raise ValueError(f'expected a time as in "26 hours", got {entry["expected_every"]!r}')
        except ValueError as error:
            faults.append(f"table.{name}.expected_every: {error}")
    rules = None
    try:
        rules = TableRules(name, **{"time_zone": time_zone, **declared})
    except RulesError as error:
        faults += [f"table.{name}: {fault}" for fault in error.faults]
    feeds = entry.get("feed", {})
    if not isinstance(feeds, dict) or not feeds:
        faults.append(f"table.{name}: has no feed; expected at least one [table.{name}.feed.NAME]")
        feeds = {}
    made = [read_feed(f"table.{name}.feed.{feed}", feed, given, connections, faults) for feed, given in feeds.items()]
    if rules is None:
        return None
    known = tuple(feed for feed in made if feed)
    if rules.appends and not any(feed.kind == "append" for feed in known):
        example = 'natural_key = ["buoy_code"]'
        faults.append(
            f"table.{name}.natural_key: missing; expected as in {example}; only feeds of kind 'append' need none"
        )
    else:
        faults += [f"table.{name}.feed.{each.name}.{fault}" for each in known for fault in faults_of_kind(each, rules)]
    return ProjectTable(rules, known, **places)


def _with_environment(value: Any, place: str, faults: list[str]) -> Any:
    """The declaration with ``${NAME}`` filled in everywhere."""
    if isinstance(value, dict):
        return {key: _with_environment(inner, f"{place}.{key}".lstrip("."), faults) for key, inner in value.items()}
    if isinstance(value, list):
        return [_with_environment(inner, place, faults) for inner in value]
    if not isinstance(value, str):
        return value

    def fill(match: re.Match[str]) -> str:
        found = os.environ.get(match[1])
        if found is None:
            faults.append(f"{place}: the environment variable {match[1]!r} is not set")
        return filled(value, match.start(), match.end(), found or "")

    return _ENVIRONMENT.sub(fill, value)


def _beside(store: str, folder: Path) -> str:
    """The address of a store whose relative path is resolved against the project folder."""
    kind, _, place = store.partition(":")
    return (
        f"{kind}:{folder / place}"
        if kind in ("duckdb", "sqlite", "lakehouse") and place not in {"", ":memory:"} and not place.startswith("@")
        else store
    )
