"""The building blocks of all SQL, and how the text becomes a statement that a store runs."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from functools import lru_cache

WORK = "brenvik_work_"
"""Prefix of all working relations; each run replaces it with a prefix of its own."""
_CLAUSES = {"SELECT", "SELECT DISTINCT", "WHERE", "GROUP BY", "ORDER BY", "SET", "HAVING", "QUALIFY"}
_WIDTH = 110
"""The width of statements for people, in characters."""

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


def named(value: str, name: str) -> str:
    """A select item: a value under a name, which a column of that name has already."""
    return value if value.split(".", 1)[-1] == quote(name) else f"{value} AS {quote(name)}"


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


def total(value: str) -> str:
    """The sum of whole numbers over all rows; 0 where there are none."""
    return f"CAST(COALESCE(sum({value}), 0) AS BIGINT)"


def count_if(test: str) -> str:
    """The number of rows for which a test holds."""
    return f"count(CASE WHEN {test} THEN 1 END)"


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
    from sqlglot import exp

    tree = sqlglot.parse_one(text, read=flavour)
    if pretty:
        for node in tree.find_all(exp.Paren):
            while isinstance(node.this, exp.Paren):
                node.set("this", node.this.this)
    statement = tree.sql(dialect=dialect, identify=True, pretty=pretty, max_text_width=_WIDTH)
    return filled(statement) if pretty else statement


def tables_of(query: str, dialect: str) -> set[str]:
    """The names of the tables that a query in a dialect reads, as far as it can be parsed."""
    import sqlglot
    from sqlglot import exp
    from sqlglot.errors import SqlglotError

    try:
        tree = sqlglot.parse_one(query, read=dialect)
    except SqlglotError:
        return set()
    return {".".join(part.name for part in table.parts) for table in tree.find_all(exp.Table)}


def filled(statement: str) -> str:
    """A pretty statement in fewer lines: what belongs together is on one, as far as it fits."""
    lines: list[str] = []
    for line in statement.split("\n"):
        lines.append(line)
        while len(lines) > 1 and (joined := _joined(lines)):
            lines = [*lines[: -joined[0]], joined[1]]
    return "\n".join(lines)


def _joined(lines: Sequence[str]) -> tuple[int, str] | None:
    """How many of the last lines become one, and which; None where they stay as they are."""
    *_, before, last = lines
    item, depth = last.lstrip(), _depth(last)
    whole = all(each.count("(") == each.count(")") and " CASE " not in f" {each} " for each in (before, item))
    of_clause = before.lstrip().startswith(("SELECT ", "SET ")) and depth == _depth(before) + 2
    same_list = before.endswith(",") and (depth == _depth(before) or of_clause) and whole
    case = (
        item.startswith(("THEN ", "ELSE "))
        and before.lstrip().startswith(("WHEN ", "THEN "))
        and depth == _depth(before)
    )
    clause = before.lstrip() in _CLAUSES and depth > _depth(before)
    first = lines[-3] if len(lines) > 2 and _depth(lines[-3]) == depth else ""
    if same_list or case or clause:
        found = 2, f"{before} {item}"
    elif item.startswith(")") and first.endswith("("):
        found = 3, f"{first}{before.lstrip()}{item}"
    elif item.startswith("END") and first.endswith("CASE"):
        found = 3, f"{first} {before.lstrip()} {item}"
    else:
        return None
    return found if len(found[1]) <= _WIDTH else None


def _depth(line: str) -> int:
    return len(line) - len(line.lstrip())


def of_work(statement: str, prefix: str) -> str:
    """A statement whose working relations have the prefix of a run."""
    return statement.replace(f'"{WORK}', f'"{prefix}')
