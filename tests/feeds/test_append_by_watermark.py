"""Rows of databases that are appended to a table without a natural key."""

from __future__ import annotations

from datetime import timedelta

import pytest
from registries import Registry, at, load

import brenvik
from brenvik.errors import DeclarationError
from brenvik.feeds.protocol import LoadRequest

KEPT = brenvik.TableRules("visit_log", types={"modified_at": "timestamp"})
DROPS = brenvik.TableRules("visit_log", types={"modified_at": "timestamp"}, exact_duplicates="drop")


def logged(store: brenvik.Store, rules: brenvik.TableRules) -> list[tuple[int, str]]:
    return [(row["visit_no"], row["work"]) for row in store.read(rules).to_pylist()]


def test_each_window_is_appended_once(registry: Registry, store: brenvik.Store) -> None:
    registry.put(*((n, "NB-101", "lamp", at(6, n)) for n in range(1, 6)))
    source = registry.source(kind="append", window=2)
    while (outcome := load(store, source, KEPT)).window.more:  # type: ignore[union-attr]
        assert outcome.counts["inserted"] == 2
    assert logged(store, KEPT) == [(n, "lamp") for n in range(1, 6)]
    registry.do("UPDATE service_visit SET work = 'new lamp', modified_at = '2024-05-14 08:00:00' WHERE visit_no = 2")
    assert load(store, source, KEPT).counts["inserted"] == 1
    assert logged(store, KEPT)[-1] == (2, "new lamp")
    with pytest.raises(DeclarationError, match=r"rows of it were loaded before \(run 2, 3, 4\)"):
        load(store, registry.source(kind="append"), KEPT, request=LoadRequest(after="2024-05-14 06:02"))
    store.revert(KEPT, 2)
    again = LoadRequest(after="2024-05-14 06:02", until="2024-05-14 06:04")
    assert load(store, registry.source(kind="append"), KEPT, request=again).counts["inserted"] == 2
    assert load(store, source, KEPT).counts["read"] == 0


def test_rows_that_are_committed_late_are_found_by_an_overlap(registry: Registry, store: brenvik.Store) -> None:
    registry.put((1, "NB-101", "lamp", at(8)), (2, "NB-102", "paint", at(9)))
    source = registry.source(kind="append", overlap=timedelta(hours=6))
    assert load(store, source, DROPS).counts["inserted"] == 2
    registry.put((3, "NB-103", "chain", at(7)), (4, "NB-104", "lamp", at(10)))
    outcome = load(store, source, DROPS)
    assert (outcome.counts["inserted"], outcome.counts["duplicate"]) == (2, 2)
    everything = load(store, source, DROPS, request=LoadRequest(everything=True))
    assert (everything.counts["inserted"], everything.counts["duplicate"]) == (0, 4)
    assert sorted(no for no, _ in logged(store, DROPS)) == [1, 2, 3, 4]
