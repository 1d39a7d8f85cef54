"""Effective times: how they are truncated, and where they end."""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest

import brenvik
from brenvik.errors import DeclarationError, RulesError

AUTUMN = datetime(2024, 10, 27, 0, 30, tzinfo=UTC)
"""Half past two on the night in which clocks in Oslo are put back at three: it is half past two again an hour later."""


def starts(store: brenvik.Store, rules: brenvik.TableRules, times: list[Any]) -> list[Any]:
    frame = pa.table({"code": [str(n) for n in range(len(times))], "no": [*range(len(times))], "at": times})
    store.load(rules, frame, kind="upserts")
    found = [row["valid_from"] for row in store.read(rules).to_pylist()]
    return [each.astimezone(UTC) if isinstance(each, datetime) and each.tzinfo else each for each in found]


@pytest.mark.parametrize(
    ("precision", "zone", "expected"),
    [
        ("hour", "Europe/Oslo", ["2024-10-27 00:00", "2024-10-27 01:00", "2024-06-30 22:00"]),
        ("day", "UTC", ["2024-10-27 00:00", "2024-10-27 00:00", "2024-06-30 00:00"]),
        ("day", "Europe/Oslo", ["2024-10-26 22:00", "2024-10-26 22:00", "2024-06-30 22:00"]),
        ("week", "Europe/Oslo", ["2024-10-20 22:00", "2024-10-20 22:00", "2024-06-30 22:00"]),
        ("month", "Europe/Oslo", ["2024-09-30 22:00", "2024-09-30 22:00", "2024-06-30 22:00"]),
        ("hour", "Asia/Kathmandu", ["2024-10-27 00:15", "2024-10-27 01:15", "2024-06-30 22:15"]),
    ],
)
def test_instants_are_truncated_in_the_zone_of_the_rules(
    precision: Any, zone: str, expected: list[str], anywhere: brenvik.Store
) -> None:
    """The last one is half past twelve at night on the first of July in Oslo."""
    rules = brenvik.TableRules(
        "buoy", natural_key="code", order_by="no", effective_at="at", time_precision=precision, time_zone=zone
    )
    times = [AUTUMN, AUTUMN + timedelta(hours=1), datetime(2024, 6, 30, 22, 30, tzinfo=UTC)]
    assert [f"{each:%Y-%m-%d %H:%M}" for each in starts(anywhere, rules, times)] == expected
    other = brenvik.TableRules(
        "buoy", natural_key="code", order_by="no", effective_at="at", time_precision=precision, time_zone=zone
    )
    assert anywhere.rebuild(other).counts["rows_updated"] == 0


def test_dates_are_truncated_to_weeks_and_months(anywhere: brenvik.Store) -> None:
    days = [date(2024, 5, 19), date(2024, 5, 20), date(2024, 2, 29)]
    for precision, expected in (
        ("week", [date(2024, 5, 13), date(2024, 5, 20), date(2024, 2, 26)]),
        ("month", [date(2024, 5, 1), date(2024, 5, 1), date(2024, 2, 1)]),
    ):
        rules = brenvik.TableRules(
            precision,
            natural_key="code",
            order_by="no",
            effective_at="at",
            time_precision=precision,  # type: ignore[arg-type]
        )
        assert starts(anywhere, rules, days) == expected
    with pytest.raises(RulesError, match="day is date, which has no hours"):
        brenvik.TableRules("b", natural_key="c", order_by="day", types={"day": "date"}, time_precision="hour")


def test_nothing_begins_at_the_open_end_or_later(anywhere: brenvik.Store, tmp_path: Path) -> None:
    rules = brenvik.TableRules(
        "buoy", natural_key="code", order_by="at", types={"at": "date"}, open_end=date(9999, 12, 31)
    )
    frame = pa.table(
        {"code": ["A", "B", "C"], "at": ["2024-05-13", "9999-12-31", "9999-12-30"], "name": ["a", "b", "c"]}
    )
    outcome = anywhere.load(rules, frame, kind="upserts")
    assert outcome.decisions()["reason"].to_pylist()[1] == "at: '9999-12-31' is not before open_end"
    assert [row["code"] for row in anywhere.read(rules).to_pylist()] == ["A", "C"]
    dated = brenvik.TableRules("dated", natural_key="code", open_end=datetime(9999, 12, 31))
    (tmp_path / "1.csv").write_text("code,taken\nA,9999-12-31\n")
    feed = brenvik.FileFeed("f", "full_extract", None, str(tmp_path / "*.csv"), extract_time={"column": "taken"})
    anywhere.load(dated, feed, allow_deletes=0)
    assert "taken: '9999-12-31' is not before open_end" in anywhere.rejects()["reason"].to_pylist()
    extracts = brenvik.TableRules("keeper", natural_key="code", open_end=datetime(2030, 1, 1))
    with pytest.raises(DeclarationError, match="extract time: expected a time before open_end, got 2030-01-01"):
        anywhere.load(extracts, frame, kind="full_extract", at="2030-01-01")
