"""Where the surrogate keys of rows come from."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, ClassVar

from brenvik.merge import sql
from brenvik.merge.type_changes import converted
from brenvik.model.types import INTEGER, TEXT, ColumnType

if TYPE_CHECKING:
    from brenvik.merge.capabilities import Capabilities
    from brenvik.model.rules import SurrogateKeyKind


@dataclass(frozen=True)
class Counter:
    """Consecutive numbers above the highest so far, the parameter ``last_key``; numbers may be given in blocks."""

    type: ClassVar[ColumnType] = INTEGER
    follows: ClassVar[bool] = False
    """Whether the key of a row follows from its other columns, and changes with them."""

    def value(self, alias: str, start: str) -> str | None:
        """The expression for the key of a row ``alias``, whose version begins at ``start``; None where the store supplies it."""
        return ":last_key + row_number() OVER ()"


@dataclass(frozen=True)
class GivenByStore:
    """The column fills itself: an identity column, or one of an adopted table with a default."""

    type: ClassVar[ColumnType] = INTEGER
    follows: ClassVar[bool] = False

    def value(self, alias: str, start: str) -> str | None:
        return None


@dataclass(frozen=True)
class Uuid:
    """A random UUID."""

    type: ClassVar[ColumnType] = TEXT
    follows: ClassVar[bool] = False

    def value(self, alias: str, start: str) -> str | None:
        return "CAST(gen_random_uuid() AS TEXT)"


@dataclass(frozen=True)
class Hash:
    """An MD5 sum of the natural key, and in tables with versions of the time at which the version begins: 32 hexadecimal digits.

    One value is hashed as its text in UTF-8; of several the sums are, one after the other, in the order of the natural key.
    Texts of values are those that they have as text columns (see ``type_changes``); bytes are hexadecimal.
    """

    keys: tuple[tuple[str, ColumnType], ...]
    starts: ColumnType | None
    """The type of the times at which versions begin; None for a table without versions."""
    store: Capabilities
    type: ClassVar[ColumnType] = TEXT
    follows: ClassVar[bool] = True

    def value(self, alias: str, start: str) -> str:
        parts = [self._sum(f"{alias}.{sql.quote(name)}", kind) for name, kind in self.keys]
        parts += [self._sum(start, self.starts)] if self.starts else []
        return parts[0] if len(parts) == 1 else self.store.md5.format(f"({' || '.join(parts)})")

    def _sum(self, value: str, kind: ColumnType) -> str:
        text = self.store.hex.format(value) if kind.kind == "binary" else converted(value, kind, TEXT, self.store)
        return self.store.md5.format(text)


def key_type(kind: SurrogateKeyKind) -> ColumnType:
    """The type of surrogate keys of a kind, unless the store assigns them."""
    return INTEGER if kind in ("counter", "identity") else TEXT


SurrogateKey = Counter | GivenByStore | Uuid | Hash
