"""Files that match a pattern, each loaded once, in the order of their names."""

from __future__ import annotations

import hashlib
import re
import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from pathlib import Path

from brenvik.errors import DeclarationError, FeedError, SourceUnavailable
from brenvik.feeds.folders import Folder, LocalFolder, Looks
from brenvik.feeds.protocol import Batch, ExtractTime, LoadRequest, Memory, Waiting
from brenvik.feeds.reading import PLAIN, ReadOptions
from brenvik.ledger.records import LoadedFile
from brenvik.model.feeds import Rewritten, Then
from brenvik.model.types import ColumnType


class FileSource:
    """The files below ``folder`` that match ``pattern``.

    A file is identified by its name in the folder. ``rewritten`` says what to do with a loaded file that has changed:
    ``report`` it and load nothing, or ``load`` its new content.

    order
        A regular expression with one group that finds a number or a date in the file name; files are loaded in that order.
        Otherwise in the order of their names.
    min_age
        Files modified more recently than this may still be being written; they are left for the next load.
    time_in_name, time_column
        The time of an extract: a regular expression with one group that finds it in the file name, or a column. Extracts are
        loaded one at a time, and a file that has changed is a new extract.
    one_by_one
        Whether each file is a load of its own, as extracts are.
    unreadable_to
        The folder for files that cannot be read: they are moved there, and the next load continues without them. '' leaves them.
    then
        What to do with a file once its rows are committed: ``keep``, ``delete``, or ``move`` it into the folder ``move_to``.
        If a crash prevents that, the next load does it.
    """

    can_reopen = True

    def __init__(
        self,
        pattern: str,
        *,
        folder: Path | Folder,
        name: str,
        kind: str,
        order: str | None = None,
        min_age: timedelta | None = None,
        then: Then = "keep",
        move_to: str = "",
        reading: ReadOptions = PLAIN,
        time_in_name: str | None = None,
        time_column: str | None = None,
        rewritten: Rewritten = "report",
        one_by_one: bool = False,
        unreadable_to: str = "",
    ) -> None:
        self.name = name
        self.kind = kind
        self._pattern = pattern
        self._folder = LocalFolder(folder) if isinstance(folder, Path) else folder
        self._order = re.compile(order) if order else None
        self._min_age = min_age or timedelta(0)
        self._then = then
        self._move_to = self._folder.name_of(move_to) if move_to else ""
        self._reading = reading
        self._time_in_name = re.compile(time_in_name) if time_in_name else None
        self._time_column = time_column
        self._rewritten = rewritten
        self._one_by_one = one_by_one or kind == "full_extract"
        self._skipped: set[str] = set()
        self._unreadable_to = self._folder.name_of(unreadable_to) if unreadable_to else ""

    def open(self, memory: Memory, request: LoadRequest | None = None) -> Batch:
        with self._reaching():
            return self._again(request) if request and not request.pattern else self._new(memory, request)

    @contextmanager
    def _reaching(self) -> Iterator[None]:
        """Raises SourceUnavailable when the folder cannot be reached, or a file in it not be read."""
        try:
            yield
        except OSError as error:
            self._folder.release()
            raise SourceUnavailable(f"{self._folder.address}: {error.strerror or error}. Nothing was read.") from error

    def _new(self, memory: Memory, request: LoadRequest | None) -> Batch:
        """The files that are new, or have changed where that counts as new."""
        found = self.matching(request.pattern if request else None)
        before = memory.loaded_files([*found])
        new: list[str] = []
        done: dict[str, Looks] = {}
        notes: list[str] = []
        for name, looks in found.items():
            known = before.get(name)
            if known and not self._has_changed(looks, known):
                done[name] = looks
            elif known and not self._takes_changed:
                notes.append(_note_of_change(known))
            elif self._is_fresh(looks):
                notes.append(f"{name} may still be being written; left for the next load.")
            else:
                new.append(name)
        batch = self._batch(new, found, one_by_one=self._one_by_one)
        batch.notes += notes
        taken = done | {file.file: found[file.file] for file in batch.files}
        batch.after_commit = lambda: self._put_away(taken)
        return batch

    def _is_fresh(self, looks: Looks) -> bool:
        return bool(self._min_age) and time.time() - looks.modified_ns / 1e9 < self._min_age.total_seconds()

    def _has_changed(self, looks: Looks, known: LoadedFile) -> bool:
        """Whether a file differs from the loaded one; its content is read only if it has the same size and another time."""
        return (looks.size, looks.modified_ns) != (known.size, known.modified_ns) and (
            looks.size != known.size or self._digest(known.file) != known.digest
        )

    def _digest(self, name: str) -> str:
        with self._folder.fetch(name).open("rb") as file:
            return hashlib.file_digest(file, "sha256").hexdigest()

    def _put_away(self, taken: Mapping[str, Looks]) -> list[str]:
        """Moves or deletes loaded files that have not changed since; returns notes on what could not be done."""
        failed = []
        for name, looks in taken.items() if self._then != "keep" else ():
            try:
                now = self._folder.look(name)
                if now is None:  # another program has moved or deleted it
                    continue
                if now != looks:
                    failed.append(f"{name} changed while it was being loaded; it was left in place.")
                    continue
                if self._then == "delete":
                    self._folder.delete(name)
                else:
                    self._folder.move(name, _below(self._move_to, name))
            except OSError as error:
                done = "moved" if self._then == "move" else "deleted"
                failed.append(
                    f"{name} was loaded but cannot be {done}: {error.strerror}. The next load will try again."
                )
        return failed

    def quarantine(self, file: str) -> str | None:
        """Moves a file into the folder for unreadable files; returns its new name. None if no folder is declared, or if the file
        is gone or cannot be moved."""
        try:
            if not self._unreadable_to or not self._folder.look(file):
                return None
            return self._folder.move(file, _below(self._unreadable_to, file))
        except OSError:
            return None

    def skip(self, file: str) -> bool:
        if not self._unreadable_to or file in self._skipped:
            return False
        self._skipped.add(file)
        return True

    def _again(self, request: LoadRequest) -> Batch:
        """Files by name, or all that match, whether loaded or not."""
        if request.after is not None or request.until is not None:
            raise DeclarationError(f"Feed {self.name!r} reads files and has no windows; name files instead.")
        if request.full:
            raise DeclarationError(f"Feed {self.name!r} reads files; only a feed with a watermark can be read in full.")
        found = self._all() if request.everything else {}
        for name in map(self._folder.name_of, request.files):
            places = filter(None, [name, self._moved_to(name)])
            there = next(((place, looks) for place in places if (looks := self._folder.look(place))), None)
            if not there:
                raise DeclarationError(f"Feed {self.name!r}: {self._folder.address} has no file {name}.")
            found[there[0]] = there[1]
        if self.kind == "full_extract" and len(found) > 1:
            raise DeclarationError(f"Feed {self.name!r} loads one extract at a time; name the one to load again.")
        return self._batch([*found], found, one_by_one=self.kind == "full_extract")

    def sample(self, memory: Memory) -> Batch:
        with self._reaching():
            found = self._examples()
            return self._batch([*found], found, one_by_one=self._one_by_one)

    def _examples(self) -> dict[str, Looks]:
        """Files that show the columns: those that match, or were moved away; of those that would be copied only the last one."""
        found = self.matching() or self._all()
        return dict([*found.items()][-1:]) if self._folder.copies else found

    def _batch(self, names: Sequence[str], looks: Mapping[str, Looks], *, one_by_one: bool) -> Batch:
        """The rows of files; if they are loaded one by one, those of the first file."""
        taken = names[:1] if one_by_one else names
        files = [
            LoadedFile(
                self._loaded_as(name), looks[name].size, self._digest(name), looks[name].modified_ns, number=number
            )
            for number, name in enumerate(taken, 1)
        ]
        if not files:
            return Batch("", {}, {}, {}, lambda: iter(()), close=self._folder.release)
        from brenvik.feeds.formats import batch_of

        try:
            batch = batch_of([self._folder.fetch(name) for name in taken], files, self._reading)
            if self.kind == "full_extract":
                batch.extract = ExtractTime(self._time_of(files[0].file), self._time_column)
        except FeedError:
            self._folder.release()
            raise
        batch.more = len(names) > len(taken)
        batch.close = self._folder.release
        return batch

    def _time_of(self, name: str) -> str | None:
        """The time of an extract according to its name."""
        if self._time_in_name is None:
            return None
        found = self._time_in_name.search(Path(name).name)
        if not found:
            raise FeedError(
                f"{name} has no time in its name that matches extract_time = {self._time_in_name.pattern!r}"
            )
        return found[1]

    def waiting(self, memory: Memory) -> Waiting:
        with self._reaching():
            found = self.matching()
            taken = memory.loaded_files([*found])
            changed = [
                known for name, looks in found.items() if (known := taken.get(name)) and self._has_changed(looks, known)
            ]
            self._folder.release()
        again = {known.file for known in changed} if self._takes_changed else set()
        waiting = {name: looks for name, looks in found.items() if name not in taken or name in again}
        since = min((looks.modified_ns for looks in waiting.values()), default=None)
        unit = "extracts" if self.kind == "full_extract" else "files"
        attention = [] if self._takes_changed else [_note_of_change(known) for known in changed]
        if not found and not memory.loaded_any_file():
            attention.append(f"No file in {self._folder.address} has ever matched {self._pattern}.")
        return Waiting(
            len(waiting),
            unit,
            None if since is None else datetime.fromtimestamp(since / 1e9, UTC).replace(tzinfo=None),
            attention=tuple(attention),
        )

    @property
    def _takes_changed(self) -> bool:
        return self.kind == "full_extract" or self._rewritten == "load"

    def columns(self) -> dict[str, dict[str, ColumnType]]:
        from brenvik.feeds.formats import columns_of, naming

        found = {}
        with self._reaching():
            try:
                for name in self._examples():
                    with naming(name):
                        found[Path(name).name] = columns_of(self._folder.fetch(name), self._reading)
            finally:
                self._folder.release()
        return found

    def matching(self, pattern: str | None = None) -> dict[str, Looks]:
        """The files that match a pattern (by default the feed's own), whether loaded or not, in order. Raises FeedError when
        the folder that the pattern begins with does not exist."""
        pattern = pattern or self._pattern
        if missing := self._folder.missing(pattern):
            raise FeedError(
                f"Feed {self.name!r} reads {pattern}, but the folder {missing} does not exist. "
                "Create it, or correct the path in the project file."
            )
        found = self._folder.find(pattern, [*filter(None, [self._move_to, self._unreadable_to])])
        return self._in_order({name: looks for name, looks in found.items() if name not in self._skipped})

    def _in_order(self, found: Mapping[str, Looks]) -> dict[str, Looks]:
        return {name: found[name] for name in sorted(found, key=self._place)}

    def _place(self, name: str) -> tuple[int, str, str]:
        """The sort key of a file: the number or text in its name, or the name."""
        if self._order is None:
            return (0, "", name)
        found = self._order.search(name)
        if not found:
            raise FeedError(f"{name} does not match file_order = {self._order.pattern!r}")
        inside = found[found.lastindex or 0]
        return (int(inside), "", name) if inside.isdecimal() else (0, inside, name)

    def _all(self) -> dict[str, Looks]:
        """The files that match, including those that were moved away."""
        moved = self._folder.find(_below(self._move_to, self._pattern)) if self._move_to else {}
        return self._in_order(moved) | self.matching()

    def _moved_to(self, name: str) -> str:
        """Where a file is once it was moved away; '' where none are."""
        return _below(self._move_to, name) if self._move_to else ""

    def _loaded_as(self, name: str) -> str:
        """The name that identifies a file, even if it was moved away since."""
        moved = self._move_to and Path(name).parent.as_posix() == self._move_to
        return (Path(self._pattern).parent / Path(name).name).as_posix() if moved else name


def _note_of_change(known: LoadedFile) -> str:
    return (
        f"{known.file} was loaded by run {known.run} and has changed since; the new content is not loaded. To load it: "
        f'--again {known.file}; to load changed files always: rewritten_files = "load"'
    )


def _below(folder: str, name: str) -> str:
    """The name of a file in another folder."""
    return (Path(folder) / Path(name).name).as_posix()
