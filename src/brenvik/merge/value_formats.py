"""Text values in declared formats, converted to canonical text: ISO 8601, a decimal point, ``true``, null.

Everything is in DuckDB's dialect, as in ``casts``.
"""

from __future__ import annotations

import re
from collections.abc import Iterable

from brenvik.merge import sql
from brenvik.model.types import ColumnType
from brenvik.model.value_formats import CODES, NUMBERS, FormattedText

INVALID = "'?'"
"""The canonical text of a value that is not in the declared format: no cast accepts it."""
BLANKS = " \t\r\n\v\f\u00a0\u2007\u202f\u3000"
"""The characters that ``trim`` removes."""
_BLANKS = sql.literal(BLANKS)
_PART = re.compile("%(.)|([^%]+)", re.DOTALL)


def canonical_text(value: str, of: FormattedText, to: ColumnType) -> str:
    """An expression for the canonical text of a value: null for a word that means null or absent, ``INVALID`` for a text that is
    not in the declared format."""
    formats, text = of.formats, value
    if formats.trim:  # an empty text that is quoted stays one
        text = f"CASE WHEN {text} = '' THEN '' ELSE nullif(trim({text}, {_BLANKS}), '') END"
    if none := (*formats.null_words, *formats.absent_words):
        text = f"CASE WHEN {text} NOT IN ({_listed(none)}) THEN {text} END"
    if several := of.formats_for(to.kind):
        read = ", ".join(_moment(text, each, to) for each in several)
    elif to.kind == "boolean" and formats.true_words:
        word = f"lower(trim({text}, {_BLANKS}))"
        words = ((formats.true_words, "'true'"), (formats.false_words, "'false'"))
        cases = (f"WHEN {word} IN ({_listed(w.strip().lower() for w in given)}) THEN {means}" for given, means in words)
        read = f"CASE {' '.join(cases)} END"
    elif to.kind in ("integer", "decimal", "double") and formats.has_marks:
        read = _number(text, formats.decimal_mark, formats.thousands_mark, to)
    else:
        return text
    return f"CASE WHEN {text} IS NOT NULL THEN COALESCE({read}, {INVALID}) END"


def _listed(words: Iterable[str]) -> str:
    return ", ".join(map(sql.literal, words))


def _number(text: str, decimal: str, thousands: str, to: ColumnType) -> str:
    """A number without thousands marks and with a decimal point; null if it is not in the format."""
    point, group = re.escape(decimal), re.escape(thousands)
    whole = rf"(\d+|\d{{1,3}}({group}\d{{2,3}})*{group}\d{{3}})" if thousands else r"\d+"
    words = "|(?i:inf(inity)?|nan)" if to.kind == "double" else ""
    written = rf"\s*[+-]?(({whole}({point}\d*)?|{point}\d+)([eE][+-]?\d+)?{words})\s*"
    plain = f"replace({text}, {sql.literal(thousands)}, '')" if thousands else text
    plain = f"replace({plain}, {sql.literal(decimal)}, '.')" if decimal != "." else plain
    return f"CASE WHEN regexp_full_match({text}, {sql.literal(written)}) THEN {plain} END"


def _moment(text: str, declared: str, to: ColumnType) -> str:
    """A date, time or timestamp in ISO 8601, in UTC if the format has a zone; null if it is not in the format."""
    pattern = sql.literal(_pattern(declared))
    local = moment = f"try_strptime({text}, {sql.literal(declared)})"
    before, zone, after = declared.partition("%z") if "%z" in declared.replace("%%", "") else (declared, "", "")
    if zone:
        moment = f"try_strptime(replace({text}, 'Z', '+00'), {sql.literal(declared)})"  # the parser knows no Z
        moment = f"timezone('UTC', {moment})"
        parts = sql.literal(f"({_pattern(before)}){CODES['z']}({_pattern(after)})")
        local = f"try_strptime(regexp_replace({text}, {parts}, '\\1\\2'), {sql.literal(before + after)})"
    tests = [f"regexp_full_match({text}, {pattern})"]
    for code in ("a", "A", "j"):  # the parser takes any weekday, and the 366th day of every year
        if f"%{code}" in declared.replace("%%", ""):
            found = f"regexp_extract({text}, {sql.literal(_pattern(declared, group=code))}, 1)"
            is_same = f"CAST({found} AS INTEGER) = dayofyear({local})"
            tests.append(is_same if code == "j" else f"lower({found}) = lower(strftime({local}, '%{code}'))")
    iso = {"date": "%Y-%m-%d", "time": "%H:%M:%S.%f"}.get(to.kind, "%Y-%m-%d %H:%M:%S.%f")
    written = f"strftime({moment}, '{iso}')" + (" || 'Z'" if zone else "")
    return f"CASE WHEN {' AND '.join(tests)} THEN {written} END"


def _pattern(declared: str, *, group: str = "") -> str:
    """A regular expression for a format, in which one code is a group. Adjacent numbers must have all of their digits."""
    parts, there = [], _PART.findall(declared)
    for place, (code, literal) in enumerate(there):
        part = CODES[code] if code else re.escape(literal)
        beside = [each for each, _ in (*there[max(place - 1, 0) : place], *there[place + 1 : place + 2])]
        if code in NUMBERS and any(each in NUMBERS for each in beside):
            part = part.replace("{1,", "{")
        parts.append(f"({part})" if code and code == group else part)
    return "".join(parts)
