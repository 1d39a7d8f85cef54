"""A condition means the same in every store, where rows come in and where they stand: what Python makes of it."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from contextlib import ExitStack
from datetime import UTC, date, datetime, time
from decimal import Decimal
from operator import ge, le
from typing import Any

import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st
from stores import fresh_store

import brenvik
from brenvik.engines.protocol import Engine
from brenvik.merge import conditions
from brenvik.merge.resolve import resolve
from brenvik.model.conditions import columns_of
from brenvik.model.types import parse_type
from counts import STORES

TYPES = {
    "no": "integer", "depth": "integer", "lat": "double", "mass": "decimal(9,2)", "id": "decimal(30,4)", "name": "text",
    "gone": "boolean", "day": "date", "seen": "timestamp", "told": "timestamp with time zone", "hour": "time",
}  # fmt: skip
OF = {
    "depth": [7, -7, 0, 2, 3, None],
    "lat": [60.5, -2.5, 0.0, 0.1, 7.0, None],
    "mass": [Decimal("2.50"), Decimal("-2.50"), Decimal("0.00"), Decimal("1234567.89"), Decimal("7.00"), None],
    "id": [*map(Decimal, ("12345678901234567890.0001", "-1.0000", "12345678901234567890.0000", "2.5000", "7.0000")), None],
    "name": ["Bøye", " ab ", "", "AB", "ÅSE", None],
    "gone": [True, False, True, False, True, None],
    "day": [date(2024, 1, day) for day in range(1, 6)] + [None],
    "seen": [datetime(2024, 1, day, hour) for day, hour in ((1, 0), (1, 8), (2, 0), (3, 0), (31, 23))] + [None],
    "told": [datetime(2024, 1, day, hour, tzinfo=UTC) for day, hour in ((1, 0), (1, 8), (2, 0), (3, 0), (31, 23))] + [None],
    "hour": [time(8), time(0), time(23, 59), time(8, 0, 0, 500000), time(12), None],
}  # fmt: skip
ROWS = [{"no": no, **{name: OF[name][no] for name in OF}} for no in range(6)]

Value = Callable[[dict[str, Any]], Any]
Part = tuple[str, Value]


def known(*parts: Part, do: Callable[..., Any]) -> Value:
    """Null where any of the parts is."""

    def value(row: dict[str, Any]) -> Any:
        found = [part[1](row) for part in parts]
        return None if any(each is None for each in found) else do(*found)

    return value


def column(name: str) -> Part:
    return name, lambda row: row[name]


def literal(text: str, value: Any) -> Part:
    return text, lambda row: value


def choices(kind: str) -> st.SearchStrategy[Part]:
    """Columns of a kind, and values as a person writes them."""
    quoted = {
        "text": ["Bøye", "ab", "", "B", "it''s", ":x", "100%"],
        "date": ["2024-01-02", "2023-12-31"],
        "seen": ["2024-01-02", "2024-01-01 08:00", "2024-01-01T08:00:00.5", "2024-01-31 23:00:00"],
        "told": ["2024-01-01 09:00:00+01:00", "2024-01-02 00:00:00Z", "2024-01-31 23:00:00.000+00:00"],
        "hour": ["08:00", "08:00:00.5", "23:59:00", "00:00"],
    }
    read: dict[str, Callable[[str], Any]] = {
        "text": lambda said: said.replace("''", "'"),
        "date": date.fromisoformat,
        "seen": datetime.fromisoformat,
        "told": datetime.fromisoformat,
        "hour": time.fromisoformat,
    }
    names = {"text": ["name"], "date": ["day"]}.get(kind, [kind])
    written = [literal(f"'{said}'", read[kind](said)) for said in quoted[kind]]
    return st.sampled_from([*map(column, names), *map(column, names), *written, literal("null", None)])


WHOLE: st.SearchStrategy[Part] = st.sampled_from(
    [
        column("depth"),
        column("no"),
        *(literal(str(n), n) for n in (0, 2, 7, -7, 4_000_000_000)),
        literal("'3'", 3),
        literal("null", None),
    ]
)
EXACT: st.SearchStrategy[Part] = WHOLE | st.sampled_from(
    [
        *map(column, ("mass", "id")),
        *(literal(n, Decimal(n)) for n in ("2.5", "2.50", "-2.5", "0.1", "12345678901234567890.0001", "7.0", "1e3")),
        literal("'2.5'", Decimal("2.5")),
    ]
)


def calculated(part: st.SearchStrategy[Part]) -> st.SearchStrategy[Part]:
    """Whole numbers give whole numbers, others are calculated with as floating point numbers."""

    def whole(*values: Any) -> bool:
        return all(isinstance(value, int) for value in values)

    def do(sign: str, left: Any, right: Any) -> Any:
        if not whole(left, right) or sign == "/":
            left, right = float(left), float(right)
        if sign == "/":
            return None if right == 0 else left / right
        return left + right if sign == "+" else left - right if sign == "-" else left * right

    def combined(both: tuple[Part, str, Part]) -> Part:
        left, sign, right = both
        return f"({left[0]} {sign} {right[0]})", known(left, right, do=lambda a, b: do(sign, a, b))

    def rest(both: tuple[Part, Part]) -> Part:
        left, right = both
        return f"({left[0]} % {right[0]})", known(left, right, do=lambda a, b: math.fmod(a, b) if b else None)

    def alone(one: Part) -> Part:
        return f"abs({one[0]})", known(one, do=lambda a: abs(a) if whole(a) else abs(float(a)))

    return (
        st.tuples(part, st.sampled_from("+-*/"), part).map(combined)
        | st.tuples(WHOLE, WHOLE).map(rest)
        | part.map(alone)
    )


# A text in quotes is a number only beside one: never two of them together.
FLOATING = st.just(column("lat")) | st.just(("cast('2.5' as double precision)", lambda row: 2.5))
NUMBER = st.one_of(EXACT, FLOATING, calculated(EXACT.filter(lambda part: "'" not in part[0]) | FLOATING))


def texts() -> st.SearchStrategy[Part]:
    plain = choices("text")

    def cut(both: tuple[Part, int]) -> Part:
        part, many = both
        return f"left({part[0]}, {many})", known(part, do=lambda a: a[:many])

    def last(both: tuple[Part, int]) -> Part:
        part, many = both
        return f"right({part[0]}, {many})", known(part, do=lambda a: a[-many:])

    def inner(three: tuple[Part, int, int]) -> Part:
        part, start, many = three
        return f"substring({part[0]} from {start} for {many})", known(
            part, do=lambda a: a[start - 1 : start - 1 + many]
        )

    joined = st.tuples(plain, plain | WHOLE.filter(lambda part: "'" not in part[0]))
    return st.one_of(
        plain,
        plain.map(lambda part: (f"upper({part[0]})", known(part, do=str.upper))),
        plain.map(lambda part: (f"lower({part[0]})", known(part, do=str.lower))),
        plain.map(lambda part: (f"trim({part[0]})", known(part, do=lambda a: a.strip(" ")))),
        st.tuples(plain, st.integers(0, 5)).map(cut),
        st.tuples(plain, st.integers(1, 5)).map(last),
        st.tuples(plain, st.integers(1, 4), st.integers(0, 3)).map(inner),
        joined.map(lambda two: (f"({two[0][0]} || {two[1][0]})", known(*two, do=lambda a, b: f"{a}{b}"))),
        joined.map(
            lambda two: (
                f"concat({two[0][0]}, {two[1][0]})",
                lambda row: "".join("" if part[1](row) is None else str(part[1](row)) for part in two),
            )
        ),
    )


SIGNS: dict[str, Callable[[Any, Any], bool]] = {
    "=": lambda a, b: a == b, "<>": lambda a, b: a != b, "<": lambda a, b: a < b, "<=": lambda a, b: a <= b,
    ">": lambda a, b: a > b, ">=": lambda a, b: a >= b,
}  # fmt: skip


def level(left: Any, right: Any) -> tuple[Any, Any]:
    """Two numbers as they are compared: floating point as soon as one of them is."""
    if isinstance(left, float) or isinstance(right, float):
        return float(left), float(right)
    return left, right


def comparisons(
    part: st.SearchStrategy[Part], several: st.SearchStrategy[Part] | None = None
) -> st.SearchStrategy[Part]:
    """Comparisons of two parts, and of three (of ``several``, else the same), also the other way round."""

    def compared(three: tuple[Part, str, Part]) -> Part:
        left, sign, right = three
        return f"{left[0]} {sign} {right[0]}", known(left, right, do=lambda a, b: SIGNS[sign](*level(a, b)))

    def distinct(two: tuple[Part, Part]) -> Part:
        def value(row: dict[str, Any]) -> bool:
            a, b = two[0][1](row), two[1][1](row)
            return (a is None) != (b is None) if a is None or b is None else SIGNS["<>"](*level(a, b))

        return f"{two[0][0]} is distinct from {two[1][0]}", value

    def nothing(one: Part) -> Part:
        return f"{one[0]} is null", lambda row: one[1](row) is None

    def something(one: Part) -> Part:
        return f"{one[0]} is not null", lambda row: one[1](row) is not None

    def between(three: tuple[Part, Part, Part]) -> Part:
        def value(row: dict[str, Any]) -> bool | None:
            middle, low, high = (each[1](row) for each in three)
            tests = [None if None in (middle, end) else test(middle, end) for end, test in ((low, ge), (high, le))]
            return False if False in tests else None if None in tests else True

        return f"{three[0][0]} between {three[1][0]} and {three[2][0]}", value

    def either(three: tuple[Part, Part, Part]) -> Part:
        def value(row: dict[str, Any]) -> bool | None:
            first, *others = (each[1](row) for each in three)
            if first is None:
                return None
            if any(other is not None and SIGNS["="](*level(first, other)) for other in others):
                return True
            return None if None in others else False

        return f"{three[0][0]} in ({three[1][0]}, {three[2][0]})", value

    three = st.tuples(*[part if several is None else several] * 3)
    return st.one_of(
        st.tuples(part, st.sampled_from(list(SIGNS)), part).map(compared),
        st.tuples(part, part).map(distinct),
        part.map(nothing),
        part.map(something),
        three.map(between),
        three.map(either),
        three.map(either).map(lambda one: (one[0].replace(" in (", " not in ("), known(one, do=lambda a: not a))),
    )


def likes() -> st.SearchStrategy[Part]:
    def tested(two: tuple[Part, str]) -> Part:
        part, start = two
        return f"{part[0]} like '{start}%'", known(part, do=lambda a: a.startswith(start))

    def not_tested(two: tuple[Part, str]) -> Part:
        part, start = two
        return f"{part[0]} not ilike '{start}%'", known(part, do=lambda a: not a.lower().startswith(start.lower()))

    both = st.tuples(texts(), st.sampled_from(["B", "ab", "Å", ""]))
    return both.map(tested) | both.map(not_tested)


SIMPLE = st.one_of(
    comparisons(NUMBER, EXACT),
    comparisons(texts()),
    likes(),
    *(comparisons(choices(kind)) for kind in ("date", "seen", "told", "hour")),
    st.just(column("gone")),
    st.just(("gone = 'true'", lambda row: row["gone"])),
)


def together(part: st.SearchStrategy[Part]) -> st.SearchStrategy[Part]:
    def both(two: tuple[Part, Part]) -> Part:
        def value(row: dict[str, Any]) -> bool | None:
            found = [each[1](row) for each in two]
            return False if False in found else None if None in found else True

        return f"({two[0][0]} and {two[1][0]})", value

    def any_(two: tuple[Part, Part]) -> Part:
        def value(row: dict[str, Any]) -> bool | None:
            found = [each[1](row) for each in two]
            return True if True in found else None if None in found else False

        return f"({two[0][0]} or {two[1][0]})", value

    def case(two: tuple[Part, Part]) -> Part:
        when, then = two
        return (
            f"case when {when[0]} then {then[0]} else false end",
            lambda row: then[1](row) if when[1](row) is True else False,
        )

    return st.one_of(
        st.tuples(part, part).map(both),
        st.tuples(part, part).map(any_),
        st.tuples(part, part).map(case),
        part.map(lambda one: (f"(not {one[0]})", known(one, do=lambda a: not a))),
        part.map(lambda one: (f"({one[0]}) is not true", lambda row: one[1](row) is not True)),
    )


CONDITIONS = st.recursive(SIMPLE, together, max_leaves=3)
RULES = brenvik.TableRules("mark", natural_key="no", type_1=tuple(OF), types=TYPES)


@pytest.fixture(scope="module")
def engines() -> Iterator[dict[str, Engine]]:
    """One of each kind that has the rows."""
    frame = pa.table({name: pa.array([row[name] for row in ROWS]) for name in TYPES})
    with ExitStack() as opened:
        stores = {kind: opened.enter_context(fresh_store(kind)) for kind in STORES}
        for store in stores.values():
            store.load(RULES, frame, kind="upserts")
        yield {kind: store.engine for kind, store in stores.items()}


@given(condition=CONDITIONS)
def test_a_condition_means_the_same_everywhere(engines: dict[str, Engine], condition: Part) -> None:
    text, value = condition
    if not columns_of(text):
        return
    wanted = [value(row) for row in ROWS]
    types = {name: parse_type(kind) for name, kind in TYPES.items()}
    conditions.check(text, types)
    for kind, engine in engines.items():
        schema = resolve(RULES, types, store=engine.capabilities, change_log=None, source="mark")
        asked = {kind: conditions.of_row(text, "t", schema)}
        if kind == "duckdb":
            asked["on the way"] = conditions.with_values(text, {name: f't."{name}"' for name in types}, types)
        for where, written in asked.items():
            found = engine.ask(f'SELECT {written} AS v FROM "mark" t ORDER BY t."no"')["v"].to_pylist()
            assert [None if each is None else bool(each) for each in found] == wanted, (where, text, written)
