"""Exit codes: what a scheduler learns from a command."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from brenvik.outcome import Outcome

DONE, FAILED, WRONG_CALL, REJECTED, REFUSED, TEMPORARY = range(6)
_GRAVITY = (WRONG_CALL, FAILED, REFUSED, TEMPORARY, REJECTED, DONE)


def code_of(error: Exception) -> int:
    """The exit code of an error: wrong call or project, refused, temporary, or failed."""
    from brenvik.errors import DeclarationError, Refused, Temporary

    if isinstance(error, DeclarationError):
        return WRONG_CALL
    if isinstance(error, Refused):
        return REFUSED
    return TEMPORARY if isinstance(error, Temporary) else FAILED


def gravest(outcomes: Iterable[Outcome], *, accept_rejects: bool = False) -> int:
    """The exit code of several loads together."""
    codes = [DONE]
    for outcome in outcomes:
        if outcome.error and outcome.state != "skipped":
            codes.append(code_of(outcome.error))
        elif outcome.refusal:
            codes.append(REFUSED)
        elif (outcome.counts.get("rejected") or outcome.counts.get("held")) and not accept_rejects:
            codes.append(REJECTED)
    return min(codes, key=_GRAVITY.index)
