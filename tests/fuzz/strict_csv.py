"""A strict reader of CSV, character by character, that shares no code with ours.

RFC 4180, with two readings of our own: a quote inside a field that does not begin with one is an ordinary character, and a
record that is malformed within one line ends with that line.
"""

from __future__ import annotations

from dataclasses import dataclass, field


class NoEnd(Exception):
    """Nobody can say where a malformed record ends."""


@dataclass
class Record:
    """One record: the line it begins in, from 1; its fields, None where one is empty and not quoted; its text."""

    line: int
    fields: list[str | None] = field(default_factory=list)
    text: str = ""
    malformed: bool = False


def records(text: str, delimiter: str, quote: str, escape: str | None) -> list[Record]:
    """All records of a file. Raises NoEnd."""
    return list(_Reader(text, delimiter, quote, escape).run())


class _Reader:
    def __init__(self, text: str, delimiter: str, quote: str, escape: str | None) -> None:
        self.text, self.at, self.line = text, 0, 1
        self.delimiter, self.quote, self.escape = delimiter, quote, escape

    def run(self):  # type: ignore[no-untyped-def]
        while self.at < len(self.text):
            record, begin = Record(self.line), self.at
            more = True
            while more and not record.malformed:
                more = self.one_field(record)
            record.text = self.text[begin : self.at]
            self.line_end()
            yield record

    def one_field(self, record: Record) -> bool:
        """Reads a field; whether another follows."""
        value, quoted = self.quoted(record) if self.peek() == self.quote else self.plain()
        if record.malformed:
            while self.peek() not in ("", "\n", "\r"):
                self.take()
            return False
        record.fields.append(value if value or quoted else None)
        if self.peek() == self.delimiter:
            self.at += 1
            return True
        return False

    def plain(self) -> tuple[str, bool]:
        value = ""
        while self.peek() not in ("", "\n", "\r", self.delimiter):
            value += self.take()
        return value, False

    def quoted(self, record: Record) -> tuple[str, bool]:
        value, goes_on = "", False  # over a line end that is not escaped
        self.at += 1
        while True:
            if self.peek() == "":
                raise NoEnd
            if self.peek() == self.quote:
                self.at += 1
                if self.peek() != self.quote:
                    break
            goes_on |= self.peek() in ("\n", "\r")
            value += self.take()
        if self.peek() not in ("", "\n", "\r", self.delimiter):
            if goes_on or self.opens_another():
                raise NoEnd
            record.malformed = True
        return value, True

    def opens_another(self) -> bool:
        """Whether the rest of a malformed line opens a field that goes on in the next line."""
        if self.escape:
            rest, at = "", self.at
            while at < len(self.text) and self.text[at] not in "\n\r":
                if self.text[at] == self.escape:
                    rest, at = rest + "xx", at + 2
                else:
                    rest, at = rest + self.text[at], at + 1
        else:
            ends = [end for end in (self.text.find(c, self.at) for c in "\n\r") if end >= 0]
            at = min(ends, default=len(self.text))
            rest = self.text[self.at : at]
        if not self.text[at:].strip("\r\n"):
            return False
        _, opened, inside = rest.rpartition(self.delimiter + self.quote)
        return bool(opened) and self.quote not in inside.replace(self.quote * 2, "")

    def peek(self) -> str:
        return self.text[self.at : self.at + 1]

    def take(self) -> str:
        """The next character of a value, whatever it is."""
        if self.escape and self.peek() == self.escape:
            self.at += 1
        found = self.peek()
        self.at += 1
        self.line += found == "\n"
        return found

    def line_end(self) -> None:
        if self.text.startswith("\r\n", self.at):
            self.at += 1
        self.at += 1
        self.line += 1
