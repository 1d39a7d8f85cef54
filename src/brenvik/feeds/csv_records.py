"""The bytes of a CSV file in whole records, each of them quoted as RFC 4180 requires.

The parser of the fields is lenient: it drops a quote here, joins two lines there, and reports nothing. So quotes are checked
against the standard first. In a field that begins with a quote, the next quote that is not doubled ends the field: a
delimiter, a line end or the end of the file must follow. A quote anywhere in a field that does not begin with one is an
ordinary character.

A record that violates this rule within one line is replaced by a line that no header fits; ``malformed`` has the record and
the reason under its number. Where a quoted field continues over a line end before it violates the rule, the end of the record
is unknown: the whole file fails.

Quotes that follow the rule alternate between opening and closing, so a block is checked as a whole. Only blocks with a
violation are walked through quote by quote.
"""

from __future__ import annotations

import codecs
import io
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa

from brenvik.errors import FeedError

if TYPE_CHECKING:
    from brenvik.feeds.reading import Dialect

BLOCK = 8 << 20
"""The maximum length of a record, in bytes."""
READ_AT_ONCE = 128 << 10
"""How much is checked at a time, in bytes; a violation costs a walk through this much."""
_LF, _CR = 0x0A, 0x0D


@dataclass(frozen=True)
class Malformed:
    """A record that is not quoted correctly."""

    text: str
    reason: str


class Records(io.RawIOBase):
    """A file of UTF-8 whose records are all quoted correctly; see above. ``malformed`` has the others by number, from 1."""

    def __init__(self, path: Path, file: Any, dialect: Dialect) -> None:
        super().__init__()
        self.malformed: dict[int, Malformed] = {}
        self._path = path
        self._file = file
        self._dialect = dialect
        self._decoder = None
        if codecs.lookup(dialect.encoding).name != "utf-8":
            self._decoder = codecs.getincrementaldecoder(dialect.encoding)()
        self._blocks = self._checked()
        self._ready = memoryview(b"")
        self._needs_no_end = (b"\n", b"\r", *([dialect.escape.encode()] if dialect.escape else []))
        self._records = 0
        self._line = 1  # of the next record
        self._width = len(dialect.columns)

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: Any) -> int:
        filled = 0
        while filled < len(buffer):
            if not len(self._ready):
                block = next(self._blocks, None)
                if block is None:
                    break
                self._ready = memoryview(block)
            size = min(len(buffer) - filled, len(self._ready))
            buffer[filled : filled + size] = self._ready[:size]
            self._ready = self._ready[size:]
            filled += size
        return filled

    def close(self) -> None:
        self._file.close()
        super().close()

    def _checked(self) -> Iterator[bytes]:
        rest = b""
        while True:
            text, ended = self._decoded()
            data = rest + text
            if not data and ended:
                return
            if ended and not data.endswith(self._needs_no_end):
                data += b"\n"  # a header alone is a file, too
            block, rest = self._whole_records(data, ended=ended)
            if len(rest) > BLOCK:
                raise FeedError(
                    f"{self._path.name}: the record that begins in line {self._line} is longer than {BLOCK >> 20} MiB. "
                    f"It may have an opening {self._dialect.quote} that is never closed. Nothing was loaded."
                )
            if block:
                yield block
            if ended:
                return

    def _decoded(self) -> tuple[bytes, bool]:
        """The next bytes in UTF-8, and whether they are the last."""
        try:
            raw = self._file.read(READ_AT_ONCE)
        except (OSError, pa.ArrowException) as error:
            raise FeedError(f"{self._path.name} cannot be read: {error}. Nothing was loaded.") from error
        if self._decoder is None:
            if self._records == 0 and raw.startswith((codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)):
                raise FeedError(
                    f"{self._path.name} is UTF-16, not {self._dialect.encoding}; nothing was loaded. "
                    'To read it: csv = { encoding = "utf-16" }'
                )
            return raw, not raw
        try:
            return self._decoder.decode(raw, not raw).encode(), not raw
        except UnicodeError as error:
            raise self._not_in(self._dialect.encoding, f"line {self._line} or one soon after it") from error

    def _not_in(self, encoding: str, where: str) -> FeedError:
        return FeedError(
            f"{self._path.name} is not {encoding} text: {where} has bytes that are not valid in this encoding. "
            "Nothing was loaded. If the file has another encoding, declare it, as in "
            'csv = { encoding = "cp1252" }'
        )

    def _whole_records(self, data: bytes, *, ended: bool) -> tuple[bytes, bytes]:
        """The records that end in some bytes, checked, and the remaining bytes."""
        if self._records == 0 and data.startswith(codecs.BOM_UTF8):
            data = data[len(codecs.BOM_UTF8) :]
        scanned = _without_escaped(data, self._dialect.escape)
        quotes = self._quotes(scanned)
        if self._width == 0 and data:
            self._width = self._count_header(scanned)
        quotes, within = _without_lone(scanned, quotes, self._dialect)
        end = len(data) if ended else _end_of_last_record(scanned, quotes)
        quotes, within = quotes[: np.searchsorted(quotes, end)], within[: np.searchsorted(within, end)]
        is_outside = not np.any(np.searchsorted(quotes, within) % 2)
        if is_outside and _is_ok_quoted(scanned[:end], quotes, self._dialect):
            block = data[:end]
            self._check_text(block)
            self._records += _line_ends_outside(scanned[:end], quotes)
        else:
            walk = _Walk(scanned, self._dialect, ended=ended)
            try:
                end = walk.run()
            except _NoEnd as error:
                raise self._no_end(scanned, error) from None
            self._check_text(data[:end])
            block = self._without_malformed(data[:end], scanned[:end], walk)
        self._line += max(data.count(b"\n", 0, end), data.count(b"\r", 0, end))
        return block, data[end:]

    def _quotes(self, scanned: bytes) -> np.ndarray[Any, np.dtype[np.int64]]:
        quote = self._dialect.quote.encode()
        if quote not in scanned:
            return np.zeros(0, dtype=np.int64)
        return np.flatnonzero(np.frombuffer(scanned, dtype=np.uint8) == ord(quote))

    def _check_text(self, block: bytes) -> None:
        if block.isascii():
            return
        try:
            block.decode()
        except UnicodeDecodeError as error:
            line = self._line + block.count(b"\n", 0, error.start)
            raise self._not_in("utf-8", f"line {line}") from error

    def _count_header(self, scanned: bytes) -> int:
        """How many fields the first record has."""
        quote, delimiter = ord(self._dialect.quote), ord(self._dialect.delimiter)
        fields, inside, begins = 1, False, True
        for character in scanned:
            if character == 0:
                raise FeedError(
                    f"{self._path.name}: the header has NUL characters, so this is not {self._dialect.encoding} text. "
                    'Nothing was loaded. If it is UTF-16, declare it: csv = { encoding = "utf-16" }'
                )
            if character == quote and (inside or begins):
                inside = not inside
            elif not inside and character in (_LF, _CR):
                break
            begins = not inside and character == delimiter
            fields += begins
        return fields

    def _without_malformed(self, block: bytes, scanned: bytes, walk: _Walk) -> bytes:
        """The same records, with each malformed one replaced by a line that no header fits."""
        substitute = self._dialect.delimiter.encode() if self._width == 1 else b"?"
        quotes = np.setdiff1d(self._quotes(scanned), np.array(walk.literal, dtype=np.int64), assume_unique=True)
        kept: list[bytes] = []
        done = 0
        for begin, end, reason in walk.malformed:
            self._records += _line_ends_outside(scanned[done:begin], _between(quotes, done, begin))
            if self._records == 0 and not self._dialect.columns:
                raise FeedError(
                    f"{self._path.name}: the header {reason}. Expected column names in line 1, each fully "
                    "quoted or not quoted at all. Nothing was loaded."
                )
            self.malformed[self._records + 1] = Malformed(block[begin:end].decode(), reason)
            kept += [block[done:begin], substitute]
            done = end
        self._records += _line_ends_outside(scanned[done:], _between(quotes, done, len(scanned)))
        return b"".join([*kept, block[done:]])

    def _no_end(self, scanned: bytes, found: _NoEnd) -> FeedError:
        begun = self._line + scanned.count(b"\n", 0, found.opened)
        message = f"{self._path.name}: a {self._dialect.quote} is opened in line {begun} and "
        if found.broken is None:
            return FeedError(
                f"{message}never closed before the end of the file. Nothing was loaded. If the file is still being written, "
                "load it when it is complete; otherwise close the quote, or double it if it is part of the value."
            )
        line = self._line + scanned.count(b"\n", 0, found.broken)
        return FeedError(
            f"{message}not closed there; in line {line} the field has a quote that is not doubled, so the end of "
            f"the record is unknown. Nothing was loaded. Close the quote in line {begun}, or double it if it is part of the "
            "value."
        )


class _NoEnd(Exception):
    """The end of a record is unknown: the field that begins at ``opened`` has a quote at ``broken``, or no closing quote."""

    def __init__(self, opened: int, broken: int | None = None) -> None:
        super().__init__()
        self.opened, self.broken = opened, broken


class _Walk:
    """Walks from quote to quote where some violate the rule.

    ``malformed`` are records with their begin, end and reason; ``literal`` are quotes that neither open nor close a field.
    """

    def __init__(self, scanned: bytes, dialect: Dialect, *, ended: bool) -> None:
        self.malformed: list[tuple[int, int, str]] = []
        self.literal: list[int] = []
        self._scanned = scanned
        self._ended = ended
        self._quote = dialect.quote.encode()
        self._opens = dialect.delimiter.encode() + self._quote
        self._ends = {ord(dialect.delimiter), _LF, _CR}

    def run(self) -> int:
        """Returns the end of the last complete record. Raises _NoEnd."""
        scanned, position, record = self._scanned, 0, 0  # what was looked at; where the record begins
        while (opening := scanned.find(self._quote, position)) >= 0:
            record = max(record, _behind_last_line_end(scanned, position, opening))
            if opening and scanned[opening - 1] not in self._ends:
                self.literal.append(opening)
                position = opening + 1
                continue
            closing = self._closing(opening)
            if closing < 0 or (closing + 1 == len(scanned) and not self._ended):
                if self._ended:
                    raise _NoEnd(opening)
                return record
            if closing + 1 == len(scanned) or scanned[closing + 1] in self._ends:
                position = closing + 1
                continue
            if _has_line_end(scanned, opening, closing):
                raise _NoEnd(opening, closing)
            end = _line_end(scanned, closing)
            if not self._ended and not scanned[end:].strip(b"\r\n"):
                return record  # what follows in the file may be looked at, too
            self._check_ends_in_line(closing + 1, end)
            reason = (
                f"has {_character(scanned, closing + 1)} after the closing quote of a field; "
                "a quote inside a quoted field must be doubled"
            )
            self.malformed.append((record, end, reason))
            record = position = end
        return len(scanned) if self._ended else max(record, _behind_last_line_end(scanned, position, len(scanned)))

    def _closing(self, opening: int) -> int:
        """The quote that closes a field; -1 where none does."""
        closing = self._scanned.find(self._quote, opening + 1)
        while closing >= 0 and self._scanned.startswith(self._quote, closing + 1):
            closing = self._scanned.find(self._quote, closing + 2)
        return closing

    def _check_ends_in_line(self, begin: int, end: int) -> None:
        """Ensures that the rest of a malformed line opens no field that continues in the next."""
        opened = self._scanned.rfind(self._opens, begin, end)
        if opened < 0 or (self._ended and not self._scanned[end:].strip(b"\r\n")):
            return
        if self._quote not in self._scanned[opened + 2 : end].replace(self._quote * 2, b""):
            raise _NoEnd(opened + 1, opened + 1)


def _character(scanned: bytes, position: int) -> str:
    """The character at a position, for a message."""
    size = {0xC: 2, 0xD: 2, 0xE: 3, 0xF: 4}.get(scanned[position] >> 4, 1)
    return repr(scanned[position : position + size].decode(errors="replace"))


def _without_escaped(data: bytes, escape: str | None) -> bytes:
    """The same bytes for scanning, with each escape and the character after it replaced by letters."""
    if escape is None or escape.encode() not in data:
        return data
    scanned = np.frombuffer(data, dtype=np.uint8).copy()
    places = np.flatnonzero(scanned == ord(escape))
    starts = np.concatenate(([True], np.diff(places) > 1))  # of a run of escapes, every other one escapes
    run_begin = np.maximum.accumulate(np.where(starts, np.arange(len(places)), 0))
    acting = places[(np.arange(len(places)) - run_begin) % 2 == 0]
    scanned[acting] = ord("e")
    behind = acting + 1
    scanned[behind[behind < len(scanned)]] = ord("e")
    return scanned.tobytes()


def _end_of_last_record(scanned: bytes, quotes: np.ndarray[Any, Any]) -> int:
    r"""The position after the last line end outside quotes; 0 where there is none. A final \r may be half of a line end."""
    end = len(scanned)
    while end > 0:
        found = max(scanned.rfind(b"\n", 0, end), scanned.rfind(b"\r", 0, min(end, len(scanned) - 1)))
        if found < 0:
            return 0
        before = int(np.searchsorted(quotes, found))
        if before % 2 == 0:
            return found + 1
        end = int(quotes[before - 1])
    return 0


def _without_lone(
    scanned: bytes, quotes: np.ndarray[Any, Any], dialect: Dialect
) -> tuple[np.ndarray[Any, Any], np.ndarray[Any, Any]]:
    """The quotes that can open, close or be doubled; and those that stand alone amid other text."""
    if not len(quotes):
        return quotes, quotes
    text = np.frombuffer(scanned, dtype=np.uint8)
    belongs = _ends(dialect)
    belongs[ord(dialect.quote)] = True
    alone = ~belongs[text[quotes - 1]] & ~belongs[text[np.minimum(quotes + 1, len(text) - 1)]]
    alone[quotes == 0] = False
    return quotes[~alone], quotes[alone]


def _ends(dialect: Dialect) -> np.ndarray[Any, np.dtype[np.bool_]]:
    """Which bytes end a field."""
    ends = np.zeros(256, dtype=bool)
    ends[[ord(dialect.delimiter), _LF, _CR]] = True
    return ends


def _is_ok_quoted(scanned: bytes, quotes: np.ndarray[Any, Any], dialect: Dialect) -> bool:
    """Whether all quotes keep the rule, as they do where they alternate: one opens a field, the next one closes it."""
    if not len(quotes):
        return True
    if len(quotes) % 2:
        return False
    text, ends = np.frombuffer(scanned, dtype=np.uint8), _ends(dialect)
    opening, closing = quotes[::2], quotes[1::2]
    doubled = opening[1:] == closing[:-1] + 1  # what closes a field and what opens the next stand side by side
    begins = ends[text[opening[1:] - 1]] | doubled
    stops = ends[text[closing[:-1] + 1]] | doubled
    first = opening[0] == 0 or ends[text[opening[0] - 1]]
    last = closing[-1] + 1 == len(text) or ends[text[closing[-1] + 1]]
    return bool(first and last and begins.all() and stops.all())


def _line_ends_outside(scanned: bytes, quotes: np.ndarray[Any, Any]) -> int:
    r"""How many line ends are outside quotes: \n, \r\n, \r."""
    if not len(quotes):
        return scanned.count(b"\n") + scanned.count(b"\r") - scanned.count(b"\r\n")
    text = np.frombuffer(scanned, dtype=np.uint8)
    feeds = np.flatnonzero(text == _LF)
    returns = np.flatnonzero(text == _CR)
    returns = returns[(returns + 1 == len(text)) | (text[np.minimum(returns + 1, len(text) - 1)] != _LF)]
    places = np.concatenate((feeds, returns))
    return int(np.sum(np.searchsorted(quotes, places) % 2 == 0))


def _between(quotes: np.ndarray[Any, Any], begin: int, end: int) -> np.ndarray[Any, Any]:
    """The quotes from ``begin`` to before ``end``, counted from there."""
    return quotes[np.searchsorted(quotes, begin) : np.searchsorted(quotes, end)] - begin


def _behind_last_line_end(scanned: bytes, begin: int, end: int) -> int:
    r"""Where the last line of a stretch begins; 0 where no line ends in it. A final \r may be half of a line end."""
    found = max(scanned.rfind(b"\n", begin, end), scanned.rfind(b"\r", begin, min(end, len(scanned) - 1)))
    return found + 1


def _line_end(scanned: bytes, position: int) -> int:
    found = [end for end in (scanned.find(b"\n", position), scanned.find(b"\r", position)) if end >= 0]
    return min(found, default=len(scanned))


def _has_line_end(scanned: bytes, begin: int, end: int) -> bool:
    return scanned.find(b"\n", begin, end) >= 0 or scanned.find(b"\r", begin, end) >= 0
