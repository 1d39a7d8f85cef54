"""Files that match a pattern, each loaded once, in the order of their names."""

from __future__ import annotations

import filecmp
import glob
import hashlib
import itertools
import re
import shutil
import time
from collections.abc import Mapping, Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path

from brenvik.errors import DeclarationError, FeedError
from brenvik.feeds.protocol import Batch, ExtractTime, LoadRequest, Memory, Waiting
from brenvik.feeds.reading import PLAIN, ReadOptions
from brenvik.ledger.records import LoadedFile
from brenvik.model.feeds import Rewritten, Then
from brenvik.model.types import ColumnType


class FileSource:
    """The files below ``folder`` that match ``pattern``.

    A file is identified by its name relative to ``folder``, or by its whole path where it is elsewhere. ``rewritten`` says what
    to do with a loaded file that has changed: ``report`` it and load nothing, or ``load`` its new content.

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
        folder: Path,
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
        self._folder = folder
        self._order = re.compile(order) if order else None
        self._min_age = min_age or timedelta(0)
        self._then = then
        self._move_to = move_to
        self._reading = reading
        self._time_in_name = re.compile(time_in_name) if time_in_name else None
        self._time_column = time_column
        self._rewritten = rewritten
        self._one_by_one = one_by_one or kind == "full_extract"
        self._unreadable_to = unreadable_to

    def open(self, memory: Memory, request: LoadRequest | None = None) -> Batch:
        if request and not request.pattern:
            return self._again(request)
        self._check_folder(request.pattern if request else None)
        paths = self.matching(request.pattern if request else None)
        before = memory.loaded_files([self.name_of(path) for path in paths])
        new: list[LoadedFile] = []
        done: dict[Path, tuple[int, int]] = {}
        notes: list[str] = []
        for path in paths:
            name = self.name_of(path)
            known = before.get(name)
            looks = _looks(path)
            if known and not _has_changed(path, known):
                done[path] = looks
            elif known and not self._takes_changed:
                notes.append(_note_of_change(known))
            elif self._is_fresh(path):
                notes.append(f"{name} may still be being written; left for the next load.")
            else:
                new.append(LoadedFile(name, looks[0], _digest(path), looks[1], number=len(new) + 1))
                done[path] = looks
        for file in new[1:] if self._one_by_one else ():
            del done[self._folder / file.file]
        batch = self._batch([self._folder / file.file for file in new], new, one_by_one=self._one_by_one)
        batch.notes += notes
        batch.after_commit = lambda: self._put_away(done)
        return batch

    def _is_fresh(self, path: Path) -> bool:
        return bool(self._min_age) and time.time() - path.stat().st_mtime < self._min_age.total_seconds()

    def _put_away(self, taken: Mapping[Path, tuple[int, int]]) -> list[str]:
        """Moves or deletes loaded files that have not changed since; returns notes on what could not be done."""
        failed = []
        for path, looks in taken.items() if self._then != "keep" else ():
            try:
                if _looks(path) != looks:
                    failed.append(f"{self.name_of(path)} changed while it was being loaded; it was left in place.")
                    continue
                if self._then == "delete":
                    path.unlink()
                else:
                    _move(path, self._folder / self._move_to / path.name)
            except OSError as error:
                done = "moved" if self._then == "move" else "deleted"
                failed.append(
                    f"{self.name_of(path)} was loaded but cannot be {done}: {error.strerror}. The next load will try again."
                )
        return failed

    def quarantine(self, file: str) -> str | None:
        """Moves a file into the folder for unreadable files; returns its new name. None if no folder is declared, or if the file
        is gone or cannot be moved."""
        path, folder = self._folder / file, self._folder / self._unreadable_to
        if not self._unreadable_to or not path.is_file():
            return None
        try:
            return self.name_of(_move(path, folder / path.name))
        except OSError:
            return None

    def _again(self, request: LoadRequest) -> Batch:
        """Files by name, or all that match, whether loaded or not."""
        if request.after is not None or request.until is not None:
            raise DeclarationError(f"Feed {self.name!r} reads files and has no windows; name files instead.")
        if request.full:
            raise DeclarationError(f"Feed {self.name!r} reads files; only a feed with a watermark can be read in full.")
        paths = self._all() if request.everything else [self._find(name) for name in request.files]
        if self.kind == "full_extract" and len(paths) > 1:
            raise DeclarationError(f"Feed {self.name!r} loads one extract at a time; name the one to load again.")
        if missing := [self.name_of(path) for path in paths if not path.is_file()]:
            raise DeclarationError(f"Feed {self.name!r}: {self._folder} has no file {', '.join(missing)}.")
        files = [
            LoadedFile(
                self._taken_name(path), path.stat().st_size, _digest(path), path.stat().st_mtime_ns, number=number
            )
            for number, path in enumerate(paths, 1)
        ]
        return self._batch(paths, files, one_by_one=self.kind == "full_extract")

    def sample(self, memory: Memory) -> Batch:
        paths = self.matching() or self._all()
        return self._batch(
            paths,
            [LoadedFile(self._taken_name(path), 0, "", number=n) for n, path in enumerate(paths, 1)],
            one_by_one=self._one_by_one,
        )

    def _batch(self, paths: Sequence[Path], files: Sequence[LoadedFile], *, one_by_one: bool) -> Batch:
        """The rows of files; if they are loaded one by one, those of the first file."""
        if not files:
            return Batch("", {}, {}, {}, lambda: iter(()))
        from brenvik.feeds.formats import batch_of

        if not one_by_one:
            return batch_of(paths, files, self._reading)
        batch = batch_of(paths[:1], files[:1], self._reading)
        if self.kind == "full_extract":
            batch.extract = ExtractTime(self._time_of(files[0].file), self._time_column)
        batch.more = len(files) > 1
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
        self._check_folder()
        found = self.matching()
        taken = memory.loaded_files([self.name_of(path) for path in found])
        changed = [known for path in found if (known := taken.get(self.name_of(path))) and _has_changed(path, known)]
        again = {known.file for known in changed} if self._takes_changed else set()
        paths = [path for path in found if (name := self.name_of(path)) not in taken or name in again]
        since = min((path.stat().st_mtime for path in paths), default=None)
        unit = "extracts" if self.kind == "full_extract" else "files"
        attention = [] if self._takes_changed else [_note_of_change(known) for known in changed]
        if not found and not memory.loaded_any_file():
            attention.append(f"No file in {self._folder} has ever matched {self._pattern}.")
        return Waiting(
            len(paths),
            unit,
            None if since is None else datetime.fromtimestamp(since, UTC).replace(tzinfo=None),
            attention=tuple(attention),
        )

    @property
    def _takes_changed(self) -> bool:
        return self.kind == "full_extract" or self._rewritten == "load"

    def _check_folder(self, pattern: str | None = None) -> None:
        """Raises FeedError when the folder that a pattern begins with does not exist."""
        parts = Path(pattern or self._pattern).parts[:-1]
        fixed = [*itertools.takewhile(lambda part: not glob.has_magic(part), parts)]
        folder = self._folder.joinpath(*fixed)
        if not folder.is_dir():
            raise FeedError(
                f"Feed {self.name!r} reads {pattern or self._pattern}, but the folder {folder} does not exist. "
                "Create it, or correct the path in the project file."
            )

    def columns(self) -> dict[str, dict[str, ColumnType]]:
        from brenvik.feeds.formats import columns_of

        paths = self.matching() or self._all()  # where all were taken, those that were moved away
        return {path.name: columns_of(path, self._reading) for path in paths}

    def matching(self, pattern: str | None = None) -> list[Path]:
        """The files that match a pattern (by default the feed's own), whether loaded or not, in order."""
        found = glob.glob(pattern or self._pattern, root_dir=self._folder, recursive=True)  # noqa: PTH207  # absolute ones too
        paths = [self._folder / name for name in sorted(found, key=self._place)]
        away = {(self._folder / folder).resolve() for folder in (self._move_to, self._unreadable_to) if folder}
        return [path for path in paths if path.is_file() and path.parent.resolve() not in away]

    def _place(self, name: str) -> tuple[int, str, str]:
        """The sort key of a file: the number or text in its name, or the name."""
        if self._order is None:
            return (0, "", name)
        found = self._order.search(name)
        if not found:
            raise FeedError(f"{name} does not match file_order = {self._order.pattern!r}")
        inside = found[found.lastindex or 0]
        return (int(inside), "", name) if inside.isdecimal() else (0, inside, name)

    def _all(self) -> list[Path]:
        """The files that match, including those that were moved away."""
        moved = self._folder / self._move_to
        pattern = Path(self._pattern).name
        return [
            *(sorted(moved.glob(pattern), key=lambda p: self._place(p.name)) if self._move_to else ()),
            *self.matching(),
        ]

    def _find(self, name: str) -> Path:
        """A file by the name under which it was loaded, wherever it is now."""
        moved = self._folder / self._move_to / Path(name).name
        return (
            moved if self._move_to and not (self._folder / name).is_file() and moved.is_file() else self._folder / name
        )

    def _taken_name(self, path: Path) -> str:
        """The name that identifies a file, even if it was moved away since."""
        moved = self._move_to and path.parent == self._folder / self._move_to
        return (Path(self._pattern).parent / path.name).as_posix() if moved else self.name_of(path)

    def name_of(self, path: Path) -> str:
        """The name that identifies a file: relative to the folder, for files below it."""
        return (path.relative_to(self._folder) if path.is_relative_to(self._folder) else path).as_posix()


def _has_changed(path: Path, known: LoadedFile) -> bool:
    """Whether a file differs from the loaded one; its content is read only if size and time are the same."""
    size, modified_ns = _looks(path)
    return (size, modified_ns) != (known.size, known.modified_ns) and (
        size != known.size or _digest(path) != known.digest
    )


def _note_of_change(known: LoadedFile) -> str:
    return (
        f"{known.file} was loaded by run {known.run} and has changed since; the new content is not loaded. To load it: "
        f'--again {known.file}; to load changed files always: rewritten_files = "load"'
    )


def _looks(path: Path) -> tuple[int, int]:
    """Size and modification time, which show cheaply whether a file was written to."""
    found = path.stat()
    return found.st_size, found.st_mtime_ns


def _move(path: Path, to: Path) -> Path:
    """Moves a file without overwriting any: if one of the same name has other content, a number is added to the name. Returns
    where it is now."""
    to.parent.mkdir(parents=True, exist_ok=True)
    place, number = to, 1
    while place.exists() and not filecmp.cmp(path, place, shallow=False):
        number += 1
        place = to.with_name(f"{to.stem} ({number}){to.suffix}")
    shutil.move(path, place)
    return place


def _digest(path: Path) -> str:
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()
