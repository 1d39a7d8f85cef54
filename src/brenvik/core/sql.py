"""The few macros the stages are written with, and the one door to sqlglot."""

from __future__ import annotations

from collections.abc import Iterable
from functools import lru_cache

import sqlglot
import sqlglot.dialects.duckdb  # else brought in by the first statement of the first load
import sqlglot.dialects.postgres

WORK = "brenvik_work_"
"""Prefix of the working tables of a load; replaced by one of the load's own after compiling."""


def quote(name: str) -> str:
    """The only place where an identifier is quoted."""
    return '"' + name.replace('"', '""') + '"'


def literal(text: str) -> str:
    """A text of ours as a value; values of feeds and people are bound."""
    return "'" + text.replace("'", "''") + "'"


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
    """Whether two rows agree in columns that are never null."""
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
def _transpile(text: str, dialect: str, flavour: str, pretty: bool = False) -> str:
    (statement,) = sqlglot.transpile(text, read=flavour, write=dialect, identify=True, pretty=pretty)
    return statement


def compile_for(
    text: str, dialect: str, *, work_prefix: str = WORK, flavour: str = "postgres", pretty: bool = False
) -> str:
    """One statement in the dialect of a store, its working tables named with ``work_prefix``; ``pretty`` for people."""
    return as_written(_transpile(text, dialect, flavour, pretty), work_prefix)


def as_written(text: str, work_prefix: str) -> str:
    """A statement that is in the dialect it is run in already, its working tables named with ``work_prefix``."""
    return text.replace(f'"{WORK}', f'"{work_prefix}')
