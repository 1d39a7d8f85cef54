"""What is the PostgreSQL store's own: rights, locks, deadlocks, timeouts, secrets."""

from __future__ import annotations

import json
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from datetime import datetime
from pathlib import Path
from urllib.parse import urlsplit

import psycopg
import pyarrow as pa
import pytest
from cli import brenvik as call

import brenvik
from brenvik.errors import Busy, Conflict, FeedError, StoreError, StoreUnavailable
from servers import fresh_database

RULES = brenvik.TableRules("buoy", natural_key="code", order_by="at")
PROJECT = """
store = "{url}"
[table.buoy]
table_name = "mart.buoy"
natural_key = ["code"]
order_by = ["at"]
types = {{ at = "integer" }}
[table.buoy.feed.registry]
kind = "upserts"
files = "inbox/*.csv"
"""


@pytest.fixture
def url() -> Iterator[str]:
    with fresh_database() as made:
        yield made


def frame(*rows: tuple[str, int, str]) -> pa.Table:
    codes, times, lights = zip(*rows, strict=True)
    return pa.table({"code": codes, "at": times, "light": lights})


def as_role(url: str, role: str) -> str:
    return urlsplit(url)._replace(netloc=f"{role}:Hemmelig7@").geturl()


def told(url: str, **settings: str) -> str:
    """The same address with settings of the session."""
    options = "%20".join(f"-c%20{name}%3D{value}" for name, value in settings.items())
    return f"{url}&options={options}"


def test_a_role_that_may_do_nothing_is_told_the_grants_and_loads_with_them(url: str, tmp_path: Path) -> None:
    (tmp_path / "inbox").mkdir()
    (tmp_path / "inbox" / "1.csv").write_text("code,at,light\nNB-1,1,Q\n")
    role = f"loader_{time.time_ns()}"
    (tmp_path / "brenvik.toml").write_text(PROJECT.format(url=as_role(url, role)))
    with psycopg.connect(url, autocommit=True) as owner:
        name = owner.execute("SELECT current_database()").fetchall()[0][0]
        owner.execute(f"CREATE ROLE {role} LOGIN PASSWORD 'Hemmelig7'".encode())
        owner.execute(f"REVOKE ALL ON DATABASE {name} FROM PUBLIC".encode())
        owner.execute(f"GRANT CONNECT ON DATABASE {name} TO {role}".encode())
        owner.execute("CREATE SCHEMA mart")
        failed = call("load", cwd=tmp_path)
        assert failed.code == 1
        seen = call("check", "--rights", "--json", cwd=tmp_path)
        assert seen.code == 2
        assert all("Hemmelig7" not in text for text in (failed.err, failed.out, seen.out))
        assert {grant.partition(" ")[0] for grant in seen.json["missing"]} == {"GRANT", "CREATE"}
        for grant in seen.json["missing"]:
            owner.execute(grant.encode())
        assert "has all the rights that a load needs" in call("check", "--rights", cwd=tmp_path).out
        done = call("load", cwd=tmp_path)
        assert (done.code, done.err) == (0, "")
        assert owner.execute("SELECT code FROM mart.buoy").fetchall() == [("NB-1",)]
        taken = "ALTER TABLE brenvik.runs OWNER TO CURRENT_USER"
        owner.execute(f"{taken}; REVOKE UPDATE ON brenvik.runs FROM {role}".encode())
        again = call("check", "--rights", "--json", cwd=tmp_path).json["missing"]
        assert again == [f'GRANT SELECT, INSERT, UPDATE, DELETE ON "brenvik"."runs" TO "{role}";']
        owner.execute(f"DROP OWNED BY {role} CASCADE".encode())
        owner.execute(f"DROP ROLE {role}".encode())


def test_a_preview_of_a_large_batch_needs_only_reading_rights(url: str) -> None:
    rows = [(f"NB-{number:05}", 1, "Q") for number in range(60_000)]
    role = f"reader_{time.time_ns()}"
    with brenvik.open_store(url) as store:
        store.load(RULES, frame(*rows), kind="upserts")
    with psycopg.connect(url, autocommit=True) as beside:
        beside.execute(f"CREATE ROLE {role} LOGIN PASSWORD 'Hemmelig7'".encode())
        beside.execute(f"GRANT USAGE ON SCHEMA brenvik, public TO {role}".encode())
        beside.execute(f"GRANT SELECT ON ALL TABLES IN SCHEMA brenvik, public TO {role}".encode())
    with brenvik.open_store(as_role(url, role)) as store:
        outcome = store.preview(RULES, frame(*((code, 2, "F") for code, _, _ in rows)), kind="upserts")
        assert outcome.counts["versioned"] == 60_000


def test_reading_needs_only_reading_rights(url: str, tmp_path: Path) -> None:
    (tmp_path / "brenvik.toml").write_text(PROJECT.format(url=url).replace("mart.buoy", "buoy"))
    role = f"reader_{time.time_ns()}"
    with brenvik.open_store(url) as store:
        store.load(RULES, frame(("NB-1", 1, "Q")), kind="upserts")
    with psycopg.connect(url, autocommit=True) as owner:
        owner.execute(f"CREATE ROLE {role} LOGIN".encode())
        for schema in ("public", "brenvik"):
            owner.execute(f"GRANT USAGE ON SCHEMA {schema} TO {role}".encode())
            owner.execute(f"GRANT SELECT ON ALL TABLES IN SCHEMA {schema} TO {role}".encode())
        with brenvik.open_store(as_role(url, role), read_only=True) as store:
            assert store.history(RULES, "NB-1").num_rows == 1
            assert store.ledger.runs()["state"].to_pylist() == ["done"]
            assert store.preview(RULES, frame(("NB-1", 2, "Fl")), kind="upserts").counts["versioned"] == 1
            with pytest.raises(StoreError, match="permission denied"):
                store.load(RULES, frame(("NB-1", 2, "Fl")), kind="upserts")
        owner.execute(f"DROP OWNED BY {role} CASCADE".encode())
        owner.execute(f"DROP ROLE {role}".encode())


@contextmanager
def entangled(url: str) -> Iterator[None]:
    """Somebody who holds what a load of ``buoy`` needs last, and as soon as the load holds its rows, asks for these."""

    def ask_for_rows() -> None:
        free = "SELECT count(*) FROM (SELECT 1 FROM buoy FOR UPDATE SKIP LOCKED) s"
        with psycopg.connect(url, autocommit=True) as look:
            while look.execute(free).fetchall() == [(2,)]:
                time.sleep(0.001)
        other.execute("UPDATE buoy SET light = light")
        other.commit()

    with psycopg.connect(told(url, deadlock_timeout="60s")) as other:
        other.execute("UPDATE brenvik.tables SET last_key = last_key")
        thread = threading.Thread(target=ask_for_rows)
        thread.start()
        yield
        thread.join()


def test_a_deadlock_is_tried_again(url: str) -> None:
    with brenvik.open_store(told(url, deadlock_timeout="500ms")) as store:
        store.load(RULES, frame(("A", 1, "Q"), ("B", 1, "Q")), kind="upserts")
        with entangled(url):
            outcome = store.load(RULES, frame(("A", 2, "Fl"), ("B", 2, "Fl")), kind="upserts")
        assert outcome.counts["versioned"] == 2
        runs = store.ledger.runs()
        assert runs["state"].to_pylist() == ["done", "failed", "done"]
        assert "deadlock" in runs["message"].to_pylist()[1]
        assert store.read(RULES).num_rows == 4


def test_a_stream_that_is_used_up_is_not_tried_again(url: str) -> None:
    with brenvik.open_store(told(url, deadlock_timeout="500ms")) as store:
        store.load(RULES, frame(("A", 1, "Q"), ("B", 1, "Q")), kind="upserts")
        with entangled(url), pytest.raises(Conflict, match="deadlock") as raised:
            store.load(RULES, frame(("A", 2, "Fl"), ("B", 2, "Fl")).to_reader(), kind="upserts")
        assert raised.value.can_retry
        assert store.read(RULES).num_rows == 2


def test_a_lock_that_is_not_given_in_time_ends_the_load_and_changes_nothing(url: str, tmp_path: Path) -> None:
    (tmp_path / "inbox").mkdir()
    (tmp_path / "brenvik.toml").write_text(
        PROJECT.format(url=told(url, lock_timeout="200ms")).replace("mart.buoy", "buoy")
    )
    with brenvik.open_store(url) as store:
        store.load(RULES, frame(("A", 1, "Q")), kind="upserts")
    (tmp_path / "inbox" / "1.csv").write_text("code,at,light\nA,2,Fl\n")
    with psycopg.connect(url) as other:
        other.execute("LOCK TABLE buoy IN ACCESS EXCLUSIVE MODE")
        late = call("load", cwd=tmp_path)
        assert (late.code, "lock timeout" in late.out) == (5, True)
        with (
            brenvik.open_store(told(url, statement_timeout="2s")) as store,
            pytest.raises(StoreUnavailable, match="timeout"),
        ):
            store.read(RULES)
    assert call("load", cwd=tmp_path).code == 0


def test_the_second_loader_waits_then_says_who_holds_the_table(url: str) -> None:
    started, go_on = threading.Event(), threading.Event()

    def pieces() -> Iterator[pa.RecordBatch]:
        started.set()
        assert go_on.wait(30)
        yield from frame(("A", 1, "Q")).to_batches()

    with brenvik.open_store(url) as one, brenvik.open_store(url) as other:
        reader = pa.RecordBatchReader.from_batches(frame(("A", 1, "Q")).schema, pieces())
        first = threading.Thread(target=lambda: one.load(RULES, reader, kind="upserts"))
        first.start()
        assert started.wait(30)
        with pytest.raises(Busy, match=r"being loaded by .*backend \d+"):
            other.load(RULES, frame(("A", 2, "Fl")), kind="upserts", wait_s=0.3)
        elsewhere = brenvik.TableRules("float", natural_key="code", order_by="at")
        assert other.load(elsewhere, frame(("A", 2, "Fl")), kind="upserts").state == "done"
        go_on.set()
        assert other.load(RULES, frame(("A", 2, "Fl")), kind="upserts").counts["versioned"] == 1
        first.join()


def test_names_and_values_with_quotes_and_percent_signs_are_only_names_and_values(url: str) -> None:
    odd = brenvik.TableRules('1 % of "it"; DROP', natural_key="k%(run)s", order_by="at")
    rows = pa.table({"k%(run)s": ["%s", "'; DROP TABLE x; --"], "at": [1, 2], 'li"ght%': ["100 %", "%(x)s"]})
    with brenvik.open_store(url) as store:
        store.load(odd, rows, kind="upserts")
        assert store.read(odd).select(["k%(run)s", 'li"ght%']).to_pylist() == sorted(
            rows.select(["k%(run)s", 'li"ght%']).to_pylist(), key=lambda row: str(row["k%(run)s"])
        )


def test_a_server_that_is_not_there_is_told_without_the_password(tmp_path: Path) -> None:
    with pytest.raises(StoreUnavailable) as down:
        brenvik.open_store(f"postgresql://coast:Hemmelig7@/coast?host={tmp_path}")
    assert "Hemmelig7" not in str(down.value)
    assert "cannot be reached" in str(down.value)
    with pytest.raises(StoreError) as wrong:
        brenvik.open_store("postgresql://coast:Hemmelig7@[half/coast")
    assert "Hemmelig7" not in str(wrong.value)


def test_a_large_batch_is_held_against_the_table_by_several_workers_and_leaves_nothing(url: str) -> None:
    rows = [(f"NB-{number:05}", 1, "Q") for number in range(60_000)]
    with brenvik.open_store(url) as store, psycopg.connect(url, autocommit=True) as beside:
        store.load(RULES, frame(*rows), kind="upserts")
        statements: list[str] = []
        run = store.engine._execute  # type: ignore[attr-defined]
        store.engine._execute = lambda text, values=None: (statements.append(text), run(text, values))[1]  # type: ignore[attr-defined]
        outcome = store.load(RULES, frame(*((code, 2, "F") for code, _, _ in rows[:-1])), kind="upserts")
        assert outcome.counts["versioned"] == 59_999
        assert store.read(RULES).num_rows == 119_999
        assert sum("CREATE UNLOGGED TABLE" in text for text in statements) == 1
        assert not any(
            "CREATE UNLOGGED" in text for text in statements if "brenvik_w" not in text or "_staged" not in text
        )
        left = "SELECT relname FROM pg_class WHERE relpersistence = 'u'"
        assert beside.execute(left.encode()).fetchall() == []


def test_deletes_are_released_after_many_others_were(url: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("brenvik.engines.postgres.engine._WORTH_SHARING", 3)
    rules = replace(RULES, deletes="review", max_deletes=None)
    rows = [(f"NB-{number:02}", 1, "Q") for number in range(12)]
    with brenvik.open_store(url) as store:
        store.load(rules, frame(*rows), kind="upserts")
        gone = frame(*((code, 2, "Q") for code, _, _ in rows)).append_column("op", pa.array(["D"] * 12))
        store.load(rules, gone, kind="changes", operation="op")
        numbers = store.pending_deletes(rules)["brenvik_delete_no"].to_pylist()
        store.approve_deletes(rules, *numbers[:10])
        store.approve_deletes(rules, numbers[10])
        assert sum(end is None for end in store.read(rules)["valid_to"].to_pylist()) == 1


def test_names_that_the_server_would_cut_or_has_taken_are_told(url: str) -> None:
    with brenvik.open_store(url) as store:
        for end in ("one", "two"):  # alike in the first 63 bytes of what keeps their changes
            rules = replace(RULES, table=f"buoys_of_the_northern_the_southern_and_eastern_coast_{end}")
            for light in ("Q", "F"):
                store.load(rules, frame(("NB-1", 1 if light == "Q" else 2, light)), kind="upserts")
            assert store.read(rules)["light"].to_pylist() == ["Q", "F"]
            assert len(store.change_log(rules, {"code": "NB-1"})) == 2
        too_long = replace(RULES, table="ø" * 32)
        odd = frame(("NB-1", 1, "Q")).append_column("xmin", pa.array([1.5])).append_column("l" * 64, pa.array(["x"]))
        with pytest.raises(FeedError) as refused:
            store.load(too_long, odd, kind="upserts")
        for told in (f"{'ø' * 32} has 64 bytes", f"{'l' * 64} has 64 bytes", "xmin is reserved in this store"):
            assert told in str(refused.value)
        found = store.ledger.runs()["state"].to_pylist()
        assert found == ["failed", *["done"] * 4]


def test_instants_and_decimals_come_back_as_they_went_in(url: str) -> None:
    rules = brenvik.TableRules("buoy", natural_key="code", order_by="at", types={"depth": "decimal(9,2)"})
    rows = pa.table(
        {
            "code": ["A"],
            "at": pa.array([datetime(2024, 5, 13, 8)], pa.timestamp("us", tz="Europe/Oslo")),
            "depth": ["1.50"],
        }
    )
    with brenvik.open_store(url) as store:
        store.load(rules, rows, kind="upserts")
        found = store.read(rules)
        assert found.schema.field("valid_from").type == pa.timestamp("us", tz="UTC")
        assert found.schema.field("depth").type == pa.decimal128(9, 2)
        assert found["valid_from"].cast(pa.int64()) == rows["at"].cast(pa.int64())


SETTINGS = {
    "extra_float_digits": "0", "DateStyle": "German", "bytea_output": "escape", "standard_conforming_strings": "off",
    "IntervalStyle": "sql_standard", "TimeZone": "Asia/Tokyo", "backslash_quote": "on", "array_nulls": "off",
}  # fmt: skip


def test_settings_of_the_database_change_nothing_that_is_read_or_written(url: str) -> None:
    rows = pa.table(
        {
            "code": ["a\\b'c"],
            "at": [1],
            "depth": [0.1 + 0.2],
            "raw": [b"\x00\\\xff"],
            "seen": [datetime(2024, 5, 13, 8, 0, 0, 5)],
        }
    )
    with psycopg.connect(url, autocommit=True) as connection:
        for name, value in SETTINGS.items():
            connection.execute(f"ALTER DATABASE {urlsplit(url).path[1:]} SET {name} = '{value}'".encode())
    with brenvik.open_store(url) as store:
        store.load(RULES, rows, kind="upserts")
        assert store.load(RULES, rows, kind="upserts").counts["duplicate"] == 1
        (row,) = store.read(RULES).to_pylist()
        (kept,) = store.engine.ask('SELECT * FROM "brenvik"."change_log_buoy"').to_pylist()
    expected = rows.to_pylist()[0]
    for found in (row, kept):
        assert {name: found[name] for name in expected if name in found} == {
            name: expected[name] for name in expected if name in found
        }
    assert row["depth"] == 0.1 + 0.2


def test_columns_without_a_type_of_ours_are_read_as_text(url: str) -> None:
    with psycopg.connect(url, autocommit=True) as connection:
        connection.execute(
            b"CREATE TABLE buoy (buoy_key BIGINT GENERATED ALWAYS AS IDENTITY, code TEXT, light TEXT, valid_from TIMESTAMP, "
            b"valid_to TIMESTAMP, id UUID DEFAULT '00000000-0000-0000-0000-00000000002a', tags JSONB DEFAULT '{\"a\": 1.10}')"
        )
    with brenvik.open_store(url) as store:
        rules = brenvik.TableRules("buoy", natural_key="code")
        store.adopt(rules, {"code": "text", "light": "text"})
        store.load(rules, pa.table({"code": ["A"], "light": ["Q"]}), kind="upserts")
        (row,) = store.read(rules).to_pylist()
    assert (row["id"], row["tags"]) == ("00000000-0000-0000-0000-00000000002a", '{"a": 1.10}')


def test_a_character_that_the_database_lacks_makes_a_reject_which_is_kept_whole(url: str) -> None:
    with psycopg.connect(url, autocommit=True) as connection:
        connection.execute(
            b"CREATE DATABASE coast_latin ENCODING LATIN1 TEMPLATE template0 LC_COLLATE 'C' LC_CTYPE 'C'"
        )
    try:
        rules = replace(RULES, exclude=["noted"], reject_if={"no light": "light = 'none'"})
        rows = {
            "code": ["NB-1", "NB-2", "NB-\U0001f600", "NB-4", "NB-5"],
            "at": [1, 2, 3, 4, 5],
            "light": ["Ærø", "5 \u20ac", "Q", "none", "Q"],
            "noted": ["\u20ac", "", "", "\u20ac\\u20ac", ""],
        }
        with brenvik.open_store(urlsplit(url)._replace(path="/coast_latin").geturl()) as store:
            assert store.load(rules, pa.table(rows), kind="upserts", label="\u20ac").counts["rejected"] == 3
            assert store.read(rules)["light"].to_pylist() == ["Ærø", "Q"]
            kept = store.ledger.rejects().to_pylist()
            assert [row["column_name"] for row in kept] == ["light", "code", "light"]
            assert kept[0]["reason"] == "light has the character \\u20ac, which this store does not support"
            told = [json.loads(row["content"]) for row in kept]
            assert [row["light"] for row in told] == ["5 \u20ac", "Q", "none"]
            assert (told[1]["code"], told[2]["noted"]) == ("NB-\U0001f600", "\u20ac\\u20ac")
            assert store.revert(rules, 1, reason="\u20ac").counts["rows_removed"] == 2
            assert store.history(rules, "\u20ac").num_rows == 0
    finally:
        with psycopg.connect(url, autocommit=True) as connection:
            connection.execute(b"DROP DATABASE coast_latin WITH (FORCE)")


def test_columns_called_like_those_of_rejects_are_loaded_as_they_are(url: str) -> None:
    rows = {"code": ["NB-1"], "at": [1], "reason": [datetime(2024, 5, 1).date()], "line_text": ["Q"], "since": [7]}
    with brenvik.open_store(url) as store:
        store.load(RULES, pa.table(rows), kind="upserts")
        (row,) = store.read(RULES).to_pylist()
    assert {name: row[name] for name in ("reason", "line_text", "since")} == {
        name: rows[name][0] for name in ("reason", "line_text", "since")
    }
