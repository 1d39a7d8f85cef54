"""What can go wrong, split by what the caller can do about it.

    BrenvikError
    ├── DeclarationError        fix the call, the rules or the project file
    │   ├── RulesError
    │   └── ProjectError
    ├── InputError              fix the data
    │   ├── FeedError           a source that cannot be read as declared
    │   │   └── UnreadableFile  one of the files of a feed
    │   ├── TooManyRejects
    │   └── NotClean            raised by ``Outcome.require_clean``
    ├── DependencyFailed        a table that this one depends on was not loaded
    ├── Blocked                 nothing was written; needs approval
    │   ├── RulesChanged
    │   ├── ForeignTable
    │   ├── ChangesMissing      rows of the table have no change in the log
    │   ├── SchemaMismatch      an existing table does not match its rules
    │   ├── LimitExceeded       a load would delete or change more than its rules allow
    │   └── StaleExtract        an extract older than one that was loaded
    ├── Temporary               try again later
    │   ├── Busy
    │   ├── SourceUnavailable   a source cannot be reached, or closed the connection
    │   ├── StoreUnavailable    the same for the store; or a statement timed out
    │   └── Conflict            another transaction in the store conflicted
    ├── StoreError              the store failed
    │   └── LedgerVersionError  the ledger has another schema version than this Brenvik
    └── InvariantBroken         a bug in Brenvik: nothing was written, please report it

A message says what was expected, what came, where, and the next step.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping


class BrenvikError(Exception):
    """The root of all errors that Brenvik raises deliberately."""

    can_retry = False
    """Whether the same call may succeed later without any change."""


class DeclarationError(BrenvikError):
    """An invalid call, declaration or project file.

    ``faults`` has every error found, each a sentence that begins with its place.
    """

    def __init__(self, about: str, faults: Iterable[str] = ()) -> None:
        self.about = about
        self.faults = tuple(faults)
        super().__init__("\n".join([about, *(f"  {fault}" for fault in self.faults)]))


class RulesError(DeclarationError):
    """The declaration of a table is invalid."""


class ProjectError(DeclarationError):
    """The project file is missing, cannot be parsed, or declares something impossible."""


class InputError(BrenvikError):
    """The data do not match the declaration."""


class FeedError(InputError):
    """A source cannot be read, or lacks a column that the rules need."""


class UnreadableFile(FeedError):
    """A file of a feed cannot be read: it is damaged, or not of its format. ``file`` is its name, ``moved_to`` where it is now if
    the feed moves such files away, ``is_skipped`` whether a load would move it away."""

    def __init__(self, message: str, *, file: str) -> None:
        self.file = file
        self.moved_to: str | None = None
        self.is_skipped = False
        super().__init__(message)

    def __str__(self) -> str:
        message = super().__str__()
        if self.is_skipped:
            return f"{message.rstrip('.')}. A load moves it away and continues with the other files."
        return f"{message.rstrip('.')}. It was moved to {self.moved_to}." if self.moved_to else message


class TooManyRejects(InputError):
    """More rows were rejected than ``max_rejects`` allows; nothing was written but the run."""

    def __init__(self, message: str, *, rejected: int, read: int) -> None:
        self.rejected = rejected
        self.read = read
        super().__init__(message)


class NotClean(InputError):
    """``Outcome.require_clean`` found rejected rows or pending deletes."""


class DependencyFailed(BrenvikError):
    """A table was not loaded because one that it depends on failed."""


class Blocked(BrenvikError):
    """Nothing was written; the call needs approval, or other rules."""


class RulesChanged(Blocked):
    """The rules differ from those the table was made with, and a load cannot apply them."""


class ForeignTable(Blocked):
    """A table of that name exists that Brenvik neither created nor adopted."""


class SchemaMismatch(Blocked):
    """An existing table has columns or rows that its rules do not allow or would not produce."""


class ChangesMissing(Blocked):
    """Rows of the table have no change in the log: the log is missing entries, or something else wrote the rows."""


class LimitExceeded(Blocked):
    """A load would delete or change more than its rules allow, or an extract is empty.

    ``counts`` is what the load would have done, ``current_keys`` how many keys were current before it.
    """

    def __init__(self, message: str, *, counts: Mapping[str, int], current_keys: int) -> None:
        self.counts = counts
        self.current_keys = current_keys
        super().__init__(message)


class StaleExtract(Blocked):
    """An extract is older than one that was loaded before."""


class Temporary(BrenvikError):
    """Something temporary prevents the call; try again later."""

    can_retry = True


class Busy(Temporary):
    """Another run has locked the table or the store; ``holder`` says which, if known."""

    def __init__(self, message: str, *, holder: str) -> None:
        self.holder = holder
        super().__init__(message)


class SourceUnavailable(Temporary):
    """A source cannot be reached, or closed the connection while being read."""


class StoreUnavailable(Temporary):
    """The store cannot be reached, closed the connection, or cancelled a statement that took too long."""


class Conflict(Temporary):
    """A deadlock or a conflicting transaction; everything was rolled back."""


class StoreError(BrenvikError):
    """The store failed to do what was asked."""


class LedgerVersionError(StoreError):
    """The ledger in this store has another schema version than this version of Brenvik writes."""


class InvariantBroken(BrenvikError):
    """The counts of a run do not add up; it was rolled back before its commit."""
