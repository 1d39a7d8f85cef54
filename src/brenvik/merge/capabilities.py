"""What stores can hold and do, as far as the SQL for them depends on it."""

from __future__ import annotations

from dataclasses import dataclass

from brenvik.merge.row_ids import PseudoColumn, RowId


@dataclass(frozen=True)
class Capabilities:
    """What the SQL for a store depends on besides its dialect."""

    row_id: RowId
    """How a row is found again within one transaction."""
    whole_rows: bool = False
    """Whether an update writes the whole row anyway, however few columns it sets."""
    updates_rows_read: bool = False
    """Whether an update can only find rows that the load has read."""
    streams: bool = False
    """Whether a stream of rows can be read while a query runs on it."""
    hashes_nulls: bool = True
    """Whether rows can be joined by values that may be null without comparing each with each."""
    seeks: bool = False
    """Whether rows are found by key through an index; then it pays to deliver changes in key order."""
    text_of_double: str = "CAST({0} + 0.0 AS TEXT)"
    """A floating-point number ``{0}`` as the shortest text that stands for it, as in 1.0 and 1e+16; without the sign of zero,
    which equals zero."""
    md5: str = "md5({0})"
    """The MD5 sum of a text ``{0}`` in UTF-8, in lower-case hexadecimal digits."""
    lower: str = "lower({0})"
    """A text ``{0}`` in lower case, each character by itself."""
    upper: str = "upper({0})"
    """The same in upper case."""
    nfc: str = "nfc_normalize({0})"
    """A text ``{0}`` in Unicode's composed form."""
    hex: str = "lower(hex({0}))"
    """Bytes in lower-case hexadecimal digits."""
    json_object: str = "json_object"
    """The function that builds a JSON object from names and values."""
    own_names: frozenset[str] = frozenset()
    """Names that no column can have, besides the row id."""
    longest_name: int | None = None
    """The maximum length of an identifier in bytes; None where there is no limit."""
    home: str = "main"
    """The schema of tables that are named without one; '' where the store has no schemas."""
    cased: bool = False
    """Whether names that differ in case only name different tables."""
    lacks: frozenset[str] = frozenset()
    """What the store cannot hold or do: ``NUL`` (in text), ``NaN``, ``comparing`` (order decimals and times, or compare them
    with a literal), ``identity`` (columns that number rows)."""
    longest_key: int | None = None
    """The maximum length of all text columns of a natural key together, in bytes; None where there is no limit."""
    beyond: str = ""
    """A regular expression for one character that text in this store cannot hold; '' where it can hold all of them."""


DUCKDB = Capabilities(PseudoColumn("rowid"), streams=True)
