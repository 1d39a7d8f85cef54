"""How the texts of a feed are written: dates, numbers, null, true and false, where they differ from what Brenvik reads anyway.

Without a declaration a date is ``2024-05-13``, a time ``08:30:00``, a timestamp both with a blank or a ``T`` between them;
numbers have a point before their decimals and no marks between thousands; ``true`` and ``false`` are written so.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, fields
from datetime import datetime
from typing import Any

from brenvik.errors import DeclarationError
from brenvik.model.types import ColumnType

CODES = {
    "Y": r"\d{4}", "y": r"\d{2}", "m": r"\d{1,2}", "d": r"\d{1,2}", "b": r"[A-Za-z]{3}", "B": r"[A-Za-z]{3,9}", "j": r"\d{1,3}",
    "a": r"[A-Za-z]{3}", "A": r"[A-Za-z]{6,9}", "H": r"\d{1,2}", "I": r"\d{1,2}", "M": r"\d{1,2}", "S": r"\d{1,2}",
    "f": r"\d{1,6}", "p": r"[AaPp][Mm]", "z": r"(?:Z|[+-](?:0\d|1[0-5])(?::?[0-5]\d)?)", "%": "%",
}  # fmt: skip
"""The codes of a format, as in C and Python, each with a regular expression for what it reads. Months and weekdays are those of
English."""
NUMBERS = frozenset("YymdjHIMSf")
_CODE = re.compile("%(.?)", re.DOTALL)
_DAY = ({"m", "b", "B", "j"}, {"d", "j"})
_HOUR = {"H", "I"}
_SAMPLE = datetime(2024, 12, 31, 17, 30)
_MARKS = (".", ",", "'", "’", "_", " ", "\u00a0", "\u202f")


@dataclass(frozen=True)
class ValueFormats:
    """How the values of a feed's columns are written; ``columns`` has the fields that differ for some of them, by column.

    date_format, time_format, timestamp_format
        The form of dates, times and timestamps in the % codes of C and Python, as in ``"%d/%m/%Y"``, or several that are tried
        in turn. Two digits of a year are those of 1969 to 2068. () is ISO 8601.
    decimal_mark, thousands_mark
        The character before the decimals of a number, and the one that may stand between groups of its digits; '' for none.
    null_words, true_words, false_words
        Texts that mean null, true and false; case counts for null only. () leaves null to the file's format, and true and false
        as they are.
    trim
        Whether blanks around a value are removed. A value of nothing but blanks is then null.
    """

    date_format: str | Sequence[str] = ()
    time_format: str | Sequence[str] = ()
    timestamp_format: str | Sequence[str] = ()
    decimal_mark: str = "."
    thousands_mark: str = ""
    null_words: Sequence[str] = ()
    true_words: Sequence[str] = ()
    false_words: Sequence[str] = ()
    trim: bool = False
    columns: Mapping[str, Mapping[str, Any]] = field(default_factory=dict, hash=False)

    def __post_init__(self) -> None:
        for name in (*FORMATS, *_WORDS):
            given = getattr(self, name)
            object.__setattr__(self, name, (given,) if isinstance(given, str) else tuple(given or ()))
        faults = list(self._faults())
        faults += (
            fault for fault in self._faults_of_columns() if fault.partition(".")[2].partition(".")[2] not in faults
        )
        if faults:
            raise DeclarationError("The formats of a feed's values are not valid:", faults)

    def of(self, column: str) -> ValueFormats:
        """How the values of one column are written."""
        if not self.columns:
            return self
        own = {each.name: getattr(self, each.name) for each in fields(self)}
        return ValueFormats(**{**own, "columns": {}, **self.columns.get(column, {})})

    def _faults(self) -> Iterator[str]:
        for name, kinds in FORMATS.items():
            for each in getattr(self, name):
                if fault := _fault_of_format(each, kinds):
                    yield f"{name}: {each!r} {fault}"
        if self.decimal_mark not in (".", ","):
            yield f"decimal_mark: expected '.' or ',', got {self.decimal_mark!r}"
        if self.thousands_mark and self.thousands_mark not in _MARKS:
            yield f"thousands_mark: expected one of {', '.join(map(repr, _MARKS))}, got {self.thousands_mark!r}"
        if self.thousands_mark == self.decimal_mark:
            yield f"thousands_mark: must differ from decimal_mark, which is {self.decimal_mark!r}"
        for name in _WORDS:
            if not all(isinstance(word, str) for word in getattr(self, name)):
                yield f"{name}: expected strings, got {getattr(self, name)!r}"
                return
        if bool(self.true_words) != bool(self.false_words):
            yield "true_words and false_words: expected both or none"
        folded = [{word.strip().casefold() for word in words} for words in (self.true_words, self.false_words)]
        if both := folded[0] & folded[1]:
            yield f"true_words and false_words: {', '.join(sorted(both))} would mean both"
        if not isinstance(self.trim, bool):
            yield f"trim: expected true or false, got {self.trim!r}"

    def _faults_of_columns(self) -> Iterator[str]:
        for column, its in self.columns.items():
            if unknown := its.keys() - VALUES.keys():
                yield f"columns.{column}: {', '.join(sorted(unknown))} is not a valid key; valid keys are {', '.join(VALUES)}"
                continue
            try:
                self.of(column)
            except DeclarationError as error:
                yield from (f"columns.{column}.{fault}" for fault in error.faults)


VALUES = {each.name: None for each in fields(ValueFormats) if each.name != "columns"}
"""The fields that can be declared for the whole feed or for a column."""
FORMATS = {"date_format": ("date",), "time_format": ("time",), "timestamp_format": ("date", "time")}
"""The fields that hold formats, each with what its values have to tell at least; a timestamp's may lack the time."""
_WORDS = ("null_words", "true_words", "false_words")


def _fault_of_format(given: object, kinds: Sequence[str]) -> str:
    """What is wrong with a format; '' for a valid one."""
    if not isinstance(given, str):
        return "is not a string"
    codes = _CODE.findall(given)
    if unknown := [f"%{code}" for code in codes if code not in CODES]:
        return f"has {', '.join(unknown)}; valid codes are {', '.join(f'%{code}' for code in CODES)}"
    if twice := [f"%{code}" for code in dict.fromkeys(codes) if code != "%" and codes.count(code) > 1]:
        return f"has {', '.join(twice)} twice"
    told = set(codes)
    if "date" in kinds and not (told & {"Y", "y"} and all(told & some for some in _DAY)):
        return "does not tell year, month and day, as '%d/%m/%Y' does"
    if kinds == ("time",) and not told & _HOUR:
        return "does not tell the hour, as '%H:%M' does"
    if kinds == ("time",) and told & {"Y", "y", "m", "b", "B", "d", "j", "a", "A", "z"}:
        return "tells more than a time of day"
    if kinds == ("date",) and told & {*_HOUR, "M", "S", "f", "p", "z"}:
        return "tells more than a date"
    if ("I" in told) != ("p" in told):
        return "needs both %I and %p, or %H"
    return ""


@dataclass(frozen=True)
class WrittenText(ColumnType):
    """The type of a feed's text column whose values are written in a declared way."""

    formats: ValueFormats = field(default_factory=ValueFormats)

    def format_for(self, kind: str) -> tuple[str, ...]:
        """The formats for values of a kind; none where it has none, or where ISO 8601 is read."""
        name = f"{kind.partition(' ')[0]}_format"
        return tuple(getattr(self.formats, name)) if name in FORMATS else ()

    def example(self, to: ColumnType) -> str:
        """What a value of a type looks like here: the form and an example; '' where nothing special is declared for the type."""
        its = self.formats
        if forms := self.format_for(to.kind):
            return " or ".join(f"{form}, as in {_example(form)}" for form in forms)
        if to.kind == "boolean" and its.true_words:
            return f"{', '.join(its.true_words)} for true, {', '.join(its.false_words)} for false"
        if to.kind in ("integer", "decimal", "double") and (its.thousands_mark or its.decimal_mark != "."):
            whole = f"1{its.thousands_mark}234"
            return f"a number as in {whole if to.kind == 'integer' else f'{whole}{its.decimal_mark}5'}"
        return ""


def _example(form: str) -> str:
    return _SAMPLE.strftime(form.replace("%z", "+0000"))


def written(kind: ColumnType, formats: ValueFormats | None) -> ColumnType:
    """The type of a feed's column whose texts are written so."""
    if formats is None or kind.kind != "text" or formats == ValueFormats():
        return kind
    return WrittenText("text", formats=formats)
