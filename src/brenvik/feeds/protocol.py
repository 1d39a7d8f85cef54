"""What every feed returns: a batch of rows as an Arrow stream, numbered by their position in the source."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import TYPE_CHECKING, Any, Protocol, runtime_checkable

from brenvik.errors import BrenvikError, UnreadableFile
from brenvik.ledger.records import LoadedFile, Watermark
from brenvik.merge.explain import KeyPlaces
from brenvik.merge.schema import SEQUENCE_NO
from brenvik.merge.sequence import sequence_no
from brenvik.merge.validate import PRESENT, RAW
from brenvik.model.positions import Position, as_text
from brenvik.model.types import ColumnType
from brenvik.model.value_formats import ValueFormats
from brenvik.model.watermarks import Window

if TYPE_CHECKING:
    import pyarrow as pa

Watch = Callable[[int], None]
"""Called with the number of rows read so far, now and then."""


@dataclass(frozen=True)
class BrokenLine:
    """A line that is not a row: too few or too many fields, or not JSON."""

    file: int
    line: int
    text: str
    reason: str


class Memory(Protocol):
    """What a store remembers of a feed, read while its table is locked."""

    def loaded_files(self, names: Sequence[str]) -> Mapping[str, LoadedFile]:
        """Which of the named files have been loaded, by name, each as of its last load."""
        ...

    def loaded_any_file(self) -> bool:
        """Whether the feed has ever loaded a file."""
        ...

    def watermark(self) -> Watermark | None: ...


@dataclass(frozen=True)
class LoadRequest:
    """What a load is to read instead of new data.

    ``after`` and ``until`` ask for the window (after, until], ``files`` for files by name, ``everything`` for all there is;
    ``pattern`` for new files among others than the feed's own. ``full`` asks for all rows of a source that is read by a
    watermark, whatever their watermark value: keys that it lacks are deleted, as by an extract.
    """

    after: str | None = None
    until: str | None = None
    files: tuple[str, ...] = ()
    everything: bool = False
    pattern: str | None = None
    full: bool = False


@dataclass(frozen=True)
class Chunk:
    """Some rows with the columns that any of them has, in the Arrow types of ``arrow_type``.

    ``sequence_numbers`` are their numbers (see ``merge.sequence``). ``column_set`` says which columns they have, by the numbers
    of ``Batch.column_sets``: one for all rows or one per row; absent values are null. ``raw`` are the original rows, where the
    columns do not preserve them.
    """

    rows: pa.RecordBatch
    sequence_numbers: pa.Array
    column_set: int | pa.Array = 0
    raw: pa.Array | None = None


@dataclass(frozen=True)
class ExtractTime:
    """The time of an extract: a moment as text, or a column of its rows; neither: the time of the load."""

    moment: str | None = None
    column: str | None = None


@dataclass
class Batch:
    """What one load takes from a feed.

    columns, parts
        The columns of all rows together; and those of each file (or of the frame or table), by name.
    column_sets
        Which columns a row can have, by number.
    chunks
        Returns the rows; only once, unless the batch ``can_reread``.
    broken, count
        The broken lines and the number of rows; complete when all chunks have been read.
    keeps_raw, can_derive
        Whether each chunk has the original rows; whether changes may be derived from a row.
    extract, more
        For an extract, its time; whether another batch follows this one.
    key_places
        Where the natural key stands in rows that came as records.
    retries
        The open rejects that are being retried: by number, the file and line that each came from.
    value_formats
        The declared formats of text values, by column.
    store_query, store_query_values
        For rows that are in the store: a query in the core's dialect, and its parameters, instead of chunks. Its result
        includes the sequence numbers.
    source_types
        Types that the source states for columns whose values travel as text.
    complete_at
        For a feed of upserts that was read in full: the time of the source's clock, zoned. Keys that it lacks are deleted.
    window, rows_skipped
        For a feed with a watermark: what is taken, and how many rows of the source are skipped.
    after_commit
        Called once the rows are committed; returns notes on what it could not do, and may be called again.
    close
        Releases the source.
    """

    source: str
    columns: Mapping[str, ColumnType]
    parts: Mapping[str, Sequence[str]]
    column_sets: Mapping[int, Sequence[str]]
    chunks: Callable[[], Iterator[Chunk]]
    files: tuple[LoadedFile, ...] = ()
    broken: list[BrokenLine] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    failure: BrenvikError | None = None
    source_types: Mapping[str, ColumnType] = field(default_factory=dict)
    window: Window | None = None
    rows_skipped: Mapping[str, int] = field(default_factory=dict)
    keeps_raw: bool = False
    can_derive: bool = False
    can_reread: bool = False
    count: int = 0
    store_query: str | None = None
    store_query_values: Mapping[str, Any] = field(default_factory=dict)
    extract: ExtractTime | None = None
    complete_at: datetime | None = None
    more: bool = False
    retries: Mapping[int, tuple[str | None, int | None]] = field(default_factory=dict)
    value_formats: Mapping[str, ValueFormats] = field(default_factory=dict)
    key_places: KeyPlaces = ()
    after_commit: Callable[[], list[str]] = list
    close: Callable[[], None] = lambda: None

    @property
    def types(self) -> dict[str, ColumnType]:
        """The types of the columns as the source means them."""
        return {**self.columns, **self.source_types}

    def rows(self, watch: Watch | None = None) -> pa.RecordBatchReader:
        """The stream: sequence numbers, column sets where they differ, original rows where kept, the columns."""
        import numpy as np
        import pyarrow as pa

        from brenvik.engines.arrays import of_numbers
        from brenvik.engines.arrow import arrow_type

        own = [(SEQUENCE_NO, pa.int64())]
        own += [(PRESENT, pa.int32())] if len(self.column_sets) > 1 else []
        own += [(RAW, pa.string())] if self.keeps_raw else []
        schema = pa.schema([*own, *((name, arrow_type(kind)) for name, kind in self.columns.items())])

        def stream() -> Iterator[pa.RecordBatch]:
            self.count = 0
            for chunk in self._remembering_failure():
                rows, size = chunk.rows, len(chunk.rows)
                arrays = [chunk.sequence_numbers]
                if len(self.column_sets) > 1:
                    one = isinstance(chunk.column_set, int)
                    arrays.append(
                        of_numbers(np.full(size, chunk.column_set, dtype=np.int32)) if one else chunk.column_set
                    )
                if self.keeps_raw:
                    arrays.append(pa.nulls(size, pa.string()) if chunk.raw is None else chunk.raw)
                for name, kind in self.columns.items():
                    present = name in rows.schema.names
                    arrays.append(rows.column(name) if present else pa.nulls(size, arrow_type(kind)))
                self.count += size
                if watch:
                    watch(self.count)
                yield pa.record_batch(arrays, schema=schema)

        return pa.RecordBatchReader.from_batches(schema, stream())

    def broken_rows(self) -> pa.RecordBatchReader:
        """The broken lines as a stream of sequence number, ``reason`` and ``line_text``."""
        import pyarrow as pa

        from brenvik.engines.arrays import of_values

        sequence_numbers = of_values([sequence_no(each.file, each.line) for each in self.broken], pa.int64())
        texts = [of_values([getattr(each, name) for each in self.broken], pa.string()) for name in ("reason", "text")]
        return pa.table([sequence_numbers, *texts], names=[SEQUENCE_NO, "reason", "line_text"]).to_reader()

    def _remembering_failure(self) -> Iterator[Chunk]:
        try:
            yield from self.chunks()
        except BrenvikError as error:
            self.failure = error
            raise


@runtime_checkable
class Source(Protocol):
    """A feed as a load sees it. ``can_reopen``: whether it can be opened again and still returns the same rows."""

    name: str
    kind: str
    can_reopen: bool

    def open(self, memory: Memory, request: LoadRequest | None = None) -> Batch:
        """What there is to load; a batch without columns when there is nothing new.

        The caller closes the batch. Raises FeedError when the source cannot be read as declared, SourceUnavailable when it
        cannot be reached, and DeclarationError when it cannot serve the request.
        """
        ...


@dataclass(frozen=True)
class Waiting:
    """What is waiting in a source; nothing was loaded.

    ``count`` files or rows (``unit``) are waiting, the oldest ``since`` then (UTC, without a zone; None where unknown). For a
    feed with a watermark, ``window`` is everything there is to load, and ``rows_skipped`` counts what it leaves out.
    ``attention`` are sentences on files that will never be loaded.
    """

    count: int
    unit: str
    since: datetime | None = None
    window: Window | None = None
    rows_skipped: Mapping[str, int] = field(default_factory=dict)
    notes: tuple[str, ...] = ()
    attention: tuple[str, ...] = ()


class ProjectSource(Source, Protocol):
    """A feed that a project declares: it persists between loads and can be inspected."""

    def waiting(self, memory: Memory) -> Waiting:
        """What a load would take now. Raises what ``open`` raises."""
        ...

    def sample(self, memory: Memory) -> Batch:
        """A batch of what there is, loaded or not, to see how it would be loaded; without columns when there is nothing. Its
        rows are not to be read. Raises what ``open`` raises."""
        ...

    def columns(self) -> dict[str, dict[str, ColumnType]]:
        """The columns of each available part of the source (a file, a table) by name, without reading the rows."""
        ...


@runtime_checkable
class CanQuarantine(Protocol):
    """A source that can move unreadable files away."""

    def quarantine(self, file: str) -> str | None:
        """Moves a file away if its feed says so; returns its new name, otherwise None."""
        ...

    def skip(self, file: str) -> bool:
        """Reads the others only, if a load would move this one away; returns whether it would."""
        ...


def skip_unreadable(source: object, error: UnreadableFile) -> bool:
    """Whether a load would move an unreadable file away; the source then reads the others only, and the error says so."""
    error.is_skipped = isinstance(source, CanQuarantine) and source.skip(error.file)
    return error.is_skipped


def notes_beside(seen: Mapping[str, int], clock: Position | None, *, watermark: str, name: str) -> Iterator[str]:
    """Notes on rows that are skipped because no window contains them."""
    if seen["future_rows"]:
        now = as_text(clock.replace(microsecond=0) if isinstance(clock, datetime) else clock)
        rows = "1 row is" if seen["future_rows"] == 1 else f"{seen['future_rows']:,} rows are"
        yield f"{rows} dated after the source's clock, {now}; skipped until then."
    if seen["without_watermark"]:
        rows = "1 row has" if seen["without_watermark"] == 1 else f"{seen['without_watermark']:,} rows have"
        yield f"{rows} no {watermark}; skipped: a window cannot contain them."
