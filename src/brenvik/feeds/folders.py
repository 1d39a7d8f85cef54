"""Where the files of a feed are. A file has a name: its path relative to the folder, or its whole path where it is elsewhere."""

from __future__ import annotations

import filecmp
import glob
import itertools
import shutil
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol


@dataclass(frozen=True)
class Looks:
    """Size in bytes and modification time, which show cheaply whether a file was written to."""

    size: int
    modified_ns: int


class Folder(Protocol):
    """A folder with the files of a feed. All methods raise OSError with a ``strerror`` when the folder cannot be reached."""

    @property
    def address(self) -> str:
        """The folder in messages, without secrets."""
        ...

    copies: bool
    """Whether ``fetch`` makes copies."""

    def name_of(self, path: str) -> str:
        """The name of a file or folder of which a path is given."""
        ...

    def missing(self, pattern: str) -> str:
        """The folder that a pattern begins with, if it does not exist; otherwise ''."""
        ...

    def find(self, pattern: str, besides: Sequence[str] = ()) -> dict[str, Looks]:
        """The files that match a pattern, except those directly in the folders ``besides``."""
        ...

    def look(self, name: str) -> Looks | None:
        """None if there is no such file."""
        ...

    def fetch(self, name: str) -> Path:
        """The file on this machine: itself, or a copy that exists until ``release``."""
        ...

    def release(self) -> None:
        """Deletes the copies."""
        ...

    def move(self, name: str, to: str) -> str:
        """Moves a file without overwriting any: if one of the same name has other content, a number is added to the name.
        Returns the new name."""
        ...

    def delete(self, name: str) -> None: ...


def fixed_part(pattern: str) -> Path:
    """The folders that a pattern begins with, up to the first with a wildcard."""
    parts = Path(pattern).parts[:-1]
    return Path(*itertools.takewhile(lambda part: not glob.has_magic(part), parts))


def numbered(name: str, number: int) -> str:
    """A name, from the second on with a number."""
    path = Path(name)
    return name if number == 1 else path.with_name(f"{path.stem} ({number}){path.suffix}").as_posix()


class LocalFolder:
    """A folder of this machine."""

    copies = False

    def __init__(self, root: Path) -> None:
        self._root = root

    @property
    def address(self) -> str:
        return str(self._root)

    def name_of(self, path: str) -> str:
        return self._name(self._root / path)

    def missing(self, pattern: str) -> str:
        folder = self._root / fixed_part(pattern)
        return "" if folder.is_dir() else str(folder)

    def find(self, pattern: str, besides: Sequence[str] = ()) -> dict[str, Looks]:
        found = glob.glob(pattern, root_dir=self._root, recursive=True)  # noqa: PTH207  # absolute ones too
        away = {(self._root / folder).resolve() for folder in besides}
        paths = [path for each in found if (path := self._root / each).is_file() and path.parent.resolve() not in away]
        return {self._name(path): _looks(path) for path in paths}

    def look(self, name: str) -> Looks | None:
        path = self._root / name
        return _looks(path) if path.is_file() else None

    def fetch(self, name: str) -> Path:
        return self._root / name

    def release(self) -> None:
        """There are no copies."""

    def move(self, name: str, to: str) -> str:
        path, number = self._root / name, 1
        (self._root / to).parent.mkdir(parents=True, exist_ok=True)
        while (place := self._root / numbered(to, number)).exists() and not filecmp.cmp(path, place, shallow=False):
            number += 1
        shutil.move(path, place)
        return self._name(place)

    def delete(self, name: str) -> None:
        (self._root / name).unlink()

    def _name(self, path: Path) -> str:
        return (path.relative_to(self._root) if path.is_relative_to(self._root) else path).as_posix()


def _looks(path: Path) -> Looks:
    found = path.stat()
    return Looks(found.st_size, found.st_mtime_ns)
