"""The few macros the stages are written with, and how their text becomes a statement that a store runs."""

from __future__ import annotations

import re
from collections.abc import Iterable
from functools import lru_cache

WORK = "brenvik_work_"
"""Prefix of the working tables of a load; replaced by one of the load's own after compiling."""

_PARAMETER = re.compile(r"""'(?:[^']|'')*'|"(?:[^"]|"")*"|::|:([a-z_][a-z_0-9]*)""")


def quote(name: str) -> str:
    """The only place where an identifier is quoted."""
    return '"' + name.replace('"', '""') + '"'


def literal(text: str) -> str:
    """A text of ours as a value; values of feeds and people are bound."""
    return "'" + text.replace("'", "''") + "'"


def member(name: str) -> str:
    """The JSON pointer (RFC 6901) of a member of an object."""
    return "/" + name.replace("~", "~0").replace("/", "~1")


def relation(name: str) -> str:
    """A table's name, quoted part by part: ``mart.buoy`` is the table buoy in the schema mart."""
    return ".".join(quote(part) for part in name.split("."))


def work(name: str) -> str:
    """The name of a working table."""
    return quote(WORK + name)


def columns(names: Iterable[str], alias: str = "", prefix: str = "") -> str:
    """``alias."a", alias."b"``, each preceded by ``prefix``."""
    dot = f"{alias}." if alias else ""
    return ", ".join(f"{prefix}{dot}{quote(name)}" for name in names)


def listed(*parts: str, sep: str = ",\n  ") -> str:
    """The parts that are not empty, one a line."""
    return sep.join(part for part in parts if part)


def same(left: str, right: str, names: Iterable[str]) -> str:
    """Whether two rows agree in columns that are never null; where one is, it cannot be told."""
    return " AND ".join(f"{left}.{quote(name)} = {right}.{quote(name)}" for name in names)


def alike(left: str, right: str, names: Iterable[str]) -> str:
    """Whether two rows agree, where null equals null and NaN equals NaN."""
    tests = [f"{left}.{quote(name)} IS NOT DISTINCT FROM {right}.{quote(name)}" for name in names]
    return " AND ".join(tests) or "1 = 1"


def any_of(tests: Iterable[str]) -> str:
    found = [test for test in tests if test]
    return "(" + " OR ".join(found) + ")" if found else "1 = 0"


def differ(pairs: Iterable[tuple[str, str]]) -> str:
    """Whether any of the pairs of expressions differs; nulls are values here."""
    return any_of(f"{left} IS DISTINCT FROM {right}" for left, right in pairs)


def flag(test: str) -> str:
    """A test as 0 or 1; null counts as 0."""
    return f"CASE WHEN {test} THEN 1 ELSE 0 END"


@lru_cache(maxsize=4096)
def in_place(text: str, parameter: str) -> str:
    """A statement for a store that reads the flavour of the core: the value ``:name`` in a form like ``$name`` or
    ``%(name)s``, in which each percent sign of the text itself is doubled."""
    if "%" in parameter:
        text = text.replace("%", "%%")
    return _PARAMETER.sub(lambda found: parameter.replace("name", found[1]) if found[1] else found[0], text).strip()


@lru_cache(maxsize=4096)
def translate(text: str, dialect: str, *, flavour: str = "postgres", pretty: bool = False) -> str:
    """A statement in another dialect, or ``pretty`` for people."""
    import sqlglot  # a load into most stores does without

    (statement,) = sqlglot.transpile(text, read=flavour, write=dialect, identify=True, pretty=pretty)
    return statement


def of_work(statement: str, prefix: str) -> str:
    """A statement whose working tables are named with the prefix of a load."""
    return statement.replace(f'"{WORK}', f'"{prefix}')
