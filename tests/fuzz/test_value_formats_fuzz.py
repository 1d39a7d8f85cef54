"""Texts in declared forms, right and almost right: what passes is what Python reads in the same text."""

from __future__ import annotations

import random
import re
from collections.abc import Callable
from datetime import UTC, date, datetime, time, timedelta
from decimal import Decimal
from typing import Any

import pyarrow as pa
import pytest

import brenvik
from counts import FUZZED, SEED, tried

DATES = (
    "%d/%m/%Y", "%m/%d/%Y", "%d.%m.%y", "%Y%m%d", "%y%j", "%d %b %Y", "%B %d, %Y", "%Y-%j", "%a %d %b %Y", "%A, %d.%m.%Y",
    "100%% %d-%m-%Y",
)  # fmt: skip
HOURS = ("%H:%M", "%H.%M.%S", "%I:%M %p", "%H%M", "%H:%M:%S.%f", "%I.%M%p")
ZONES = ("%z", " %z")
PLACES = {"day": ("01", "1", "12", "29", "30", "31", "32", "0", "00", "7"), "month": ("01", "2", "02", "12", "13", "0"),
          "year": ("2024", "2023", "1999", "0999", "24", "75", "99", "9999")}  # fmt: skip
WIDTH = {"Y": 4, "j": 3}
NAMES = ("Jan", "feb", "MAR", "December", "may", "Sept", "June", "Mon", "Tuesday", "wed", "Sunday")
NUMBERS = (("0", "7", "12", "100", "1", "43", "999", "0123"), ("000", "871", "12", "1234", ""))


def moment_like(dice: random.Random, form: str) -> str:
    """A text near a form."""
    if dice.random() < 0.5:  # one that is right, or nearly
        said = datetime(
            dice.choice([1999, 2023, 2024]), dice.randint(1, 12), dice.randint(1, 28), dice.randint(0, 23), 5, 9, 120
        )
        return said.replace(tzinfo=UTC).strftime(form)

    def part(code: re.Match[str]) -> str:
        some = {"d": "day", "m": "month", "Y": "year", "y": "year"}.get(code[1])
        if some:
            return dice.choice(PLACES[some])
        if code[1] in "bBaA":
            return dice.choice(NAMES)
        words = {"p": ("am", "PM", "p"), "z": ("Z", "+02:00", "-0530", "+02", "+2", "z", ""), "f": ("5", "123456", "1234567"),
                 "j": ("1", "060", "366", "367", "0"), "%": ("%",)}  # fmt: skip
        return dice.choice(words.get(code[1], ("0", "00", "7", "12", "13", "23", "24", "59", "60")))

    return re.sub("%(.)", part, form)


def number_like(dice: random.Random, decimal: str, thousands: str) -> str:
    groups = [dice.choice(NUMBERS[0]), *(dice.choice(NUMBERS[1]) for _ in range(dice.choice([0, 0, 1, 2])))]
    said = dice.choice(["", "", "-", "+"]) + dice.choice([thousands, thousands, decimal, ""]).join(groups)
    return said + dice.choice(["", f"{decimal}5", f"{decimal}50", f"{thousands}5", decimal, "e2"])


def spoiled(dice: random.Random, said: str) -> str:
    if dice.random() < 0.1:
        at = dice.randrange(len(said) + 1)
        said = said[:at] + dice.choice(["0", "9", "-", "/", ".", "x"]) + said[at + dice.choice([0, 1]) :]
    return said


def full_width(adjoining: str) -> str:
    return rf"\d{{{sum(WIDTH.get(code, 2) for code in adjoining[1::2])}}}"


def moment(said: str, form: str) -> datetime:
    """What Python reads; but it takes any weekday, and fewer digits where it is not clear which are missing."""
    found = datetime.strptime(re.sub(r"([+-]\d\d)$", r"\g<1>00", said) if "%z" in form else said, form)
    parts = re.findall("((?:%[YymdjHMS]){2,})|%(.)|([^%]+)", form)
    assert re.fullmatch(
        "".join(full_width(run) if run else ".+" if code else re.escape(text) for run, code, text in parts), said
    )
    if "%j" in form:  # the 366th day of a shorter year would be one of the next
        assert said.startswith(f"{found.year:04}"[2 if "%y" in form else 0 :])
    for code, there in re.findall("%([aA])(?=(.))", form):
        assert there
        assert found.strftime(f"%{code}").lower() in said.lower()
    assert abs(found.utcoffset() or timedelta()) < timedelta(hours=16)
    return found.astimezone(UTC).replace(tzinfo=None) if found.tzinfo else found


def number(said: str, decimal: str, thousands: str) -> Decimal:
    sign, rest = (said[:1], said[1:]) if said[:1] in ("+", "-") else ("", said)
    whole, point, decimals = rest.partition(decimal)
    first, *others = whole.split(thousands) if thousands else [whole]
    assert first.isdigit() or (decimals and not whole)
    assert not point or decimals == "" or decimals.isdigit()
    if others:
        assert 1 <= len(first) <= 3
        assert all(each.isdigit() and 2 <= len(each) <= 3 for each in others)
        assert len(others[-1]) == 3
    found = Decimal(f"{sign}{first or 0}{''.join(others)}.{decimals or '0'}")
    assert found == round(found, 6)
    return found


def read(kind: str, formats: brenvik.ValueFormats, texts: list[str]) -> dict[int, Any]:
    rules = brenvik.TableRules("things", natural_key="no", type_1="value", types={"value": kind})
    with brenvik.open_store("duckdb::memory:") as store:
        rows = pa.table({"no": range(len(texts)), "value": texts})
        store.load(rules, rows, kind="upserts", columns=brenvik.FeedColumns(values=formats))
        return {row["no"]: row["value"] for row in store.read(rules).select(["no", "value"]).to_pylist()}


def check(kind: str, formats: brenvik.ValueFormats, texts: list[str], meant: Callable[[str], Any]) -> int:
    rows = read(kind, formats, texts)
    for at, said in enumerate(texts):
        try:
            expected = meant(said)
        except (AssertionError, ValueError, ArithmeticError):
            expected = None
        found = rows.get(at)
        assert found == expected, f"{said!r} became {found!r}, and says {expected!r}: {formats}"
    tried("duckdb", len(texts), what="fuzzed values in declared forms")
    return len(rows)


@pytest.mark.parametrize("form", DATES)
def test_dates(form: str) -> None:
    dice = random.Random(f"dates {form}{SEED}")
    texts = [spoiled(dice, moment_like(dice, form)) for _ in range(FUZZED // 20)]
    passed = check("date", brenvik.ValueFormats(date_format=form), texts, lambda said: moment(said, form).date())
    assert passed > len(texts) / 10


@pytest.mark.parametrize("form", HOURS)
def test_times(form: str) -> None:
    dice = random.Random(f"times {form}{SEED}")
    texts = [spoiled(dice, moment_like(dice, form)) for _ in range(FUZZED // 20)]

    def meant(said: str) -> time:
        return moment(said, form).time()

    assert check("time", brenvik.ValueFormats(time_format=form), texts, meant) > len(texts) / 10


@pytest.mark.parametrize("kind", ["timestamp", "timestamp with time zone"])
def test_timestamps(kind: str) -> None:
    dice = random.Random(f"timestamps {kind}{SEED}")
    for day in DATES:
        form = f"{day} {dice.choice(HOURS)}" + (dice.choice(ZONES) if dice.random() < 0.5 else "")
        texts = [spoiled(dice, moment_like(dice, form)) for _ in range(FUZZED // 50)]

        def meant(said: str, form: str = form) -> datetime:
            found = moment(said, form)
            return found.replace(tzinfo=UTC) if kind.endswith("zone") else found

        check(kind, brenvik.ValueFormats(timestamp_format=form), texts, meant)


@pytest.mark.parametrize(
    ("decimal", "thousands"), [(",", "."), (",", ""), (".", ","), (",", " "), (".", "’"), (",", "\u00a0")]
)
def test_numbers(decimal: str, thousands: str) -> None:
    dice = random.Random(f"numbers {decimal}{thousands}{SEED}")
    texts = [spoiled(dice, number_like(dice, decimal, thousands)) for _ in range(FUZZED // 10)]
    formats = brenvik.ValueFormats(decimal_mark=decimal, thousands_mark=thousands)
    assert (
        check("decimal(38,6)", formats, texts, lambda said: number(said.strip(" "), decimal, thousands))
        > len(texts) / 5
    )


def test_forms_are_tried_in_turn() -> None:
    formats = brenvik.ValueFormats(date_format=["%d/%m/%Y", "%Y%m%d"])
    found = read("date", formats, ["03/02/2024", "20240203", "2024-02-03"])
    assert found == {0: date(2024, 2, 3), 1: date(2024, 2, 3)}
