"""A source with a watermark that is read in full: keys that it lacks are deleted."""

from __future__ import annotations

import re
from dataclasses import replace
from datetime import timedelta
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest
from cli import brenvik as call
from registries import VISITS, Registry, at, load

import brenvik
from brenvik.errors import DeclarationError, LimitExceeded
from brenvik.feeds.protocol import LoadRequest
from brenvik.sources import source_of_call
from scripts import execute

FULL = LoadRequest(full=True)
RULES = replace(VISITS, max_deletes=None)


def works(store: brenvik.Store, rules: brenvik.TableRules = RULES) -> dict[Any, str]:
    rows = store.read(rules).to_pylist()
    return {row["visit_no"]: row["work"] for row in rows if row["is_current"]}


def test_it_finds_deletes_and_silent_changes(registry: Registry, store: brenvik.Store) -> None:
    registry.put((1, "NB-101", "lamp", at(8)), (2, "NB-102", "paint", at(9)), (3, "NB-103", "chain", at(9)))
    load(store, registry.source(), RULES)
    registry.do("DELETE FROM service_visit WHERE visit_no = 1")
    registry.do("UPDATE service_visit SET work = 'new paint' WHERE visit_no = 2")
    registry.put((4, "NB-104", "settling", at(11, 59)), (5, "NB-105", "no time", None), (6, "NB-106", "late", at(7)))
    source = registry.source(lag=timedelta(minutes=5), window=1)
    assert load(store, source, RULES).counts["read"] == 0
    outcome = load(store, source, RULES, request=FULL)
    assert outcome.source == "service_visit in full"
    assert not [note for note in outcome.notes if "skipped" in note]
    counts = {name: n for name, n in outcome.counts.items() if n and not name.startswith("rows")}
    assert counts == {
        "read": 5, "derived": 1, "inserted": 2, "overwritten": 1, "deleted": 1, "duplicate": 1, "rejected": 1,
    }  # fmt: skip
    assert works(store) == {2: "new paint", 3: "chain", 4: "settling", 6: "late"}
    gone = next(row for row in store.read(RULES).to_pylist() if row["visit_no"] == 1)
    assert (gone["valid_to"], gone["is_deleted"]) == (registry.now.replace(tzinfo=None), True)
    assert store.ledger.watermark("visit", "service").mark == at(9)  # type: ignore[union-attr]
    assert not outcome.window.more  # type: ignore[union-attr]
    registry.now += timedelta(minutes=10)
    assert load(store, source, RULES).counts["duplicate"] == 1  # visit 4, which lag held back before
    assert works(store) == {2: "new paint", 3: "chain", 4: "settling", 6: "late"}
    store.revert(RULES, outcome.run or 0)
    assert works(store) == {1: "lamp", 2: "paint", 3: "chain"}


def test_it_marks_what_it_lacks_where_deletes_are_ignored(registry: Registry, store: brenvik.Store) -> None:
    rules = replace(RULES, deletes="ignore", stamps={"gone_in": {"missing": "run"}})
    registry.put((1, "NB-101", "lamp", at(8)), (2, "NB-102", "paint", at(9)))
    load(store, registry.source(), rules)

    def marks() -> dict[int, int | None]:
        return {row["visit_no"]: row["gone_in"] for row in store.read(rules).to_pylist() if row["is_current"]}

    registry.do("DELETE FROM service_visit WHERE visit_no = 1")
    registry.now += timedelta(minutes=10)
    outcome = load(store, registry.source(), rules, request=FULL)
    assert marks() == {1: outcome.run, 2: None}
    assert "1 row is missing now, and marked." in outcome.notes
    registry.put((1, "NB-101", "lamp", at(8)))
    registry.now += timedelta(minutes=10)
    assert "1 row is back, and no longer marked." in load(store, registry.source(), rules, request=FULL).notes
    assert marks() == {1: None, 2: None}


def test_it_is_guarded_like_an_extract(registry: Registry, store: brenvik.Store) -> None:
    registry.put(*((n, "NB-101", "lamp", at(8)) for n in range(1, 11)))
    load(store, registry.source(), VISITS)
    registry.do("DELETE FROM service_visit WHERE visit_no > 7")
    with pytest.raises(
        LimitExceeded,
        match=r"(?s)has 7 rows; the table has 10 current keys\. .*delete 3 \(30 %.*load visit --full --allow-deletes 3",
    ):
        load(store, registry.source(), VISITS, request=FULL)
    registry.do("DELETE FROM service_visit")
    with pytest.raises(LimitExceeded, match="It has no valid rows"):
        load(store, registry.source(), replace(VISITS, max_deletes=None), request=FULL)
    assert len(works(store)) == 10


def test_deletes_can_be_reviewed_and_lapse(registry: Registry, store: brenvik.Store) -> None:
    rules = replace(RULES, deletes="review")
    registry.put((1, "NB-101", "lamp", at(8)), (2, "NB-102", "paint", at(9)))
    load(store, registry.source(), rules)
    registry.do("DELETE FROM service_visit WHERE visit_no = 1")
    assert load(store, registry.source(), rules, request=FULL).counts["pending"] == 1
    assert load(store, registry.source(), rules, request=FULL).counts["derived"] == 0
    registry.put((1, "NB-101", "lamp", at(8)))
    load(store, registry.source(), rules, request=FULL)
    assert store.pending_deletes(rules).num_rows == 0
    assert works(store, rules) == {1: "lamp", 2: "paint"}


def test_a_preview_says_what_the_load_does(registry: Registry, store: brenvik.Store) -> None:
    registry.put((1, "NB-101", "lamp", at(8)), (2, "NB-102", "paint", at(9)))
    first = load(store, registry.source(), RULES, request=FULL)
    assert first.counts["inserted"] == 2
    registry.do("DELETE FROM service_visit WHERE visit_no = 1")
    seen = load(store, registry.source(), RULES, request=FULL, preview=True)
    done = load(store, registry.source(), RULES, request=FULL)
    assert seen.counts == done.counts
    assert seen.decisions().to_pylist() == done.decisions().to_pylist()


def test_a_table_of_the_store_itself(anywhere: brenvik.Store) -> None:
    kind = "" if anywhere.engine.dialect == "sqlite" else "TIMESTAMP "
    rows = f"(1, 'lamp', {kind}'2024-05-14 08:00:00'), (2, 'paint', {kind}'2024-05-14 09:00:00')"
    execute(
        anywhere,
        'CREATE TABLE "entries" ("visit_no" BIGINT, "work" TEXT, "modified_at" TIMESTAMP)',
        f'INSERT INTO "entries" VALUES {rows}',
    )
    rules = brenvik.TableRules(
        "visit", natural_key="visit_no", order_by="modified_at", types={"modified_at": "timestamp"}, max_deletes=None
    )
    feed = brenvik.DatabaseFeed("own", "upserts", None, None, "modified_at", source_table="entries")
    anywhere.load(rules, feed)
    execute(anywhere, 'DELETE FROM "entries" WHERE "visit_no" = 1')
    called = source_of_call(anywhere.engine, rules, feed, None, None, "own", None, None, None)
    outcome = anywhere.table(rules).load_from(called.source, replace(called.options, request=FULL))
    assert (outcome.counts["deleted"], outcome.counts["duplicate"]) == (1, 1)
    assert works(anywhere, rules) == {2: "paint"}


def test_what_cannot_be_read_in_full(registry: Registry, store: brenvik.Store) -> None:
    registry.put((1, "NB-101", "lamp", at(8)))
    numbered = replace(RULES, table="numbered", order_by=("visit_no",), natural_key=("buoy_code",))
    with pytest.raises(DeclarationError, match="must be timestamps or dates; visit_no is integer"):
        load(store, registry.source(), numbered, request=FULL)
    load(store, registry.source(), RULES)
    frame = pa.table({"visit_no": [7], "work": ["by hand"], "modified_at": [at(9)]})
    store.load(RULES, frame, kind="upserts", feed="by hand")
    with pytest.raises(DeclarationError, match="has also loaded by hand; that service lacks a key"):
        load(store, registry.source(), RULES, request=FULL)
    store.revert(RULES, 3)
    assert load(store, registry.source(), RULES, request=FULL).counts["duplicate"] == 1


def test_on_the_command_line(tmp_path: Path) -> None:
    registry = Registry(f"sqlite:///{tmp_path / 'registry.db'}")
    registry.put((1, "NB-101", "lamp", at(8)), (2, "NB-102", "paint", at(9)))
    (tmp_path / "in").mkdir()
    (tmp_path / "brenvik.toml").write_text(
        'name = "Coast"\nstore = "sqlite:coast.db"\n[connections]\nregistry = "sqlite:///registry.db"\n'
        '[table.visit]\nnatural_key = "visit_no"\norder_by = "modified_at"\nmax_deletes = 1.0\n'
        '[table.visit.feed.service]\nkind = "upserts"\nconnection = "registry"\nsource_table = "service_visit"\n'
        'watermark = "modified_at"\n'
        '[table.buoy]\nnatural_key = "code"\n[table.buoy.feed.files]\nkind = "upserts"\nfiles = "in/*.csv"\n'
    )
    assert call("load", "visit", cwd=tmp_path).code == 0
    registry.do("DELETE FROM service_visit WHERE visit_no = 1")
    seen = call("preview", "visit", "--full", cwd=tmp_path).out
    assert re.search(r"1 +deleted +– +not in the extract, was: NB-101, lamp", seen), seen
    assert seen.endswith("to load   brenvik load visit --full\n")
    done = call("load", "visit", "--full", cwd=tmp_path).out
    assert "service_visit in full" in done
    assert "in full, to 20" in call("runs", cwd=tmp_path).out
    assert "1 read + 1 derived = 1 deleted + 1 duplicate" in done, done
    refused = call("load", "buoy", "--full", cwd=tmp_path)
    assert refused.code == 2
    assert "reads files; only a feed with a watermark can be read in full" in refused.out + refused.err
    assert "cannot be combined" in call("load", "visit", "--full", "--from", "2024-05-01", cwd=tmp_path).err
