"""Source databases for tests: SQLite files, and a real PostgreSQL server that a wheel brings along."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import UTC, datetime
from typing import Any

import sqlalchemy as sa

import brenvik
from brenvik.feeds.databases import Connection, DatabaseSource
from sources import load_from

VISITS = brenvik.TableRules("visit", natural_key="visit_no", order_by="modified_at", other_columns="type_1")
COLUMNS = {"visit_no": sa.Integer, "buoy_code": sa.Text, "work": sa.Text, "modified_at": sa.DateTime}
NOON = datetime(2024, 5, 14, 12, tzinfo=UTC)


class Registry:
    """A source that a test changes: one table, ``service_visit``."""

    def __init__(self, url: str | sa.URL, columns: Mapping[str, Any] = COLUMNS) -> None:
        self.url = sa.make_url(url)
        self.engine = sa.create_engine(self.url, poolclass=sa.NullPool)
        kinds = [sa.Column(name, kind) for name, kind in columns.items()]
        self.table = sa.Table("service_visit", sa.MetaData(), *kinds)
        self.table.drop(self.engine, checkfirst=True)
        self.table.create(self.engine)
        self.now = NOON

    def put(self, *rows: Sequence[Any]) -> None:
        with self.engine.begin() as connection:
            connection.execute(
                self.table.insert(), [dict(zip(self.table.columns.keys(), row, strict=True)) for row in rows]
            )

    def do(self, statement: str) -> None:
        with self.engine.begin() as connection:
            connection.exec_driver_sql(statement)

    @property
    def connection(self) -> Connection:
        return Connection("registry", self.url.render_as_string(hide_password=False))

    def source(self, *, watermark: str = "modified_at", kind: str = "upserts", **options: Any) -> DatabaseSource:
        """A feed of the table; its clock is the test's, at noon of 14 May 2024 unless ``now`` was moved."""
        if "query" not in options:
            options.setdefault("table", "service_visit")
        options.setdefault("clock", lambda: self.now)
        return DatabaseSource(self.connection, name="service", kind=kind, watermark=watermark, **options)


def at(hour: int, minute: int = 0, *, day: int = 14, second: int = 0, micro: int = 0) -> datetime:
    return datetime(2024, 5, day, hour, minute, second, micro)


def load(
    store: brenvik.Store, source: DatabaseSource, rules: brenvik.TableRules = VISITS, **words: Any
) -> brenvik.Outcome:
    return load_from(store, rules, source, **words)


def pieces(store: brenvik.Store, source: DatabaseSource) -> Iterator[brenvik.Outcome]:
    """All pieces of what a feed has, as a project's load takes them."""
    while True:
        outcome = load(store, source)
        yield outcome
        if not (outcome.window and outcome.window.more):
            return
