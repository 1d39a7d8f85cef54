"""An SQLite database, in a file or in memory, through Python's own interface.

SQLite has numbers, texts and bytes only. What else there is, is kept as text of one form, so that equal values are equal
texts and, decimals aside, later ones sort later:

=============================  ==========================================
type                           kept as
=============================  ==========================================
date · time                    ``2024-05-13`` · ``08:00:00``
timestamp                      ``2024-05-13 08:00:00``, ``2024-05-13 08:00:00.500000``
timestamp with time zone       the same in UTC, with ``+00:00`` behind it
decimal(p,s)                   all digits behind the point: ``12.50``
boolean                        0 or 1
=============================  ==========================================

It has no schemas either: ``brenvik.runs`` is a table with a dot in its name.
"""

from __future__ import annotations

import re
import sqlite3
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, contextmanager, nullcontext, suppress
from datetime import UTC, date, datetime, time
from decimal import Context, Decimal, InvalidOperation
from functools import lru_cache
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
import sqlglot
import sqlglot.dialects.sqlite
from sqlglot import exp

from brenvik.engines.arrays import of_values
from brenvik.engines.locks import held, locked_in_file, missing_rights_of_file, name_of_query
from brenvik.engines.protocol import InPlace
from brenvik.engines.scratch import in_transit
from brenvik.errors import Conflict, StoreError
from brenvik.ledger.schema import SCHEMA, TABLES, VIEWS
from brenvik.merge import sql
from brenvik.merge.schema import Capabilities, StoredColumn
from brenvik.merge.validate import Staging
from brenvik.model.rules import TableRules
from brenvik.model.types import MAX_DIGITS, ColumnType, parse_type

_MADE = re.compile(r'CREATE TEMPORARY (TABLE|VIEW) "(\w+)"')
_LETS_BE_NULL = re.compile(r"\s*ALTER TABLE .* DROP NOT NULL\s*", re.DOTALL)
_NEEDED = (3, 39)
_EXACT = Context(prec=2 * MAX_DIGITS)  # else 28 digits are all there are
_ROWS = 20_000
_WORTH_AN_INDEX = 200
_NUMBERS = ("brenvik_sequence_no", "brenvik_version_no", "brenvik_row_id")
_TYPES = {
    exp.DataType.Type.DATE: "DATE",
    exp.DataType.Type.TIME: "TIME",
    exp.DataType.Type.TIMESTAMP: "TIMESTAMP",
    exp.DataType.Type.TIMESTAMPTZ: "TIMESTAMPTZ",
    exp.DataType.Type.DECIMAL: "DECIMAL_TEXT",  # with TEXT in its name, else SQLite makes floating point numbers of them
    exp.DataType.Type.BOOLEAN: "BOOLEAN",
}
_LEDGER_TYPES = {
    name: parse_type("timestamp")
    for columns in TABLES.values()
    for name, kind in columns.items()
    if kind == "TIMESTAMP"
} | dict.fromkeys(("last_done_at", "brenvik_pending_since"), parse_type("timestamp"))
_OF_LEDGER = re.compile(rf'"{SCHEMA}\.({"|".join((*TABLES, *VIEWS))})"')
"""Only there these names mean that: a table may call a column of another type as it likes."""


class SQLiteEngine(InPlace):
    """See ``protocol.Engine``.

    One process at a time loads tables of a file: while it does, it holds a lock in a file of the same name with
    ``-brenvik`` behind it, which ends with its process.
    """

    dialect = "sqlite"
    capabilities = Capabilities(
        "rowid",
        home="",
        whole_rows=True,
        seeks=True,
        own_names=frozenset({"true", "false"}),  # columns of subqueries that are called so cannot be named
        lacks=frozenset({"NaN", "comparing"}),
    )

    def __init__(self, path: str, *, read_only: bool = False) -> None:
        self.address = f"sqlite:{path}"
        self._path = None if path == ":memory:" else Path(path).resolve()
        self._read_only = read_only and self._path is not None
        self._holds = 0
        if sqlite3.sqlite_version_info < _NEEDED:
            raise StoreError(
                f"{self.address}: SQLite 3.39 or later is required; this Python has {sqlite3.sqlite_version}."
            )
        if self._path and not self._path.parent.is_dir():
            raise StoreError(
                f"{self.address}: the folder {self._path.parent} does not exist; create it, or correct the address of the store."
            )
        place = f"{self._path.as_uri()}?mode={'ro' if self._read_only else 'rwc'}" if self._path else ":memory:"
        with _reporting(self.address):
            self._connection = sqlite3.connect(
                place, uri=self._path is not None, isolation_level=None, timeout=30.0, check_same_thread=False
            )
            self._connection.execute("PRAGMA foreign_keys = ON")
            self._connection.execute("PRAGMA case_sensitive_like = ON")
            self._connection.execute("SELECT count(*) FROM sqlite_master").fetchall()  # is it a database at all?
        for name, words, function in _FUNCTIONS:
            self._connection.create_function(name, words, function, deterministic=True)
        self._made: dict[str, str] = {}
        self._sizes: dict[str, int] = {}
        self._discarded: list[str] = []

    def statement(self, text: str, *, pretty: bool = False) -> str:
        return _transpile(text, pretty=pretty)[0]

    def run(self, text: str, values: Mapping[str, Any] | None = None, *, work: str = sql.WORK) -> int:
        if _LETS_BE_NULL.fullmatch(text):  # no column was ever told not to be
            return 0
        statement, given = _compile(text, values, work)
        count = self._execute(statement, given).rowcount
        if made := _MADE.match(statement):
            self._made[made[2]] = made[1]
            if made[1] == "TABLE":
                ((count,),) = self._execute(f"SELECT count(*) FROM {sql.quote(made[2])}").fetchall()
                self._sizes[made[2]] = count
        return max(count, 0)

    def ask(
        self,
        text: str,
        values: Mapping[str, Any] | None = None,
        *,
        work: str = sql.WORK,
        types: Mapping[str, ColumnType] | None = None,
    ) -> pa.Table:
        statement, given = _compile(text, values, work)
        cursor = self._execute(statement, given)
        names = [column[0] for column in cursor.description]
        with _reporting(self.address):
            rows = cursor.fetchall()
        columns = zip(*rows, strict=True) if rows else [()] * len(names)
        known = {**(_LEDGER_TYPES if _OF_LEDGER.search(statement) else {}), **(types or {})}
        return pa.table(
            [_as_arrow(values, known.get(name)) for name, values in zip(names, columns, strict=True)], names=names
        )

    def rows(self, text: str, values: Mapping[str, Any] | None = None, *, work: str = sql.WORK) -> list[dict[str, Any]]:
        return list(self.ask(text, values, work=work).to_pylist())

    def stage(self, rows: pa.RecordBatchReader, staging: Staging, values: Mapping[str, Any], *, work: str) -> None:
        given = ", ".join(f"{sql.quote(name)} {kind}" for name, kind in staging.columns)
        self.run(f"CREATE TEMP TABLE {sql.work(staging.into)} ({given})", work=work)
        shown = ", ".join(f"{_kept_as(sql.quote(name), kind)} AS {sql.quote(name)}" for name, kind in staging.columns)
        places = ", ".join("?" * len(staging.columns))
        insert = f"INSERT INTO {sql.quote(work + staging.into)} VALUES ({places})"
        count = 0
        with _reporting(self.address):
            for chunk in in_transit(rows, staging, shown, values, address=self.address):
                count += chunk.num_rows
                for start in range(0, chunk.num_rows, _ROWS):
                    some = chunk.slice(start, _ROWS)
                    self._connection.executemany(insert, zip(*(column.to_pylist() for column in some), strict=True))
        self._sizes[work + staging.into] = count

    def has_table(self, name: str) -> bool:
        question = "SELECT count(*) FROM sqlite_master WHERE type IN ('table', 'view') AND lower(name) = lower(:name)"
        ((found,),) = self._execute(question, {"name": name}).fetchall()
        return bool(found)

    def columns_of(self, name: str) -> list[StoredColumn]:
        question = 'SELECT name, type, "notnull", dflt_value, pk, hidden FROM pragma_table_xinfo(:name)'
        columns = []
        for column, type_name, never_null, default, key, hidden in self._execute(question, {"name": name}).fetchall():
            numbers = bool(key) and type_name.upper() == "INTEGER"  # SQLite gives a number itself, or takes ours
            filled: Any = "generated" if hidden in (2, 3) else "default" if default is not None or numbers else ""
            needed = bool(never_null) and not filled
            columns.append(
                StoredColumn(column, _type_of(type_name), type_name or "nothing", needed=needed, filled=filled)
            )
        return columns

    def view(self, query: str) -> str:
        name = name_of_query(query)
        self._execute(f"CREATE TEMPORARY VIEW IF NOT EXISTS {sql.quote(name)} AS {query.rstrip().rstrip(';')}")
        return name

    def malformed(self, name: str, columns: Mapping[str, ColumnType]) -> dict[str, int]:
        tests = {
            column: f"COALESCE(sum(brenvik_odd({sql.quote(column)}, '{kind.sql}')), 0)"
            for column, kind in columns.items()
        }
        if not tests:
            return {}
        (found,) = self._execute(f"SELECT {', '.join(tests.values())} FROM {sql.quote(name)}").fetchall()
        return {column: count for column, count in zip(tests, found, strict=True) if count}

    def make_schema(self, name: str) -> None:
        """SQLite has no schemas here: the part before the dot is part of the name."""

    def index(self, table: str, columns: Sequence[str], *, split_by: str | None = None) -> None:
        name = f"brenvik index of {table} by {' '.join(columns)}"
        self._execute(f"CREATE INDEX {sql.quote(name)} ON {sql.quote(table)} ({sql.columns(columns)})")

    def index_work(self, relation: str, keys: Sequence[str], *, work: str) -> None:
        """SQLite looks a row up through an index, or else reads the whole table for each row that it joins."""
        table = work + relation
        if self._sizes.get(table, 0) < _WORTH_AN_INDEX:
            return
        names = {row[0] for row in self._execute("SELECT name FROM pragma_table_info(:table)", {"table": table})}
        for columns in (tuple(keys), *((name,) for name in _NUMBERS)):
            if names.issuperset(columns):
                index = sql.quote(f"{table} by {' '.join(columns)}")
                self._execute(f"CREATE INDEX IF NOT EXISTS temp.{index} ON {sql.quote(table)} ({sql.columns(columns)})")

    def missing_rights(self, tables: Sequence[str], *, own_schema: str) -> list[str]:
        return missing_rights_of_file(self._path)

    @contextmanager
    def transaction(self, of: TableRules | None = None) -> Iterator[None]:
        self._drop_discarded()
        self._execute("BEGIN IMMEDIATE" if self._holds else "BEGIN")
        try:
            yield
        except BaseException:
            with suppress(sqlite3.Error):
                self._connection.rollback()
            raise
        self._execute("COMMIT")

    @contextmanager
    def lock(self, table: str, *, wait_s: float) -> Iterator[None]:
        identity = f"sqlite {self._path or id(self)}"
        alone: AbstractContextManager[None] = nullcontext()
        if self._path and not self._holds:
            alone = locked_in_file(Path(f"{self._path}-brenvik"), table, address=self.address, wait_s=wait_s)
        with held(identity, table, address=self.address, wait_s=wait_s), alone:
            self._holds += 1
            try:
                yield
            finally:
                self._holds -= 1

    def on_discard(self, work: str) -> Callable[[], None]:
        discarded = self._discarded  # no reference to the engine: an outcome must not keep it alive
        return lambda: discarded.append(work)

    def close(self) -> None:
        self._connection.close()

    def _execute(self, statement: str, values: Mapping[str, Any] | None = None) -> sqlite3.Cursor:
        with _reporting(self.address):
            return self._connection.execute(statement, dict(values or {}))

    def _drop_discarded(self) -> None:
        while self._discarded:
            prefix = self._discarded.pop()
            for name in [name for name in self._made if name.startswith(prefix)]:
                self._sizes.pop(name, None)
                self._execute(f"DROP {self._made.pop(name)} IF EXISTS temp.{sql.quote(name)}")


def _compile(text: str, values: Mapping[str, Any] | None, work: str) -> tuple[str, dict[str, Any]]:
    """A statement in SQLite's language, and the values that it names in the form in which they are kept."""
    statement, casts = _transpile(text)
    given = {name: _plain(value) for name, value in (values or {}).items()}
    for name, parameter, kind in casts:
        if parameter in given:
            given[name] = _of_kind((values or {})[parameter], kind)
    return statement.replace(f'"{sql.WORK}', f'"{work}'), given


@lru_cache(maxsize=4096)
def _transpile(text: str, *, pretty: bool = False) -> tuple[str, tuple[tuple[str, str, str], ...]]:
    """The statement, and each parameter that is cast: the name it has then, its own, and the type."""
    casts: dict[str, tuple[str, str, str]] = {}

    def placed(node: exp.Expr) -> Any:  # what takes the place of a node is not walked through any more
        if isinstance(node, exp.Table) and node.args.get("db"):
            return exp.Table(this=_dotted(node.db, node.name), alias=node.args.get("alias"))
        if isinstance(node, exp.Column) and node.args.get("db"):
            return exp.Column(this=node.this, table=_dotted(node.text("db"), node.table))
        if isinstance(node, exp.ColumnDef):
            node.set("constraints", [])
            kind = node.args["kind"]
            if kind.this in _TYPES:
                name = _TYPES[kind.this] + (
                    f"({', '.join(e.sql() for e in kind.expressions)})" if kind.expressions else ""
                )
                node.set("kind", exp.DataType(this=exp.DataType.Type.USERDEFINED, kind=name))
            return node
        if isinstance(node, exp.TimestampTrunc):
            return exp.Anonymous(
                this="brenvik_trunc", expressions=[exp.Literal.string(str(node.args["unit"].name)), node.this]
            )
        if isinstance(node, exp.Cast):
            return cast(node)
        if isinstance(node, exp.Collate):  # texts are compared by their code points anyway
            return node.this.transform(placed)
        return node

    def cast(node: exp.Cast) -> Any:
        inner, kind = node.this, node.to
        if isinstance(inner, exp.Placeholder):
            type_name = kind.sql("postgres")
            name = f"{inner.name}_as_{len(casts)}"
            casts[name] = (name, inner.name, type_name)
            return exp.Placeholder(this=name)
        if kind.this in _TYPES or kind.this == exp.DataType.Type.JSON:  # kept in that form already
            return inner.transform(placed)
        return node

    tree = sqlglot.parse_one(text, read="postgres").transform(placed)
    statement: str = tree.sql("sqlite", identify=True, pretty=pretty)
    return statement, tuple(casts.values())


_DECLARED = {
    "TEXT": "text", "INTEGER": "integer", "BIGINT": "integer", "INT": "integer", "REAL": "double", "DOUBLE PRECISION": "double",
    "DOUBLE": "double", "BOOLEAN": "boolean", "DATE": "date", "TIME": "time", "TIMESTAMP": "timestamp", "DATETIME": "timestamp",
    "TIMESTAMPTZ": "timestamp with time zone", "BLOB": "binary",
}  # fmt: skip


def _type_of(type_name: str) -> ColumnType | None:
    """The type for what a column is declared to be; SQLite itself lets anything be in it."""
    upper = type_name.upper()
    if upper in _DECLARED:
        return parse_type(_DECLARED[upper])
    sized = re.fullmatch(r"(?:(VARCHAR)|DECIMAL_TEXT)\((\d+)(?:, ?(\d+))?\)", upper)
    if not sized:
        return None
    varchar, size, scale = sized.groups()
    return parse_type(f"text({size})" if varchar else f"decimal({size},{scale or 0})")


def _dotted(schema: str, name: str) -> exp.Identifier:
    return exp.to_identifier(f"{schema}.{name}", quoted=True)


def _plain(value: Any) -> Any:
    if isinstance(value, datetime):
        return _moment(value)
    if isinstance(value, Decimal):
        return f"{value:f}"
    return str(value) if isinstance(value, date) else value


def _moment(value: datetime) -> str:
    return str(value.astimezone(UTC)) if value.tzinfo else str(value)


def _of_kind(value: Any, kind: str) -> Any:
    """A parameter as values of a type are kept; the types as the core writes them."""
    if value is None:
        return None
    try:
        match kind.partition("(")[0]:
            case "TIMESTAMP":
                moment = value if isinstance(value, datetime) else datetime.fromisoformat(str(value))
                return _moment(moment.astimezone(UTC).replace(tzinfo=None) if moment.tzinfo else moment)
            case "TIMESTAMPTZ":
                moment = value if isinstance(value, datetime) else datetime.fromisoformat(str(value))
                return _moment(moment if moment.tzinfo else moment.replace(tzinfo=UTC))
            case "DATE":
                return str(value if isinstance(value, date) else date.fromisoformat(str(value)[:10]))
            case "TIME":
                hour = time.fromisoformat(str(value))
                if hour.tzinfo is not None:
                    raise ValueError
                return str(hour)
            case "BIGINT" | "INT" | "INTEGER":
                return int(str(value))
            case "DECIMAL":
                scale = int(kind.rstrip(")").partition(",")[2] or 0)
                exact = _EXACT.quantize(Decimal(str(value)), Decimal(1).scaleb(-scale))
                return f"{abs(exact) if exact == 0 else exact:f}"
            case "BOOLEAN":
                return int({"true": True, "false": False, "1": True, "0": False}[str(value).lower()])
            case "BYTEA":
                return value if isinstance(value, bytes) else str(value).encode()
            case "DOUBLE PRECISION":
                return float(value)
    except (ValueError, KeyError, InvalidOperation):
        raise StoreError(f"{value!r} is not a valid {kind.lower()}") from None
    return str(value)


def _kept_as(value: str, kind: str) -> str:
    """A value in DuckDB's flavour as it is kept, see the top."""
    text = f"CAST({value} AS VARCHAR)"
    match kind.partition("(")[0]:
        case "TIMESTAMP" | "TIMESTAMPTZ" | "TIME":
            zone = " || '+00:00'" if kind == "TIMESTAMPTZ" else ""
            form = "%H:%M:%S" if kind == "TIME" else "%Y-%m-%d %H:%M:%S"
            moment = f"CAST({value} AS TIMESTAMP)" if kind == "TIMESTAMPTZ" else value
            if kind == "TIME":
                moment = f"(DATE '2000-01-01' + {value})"
            return (
                f"CASE WHEN microsecond({moment}) % 1000000 = 0 THEN strftime({moment}, '{form}') "
                f"ELSE strftime({moment}, '{form}.%f') END{zone}"
            )
        case "DATE" | "DECIMAL":
            return text
        case "BOOLEAN":
            return f"CAST({value} AS INTEGER)"
    return value


_PLAIN = {int: pa.int64(), float: pa.float64(), str: pa.string(), bytes: pa.binary()}


def _as_arrow(values: Sequence[Any], kind: ColumnType | None) -> pa.Array:
    if kind is None:
        given = {type(value) for value in values} - {type(None)}
        plain_kind = _PLAIN.get(given.pop(), pa.string()) if len(given) == 1 else None if given else pa.string()
        return of_values(values, plain_kind) if plain_kind else pa.array(values)
    match kind.kind:
        case "timestamp":
            return of_values(values, pa.string()).cast(pa.timestamp("us"))
        case "timestamp with time zone":
            return of_values(values, pa.string()).cast(pa.timestamp("us", tz="UTC"))
        case "date":
            return of_values(values, pa.string()).cast(pa.date32())
        case "time":
            moments = pc.binary_join_element_wise("2000-01-01", of_values(values, pa.string()), " ")
            return moments.cast(pa.timestamp("us")).cast(pa.time64("us"))  # there is no cast from text
        case "decimal":
            return of_values(values, pa.string()).cast(pa.decimal128(kind.precision, kind.scale))
        case "boolean":
            return of_values(values, pa.int64()).cast(pa.bool_())
    plain = {"integer": pa.int64(), "double": pa.float64(), "binary": pa.binary()}
    return of_values(values, plain.get(kind.kind, pa.string()))


_UNITS = ("YEAR", "MONTH", "DAY", "HOUR", "MINUTE", "SECOND")


def _truncated(unit: str, value: str | None) -> str | None:
    """A time cut to a unit."""
    if value is None:
        return None
    moment = datetime.fromisoformat(value)
    kept = _UNITS.index(unit.upper()) + 1
    parts = [*moment.timetuple()[:6]][:kept] + [1, 1, 1, 0, 0, 0][kept:]
    cut = datetime(*parts, tzinfo=moment.tzinfo)  # type: ignore[arg-type,misc]
    return str(cut.date()) if len(value) == 10 else str(cut)


def _lower(value: Any) -> Any:
    return value if value is None else str(value).lower()


def _upper(value: Any) -> Any:
    return value if value is None else str(value).upper()


def _in_order(value: Any) -> str | None:
    """A number as a text that sorts as the number does; null where it is none."""
    try:
        return f"{int(_EXACT.scaleb(Decimal(str(value)), MAX_DIGITS)) + 10 ** (2 * MAX_DIGITS):0{2 * MAX_DIGITS + 1}d}"
    except (InvalidOperation, ValueError, OverflowError):
        return None


def _is_odd(value: Any, kind: str) -> int:
    """Whether a value is kept in another form than values of a type are."""
    if value is None or kind == "TEXT":
        return int(not (value is None or isinstance(value, str)))
    try:
        return int(_of_kind(value, kind) != value)
    except StoreError:
        return 1


_FUNCTIONS: tuple[tuple[str, int, Callable[..., Any]], ...] = (
    ("brenvik_trunc", 2, _truncated),
    ("brenvik_odd", 2, _is_odd),
    ("brenvik_in_order", 1, _in_order),
    ("lower", 1, _lower),  # SQLite's own know the letters a to z
    ("upper", 1, _upper),
)


@contextmanager
def _reporting(address: str) -> Iterator[None]:
    try:
        yield
    except sqlite3.OperationalError as error:
        if getattr(error, "sqlite_errorcode", 0) & 0xFF in (sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED):
            raise Conflict(f"{address} is locked by another connection: {error}. Try again later.") from error
        raise StoreError(f"{address} rejected a statement: {error}") from error
    except sqlite3.Error as error:
        raise StoreError(f"{address} rejected a statement: {error}") from error
