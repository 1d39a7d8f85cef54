"""Exit codes: what a scheduler learns from a command."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from brenvik.outcome import Outcome

DONE, FAILED, WRONG_CALL, REJECTED, BLOCKED, TEMPORARY = range(6)
MEANINGS = {
    DONE: ("done, or nothing was new", "–"),
    FAILED: ("failed; nothing of that table was written", "read the message: `brenvik runs TABLE`"),
    WRONG_CALL: ("the call or `brenvik.toml` is wrong; nothing was opened", "correct it: `brenvik check`"),
    REJECTED: ("done, but rows were rejected or deletes are pending", "`brenvik rejects`, `brenvik deletes`"),
    BLOCKED: (
        "blocked until someone approves it; of `status` and `check`: a table needs attention",
        "`brenvik preview TABLE`; the message names the option that allows it",
    ),
    TEMPORARY: ("temporary: source down, table locked by another run, timeout", "let the next load try again"),
}
"""What each code means, and what to do then."""
_SEVERITY = (WRONG_CALL, FAILED, BLOCKED, TEMPORARY, REJECTED, DONE)


def code_of(error: Exception) -> int:
    """The exit code of an error: wrong call or project, blocked, temporary, or failed."""
    from brenvik.errors import Blocked, DeclarationError, Temporary

    if isinstance(error, DeclarationError):
        return WRONG_CALL
    if isinstance(error, Blocked):
        return BLOCKED
    return TEMPORARY if isinstance(error, Temporary) else FAILED


def most_severe(outcomes: Iterable[Outcome], *, accept_rejects: bool = False) -> int:
    """The exit code of several loads together."""
    codes = [DONE]
    for outcome in outcomes:
        if outcome.error and outcome.state != "skipped":
            codes.append(code_of(outcome.error))
        elif outcome.blocked_by:
            codes.append(BLOCKED)
        elif (outcome.counts.get("rejected") or outcome.counts.get("pending")) and not accept_rejects:
            codes.append(REJECTED)
    return min(codes, key=_SEVERITY.index)
