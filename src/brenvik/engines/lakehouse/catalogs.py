"""Where a lakehouse's tables are known: a folder with a catalog of its own, or a catalog that pyiceberg's configuration names."""

from __future__ import annotations

import getpass
import hashlib
import os
import re
import tempfile
import time
import uuid
from contextlib import suppress
from functools import cached_property
from pathlib import Path
from typing import Protocol
from urllib.parse import urlsplit

from fsspec import AbstractFileSystem
from fsspec.implementations.arrow import ArrowFSWrapper
from pyiceberg.catalog import Catalog, load_catalog
from pyiceberg.catalog.sql import IcebergTables, SqlCatalog
from pyiceberg.io import FileIO, load_file_io
from pyiceberg.io.pyarrow import PyArrowFileIO
from sqlalchemy import URL, select

from brenvik.engines.locks import missing_rights_of_file
from brenvik.errors import StoreError
from brenvik.ledger.schema import SCHEMA

BY_NAME = "@"
"""What an address begins with that names a catalog, and no folder."""
Identifier = tuple[str, str]
FRESH_S = 1.0
"""How long the answer of a remote catalog is cached; a commit notices what changed in the meantime."""


class Home(Protocol):
    """A catalog of tables. ``locations`` are the locations of the newest metadata; ``location`` is where a new table goes, None
    where the catalog decides; ``locks`` is a folder for the locks of this machine's processes."""

    locks: Path

    @property
    def catalog(self) -> Catalog: ...

    def locations(self) -> dict[Identifier, str]: ...

    def location(self, identifier: Identifier) -> str | None: ...

    def changed(self) -> None:
        """Something was committed."""
        ...

    def missing_rights(self) -> list[str]:
        """What a load needs and may not do here, as far as it can be tried."""
        ...

    def close(self) -> None: ...


class Folder:
    """A folder whose catalog is the SQLite file ``catalog.db`` in there, made by the first commit."""

    def __init__(self, folder: Path) -> None:
        self.path = folder.absolute()
        self.locks = self.path / "holds"  # the name in all versions: they lock each other out
        if odd := {*str(self.path)} & {*"?#%*[{"}:
            raise StoreError(
                f"lakehouse:{folder}: a folder whose name contains {' '.join(sorted(odd))} cannot be used in a catalog; "
                "choose another name."
            )

    @property
    def is_there(self) -> bool:
        return (self.path / "catalog.db").exists()

    @staticmethod
    def below(identifier: Identifier) -> str:
        """The folder of a table."""
        space, name = identifier
        return f"/{_slug(space)}/{_slug(name)}"

    @cached_property
    def catalog(self) -> SqlCatalog:
        if not self.is_there:
            self.path.mkdir(parents=True, exist_ok=True)
            made = self.path / f"catalog-{uuid.uuid4()}.db"
            self._open(made).engine.dispose()
            with suppress(FileExistsError):  # another process made it
                os.link(made, self.path / "catalog.db")
            made.unlink()
        return self._open(self.path / "catalog.db")

    def _open(self, file: Path) -> SqlCatalog:
        address = URL.create("sqlite", database=str(file), query={"timeout": "60"}).render_as_string()
        return SqlCatalog("brenvik", uri=address, warehouse=str(self.path))

    def locations(self) -> dict[Identifier, str]:
        """Raises StoreError where the catalog and the files of the folder do not belong together."""
        found = _of_sql(self.catalog) if self.is_there else {}
        if strayed := self._strayed(found):
            identifier, place = next(iter(strayed.items()))
            raise StoreError(
                f"lakehouse:{self.path}: {'.'.join(identifier)} points to files in {location_of(place)}: this folder was "
                "copied or moved from there. To protect the original, nothing is read or written. To make the tables point to "
                "the files in this folder: brenvik relocate"
            )
        if (SCHEMA, "ledger") not in found and self._has_commits((SCHEMA, "ledger")):
            raise StoreError(
                f"lakehouse:{self.path} has the files of tables, but its catalog.db is "
                f"{'empty' if self.is_there else 'missing'}. Nothing was written; restore catalog.db from a backup taken "
                "together with the files, or use another folder."
            )
        return found

    def strayed(self) -> dict[Identifier, str]:
        """The metadata of tables whose files should be in this folder and are not, by the catalog."""
        return self._strayed(_of_sql(self.catalog)) if self.is_there else {}

    def _strayed(self, locations: dict[Identifier, str]) -> dict[Identifier, str]:
        begins = (f"{self.path}/", f"file://{self.path}/")
        out = {each: place for each, place in locations.items() if not place.startswith(begins)}
        here = os.path.realpath(self.path) if out else ""
        return {
            each: place
            for each, place in out.items()
            if (location := location_of(place)).endswith(self.below(each))
            and os.path.realpath(location.removesuffix(self.below(each)).removeprefix("file://")) != here
        }

    def _has_commits(self, identifier: Identifier) -> bool:
        """Whether there are metadata of a table here; an interrupted first commit may have left some."""
        there = Path(self.location(identifier), "metadata").glob("*.metadata.json")
        return any(not file.name.startswith("00000-") for file in there)

    def location(self, identifier: Identifier) -> str:
        return f"{self.path}{self.below(identifier)}"

    def changed(self) -> None:
        """The next look sees it anyway."""

    def missing_rights(self) -> list[str]:
        place = self.path
        while not place.exists():
            place = place.parent
        return missing_rights_of_file(place / "catalog.db")

    def close(self) -> None:
        if "catalog" in self.__dict__:
            self.catalog.engine.dispose()


class Named:
    """A catalog that pyiceberg's configuration knows by a name.

    Runs of one machine wait for each other; those of several notice at the commit that another came first, and start again."""

    def __init__(self, name: str) -> None:
        self.name = name
        self.locks = Path(tempfile.gettempdir()) / f"brenvik-{getpass.getuser()}" / _slug(name)
        self._seen: tuple[float, dict[Identifier, str]] = (0.0, {})

    @cached_property
    def catalog(self) -> Catalog:
        try:
            return load_catalog(self.name)
        except (ValueError, ImportError) as error:  # the first says what is missing, and no secret
            raise StoreError(
                f"lakehouse:@{self.name}: the configuration of pyiceberg (.pyiceberg.yaml, or PYICEBERG_CATALOG__… in the "
                f"environment) has no catalog of this name: {str(error).partition(chr(10))[0]}"
            ) from error

    def locations(self) -> dict[Identifier, str]:
        if isinstance(self.catalog, SqlCatalog):
            return _of_sql(self.catalog)
        at, found = self._seen
        if time.monotonic() - at > FRESH_S:
            spaces = [space for space in self.catalog.list_namespaces() if len(space) == 1]
            names = [name for space in spaces for name in self.catalog.list_tables(space)]
            found = {(name[0], name[1]): self.catalog.load_table(name).metadata_location for name in names}
            self._seen = (time.monotonic(), found)
        return found

    def location(self, identifier: Identifier) -> None:
        return None

    def changed(self) -> None:
        self._seen = (0.0, {})

    def missing_rights(self) -> list[str]:
        """Reads the catalog, and writes and removes a file at the default location of its tables."""
        self.locations()
        where = self.catalog.properties.get("warehouse")
        if where is None:
            return []
        try:
            io, path = load_file_io({**self.catalog.properties}, where), f"{where}/brenvik-{uuid.uuid4()}"
            with io.new_output(path).create() as out:
                out.write(b"a trial")
            io.delete(path)
        except OSError as error:
            return [f"{where}: files cannot be written and deleted: {str(error).partition(chr(10))[0]}"]
        return []

    def close(self) -> None:
        if "catalog" in self.__dict__ and isinstance(self.catalog, SqlCatalog):
            self.catalog.engine.dispose()


def _of_sql(catalog: SqlCatalog) -> dict[Identifier, str]:
    its = IcebergTables
    there = select(its.table_namespace, its.table_name, its.metadata_location).where(its.catalog_name == catalog.name)
    with catalog.engine.connect() as connection:
        return {(space, name): str(place) for space, name, place in connection.execute(there)}


def location_of(place: str) -> str:
    """The folder of a table by the location of its metadata."""
    return place.rpartition("/metadata/")[0]


def scheme_of(path: str) -> str:
    """What comes before ``://`` in a path; '' for a local file."""
    scheme = urlsplit(path).scheme if "://" in path else ""
    return "" if scheme == "file" else scheme


def file_system(io: FileIO, path: str) -> AbstractFileSystem:
    """The file system of a path, as pyiceberg opened it, for DuckDB."""
    place = urlsplit(path)
    if isinstance(io, PyArrowFileIO):
        made = type("Reached", (ArrowFSWrapper,), {"protocol": place.scheme, "cachable": False})
        return made(io.fs_by_scheme(place.scheme, place.netloc))
    return io.get_fs(place.scheme)  # type: ignore[attr-defined]  # pyiceberg has two kinds


def _slug(name: str) -> str:
    """A name as a part of a path."""
    plain = re.sub(r"\W", "_", name, flags=re.ASCII)
    return plain if plain == name else f"{plain}_{hashlib.blake2b(name.encode(), digest_size=4).hexdigest()}"
