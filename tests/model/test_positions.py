"""Positions: how they are read and written, ordered, and moved; and the windows between them."""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from brenvik.model.positions import DATES, INTEGERS, Pairs, as_text, kind_of
from brenvik.model.watermarks import cut, next_window

TIMES, INSTANTS = kind_of("timestamp"), kind_of("timestamp with time zone")
COMMITS = Pairs(TIMES, INTEGERS)
DRAWN: dict[str, Any] = {
    "timestamp": st.datetimes(),
    "timestamp with time zone": st.datetimes(timezones=st.just(UTC)),
    "date": st.dates(),
    "integer": st.integers(),
}
SOME = st.sampled_from(sorted(DRAWN))


@given(SOME, SOME, st.data())
def test_what_the_ledger_records_is_read_back(first: str, second: str, data: st.DataObject) -> None:
    for name in (first, f"{first}, {second}"):
        kind = kind_of(name)
        assert kind.name == name
        text = ", ".join(str(data.draw(DRAWN[part])) for part in name.split(", "))
        assert str(kind.parse(text)) == text


@given(st.lists(st.tuples(st.datetimes(), st.integers()), min_size=2, max_size=2))
def test_of_two_pairs_the_first_values_decide_and_else_the_second(drawn: list[tuple[datetime, int]]) -> None:
    one, other = (COMMITS.parse(f"{moment}, {number}") for moment, number in drawn)
    assert (one < other) == (drawn[0] < drawn[1])
    assert COMMITS.before(one) < one


@given(SOME, st.data())
def test_nothing_is_between_a_position_and_the_one_before(name: str, data: st.DataObject) -> None:
    kind = kind_of(name)
    low, high = sorted((data.draw(DRAWN[name]), data.draw(DRAWN[name])))
    if low < high:
        assert low <= kind.before(high) < high


@given(st.integers(-100, 100), st.integers(-100, 100), st.integers(0, 50), st.integers(-100, 100))
def test_windows_of_pairs_lie_as_those_of_their_first_values(low: int, high: int, overlap: int, end: int) -> None:
    pairs = Pairs(INTEGERS, INTEGERS)
    plain = next_window(INTEGERS, low=low, high=high, overlap=overlap)
    paired = next_window(pairs, low=pairs.parse(f"{low}, 7"), high=pairs.parse(f"{high}, 7"), overlap=overlap)
    assert (str(paired.reads_from), str(paired.high)) == (f"{plain.reads_from}, 7", f"{plain.high}, 7")
    assert paired.is_empty == plain.is_empty
    first = cut(paired, pairs.parse(f"{end}, 7"))
    assert (first.more, str(first.high)) == (cut(plain, end).more, f"{cut(plain, end).high}, 7")


@pytest.mark.parametrize(
    ("name", "text", "expected"),
    [
        ("timestamp", "noon", "expected a time as in 2024-05-14 22:41, got 'noon'"),
        ("timestamp with time zone", "noon", "expected a time as in 2024-05-14 22:41 or 2024-05-14T22:41+02:00, got 'noon'"),
        ("date", "2024-05-14 22:41", "expected a day as in 2024-05-14, got '2024-05-14 22:41'"),
        ("integer", "7.5", "expected a whole number, got '7.5'"),
        ("timestamp, integer", "2024-05-14", "expected two values with a comma between them, got '2024-05-14'"),
        ("timestamp, integer", "2024-05-14, x", "expected a whole number, got 'x'"),
    ],
)  # fmt: skip
def test_what_is_no_position_is_refused(name: str, text: str, expected: str) -> None:
    with pytest.raises(ValueError) as refused:
        kind_of(name).parse(text)
    assert str(refused.value) == expected


def test_distances_and_clocks() -> None:
    hour, day, noon = timedelta(hours=1), timedelta(days=1), datetime(2024, 5, 14, 12, tzinfo=UTC)
    fitting = {kind: [span for span in (7, hour, day) if kind.fits(span)] for kind in (TIMES, DATES, INTEGERS, COMMITS)}
    assert fitting == {TIMES: [hour, day], DATES: [day], INTEGERS: [7], COMMITS: [hour, day]}
    assert TIMES.at(noon, "Europe/Oslo") == datetime(2024, 5, 14, 14)
    assert DATES.at(noon.replace(hour=23), "Europe/Oslo") == date(2024, 5, 15)
    assert (INTEGERS.at(noon, "UTC"), COMMITS.at(noon, "UTC")) == (None, None)
    commit = COMMITS.parse("2024-05-14 14:00, 3")
    assert as_text(COMMITS.forth(commit, hour)) == "2024-05-14 15:00, 3"
    assert COMMITS.moment(commit, "Europe/Oslo") == datetime(2024, 5, 14, 12)
    assert TIMES.back(datetime(1, 1, 2), timedelta(days=9)) == datetime.min
    assert DATES.forth(date(9999, 12, 1), timedelta(days=90)) == date.max
