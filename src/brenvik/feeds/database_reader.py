"""Reads any database through SQLAlchemy: without writing to it, at one point in time, as a stream.

The source is read in one transaction that sees a consistent snapshot where the database offers that. Values are taken as the
driver returns them, bypassing SQLAlchemy's own types, and become Arrow columns of the types that the source states. Where a
source stores text for what it calls a time or a number (SQLite does, and the types of any query's columns are guesses),
values travel as text and are validated like those of a file: a value that does not fit rejects its row, never the load.
"""

from __future__ import annotations

import itertools
import json
import re
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import sqlalchemy as sa
from sqlalchemy import exc

from brenvik.engines.arrays import of_numbers, of_values
from brenvik.engines.arrow import arrow_type
from brenvik.errors import DeclarationError, FeedError, SourceUnavailable
from brenvik.feeds.protocol import Batch, Chunk
from brenvik.merge.sequence import sequence_no
from brenvik.model.addresses import is_ambiguous
from brenvik.model.feeds import Connection
from brenvik.model.types import MAX_DIGITS, TEXT, ColumnType, parse_type, type_of_arrow

ROWS_PER_CHUNK = 20_000
_SQLITE_KEEPS = frozenset({"binary", "double", "integer"})

_CLOCKS = {
    "sqlite": "SELECT strftime('%Y-%m-%d %H:%M:%f', 'now')",
    "mysql": "SELECT UTC_TIMESTAMP(6)",
    "mariadb": "SELECT UTC_TIMESTAMP(6)",
    "mssql": "SELECT SYSUTCDATETIME()",
    "oracle": "SELECT SYS_EXTRACT_UTC(SYSTIMESTAMP) FROM DUAL",
}
_OF_THE_CALL = (
    "no such",
    'near "',
    "incomplete input",
    "ambiguous column",
    "misuse of",
)  # SQLite: what trying again cannot mend


def _url(connection: Connection) -> sa.URL:
    """The whole URL, secrets included. Raises DeclarationError when it is not valid."""
    try:
        url = sa.make_url(connection.url)
    except (exc.ArgumentError, ValueError):
        url = None
    in_file = url is not None and url.get_backend_name() == "sqlite"
    if url is None or (not in_file and is_ambiguous(connection.url)):
        raise DeclarationError(
            f"connections.{connection.name}: is not a valid database URL; expected one as in postgresql+psycopg://host/database, "
            "with special characters of the password percent-encoded (@ as %40, / as %2F). Passwords filled in by "
            "${NAME} are encoded automatically."
        )
    if connection.user is not None:
        url = url.set(username=connection.user)
    if connection.password is not None:
        url = url.set(password=connection.password)
    if url.get_backend_name() == "sqlite" and url.database and not url.database.startswith((":", "file:")):
        url = url.set(database=str(connection.folder / url.database))
    return url


def _masked(text: str, url: sa.URL) -> str:
    """A text with the secrets of a URL masked."""
    secrets = [str(url.password or ""), *(str(value) for value in url.query.values())]
    for secret in sorted(filter(None, secrets), key=len, reverse=True):
        text = text.replace(secret, "…")
    return text


@dataclass(frozen=True)
class Relation:
    """What is read: something to select from, and the stated type of each column (None: unknown)."""

    what: sa.FromClause
    types: Mapping[str, ColumnType | None]


class Reader:
    """A table or query of one database. ``name`` is its name in messages."""

    def __init__(self, connection: Connection, *, table: str | None = None, query: str | None = None) -> None:
        self.name = table or "the query"
        self._connection = connection
        self._table = table
        self._query = query

    @property
    def address(self) -> str:
        """The source in messages: without user, password and options."""
        declared = sa.make_url(self._connection.url).database  # of a file the path as it was written
        url = _url(self._connection).set(database=declared)
        return f"{url.get_backend_name()}://{url.host or ''}{f':{url.port}' if url.port else ''}/{url.database or ''}"

    def view(self) -> sa.Connection:
        """A connection with a read-only transaction that sees a consistent snapshot of the source where possible."""
        url = _url(self._connection)
        backend = url.get_backend_name()
        in_file = backend == "sqlite" and url.database and not url.database.startswith((":", "file:"))
        if in_file and not Path(url.database or "").is_file():  # else SQLite would make an empty one
            raise SourceUnavailable(f"{self.address}: the file does not exist. Nothing was read.")
        with self.driver_errors():
            try:
                engine = sa.create_engine(url, poolclass=sa.NullPool)
            except exc.NoSuchModuleError:
                raise DeclarationError(
                    f"connections.{self._connection.name}: SQLAlchemy has no driver named {url.drivername!r}"
                ) from None
            except ModuleNotFoundError as error:
                raise DeclarationError(
                    f"connections.{self._connection.name}: {url.drivername} needs the package {error.name!r}; "
                    f"pip install {error.name}, or name another driver in the URL"
                ) from None
            view = engine.connect()
            try:
                if backend == "postgresql":
                    view = view.execution_options(isolation_level="REPEATABLE READ", postgresql_readonly=True)
                elif backend in {"mysql", "mariadb"}:
                    view = view.execution_options(isolation_level="AUTOCOMMIT")
                    view.exec_driver_sql("START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY")
                elif backend == "sqlite":
                    view = view.execution_options(isolation_level="AUTOCOMMIT")
                    view.exec_driver_sql("PRAGMA query_only = ON")
                    view.exec_driver_sql("BEGIN")
            except BaseException:
                view.close()
                raise
            return view

    def relation(self, view: sa.Connection) -> Relation:
        """What is read, and the stated types of its columns."""
        types: dict[str, ColumnType | None]
        if self._table is not None:
            schema, _, table = self._table.rpartition(".")
            try:
                found = sa.inspect(view).get_columns(table, schema=schema or None)
            except exc.NoSuchTableError:
                raise FeedError(
                    f"{self.address} has no table {self._table!r}, or the user has no right to see it."
                ) from None
            types = {str(column["name"]): _stated(column["type"]) for column in found}
            what: sa.FromClause = sa.table(table, *(sa.column(name) for name in types), schema=schema or None)
        else:
            text = re.sub(r"(?<![:\\]):(?=\w)", r"\\:", (self._query or "").strip().rstrip(";"))
            text += "\n"  # it may end with a comment
            empty = view.execute(sa.text(f"SELECT * FROM ({text}) brenvik_query WHERE 1 = 0"))
            types = dict(zip(empty.keys(), map(_decimal, empty.cursor.description), strict=True))
            empty.close()
            what = sa.text(text).columns(*(sa.column(name) for name in types)).subquery("brenvik_query")
        return Relation(what, types)

    def now(self, view: sa.Connection) -> datetime:
        """The source's own clock, in UTC."""
        found = view.execute(
            sa.text(_CLOCKS.get(view.dialect.name, "SELECT CURRENT_TIMESTAMP").replace(":%", r"\:%"))
        ).scalar()
        moment = datetime.fromisoformat(found) if isinstance(found, str) else found
        if not isinstance(moment, datetime):
            raise FeedError(f"{self.address} did not return a time; its clock returned {moment!r}.")
        return moment.replace(tzinfo=UTC) if moment.tzinfo is None else moment.astimezone(UTC)

    def batch(
        self,
        view: sa.Connection,
        relation: Relation,
        *,
        source: str,
        tests: Sequence[sa.ColumnElement[bool]] = (),
        order_by: sa.ColumnElement[Any] | None = None,
    ) -> Batch:
        """The matching rows as a stream; closing the batch closes the view."""
        names = tuple(relation.types)
        rows = sa.select(*(relation.what.c[name] for name in names)).where(*tests)
        if order_by is not None:
            rows = rows.order_by(order_by)
        answer = view.execution_options(stream_results=True, yield_per=ROWS_PER_CHUNK).execute(rows)
        chunks = self._pieces(answer)
        natively = _SQLITE_KEEPS if view.dialect.name == "sqlite" else None
        stated = dict(relation.types)
        if self._table is None:  # the types of a query's columns are not declared: the first rows show them
            first = next(chunks, None)
            if first:
                stated = {name: _guess(values) or stated[name] for name, values in zip(names, first, strict=True)}
                chunks = itertools.chain([first], chunks)
            natively = frozenset({"binary"})
        columns = {
            name: kind if kind and (natively is None or kind.kind in natively) else TEXT
            for name, kind in stated.items()
        }

        def close() -> None:
            with suppress(exc.SQLAlchemyError):  # the connection may be gone
                answer.close()
            view.close()

        def arrays() -> Iterator[Chunk]:
            line = 1
            for chunk in chunks:
                made = [_array(v, columns[name], f"{self.name}: {name}") for name, v in zip(names, chunk, strict=True)]
                count = len(chunk[0])
                numbers = sequence_no(0, np.arange(line, line + count))
                yield Chunk(pa.RecordBatch.from_arrays(made, names=list(names)), of_numbers(numbers))
                line += count

        return Batch(
            source=source,
            columns=columns,
            parts={self.name: names},
            column_sets={0: names},
            chunks=arrays,
            source_types={name: kind for name, kind in stated.items() if kind and kind != columns[name]},
            close=close,
        )

    def _pieces(self, answer: sa.CursorResult[Any]) -> Iterator[list[tuple[Any, ...]]]:
        """The rows of an answer by columns, a chunk at a time."""
        with self.driver_errors(reading=True):
            for rows in answer.partitions(ROWS_PER_CHUNK):
                yield list(zip(*rows, strict=True))

    @contextmanager
    def driver_errors(self, *, reading: bool = False) -> Iterator[None]:
        """Translates the driver's errors: temporary ones, and those that someone must fix."""
        try:
            yield
        except exc.DBAPIError as error:
            message = _masked(str(error.orig).strip().partition("\n")[0], _url(self._connection))
            where = self.address
            temporary = isinstance(error, (exc.OperationalError, exc.InterfaceError)) and not message.startswith(
                _OF_THE_CALL
            )
            if error.connection_invalidated or temporary:
                what = "closed the connection while being read" if reading else "cannot be reached"
                raise SourceUnavailable(f"{where} {what}: {message}. Nothing was loaded; try again later.") from None
            raise FeedError(f"{where} cannot read {self.name}: {message}") from None
        except exc.SQLAlchemyError as error:
            raise FeedError(f"{self.name} cannot be read: {_masked(str(error), _url(self._connection))}") from None


def _stated(kind: sa.types.TypeEngine[Any]) -> ColumnType | None:
    """The type of a reflected column; None where text is the best choice."""
    match kind:
        case sa.Boolean():
            return parse_type("boolean")
        case sa.Integer():
            return parse_type("integer")
        case sa.Float():
            return parse_type("double")
        case sa.Numeric():
            if kind.precision and kind.precision <= 38:
                return parse_type(f"decimal({kind.precision},{kind.scale or 0})")
            return None
        case sa.DateTime():
            return parse_type("timestamp with time zone" if kind.timezone else "timestamp")
        case sa.Date():
            return parse_type("date")
        case sa.Time():
            return parse_type("time")
        case sa.LargeBinary():
            return parse_type("binary")
    return TEXT if isinstance(kind, sa.String) else None


def _decimal(column: Sequence[Any]) -> ColumnType | None:
    """The type of a column of decimals, of a cursor's description (PEP 249); None for other columns, and where it is not told."""
    precision, scale = column[4], column[5]
    if isinstance(precision, int) and isinstance(scale, int) and 0 <= scale <= precision <= MAX_DIGITS and precision:
        return ColumnType("decimal", precision=precision, scale=scale)
    return None


def _guess(values: Sequence[Any]) -> ColumnType | None:
    """The type that the values of a query suggest; None for text."""
    try:
        kind = type_of_arrow(pa.array(values).type)
    except (pa.ArrowException, OverflowError):
        return None
    return kind if kind and kind.kind not in {"text", "decimal"} else None


def _array(values: Sequence[Any], kind: ColumnType, place: str) -> pa.Array:
    if kind == TEXT and not any(isinstance(value, bytes) for value in values):
        return of_values([None if value is None else _text(value) for value in values], pa.string())
    with suppress(pa.ArrowException, OverflowError, TypeError):
        return of_values(values, arrow_type(kind))
    if kind == TEXT:
        return of_values([None if value is None else _text(value) for value in values], pa.string())
    odd = next((value for value in values if not _fits(value, kind)), None)
    raise FeedError(
        f"{place} has the value {odd!r}, which is not a valid {kind}, the type of the column in the source. "
        "Fix it in the source, or read a query that casts it; nothing was loaded."
    )


def _fits(value: Any, kind: ColumnType) -> bool:
    try:
        pa.array([value], arrow_type(kind))
    except (pa.ArrowException, OverflowError, TypeError):
        return False
    return True


def _text(value: Any) -> str:
    if isinstance(value, str):
        return value
    if isinstance(value, (dict, list)):
        return json.dumps(value, ensure_ascii=False, default=str)
    return value.hex() if isinstance(value, bytes) else str(value)
