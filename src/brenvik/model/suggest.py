"""The name that was probably meant."""

from __future__ import annotations

from collections.abc import Iterable


def suggestion(wrong: str, known: Iterable[str]) -> str:
    """A clause with the most similar known name, ``; did you mean 'name'?``; empty if none is similar."""
    from difflib import get_close_matches

    names = {name.casefold(): name for name in known}
    near = get_close_matches(wrong.casefold(), names, n=1, cutoff=0.6)
    return f"; did you mean {names[near[0]]!r}?" if near else ""
