"""TOML as it is written into proposed declarations."""

from __future__ import annotations

import json
import re
from typing import Any


def key(name: str) -> str:
    """A key, quoted if necessary."""
    return name if re.fullmatch(r"[A-Za-z0-9_-]+", name) else value(name)


def value(of: Any) -> str:
    """A string, boolean, list or inline table. A JSON string is a TOML string."""
    if isinstance(of, dict):
        return f"{{ {', '.join(f'{key(name)} = {value(each)}' for name, each in of.items())} }}"
    if isinstance(of, list):
        return f"[{', '.join(map(value, of))}]"
    return json.dumps(of, ensure_ascii=False).replace("\x7f", "\\u007f")


def pattern(of: str) -> str:
    """A string in which backslashes are not escaped, if that is possible."""
    return value(of) if "'" in of else f"'{of}'"
