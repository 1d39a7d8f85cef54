"""The forms in which values are compared are the same in every store."""

from __future__ import annotations

import random
from decimal import Decimal
from typing import Any

import pytest

import brenvik
from brenvik.merge import sql
from brenvik.merge.forms import form
from brenvik.model.text_forms import in_form
from brenvik.model.types import parse_type
from counts import FUZZED, SEED, tried

WORDS = ("case", "lower", "upper", "blanks", "unicode", "blanks,case", "blanks,case,unicode", "upper,unicode")
CHARS = "aAbZ \t\n\r\f\v\u00a0\u2003éÉe\u0301ÆæøØßẞİıΣσςΟǅǆÿŸ\u212b\u1e9e日\U00010400\U00010428'\\%:"
NUMBERS = [0.0, -0.0, 0.5, 1.005, 2.675, -1.5, 1e15, 123456789.125, 1e300, -1e300, float("inf"), 0.1 + 0.2]


def asked(store: brenvik.Store, kind: str, ignored: Any, values: list[Any]) -> list[Any]:
    """The forms of some values as a store makes them."""
    of, untyped = parse_type(kind), store.engine.dialect == "sqlite"
    names = [f"v{n}" for n in range(len(values))]
    capabilities = store.engine.capabilities
    forms = [form(f"CAST(:{name} AS {of.sql})", of, ignored, capabilities, untyped=untyped) for name in names]
    if of.kind == "decimal":
        forms = [f"CAST({each} AS TEXT)" for each in forms]
    items = [sql.named(each, name) for each, name in zip(forms, names, strict=True)]
    (found,) = store.engine.rows(f"SELECT {', '.join(items)}", dict(zip(names, values, strict=True)))
    return [found[name] for name in names]


@pytest.mark.parametrize("words", WORDS)
def test_texts(words: str, anywhere: brenvik.Store) -> None:
    """Whatever the characters: the form is the one that Python makes of the text."""
    dice = random.Random(SEED or words)
    texts = ["".join(dice.choices(CHARS, k=dice.randint(0, 6))) for _ in range(max(FUZZED // 20, 100))]
    texts += [chr(point) for point in (*range(1, 0x250), *range(0x370, 0x530), *range(0x1E00, 0x1F00))]
    texts.remove("\u019b")  # has an upper-case form since Unicode 16, which not every store knows
    for some in (texts[start : start + 200] for start in range(0, len(texts), 200)):
        assert asked(anywhere, "text", tuple(words.split(",")), some) == [
            in_form(text, words.split(",")) for text in some
        ]
    tried(anywhere.engine.dialect, len(texts))


def test_numbers(anywhere: brenvik.Store) -> None:
    for digits in (0, 1, 2, 7):
        expected = [n if abs(n) >= 1e15 else float((n * 10.0**digits + 0.5) // 1) for n in NUMBERS]
        assert asked(anywhere, "double", digits, NUMBERS) == expected
        decimals = [Decimal(text) for text in ("0.00", "-0.01", "1.25", "-1.25", "1.15", "9999999.99", "2.50")]
        found = [Decimal(each) for each in asked(anywhere, "decimal(9,2)", digits, [str(d) for d in decimals])]
        assert found == [round_half_up(each, digits) for each in decimals]


def round_half_up(value: Decimal, digits: int) -> Decimal:
    scaled = abs(value).scaleb(digits)
    whole = int(scaled + Decimal("0.5"))
    return Decimal(whole).scaleb(-digits).copy_sign(value)
