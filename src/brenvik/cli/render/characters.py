"""Characters that must not reach a terminal as they are."""

from __future__ import annotations

import re

_UNSEEN = re.compile(
    "[\x00-\x08\x0b-\x1f\x7f-\x9f\u061c\u200e\u200f\u202a-\u202e\u2028\u2029\u2066-\u2069\ud800-\udfff]"
)


def visible(text: str) -> str:
    """The same text with what would steer a terminal, or change the order of what it shows, written as escapes."""
    return _UNSEEN.sub(lambda found: ascii(found[0])[1:-1], text)
