"""Detects the formats of the values in a file: dates, numbers, words for null, true and false, surrounding blanks."""

from __future__ import annotations

import itertools
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import duckdb

from brenvik.merge import sql
from brenvik.merge.value_formats import INVALID, canonical_text
from brenvik.model.types import parse_type
from brenvik.model.value_formats import FormattedText, ValueFormats
from brenvik.project import toml

_DAYS = (
    "%d/%m/%Y", "%m/%d/%Y", "%d.%m.%Y", "%d-%m-%Y", "%m-%d-%Y", "%d/%m/%y", "%m/%d/%y", "%d.%m.%y", "%Y/%m/%d", "%Y.%m.%d",
    "%d %b %Y", "%d-%b-%Y", "%d-%b-%y", "%b %d, %Y", "%d %B %Y", "%B %d, %Y",
)  # fmt: skip
_HOURS = ("%H:%M", "%H:%M:%S", "%H:%M:%S.%f", "%I:%M %p", "%I:%M:%S %p", "%H.%M")
FORMATS = {
    "date": _DAYS,
    "timestamp": tuple(f"{day} {hour}" for day, hour in itertools.product(_DAYS, _HOURS)),
}
_MARKS = (
    (",", "."),
    (",", ""),
    (".", ","),
    (",", " "),
    (",", "\u00a0"),
    (",", "\u202f"),
    (".", " "),
    (".", "’"),
    (".", "'"),
)
"""Decimal and thousands marks."""
_TRUTH = (
    ("J", "N"), ("Ja", "Nein"), ("Ja", "Nei"), ("Ja", "Nej"), ("Ja", "Nee"), ("O", "N"), ("Oui", "Non"), ("S", "N"), ("Sí", "No"),
    ("Si", "No"), ("Sim", "Não"), ("Vrai", "Faux"), ("Wahr", "Falsch"), ("Y", "N"), ("Yes", "No"), ("On", "Off"),
)  # fmt: skip
_NULLS = ("NULL", "null", "Null", "N/A", "n/a", "#N/A", "NA", "\\N", "(null)", "None", "none", "nan", "NaN", "-", "--")
_CERTAIN = frozenset(("NULL", "null", "Null", "#N/A", "\\N", "(null)"))
"""Words that mean null even in a column of names."""
_ENOUGH, _FIRST = 0.9, 300


@dataclass
class Found:
    """The detected formats: fields of ``ValueFormats`` for the feed, and those that differ by column; the types of columns that
    are valid only in these formats; and the possible formats of columns whose values fit several."""

    feed: dict[str, Any] = field(default_factory=dict)
    columns: dict[str, dict[str, Any]] = field(default_factory=dict)
    kinds: dict[str, str] = field(default_factory=dict)
    unclear: dict[str, tuple[str, ...]] = field(default_factory=dict)

    @property
    def open(self) -> dict[str, str]:
        """The columns of dates and timestamps with several possible formats, each with its type."""
        return {
            name: next(kind for kind, each in FORMATS.items() if formats[0] in each)
            for name, formats in self.unclear.items()
            if "%" in formats[0]
        }

    @property
    def formats(self) -> ValueFormats:
        return ValueFormats(**self.feed, columns=self.columns)

    def canonical_text(self, column: str) -> str:
        """An expression for the canonical text of a column."""
        formats, value = self.formats.of(column), sql.quote(column)
        if formats == ValueFormats():
            return value
        return canonical_text(value, FormattedText("text", formats=formats), parse_type(self.kinds.get(column, "text")))


def find_formats(work: duckdb.DuckDBPyConnection, rows: str, columns: Sequence[str]) -> Found:
    """The formats of text columns of a relation, as far as they are not the default."""
    found = Found()
    if not columns:
        return found
    looked = {name: _look(work, rows, name) for name in columns}
    if any(its["blanks"] for its in looked.values()):
        found.feed["trim"] = True
    words = [
        word for word in _NULLS
        if any(word in its["nulls"] and (word in _CERTAIN or _special(its) or its["plain"]) for its in looked.values())
    ]  # fmt: skip
    if words:
        found.feed["null_words"] = words
    _find_times(looked, found)
    _find_numbers(looked, found)
    _find_truth(looked, found)
    return found


def _look(work: duckdb.DuckDBPyConnection, rows: str, name: str) -> dict[str, Any]:
    """About the values of a column: the words for null among them, how many have surrounding blanks, and the formats that nine of
    ten of the others are in."""
    value = f"trim({sql.quote(name)}, ' ' || chr(9) || chr(160))"
    ((nulls, blanks),) = work.execute(
        f"SELECT list(DISTINCT {value}) FILTER (WHERE {value} IN ({_listed(_NULLS)})), "
        f"count(*) FILTER (WHERE {value} <> {sql.quote(name)}) FROM {rows}"
    ).fetchall()
    there = f"SELECT DISTINCT {value} AS v FROM {rows} WHERE {value} <> '' AND {value} NOT IN ({_listed(_NULLS)})"
    possible = _passed(work, f"{there} LIMIT {_FIRST}", _tests())  # rules out most formats
    fits = _passed(work, there, possible)
    ((words,),) = work.execute(f"SELECT list(DISTINCT lower(v)) FROM ({there} LIMIT 10)").fetchall()
    return {
        "nulls": set(nulls or ()),
        "blanks": blanks,
        "words": set(words or ()),
        "plain": ("plain", "") in fits,
        "date": [each for kind, each in fits if kind == "date"],
        "timestamp": [each for kind, each in fits if kind == "timestamp"],
        "number": [marks for kind, marks in fits if kind == "number"],
    }


_Tests = dict[tuple[str, Any], str]


def _tests() -> _Tests:
    """A test of a value ``v`` for each format, by kind and format."""
    tests: _Tests = {("plain", ""): _is_plain("v")}
    for kind, formats in FORMATS.items():
        for each in formats:
            tests[kind, each] = _is_read("v", kind, **{f"{kind}_format": each})
    for marks in _MARKS:
        tests["number", marks] = _is_read("v", "decimal(38,10)", decimal_mark=marks[0], thousands_mark=marks[1])
    return tests


def _passed(work: duckdb.DuckDBPyConnection, values: str, tests: _Tests) -> _Tests:
    """The tests that nine of ten values pass; none where there is no value."""
    counts = "".join(f", count(*) FILTER (WHERE {test})" for test in tests.values())
    ((count, *passed),) = work.execute(f"SELECT count(*){counts} FROM ({values})").fetchall()
    return {each: tests[each] for each, n in zip(tests, passed, strict=True) if count and n >= _ENOUGH * count}


def _listed(words: Iterable[str]) -> str:
    return ", ".join(map(sql.literal, words))


def _is_read(value: str, kind: str, **formats: str) -> str:
    of = FormattedText("text", formats=ValueFormats(**formats))  # type: ignore[arg-type]
    return f"{canonical_text(value, of, parse_type(kind))} <> {INVALID}"


def _is_plain(value: str) -> str:
    """Whether a value is a number, a date or a timestamp in the default format."""
    return rf"regexp_full_match({value}, '[+-]?(\d+(\.\d*)?|\.\d+)([eE][+-]?\d+)?|\d{{4}}-\d\d-\d\d([ T]\d.*)?')"


def _special(its: Mapping[str, Any]) -> bool:
    """Whether the values of a column look like dates or numbers."""
    return bool(its["date"] or its["timestamp"] or its["number"])


def _find_times(looked: Mapping[str, Mapping[str, Any]], found: Found) -> None:
    special = {
        kind: {name: its[kind] for name, its in looked.items() if its[kind] and not its["plain"]} for kind in FORMATS
    }
    days = {
        formats[0].partition(" %H")[0].partition(" %I")[0]
        for of in special.values()
        for formats in of.values()
        if len(formats) == 1
    }
    for kind, of in special.items():
        candidates = {
            name: [each for each in formats if any(each.startswith(day) for day in days)] or formats
            for name, formats in of.items()
        }
        sure = Counter(formats[0] for formats in candidates.values() if len(formats) == 1)
        usual = sure.most_common(1)[0][0] if sure else None
        if usual:
            found.feed[f"{kind}_format"] = usual
        for name, formats in candidates.items():
            if usual in formats:
                found.kinds[name] = kind
            elif len({each.replace("%B", "%b") for each in formats}) == 1:  # May is both
                found.kinds[name] = kind
                found.columns.setdefault(name, {})[f"{kind}_format"] = formats[0] if len(formats) == 1 else formats
            else:
                found.unclear[name] = tuple(formats)


def _find_numbers(looked: Mapping[str, Mapping[str, Any]], found: Found) -> None:
    numbers = {
        n: its["number"]
        for n, its in looked.items()
        if its["number"] and n not in found.kinds and n not in found.unclear
    }
    marked = {name: fits for name, fits in numbers.items() if not looked[name]["plain"]}
    if not marked:
        return
    votes = Counter(marks for fits in marked.values() for marks in fits)
    others = Counter(marks for fits in numbers.values() for marks in fits)
    best = max((votes[marks], others[marks]) for marks in _MARKS)
    possible = [marks for marks in _MARKS if (votes[marks], others[marks]) == best]
    if len({decimal for decimal, _ in possible}) > 1:  # 1,234 alone may be either
        found.unclear |= dict.fromkeys(marked, ("1,234.5", "1234,5"))
        return
    usual = possible[0]
    found.feed |= {"decimal_mark": usual[0], "thousands_mark": usual[1]}
    for name, fits in numbers.items():
        its = usual if usual in fits else fits[0]
        if usual not in fits and looked[name]["plain"]:
            its = (".", "")
        found.kinds[name] = "decimal(38,10)"
        if its != usual:
            found.columns.setdefault(name, {}).update(decimal_mark=its[0], thousands_mark=its[1])
    found.feed = {name: value for name, value in found.feed.items() if (name, value) not in _DEFAULTS}


_DEFAULTS = (("decimal_mark", "."), ("thousands_mark", ""))


def _find_truth(looked: Mapping[str, Mapping[str, Any]], found: Found) -> None:
    true: dict[str, None] = {}
    false: dict[str, None] = {}
    for name, its in looked.items():
        pair = next((p for p in _TRUTH if its["words"] == {word.lower() for word in p}), None)
        if pair:
            found.kinds[name] = "boolean"
            true[pair[0]] = false[pair[1]] = None
    if true:
        found.feed |= {"true_words": [*true], "false_words": [*false]}


def format_lines(section: str, its: Found, found: list[str]) -> list[str]:
    """The section of a declaration with the formats of values, if any; what was found is added to ``found``."""
    lines = [f"{name} = {toml.value(value)}" for name, value in its.feed.items()]
    if its.feed:
        found.append(f"formats of values: {', '.join(its.feed)}")
    if its.columns:
        entries = (f"{toml.key(name)} = {toml.value(fields)}" for name, fields in its.columns.items())
        lines.append(f"columns = {{ {', '.join(entries)} }}")
        found.append(f"{', '.join(its.columns)} in other formats than the rest")
    for name, formats in its.unclear.items():
        if name in its.open:
            kind = "date_format" if its.open[name] == "date" else "timestamp_format"
            one, other = map(toml.value, formats[:2])
            lines.append(f"# {kind} = {one}       # or {other}: the values of {name} fit both; choose one")
            found.append(f"{name} may be {' or '.join(formats)}: choose one in the declaration, then declare its type")
        else:
            lines.append(
                f'# decimal_mark = ","       # or thousands_mark = ",": the values of {name} fit both; choose one'
            )
            found.append(f"{name} has numbers as in {' or '.join(formats)}: choose one in the declaration")
    return ["", f"{section}       # the formats of text values", *lines] if lines else []
