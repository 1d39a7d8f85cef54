"""What holds in a store of every kind."""

from __future__ import annotations

from datetime import UTC, date, datetime, time
from decimal import Decimal
from typing import Any

import pyarrow as pa
import pytest

import brenvik
import brenvik.load
from brenvik.feeds.inside import InsideSource
from scripts import execute

RULES = brenvik.TableRules("buoy", natural_key="code", order_by="at")


def test_a_run_that_breaks_off_after_its_commit_is_done(
    anywhere: brenvik.Store, monkeypatch: pytest.MonkeyPatch
) -> None:
    def broken(**told: object) -> None:
        raise KeyboardInterrupt

    monkeypatch.setattr(brenvik.load, "Outcome", broken)
    with pytest.raises(KeyboardInterrupt):
        anywhere.load(RULES, pa.table({"code": ["NB-1"], "at": [1], "light": ["Q"]}), kind="upserts")
    monkeypatch.undo()
    assert anywhere.read(RULES)["light"].to_pylist() == ["Q"]
    runs = anywhere.ledger.runs().to_pylist()
    assert [(run["state"], run["message"], run["inserted"]) for run in runs] == [("done", None, 1)]


KEYS: dict[str, tuple[Any, Any]] = {
    "integer": (-7, 2**40),
    "text": ("", "Ærøsund ' \\"),
    "decimal": (Decimal("-1.50"), Decimal("99.99")),
    "boolean": (False, True),
    "date": (date(1899, 12, 31), date(2024, 5, 1)),
    "time": (time(0, 0, 0, 1), time(23, 59)),
    "timestamp": (datetime(2024, 5, 1, 6), datetime(2024, 5, 1, 6, 0, 0, 1)),
    "instant": (datetime(2024, 5, 1, 6, tzinfo=UTC), datetime(2024, 5, 2, tzinfo=UTC)),
    "binary": (b"", b"\x00\xff"),
}


def test_keys_of_every_kind_come_in_any_order(anywhere: brenvik.Store) -> None:
    kinds = list(KEYS)
    rows = [
        {kind: KEYS[kind][(number >> place) & 1] for place, kind in enumerate(kinds)} | {"light": str(number)}
        for number in (number * 77 % 512 for number in range(512))
    ]
    buoys = brenvik.TableRules("buoy", natural_key=kinds)
    assert anywhere.load(buoys, pa.Table.from_pylist(rows), kind="upserts").counts["inserted"] == 512
    again = anywhere.load(buoys, pa.Table.from_pylist([*rows[256:], *rows[:256]]), kind="upserts")
    assert again.counts["unchanged"] == 512
    lights = {tuple(row[kind] for kind in kinds): row["light"] for row in anywhere.read(buoys).to_pylist()}
    assert lights == {tuple(row[kind] for kind in kinds): row["light"] for row in rows}


def test_no_day_has_a_24th_hour(anywhere: brenvik.Store) -> None:
    opens = pa.array([86_399_999_999, 86_400_000_000], pa.time64("us"))
    done = anywhere.load(RULES, pa.table({"code": ["A", "B"], "at": [1, 1], "opens": opens}), kind="upserts")
    assert (done.counts["inserted"], done.counts["rejected"]) == (1, 1)
    (reject,) = anywhere.ledger.rejects().to_pylist()
    assert reject["reason"] == "opens: '24:00:00' is no time"
    told = pa.table({"code": ["A", "B"], "at": [2, 2], "opens": ["23:59:59.999999", "24:00"]})
    done = anywhere.load(RULES, told, kind="upserts")
    assert (done.counts["unchanged"], done.counts["rejected"]) == (1, 1)
    execute(anywhere, 'CREATE TABLE staging (code VARCHAR(9), "at" BIGINT, opens TIME)')
    execute(anywhere, "INSERT INTO staging VALUES ('C', 3, '08:00:00'), ('D', 3, '24:00:00')")
    inside = InsideSource(anywhere.engine, name="s", kind="upserts", table="staging", watermark="at")
    done = brenvik.load.load(anywhere.ledger, RULES, inside, operations=None)
    assert (done.counts["inserted"], done.counts["rejected"]) == (1, 1)
    assert [str(row["opens"]) for row in anywhere.read(RULES).to_pylist()] == ["23:59:59.999999", "08:00:00"]
