"""What of a value is compared: differences in case, blanks, Unicode form or digits can be ignored.

The expressions are in the core's dialect, which DuckDB reads as well; what stores write differently is among their capabilities.
"""

from __future__ import annotations

from brenvik.merge.capabilities import Capabilities
from brenvik.model.types import ColumnType

_BLANKS = r"'[ \t\n\r\f\v' || chr(160) || ']+'"

Ignored = tuple[str, ...] | int
"""The differences that are ignored in a text, or the form of a key (see ``model.text_forms``); or the digits to which a number is
rounded."""


def form(value: str, kind: ColumnType, ignored: Ignored, store: Capabilities, *, untyped: bool = False) -> str:
    """The part of a value that is compared; a key in its form. ``untyped`` says that the value is in a store without types."""
    if untyped:
        words = "round " + str(ignored) if isinstance(ignored, int) else ",".join(ignored)
        return f"brenvik_form('{words}', {value})"
    if isinstance(ignored, int):
        if (
            kind.kind == "double"
        ):  # stores round floating-point numbers differently; from 1e15 on there is little to round
            return f"CASE WHEN abs({value}) < 1e15 THEN floor({value} * 1e{ignored} + 0.5) ELSE {value} END"
        return f"round({value}, {ignored})"
    if "unicode" in ignored:
        value = store.nfc.format(value)
    if "case" in ignored or "lower" in ignored:
        value = store.lower.format(value)
    if "upper" in ignored:
        value = store.upper.format(value)
    if "blanks" in ignored:
        value = f"trim(regexp_replace({value}, {_BLANKS}, ' ', 'g'), ' ')"
    return value
