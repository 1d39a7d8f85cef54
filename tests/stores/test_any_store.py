"""What holds in a store of every kind."""

from __future__ import annotations

import pyarrow as pa
import pytest

import brenvik
import brenvik.load

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
