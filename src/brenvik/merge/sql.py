"""The building blocks of all SQL, and how the text becomes a statement that a store runs."""

from __future__ import annotations

import re
from collections.abc import Iterable
from functools import lru_cache

WORK = "brenvik_work_"
"""Prefix of all working relations; each run replaces it with a prefix of its own."""

_PARAMETER = re.compile(r"""'(?:[^']|'')*'|"(?:[^"]|"")*"|::|:([a-z_][a-z_0-9]*)""")


def quote(name: str) -> str:
    """The only place where an identifier is quoted."""
    return '"' + name.replace('"', '""') + '"'


def literal(text: str) -> str:
    """A constant of ours as a literal; values from feeds and users are always bound."""
    return "'" + text.replace("'", "''") + "'"


def member(name: str) -> str:
    """The JSON pointer (RFC 6901) of a member of an object."""
    return "/" + name.replace("~", "~0").replace("/", "~1")


def relation(name: str) -> str:
    """A table's name, quoted part by part: ``mart.buoy`` is the table buoy in the schema mart."""
    return ".".join(quote(part) for part in name.split("."))


def work(name: str) -> str:
    """The quoted name of a working relation."""
    return quote(WORK + name)


def columns(names: Iterable[str], alias: str = "", prefix: str = "") -> str:
    """``alias."a", alias."b"``, each preceded by ``prefix``."""
    dot = f"{alias}." if alias else ""
    return ", ".join(f"{prefix}{dot}{quote(name)}" for name in names)


def listed(*parts: str, sep: str = ",\n  ") -> str:
    """The parts that are not empty, joined by ``sep``."""
    return sep.join(part for part in parts if part)


def same(left: str, right: str, names: Iterable[str]) -> str:
    """Whether two rows agree in columns that are never null; unknown where one is null."""
    return " AND ".join(f"{left}.{quote(name)} = {right}.{quote(name)}" for name in names)


def alike(left: str, right: str, names: Iterable[str]) -> str:
    """Whether two rows agree, where null equals null and NaN equals NaN."""
    tests = [f"{left}.{quote(name)} IS NOT DISTINCT FROM {right}.{quote(name)}" for name in names]
    return " AND ".join(tests) or "1 = 1"


def any_of(tests: Iterable[str]) -> str:
    found = [test for test in tests if test]
    return "(" + " OR ".join(found) + ")" if found else "1 = 0"


def differ(pairs: Iterable[tuple[str, str]]) -> str:
    """Whether any of the pairs of expressions differs; null counts as a value."""
    return any_of(f"{left} IS DISTINCT FROM {right}" for left, right in pairs)


def flag(test: str) -> str:
    """A test as 0 or 1; unknown counts as 0."""
    return f"CASE WHEN {test} THEN 1 ELSE 0 END"


@lru_cache(maxsize=4096)
def in_place(text: str, parameter: str) -> str:
    """A statement for a store that reads the core's dialect: each parameter ``:name`` in the driver's form, such as ``$name`` or
    ``%(name)s``; for the latter every percent sign in the text is doubled."""
    if "%" in parameter:
        text = text.replace("%", "%%")
    return _PARAMETER.sub(lambda found: parameter.replace("name", found[1]) if found[1] else found[0], text).strip()


@lru_cache(maxsize=4096)
def translate(text: str, dialect: str, *, flavour: str = "postgres", pretty: bool = False) -> str:
    """A statement in another dialect; ``pretty`` formats it for people."""
    import sqlglot  # a load into most stores does without

    (statement,) = sqlglot.transpile(text, read=flavour, write=dialect, identify=True, pretty=pretty)
    return statement


def of_work(statement: str, prefix: str) -> str:
    """A statement whose working relations have the prefix of a run."""
    return statement.replace(f'"{WORK}', f'"{prefix}')
