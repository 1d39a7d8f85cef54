"""Files in an object store, as Arrow reaches it. A file is copied to this machine before it is read, so that what is loaded is
one state of it."""

from __future__ import annotations

import errno
import hashlib
import itertools
import re
import shutil
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from fnmatch import fnmatchcase
from functools import cached_property
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any
from urllib.parse import quote, urlsplit

import pyarrow as pa
from pyarrow import fs

from brenvik.errors import DeclarationError
from brenvik.feeds.folders import Looks, fixed_part, numbered
from brenvik.model.addresses import is_ambiguous, without_secrets
from brenvik.model.feeds import Connection

_NOISE = re.compile(r"\s*\(Request ID: [^)]*\)|When [^:]*: (?=AWS Error)")


class ObjectStore:
    """The objects below the URL of a connection."""

    copies = True

    def __init__(self, connection: Connection) -> None:
        self._connection = connection
        self._copies: dict[str, Path] = {}
        self._scratch: TemporaryDirectory[str] | None = None

    @property
    def address(self) -> str:
        return without_secrets(self._connection.url).rstrip("/")

    @cached_property
    def _opened(self) -> tuple[fs.FileSystem, str]:
        """The file system, and the path of the URL in it."""
        given = self._connection
        try:
            if is_ambiguous(given.url):
                raise ValueError
            url = urlsplit(given.url)
            if given.password is not None:
                own, _, host = url.netloc.rpartition("@")
                if url.scheme.startswith("abfs"):  # Arrow takes no account key from a URL
                    return fs.AzureFileSystem(
                        host.partition(".")[0], account_key=given.password
                    ), f"{own}{url.path}".rstrip("/")
                netloc = f"{quote(given.user or '', safe='')}:{quote(given.password, safe='')}@{host}"
                url = url._replace(netloc=netloc)
            system, path = fs.FileSystem.from_uri(url.geturl())
        except (pa.ArrowNotImplementedError, ValueError):
            raise DeclarationError(
                f"connections.{given.name}: is not a valid URL of an object store; expected one as in "
                "s3://bucket/folder?region=eu-north-1, gs://bucket/folder or abfss://container@account.dfs.core.windows.net, "
                "with special characters of the password percent-encoded (/ as %2F). Passwords filled in by ${NAME} are "
                "encoded automatically."
            ) from None
        return system, path.rstrip("/")

    @contextmanager
    def _system(self) -> Iterator[tuple[fs.FileSystem, str]]:
        try:
            yield self._opened
        except (OSError, pa.ArrowException) as error:
            said = getattr(error, "strerror", None) or str(error)
            raise OSError(getattr(error, "errno", None), _NOISE.sub("", said).strip()) from None

    def name_of(self, path: str) -> str:
        return path.strip("/")

    def missing(self, pattern: str) -> str:
        return ""  # a store of objects has no folders without files

    def find(self, pattern: str, besides: Sequence[str] = ()) -> dict[str, Looks]:
        parts, away = pattern.strip("/").split("/"), set(besides)
        fixed = fixed_part(pattern)
        deep = len(parts) - len(fixed.parts) > 1 or "**" in parts
        with self._system() as (system, root):
            below = "/".join(part for part in (root, fixed.as_posix()) if part not in ("", "."))
            chosen = fs.FileSelector(below, recursive=deep, allow_not_found=True)
            infos = [info for info in system.get_file_info(chosen) if info.is_file]
            bucket = root.partition("/")[0]
            if not infos and system.get_file_info(bucket).type == fs.FileType.NotFound:
                raise FileNotFoundError(errno.ENOENT, f"there is no {bucket}")
        named = {info.path.removeprefix(f"{root}/"): info for info in infos}
        return {
            name: _looks(named[name])
            for name in sorted(named)
            if _fits(name.split("/"), parts) and name.rpartition("/")[0] not in away
        }

    def look(self, name: str) -> Looks | None:
        with self._system() as (system, root):
            info = system.get_file_info(f"{root}/{name}")
        return _looks(info) if info.is_file else None

    def fetch(self, name: str) -> Path:
        if name not in self._copies:
            self._scratch = self._scratch or TemporaryDirectory(prefix="brenvik-")
            copy = Path(self._scratch.name, str(len(self._copies)), Path(name).name)
            copy.parent.mkdir()
            with (
                self._system() as (system, root),
                system.open_input_stream(f"{root}/{name}", compression=None) as there,
                copy.open("wb") as here,
            ):
                shutil.copyfileobj(there, here, 1 << 20)
            self._copies[name] = copy
        return self._copies[name]

    def release(self) -> None:
        self._copies = {}
        if self._scratch:
            self._scratch.cleanup()
            self._scratch = None

    def move(self, name: str, to: str) -> str:
        with self._system() as (system, root):
            place = next(
                each for number in itertools.count(1) if self._is_free(each := numbered(to, number), content_of=name)
            )
            if place != name:
                system.copy_file(f"{root}/{name}", f"{root}/{place}")
                system.delete_file(f"{root}/{name}")
        return place

    def _is_free(self, name: str, *, content_of: str) -> bool:
        """Whether a name is free, or the name of the same content: a move that was interrupted."""
        there, own = self.look(name), self.look(content_of)
        if there is None:
            return True
        return own is not None and there.size == own.size and self._content(name) == self._content(content_of)

    def _content(self, name: str) -> Any:
        with self._system() as (system, root), system.open_input_stream(f"{root}/{name}", compression=None) as there:
            return hashlib.file_digest(there, "sha256").digest()

    def delete(self, name: str) -> None:
        with self._system() as (system, root):
            system.delete_file(f"{root}/{name}")


def _looks(info: Any) -> Looks:
    return Looks(info.size, info.mtime_ns or 0)


def _fits(path: Sequence[str], pattern: Sequence[str]) -> bool:
    """Whether the parts of a path match those of a pattern as ``glob`` reads it: ** stands for any folders, and a name that
    begins with a dot must be asked for."""
    if not path or not pattern:
        return not path and all(part == "**" for part in pattern)
    if pattern[0] == "**":
        return _fits(path, pattern[1:]) or (not path[0].startswith(".") and _fits(path[1:], pattern))
    hidden = path[0].startswith(".") and not pattern[0].startswith(".")
    return not hidden and fnmatchcase(path[0], pattern[0]) and _fits(path[1:], pattern[1:])
