"""Where the surrogate keys of new rows come from."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Counter:
    """Consecutive numbers above the highest so far, the parameter ``last_key``; numbers may be given in blocks."""

    def value(self) -> str | None:
        """The expression for the key of a new row; None where the store supplies it."""
        return ":last_key + row_number() OVER ()"


@dataclass(frozen=True)
class GivenByStore:
    """The column of an adopted table fills itself."""

    def value(self) -> str | None:
        return None


SurrogateKey = Counter | GivenByStore
