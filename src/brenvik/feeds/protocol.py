"""What every feed gives: a batch of rows as an Arrow stream, numbered as they stood in their source."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import TYPE_CHECKING, Any, Protocol

from brenvik.errors import BrenvikError
from brenvik.ledger.records import LoadedFile, Watermark
from brenvik.merge.explain import KeyPlaces
from brenvik.merge.schema import SEQUENCE_NO
from brenvik.merge.sequence import sequence_no
from brenvik.merge.validate import PRESENT, RAW
from brenvik.model.types import ColumnType
from brenvik.model.watermarks import Mark, Window, told

if TYPE_CHECKING:
    import pyarrow as pa

Watch = Callable[[int], None]
"""Called with the number of rows read so far, now and then."""


@dataclass(frozen=True)
class BrokenLine:
    """A line that is no row: it has too few or too many fields, or is no JSON."""

    file: int
    line: int
    text: str
    reason: str


class Memory(Protocol):
    """What a store remembers of a feed, read under the hold of its table."""

    def loaded_files(self, names: Sequence[str]) -> Mapping[str, LoadedFile]:
        """Those of the named files that were taken before, by name, each as it was when it was taken last."""
        ...

    def loaded_any_file(self) -> bool:
        """Whether the feed ever took a file."""
        ...

    def watermark(self) -> Watermark | None: ...


@dataclass(frozen=True)
class Wanted:
    """What a person asks a feed for instead of what is new.

    ``after`` and ``until`` ask for the window (after, until], ``files`` for files by name, ``everything`` for all there is;
    ``pattern`` for what is new among other files than the feed's own.
    """

    after: str | None = None
    until: str | None = None
    files: tuple[str, ...] = ()
    everything: bool = False
    pattern: str | None = None


@dataclass(frozen=True)
class Piece:
    """Some rows with the columns that any of them carries, in the Arrow types of ``arrow_type``.

    ``arrivals`` are their numbers (see ``merge.sequence``). ``carried`` tells by the numbers of ``Batch.carried`` which columns
    they carry, the same for all or row by row; what a row does not carry is null. ``raw`` are the rows as they came, where
    their columns do not say all of it.
    """

    rows: pa.RecordBatch
    arrivals: pa.Array
    carried: int | pa.Array = 0
    raw: pa.Array | None = None


@dataclass(frozen=True)
class ExtractTime:
    """When an extract holds: at a moment as people write it, or as a column of its rows says; neither: when it is loaded."""

    moment: str | None = None
    column: str | None = None


@dataclass
class Batch:
    """What one load takes from a feed.

    ``columns`` are those of all rows together, ``parts`` those of each file (or of the frame, or table) by its name. ``carried``
    tells by number which columns a row can carry. ``pieces`` gives the rows, once, and where the batch ``repeats`` as often
    as it is asked. ``broken`` is complete when they have been read, and then ``count`` says how many there were. With
    ``keeps_raw`` each piece has its rows as they came; with ``derives`` there may be changes derived from a row.
    ``extract`` says that the rows are all there are, and when; with ``more`` another batch waits behind this one.
    ``key_places`` tells where the natural key stands in rows that came as records. ``retries`` are the numbers of open rejects
    that are taken again.
    A batch ``inside`` the store has no pieces: it is a question in the core's flavour over what the store holds, with
    ``inside_values`` for its parameters; its answer has the arrival numbers too.
    ``stated`` are types that the source states for columns whose values travel as text. ``window`` is what a feed with
    a watermark takes, ``seen`` what was counted in its source beside that. ``after_commit`` is called once what was
    taken is safe in the table; it tells what it could not do, and may be called again. ``close`` lets go of the source.
    """

    source: str
    columns: Mapping[str, ColumnType]
    parts: Mapping[str, Sequence[str]]
    carried: Mapping[int, Sequence[str]]
    pieces: Callable[[], Iterator[Piece]]
    files: tuple[LoadedFile, ...] = ()
    broken: list[BrokenLine] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    failure: BrenvikError | None = None
    stated: Mapping[str, ColumnType] = field(default_factory=dict)
    window: Window | None = None
    seen: Mapping[str, int] = field(default_factory=dict)
    keeps_raw: bool = False
    derives: bool = False
    repeats: bool = False
    count: int = 0
    inside: str | None = None
    inside_values: Mapping[str, Any] = field(default_factory=dict)
    extract: ExtractTime | None = None
    more: bool = False
    retries: tuple[int, ...] = ()
    key_places: KeyPlaces = ()
    after_commit: Callable[[], list[str]] = list
    close: Callable[[], None] = lambda: None

    @property
    def types(self) -> dict[str, ColumnType]:
        """The types of the columns as the source means them."""
        return {**self.columns, **self.stated}

    def rows(self, watch: Watch | None = None) -> pa.RecordBatchReader:
        """The stream: arrival numbers, what is carried where that differs, the rows as they came where kept, the columns."""
        import numpy as np
        import pyarrow as pa

        from brenvik.engines.arrays import of_numbers
        from brenvik.engines.arrow import arrow_type

        own = [(SEQUENCE_NO, pa.int64())]
        own += [(PRESENT, pa.int32())] if len(self.carried) > 1 else []
        own += [(RAW, pa.string())] if self.keeps_raw else []
        schema = pa.schema([*own, *((name, arrow_type(kind)) for name, kind in self.columns.items())])

        def stream() -> Iterator[pa.RecordBatch]:
            self.count = 0
            for piece in self._remembering_failure():
                rows, size = piece.rows, len(piece.rows)
                arrays = [piece.arrivals]
                if len(self.carried) > 1:
                    one = isinstance(piece.carried, int)
                    arrays.append(of_numbers(np.full(size, piece.carried, dtype=np.int32)) if one else piece.carried)
                if self.keeps_raw:
                    arrays.append(pa.nulls(size, pa.string()) if piece.raw is None else piece.raw)
                for name, kind in self.columns.items():
                    present = name in rows.schema.names
                    arrays.append(rows.column(name) if present else pa.nulls(size, arrow_type(kind)))
                self.count += size
                if watch:
                    watch(self.count)
                yield pa.record_batch(arrays, schema=schema)

        return pa.RecordBatchReader.from_batches(schema, stream())

    def broken_rows(self) -> pa.RecordBatchReader:
        """The broken lines as a stream of arrival number, ``reason`` and ``line_text``."""
        import pyarrow as pa

        from brenvik.engines.arrays import of_values

        arrivals = of_values([sequence_no(each.file, each.line) for each in self.broken], pa.int64())
        texts = [of_values([getattr(each, name) for each in self.broken], pa.string()) for name in ("reason", "text")]
        return pa.table([arrivals, *texts], names=[SEQUENCE_NO, "reason", "line_text"]).to_reader()

    def _remembering_failure(self) -> Iterator[Piece]:
        try:
            yield from self.pieces()
        except BrenvikError as error:
            self.failure = error
            raise


class Source(Protocol):
    """A feed as a load sees it.

    ``opens_again`` says whether it can be opened once more and then gives what is there all the same.
    """

    name: str
    kind: str
    opens_again: bool

    def open(self, memory: Memory, wanted: Wanted | None = None) -> Batch:
        """What there is to take; a batch without columns when there is nothing new.

        Whoever opens a batch closes it. Raises FeedError when the source cannot be read as declared, SourceUnavailable when it
        cannot be reached, and DeclarationError when it cannot give what is wanted.
        """
        ...


@dataclass(frozen=True)
class Waiting:
    """What a look at a source found; nothing of it was taken.

    ``count`` files or rows (``unit``) wait, the oldest ``since`` then (UTC, without a zone; None where nothing tells). For a
    feed with a watermark, ``window`` is the next one, whole, and ``seen`` what was counted beside it. ``attention`` are
    sentences on what a person should look at, as nothing will be taken of it.
    """

    count: int
    unit: str
    since: datetime | None = None
    window: Window | None = None
    seen: Mapping[str, int] = field(default_factory=dict)
    notes: tuple[str, ...] = ()
    attention: tuple[str, ...] = ()


class StandingSource(Source, Protocol):
    """A feed that a project declares: it is there between loads and can be looked at."""

    def waiting(self, memory: Memory) -> Waiting:
        """What a load would take now. Raises what ``open`` raises."""
        ...

    def columns(self) -> dict[str, dict[str, ColumnType]]:
        """The columns of each part of the source (a file, a table) that is there, by its name, without reading the rows."""
        ...


def notes_beside(seen: Mapping[str, int], clock: Mark | None, *, watermark: str, name: str) -> Iterator[str]:
    """Notes on rows that are skipped because no window contains them."""
    if seen["future_rows"]:
        now = told(clock.replace(microsecond=0) if isinstance(clock, datetime) else clock)
        rows, them = ("1 row is", "it") if seen["future_rows"] == 1 else (f"{seen['future_rows']:,} rows are", "them")
        yield f"{rows} ahead of the source's clock, {now}, and left out until it has passed {them}."
    if seen["without_watermark"]:
        rows = "1 row has" if seen["without_watermark"] == 1 else f"{seen['without_watermark']:,} rows have"
        yield f"{rows} no {watermark}; skipped: a window cannot contain them."
