"""Values as texts, as every store casts them."""

from __future__ import annotations

from datetime import datetime, time
from decimal import Decimal
from typing import Any


def text_of(value: Any) -> str:
    match value:
        case bool():
            return str(value).lower()
        case float():
            return repr(value)
        case datetime():
            whole, _, fraction = f"{value:%H:%M:%S.%f}".partition(".")
            fraction = fraction.rstrip("0")
            zone = "+00" if value.tzinfo else ""
            return f"{value.date()} {whole}{'.' if fraction else ''}{fraction}{zone}"
        case time():
            text = str(value)
            return text.rstrip("0") if "." in text else text
        case bytes():
            return value.hex()
        case Decimal():
            return f"{value:f}"
    return str(value)
