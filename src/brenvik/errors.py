"""What can go wrong, split by what the caller can do about it.

    BrenvikError
    ├── DeclarationError        fix the call, the rules or the project file
    │   ├── RulesError
    │   └── ProjectError
    ├── InputError              fix the data
    │   ├── FeedError           a source that cannot be read as declared
    │   ├── TooManyRejects
    │   └── NotClean            raised by ``Outcome.require_clean``
    ├── DependencyFailed        a table that this one depends on was not loaded
    ├── Blocked                 nothing was written; a person must decide
    │   ├── RulesChanged
    │   ├── ForeignTable
    │   ├── ChangesMissing      the change log does not account for rows of the table
    │   ├── SchemaMismatch      an existing table does not fit its rules
    │   ├── LimitExceeded       a load would delete or change more than its rules allow
    │   └── StaleExtract        an extract older than one that was loaded
    ├── Temporary               trying again later can help
    │   ├── Busy
    │   ├── SourceUnavailable   a source cannot be reached, or the connection was lost
    │   ├── StoreUnavailable    the same for the store; or a statement hit the store's timeout
    │   └── Conflict            another transaction in the store interfered
    ├── StoreError              the store cannot do what was asked
    │   └── LedgerVersionError         the ledger has another schema version than this Brenvik
    └── InvariantBroken         a bug in Brenvik: nothing was written, please report it

A message says what was expected, what came, where, and the next step.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping


class BrenvikError(Exception):
    """The root of all errors that Brenvik raises on purpose."""

    can_retry = False
    """Whether the same call may succeed later without anybody mending anything."""


class DeclarationError(BrenvikError):
    """A call, rules or a project file that cannot be used as it stands.

    ``faults`` holds every fault found, each a sentence that begins with the place it is about.
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
    """The data do not fit the declaration."""


class FeedError(InputError):
    """A file or frame cannot be read at all, or lacks a column that the rules need."""


class TooManyRejects(InputError):
    """More rows were rejected than ``max_rejects`` allows; nothing was written but the run."""

    def __init__(self, message: str, *, rejected: int, read: int) -> None:
        self.rejected = rejected
        self.read = read
        super().__init__(message)


class NotClean(InputError):
    """``Outcome.require_clean`` found rejected rows."""


class DependencyFailed(BrenvikError):
    """A table was not loaded because one that it depends on was not."""


class Blocked(BrenvikError):
    """Nothing was written; a person must decide."""


class RulesChanged(Blocked):
    """The rules differ from those the table was made with in a way that a load cannot follow."""


class ForeignTable(Blocked):
    """A table of that name exists, and Brenvik neither made nor adopted it."""


class SchemaMismatch(Blocked):
    """An existing table has columns or rows that its rules do not allow or would not produce."""


class ChangesMissing(Blocked):
    """The change log does not account for rows of the table: it has lost entries, or something else wrote the rows."""


class LimitExceeded(Blocked):
    """A load would delete or change more than its rules let pass, or an extract is empty.

    ``counts`` is what the load would have done, ``current_keys`` how many keys were alive before it.
    """

    def __init__(self, message: str, *, counts: Mapping[str, int], current_keys: int) -> None:
        self.counts = counts
        self.current_keys = current_keys
        super().__init__(message)


class StaleExtract(Blocked):
    """An extract is older than one that was loaded; what it says of the table is out of date."""


class Temporary(BrenvikError):
    """Something external prevents the call for now."""

    can_retry = True


class Busy(Temporary):
    """Another load holds the table or the store; ``holder`` says who, as far as it can be known."""

    def __init__(self, message: str, *, holder: str) -> None:
        self.holder = holder
        super().__init__(message)


class SourceUnavailable(Temporary):
    """A source cannot be reached, or closed the connection before everything was read."""


class StoreUnavailable(Temporary):
    """The store cannot be reached, went away, or ended a statement that took too long."""


class Conflict(Temporary):
    """A deadlock, or a conflicting transaction; everything was rolled back."""


class StoreError(BrenvikError):
    """The store cannot do what was asked of it."""


class LedgerVersionError(StoreError):
    """The ledger in this store has another schema version than this version of Brenvik writes."""


class InvariantBroken(BrenvikError):
    """The counts of a run do not add up; it was rolled back before its commit."""
