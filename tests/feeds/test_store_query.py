"""Feeds that read a table or query of the store itself."""

from __future__ import annotations

from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest
from cli import brenvik as call

import brenvik
from brenvik.errors import FeedError, StoreError
from brenvik.feeds.protocol import LoadRequest
from brenvik.feeds.store_query import StoreQuery
from brenvik.model.types import parse_type
from scripts import execute
from sources import load_from

RULES = brenvik.TableRules(
    "visit",
    natural_key="no",
    order_by="done_at",
    type_1="keeper",
    types={"work": "text(10)"},
    reject_if={"no work": "work = 'none' and keeper is not null"},
)


@pytest.fixture
def staging(anywhere: brenvik.Store) -> brenvik.Store:
    execute(anywhere, "CREATE TABLE staging (no BIGINT, done_at TIMESTAMP, keeper VARCHAR(20), work VARCHAR(30))")
    return anywhere


def day(number: int) -> str:
    return f"2024-05-{number:02} 08:00:00"


def add(store: brenvik.Store, *rows: tuple[int | None, str | None, str | None, str]) -> None:
    def written(value: Any) -> str:
        return (
            "NULL" if value is None else str(value) if isinstance(value, int) else "'" + value.replace("'", "''") + "'"
        )

    values = ", ".join(f"({', '.join(map(written, row))})" for row in rows)
    execute(store, f"INSERT INTO staging (no, done_at, keeper, work) VALUES {values}")


def source(store: brenvik.Store, **how: Any) -> StoreQuery:
    return StoreQuery(
        store.engine, **{"name": "s", "kind": "upserts", "table": "staging", "watermark": "done_at", **how}
    )


def rows(store: brenvik.Store, rules: brenvik.TableRules = RULES) -> list[tuple[Any, ...]]:
    return [(row["no"], row["work"], row["keeper"], row["valid_from"].day) for row in store.read(rules).to_pylist()]


def test_rows_are_taken_by_watermark_where_they_stand(staging: brenvik.Store) -> None:
    add(staging, (1, day(1), "Nord", "lamp"), (2, day(2), "Vest", "chain"), (3, "2999-01-01 00:00:00", "Vest", "lamp"))
    add(staging, (4, None, "Vest", "lamp"))
    first = load_from(staging, RULES, source(staging))
    assert (first.counts["read"], first.counts["inserted"]) == (2, 2)
    assert first.rows_skipped == {"future_rows": 1, "without_watermark": 1}
    add(staging, (1, day(3), "Nord AS", "lamp"), (1, day(4), "Nord AS", "mooring"))
    second = load_from(staging, RULES, source(staging))
    assert (second.counts["overwritten"], second.counts["versioned"]) == (1, 1)
    assert rows(staging) == [(1, "lamp", "Nord AS", 1), (1, "mooring", "Nord AS", 4), (2, "chain", "Vest", 2)]
    again = load_from(staging, RULES, source(staging))
    assert again.counts["read"] == 0
    everything = load_from(staging, RULES, source(staging), request=LoadRequest(everything=True))
    assert everything.counts["duplicate"] == everything.counts["read"] == 4


def test_a_query_is_one_statement(staging: brenvik.Store) -> None:
    add(staging, (1, day(1), "Nord", "lamp"))
    query = "SELECT no, done_at, keeper, work FROM staging; DELETE FROM staging"
    with pytest.raises(StoreError, match=r"rejected a statement: .*(statement|commands)"):
        load_from(staging, RULES, source(staging, table=None, query=query))
    assert staging.engine.rows("SELECT count(*) AS n FROM staging") == [{"n": 1}]


def test_invalid_rows_are_rejected_whole_with_their_reasons(staging: brenvik.Store) -> None:
    add(staging, (1, day(1), "Nord", "lamp"), (None, day(1), "Nord", "lamp"), (2, day(2), "O'Brien", "much too long"))
    add(staging, (3, day(3), "Vest", "none"), (4, day(4), None, "none"))
    outcome = load_from(staging, RULES, source(staging))
    assert (outcome.counts["rejected"], outcome.counts["inserted"]) == (3, 2)
    told = [(r["column_name"], r["value"], r["reason"]) for r in staging.ledger.rejects().to_pylist()]
    assert told == [
        ("no", None, "no is empty"),
        ("work", "much too long", "work has 13 characters; the limit is 10"),
        ("work, keeper", "none, Vest", "no work"),
    ]
    assert '"O\'Brien"' in staging.ledger.rejects()["content"].to_pylist()[1]


def test_pieces_overlap_and_a_late_row(staging: brenvik.Store) -> None:
    add(staging, *((number, day(number), "Nord", "lamp") for number in range(1, 6)))
    pieces = []
    while True:
        outcome = load_from(staging, RULES, source(staging, window=2))
        pieces.append(outcome.counts["read"])
        if not outcome.more:
            break
    assert pieces == [2, 2, 1]
    add(staging, (9, day(3), "Vest", "late"))
    assert load_from(staging, RULES, source(staging)).counts["read"] == 0
    from brenvik.model.watermarks import parse_span

    late = load_from(staging, RULES, source(staging, overlap=parse_span("3 days")))
    assert (late.counts["inserted"], late.counts["duplicate"]) == (1, 3)


def test_a_query_casts_what_does_not_fit(staging: brenvik.Store) -> None:
    execute(staging, "CREATE TABLE raw (no BIGINT, done_at VARCHAR(30), depth VARCHAR(10))")
    execute(staging, "INSERT INTO raw VALUES (1, '2024-05-01 08:00:00', '12')")
    rules = brenvik.TableRules(
        "sounding", natural_key="no", order_by="done_at", types={"done_at": "timestamp", "depth": "integer"}
    )
    declared = {"done_at": parse_type("timestamp"), "depth": parse_type("integer")}
    with pytest.raises(FeedError, match=r"(?s)done_at is .* in the rules.*To convert them, read a query"):
        load_from(staging, rules, source(staging, table="raw", types=declared))
    kinds = {"sqlite": ("done_at", "CAST(depth AS INTEGER)")}.get(
        staging.engine.dialect, ("CAST(done_at AS TIMESTAMP)", "CAST(depth AS BIGINT)")
    )
    query = f"SELECT no, {kinds[0]} AS done_at, {kinds[1]} AS depth FROM raw;"
    feed = source(staging, table=None, query=query, types=declared)
    if staging.engine.dialect == "sqlite":  # a column of a view keeps what its table says it is
        with pytest.raises(FeedError, match=r"done_at is VARCHAR\(30\) there"):
            feed.columns()
        feed = source(staging, table=None, query=query.replace("done_at AS", "done_at || '' AS"), types=declared)
    assert load_from(staging, rules, feed).counts["inserted"] == 1
    again = source(staging, name="other", table="raw", watermark="no")
    with pytest.raises(FeedError, match=r"(?s)done_at is text.* there, and timestamp in table 'sounding'.*casts"):
        load_from(staging, brenvik.TableRules("sounding", natural_key="no", order_by="done_at"), again)
    (row,) = staging.read(rules).to_pylist()
    assert (row["depth"], row["valid_from"]) == (12, datetime(2024, 5, 1, 8))


def test_a_table_is_taken_whole_as_an_extract(staging: brenvik.Store) -> None:
    rules = brenvik.TableRules("visit", natural_key="no", exclude="done_at", type_1="keeper", max_deletes=None)
    add(staging, (1, day(1), "Nord", "lamp"), (2, day(2), "Vest", "chain"), (3, day(2), "Vest", "chain"))
    feed = source(staging, kind="full_extract", watermark=None)
    assert load_from(staging, rules, feed).counts["inserted"] == 3
    execute(staging, "DELETE FROM staging WHERE no = 2")
    execute(staging, "UPDATE staging SET work = 'mooring' WHERE no = 3")
    second = load_from(staging, rules, source(staging, kind="full_extract", watermark=None))
    assert {name: second.counts[name] for name in ("deleted", "versioned", "unchanged")} == {
        "deleted": 1, "versioned": 1, "unchanged": 1,
    }  # fmt: skip


def test_the_same_rows_from_inside_and_from_a_frame_give_the_same_table(staging: brenvik.Store) -> None:
    given = [
        (1, day(1), "Nord", "lamp"),
        (1, day(3), "Nord", "chain"),
        (2, day(2), "Vest", "none"),
        (3, day(2), "Øst", "lamp"),
    ]
    add(staging, *given)
    inside = load_from(staging, RULES, source(staging))
    other = brenvik.TableRules(
        **{**{n: getattr(RULES, n) for n in RULES.__dataclass_fields__ if n != "_"}, "table": "other"}
    )
    columns = list(zip(*given, strict=True))
    frame = pa.table(
        [columns[0], [datetime.fromisoformat(str(at)) for at in columns[1]], *columns[2:]],
        names=["no", "done_at", "keeper", "work"],
    )
    framed = staging.load(other, frame, kind="upserts")
    assert inside.counts == framed.counts
    told, also = (o.decisions().drop_columns(["file", "line"]).to_pylist() for o in (inside, framed))
    assert sorted(map(str, told)) == sorted(map(str, also))
    assert rows(staging) == rows(staging, other)


PROJECT = """
store = "{address}"
[table.visit]
natural_key = ["no"]
order_by = ["done_at"]
[table.visit.feed.staging]
kind = "upserts"
{source}
watermark = "done_at"
"""


@pytest.mark.parametrize(
    "reads", ['source_table = "staging"', "query = 'SELECT no, done_at, keeper, work FROM staging WHERE no > 0'"]
)
def test_the_commands_know_feeds_without_a_connection(address: str, tmp_path: Path, reads: str) -> None:
    with brenvik.open_store(address) as store:
        execute(store, "CREATE TABLE staging (no BIGINT, done_at TIMESTAMP, keeper VARCHAR(20), work VARCHAR(30))")
        add(store, (1, day(1), "Nord", "lamp"))
    (tmp_path / "brenvik.toml").write_text(PROJECT.format(address=address, source=reads))
    assert call("check", cwd=tmp_path).code == 0
    assert "1 row" in call("watermarks", cwd=tmp_path).out
    assert call("preview", "visit", cwd=tmp_path).code == 0
    assert call("load", cwd=tmp_path).code == 0
    assert call("watermarks", "set", "visit", "--back", "1 day", "--yes", cwd=tmp_path).code == 0
    again = call("load", "--json", cwd=tmp_path).json["outcomes"][0]
    assert again["counts"]["duplicate"] == 1
    assert call("sql", "visit", cwd=tmp_path).out.count("CREATE TEMPORARY TABLE") > 5


def test_pieces_by_distance_and_a_table_that_was_put_back(staging: brenvik.Store) -> None:
    add(staging, *((number, day(number), "Nord", "lamp") for number in range(1, 6)))
    pieces = []
    while True:
        outcome = load_from(staging, RULES, source(staging, window=timedelta(days=2)))
        pieces.append(outcome.counts["read"])
        if not outcome.more:
            break
    assert pieces == [3, 2]
    execute(staging, "DELETE FROM staging WHERE no > 3")
    outcome = load_from(staging, RULES, source(staging))
    assert outcome.notes == [
        "The newest done_at of staging is 2024-05-03 08:00, below the watermark 2024-05-05 08:00. "
        "If the source was restored to an earlier state, move the watermark back: brenvik watermarks set"
    ]


CHAIN = """
store = "{address}"
[table.arrived]
table_name = "staging.arrived"
natural_key = "no"
order_by = "at"
types = {{ at = "timestamp" }}
[table.arrived.feed.files]
kind = "upserts"
files = "*.csv"
[table.buoy]
natural_key = "code"
order_by = "valid_from"
exclude = "no"
delete_if = "gone = 'y'"
after = "arrived"
[table.buoy.feed.arrived]
kind = "upserts"
source_table = "staging.arrived"
watermark = "first_run"
"""


def test_a_table_feeds_the_next_without_its_system_columns(address: str, tmp_path: Path) -> None:
    (tmp_path / "brenvik.toml").write_text(CHAIN.format(address=address))
    (tmp_path / "1.csv").write_text("no,code,at,light,gone\n1,A,2024-05-01,Q,\n2,B,2024-05-01,Fl,\n")
    checked = call("check", cwd=tmp_path)
    assert "reads staging.arrived by first_run, which the first load of arrived creates" in checked.out
    assert checked.code == 0, checked.out
    assert call("load", cwd=tmp_path).code == 0
    (tmp_path / "2.csv").write_text("no,code,at,light,gone\n3,A,2024-05-02,Iso,\n4,B,2024-05-03,Fl,y\n")
    assert call("load", "--json", cwd=tmp_path).json["outcomes"][1]["counts"]["read"] == 2
    rules = brenvik.read_project(tmp_path / "brenvik.toml").table("buoy").rules
    with brenvik.open_store(address) as store:
        found = store.read(rules).to_pylist()
    assert "arrived_key" not in found[0]
    assert sorted((row["code"], row["light"], row["valid_from"].day, row["is_deleted"]) for row in found) == [
        ("A", "Iso", 2, False),
        ("A", "Q", 1, False),
        ("B", "Fl", 1, True),
    ]
