"""Arrow arrays of Python's and numpy's values.

``pyarrow.array`` imports pandas wherever it is installed, which takes longer than a small load. What is common is therefore
put together here; what is not, or is large, is left to ``pyarrow.array``.
"""

from __future__ import annotations

import sys
from collections.abc import Sequence
from datetime import date, datetime
from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa

_LARGE = 20_000
"""Arrays of more values are worth the import."""
_NUMPY = {pa.int64(): np.int64, pa.int32(): np.int32, pa.float64(): np.float64, pa.bool_(): np.bool_}
_KINDS: dict[type, tuple[pa.DataType, ...]] = {
    int: (pa.int64(), pa.int32()),
    float: (pa.float64(),),
    bool: (pa.bool_(),),
    str: (pa.string(),),
    bytes: (pa.binary(),),
}


def of_numbers(values: np.ndarray[Any, Any]) -> pa.Array:
    """Integers, floats or booleans, none of them null, as an array of the same type."""
    if values.dtype == np.bool_:
        return _of_bits(values, None)
    given = np.ascontiguousarray(values)
    return pa.Array.from_buffers(pa.from_numpy_dtype(given.dtype), len(given), [None, pa.py_buffer(given)])


def of_values(values: Sequence[Any], kind: pa.DataType) -> pa.Array:
    """Values of a type, or None, as an array of that type. Raises what ``pyarrow.array`` raises."""
    if "pandas" in sys.modules or len(values) > _LARGE:
        return pa.array(values, kind)
    types = {type(value) for value in values} - {type(None)}
    if not types:
        return pa.nulls(len(values), kind)
    given = types.pop()
    if types:
        return pa.array(values, kind)
    if kind in _KINDS.get(given, ()):
        return _plain(values, kind)
    if (given is datetime and pa.types.is_timestamp(kind)) or (given is date and kind == pa.date32()):
        if given is datetime and any(value is not None and value.tzinfo for value in values):
            return pa.array(values, kind)
        texts = [None if value is None else value.isoformat() for value in values]
        return _plain(texts, pa.string()).cast(pa.timestamp("us") if given is datetime else kind).cast(kind)
    if given is Decimal and pa.types.is_decimal(kind):
        try:
            return _plain([None if value is None else f"{value:f}" for value in values], pa.string()).cast(kind)
        except pa.ArrowInvalid:
            pass  # told in the words of pyarrow.array
    return pa.array(values, kind)


def _plain(values: Sequence[Any], kind: pa.DataType) -> pa.Array:
    valid = np.fromiter((value is not None for value in values), np.bool_, len(values))
    if kind in (pa.string(), pa.binary()):
        parts = [b"" if value is None else value.encode() if kind == pa.string() else value for value in values]
        offsets = np.zeros(len(parts) + 1, dtype=np.int32)
        np.cumsum([len(part) for part in parts], out=offsets[1:])
        return pa.Array.from_buffers(
            kind, len(parts), [_validity(valid), pa.py_buffer(offsets), pa.py_buffer(b"".join(parts))]
        )
    zero = 0 if kind != pa.bool_() else False
    made: np.ndarray[Any, Any] = np.array([zero if value is None else value for value in values], dtype=_NUMPY[kind])
    if kind == pa.bool_():
        return _of_bits(made, valid)
    return pa.Array.from_buffers(kind, len(made), [_validity(valid), pa.py_buffer(made)])


def _of_bits(values: np.ndarray[Any, Any], valid: np.ndarray[Any, Any] | None) -> pa.Array:
    bits = pa.py_buffer(np.packbits(values, bitorder="little"))
    return pa.Array.from_buffers(pa.bool_(), len(values), [None if valid is None else _validity(valid), bits])


def _validity(valid: np.ndarray[Any, Any]) -> pa.Buffer | None:
    return None if valid.all() else pa.py_buffer(np.packbits(valid, bitorder="little"))
