"""The formats of text values in a feed: dates, numbers, and the words for null, true and false.

The default formats are ISO 8601 (``2024-05-13``, ``08:30:00``, and both with a blank or a ``T`` between them), numbers with a
decimal point and without thousands separators, and ``true`` and ``false``.
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
"""The codes of a format, as in C and Python, each with a regular expression for what it matches. Names of months and weekdays are
English."""
NUMBERS = frozenset("YymdjHIMSf")
_CODE = re.compile("%(.?)", re.DOTALL)
_DAY = ({"m", "b", "B", "j"}, {"d", "j"})
_HOUR = {"H", "I"}
_SAMPLE = datetime(2024, 12, 31, 17, 30)
_MARKS = (".", ",", "'", "’", "_", " ", "\u00a0", "\u202f")


@dataclass(frozen=True)
class ValueFormats:
    """The formats of a feed's text values; ``columns`` has the fields that differ, by column.

    date_format, time_format, timestamp_format
        The format of dates, times and timestamps in the % codes of C and Python, as in ``"%d/%m/%Y"``, or several that are
        tried in turn. Two-digit years are 1969 to 2068. () is ISO 8601.
    decimal_mark, thousands_mark
        The character before the decimals, and the optional one between groups of digits; '' for none.
    null_words, true_words, false_words
        Texts that mean null, true and false; only those for null are case-sensitive. (): the defaults.
    absent_words
        Texts that mean that a row does not have the column, so that the existing value is kept. Case-sensitive; not for natural
        key, order and effective time.
    trim
        Whether surrounding blanks are removed. A value that consists of blanks is then null.
    """

    date_format: str | Sequence[str] = ()
    time_format: str | Sequence[str] = ()
    timestamp_format: str | Sequence[str] = ()
    decimal_mark: str = "."
    thousands_mark: str = ""
    null_words: Sequence[str] = ()
    true_words: Sequence[str] = ()
    false_words: Sequence[str] = ()
    absent_words: Sequence[str] = ()
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
        """The formats of one column."""
        if not self.columns:
            return self
        own = {each.name: getattr(self, each.name) for each in fields(self)}
        return ValueFormats(**{**own, "columns": {}, **self.columns.get(column, {})})

    @property
    def has_marks(self) -> bool:
        """Whether numbers have other marks than a decimal point."""
        return bool(self.thousands_mark) or self.decimal_mark != "."

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
        if both := {*self.null_words} & {*self.absent_words}:
            yield f"null_words and absent_words: {', '.join(sorted(both))} would mean both"
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
"""The fields with formats, each with what they must contain; the time of a timestamp is optional."""
_WORDS = ("null_words", "true_words", "false_words", "absent_words")


def _fault_of_format(given: object, kinds: Sequence[str]) -> str:
    """What is wrong with a format; '' for a valid one."""
    if not isinstance(given, str):
        return "is not a string"
    codes = _CODE.findall(given)
    if unknown := [f"%{code}" for code in codes if code not in CODES]:
        return f"has {', '.join(unknown)}; valid codes are {', '.join(f'%{code}' for code in CODES)}"
    if twice := [f"%{code}" for code in dict.fromkeys(codes) if code != "%" and codes.count(code) > 1]:
        return f"has {', '.join(twice)} twice"
    used = set(codes)
    if "date" in kinds and not (used & {"Y", "y"} and all(used & some for some in _DAY)):
        return "lacks year, month or day; expected a format as in '%d/%m/%Y'"
    if kinds == ("time",) and not used & _HOUR:
        return "lacks the hour; expected a format as in '%H:%M'"
    if kinds == ("time",) and used & {"Y", "y", "m", "b", "B", "d", "j", "a", "A", "z"}:
        return "has more than a time of day"
    if kinds == ("date",) and used & {*_HOUR, "M", "S", "f", "p", "z"}:
        return "has more than a date"
    if ("I" in used) != ("p" in used):
        return "needs both %I and %p, or %H"
    return ""


@dataclass(frozen=True)
class FormattedText(ColumnType):
    """The type of a feed's text column with declared formats."""

    formats: ValueFormats = field(default_factory=ValueFormats)

    def formats_for(self, kind: str) -> tuple[str, ...]:
        """The declared formats for values of a kind; none for ISO 8601, and for kinds without formats."""
        name = f"{kind.partition(' ')[0]}_format"
        return tuple(getattr(self.formats, name)) if name in FORMATS else ()

    def example(self, to: ColumnType) -> str:
        """The expected format of values of a type, with an example; '' for the default format."""
        its = self.formats
        if declared := self.formats_for(to.kind):
            return " or ".join(f"{each}, as in {_example(each)}" for each in declared)
        if to.kind == "boolean" and its.true_words:
            return f"{', '.join(its.true_words)} for true, {', '.join(its.false_words)} for false"
        if to.kind in ("integer", "decimal", "double") and its.has_marks:
            whole = f"1{its.thousands_mark}234"
            return f"a number as in {whole if to.kind == 'integer' else f'{whole}{its.decimal_mark}5'}"
        return ""


def _example(of: str) -> str:
    return _SAMPLE.strftime(of.replace("%z", "+0000"))


def with_formats(kind: ColumnType, formats: ValueFormats | None) -> ColumnType:
    """The type of a feed's column, with the formats if it is text and they are not the default."""
    if formats is None or kind.kind != "text" or formats == ValueFormats():
        return kind
    return FormattedText("text", formats=formats)
