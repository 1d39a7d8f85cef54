"""The name that someone may have meant."""

from __future__ import annotations

from collections.abc import Iterable


def suggestion(wrong: str, known: Iterable[str]) -> str:
    """A half sentence that names the nearest of the known names, ``; did you mean 'name'?``; empty where none is near."""
    from difflib import get_close_matches

    names = {name.casefold(): name for name in known}
    near = get_close_matches(wrong.casefold(), names, n=1, cutoff=0.6)
    return f"; did you mean {names[near[0]]!r}?" if near else ""
