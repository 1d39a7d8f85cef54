"""Normal forms of texts: one case, single blanks, composed characters. Each character is changed by itself, as stores do it."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Container, Iterable
from typing import Literal

Difference = Literal["case", "blanks", "unicode"]
"""What can be ignored when texts are compared."""
KeyForm = Literal["lower", "upper", "blanks", "unicode"]
"""What natural keys can be brought to: one case, single blanks and none at the ends, composed characters."""
_BLANKS = re.compile("[ \t\n\r\f\v\u00a0]+")


def lower(text: str) -> str:
    if text.isascii():
        return text.lower()
    return "".join("i" if char == "İ" else char.lower() for char in text)


def upper(text: str) -> str:
    if text.isascii():
        return text.upper()
    return "".join("ẞ" if char == "ß" else _alone(char) for char in text)


def _alone(char: str) -> str:
    """The upper-case form of a character that is one character itself."""
    return next((each for each in (char.upper(), char.title()) if len(each) == 1), char)


def in_form(text: str, words: Container[str]) -> str:
    """A text in the form that words name, ``case`` as ``lower``; the same as ``merge.forms.form``."""
    if "unicode" in words:
        text = unicodedata.normalize("NFC", text)
    if "case" in words or "lower" in words:
        text = lower(text)
    if "upper" in words:
        text = upper(text)
    return _BLANKS.sub(" ", text).strip(" ") if "blanks" in words else text


def has_words(text: str, words: Iterable[str]) -> bool:
    """Whether all of some words are in a text, and not only as parts of longer ones. A short one must be quoted or bracketed: a 1
    alone says nothing."""
    return all(re.search(_as_word(word), text) for word in words)


def without_words(text: str, words: Iterable[str]) -> str:
    """A text with … in place of some words; see ``has_words``."""
    return re.sub("|".join(map(_as_word, words)), "…", text)


def _as_word(word: str) -> str:
    before, after = (r"(?<!\w)", r"(?!\w)") if len(word) > 2 else (r"(?<=[('\"])", r"(?=[)'\",])")
    return f"{before}{re.escape(word)}{after}"
