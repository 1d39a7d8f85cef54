"""What can go wrong, split by what the caller can do about it.

    BrenvikError
    ├── DeclarationError      mend the call, the rules or the project file
    │   ├── RulesError
    │   └── ProjectError
    ├── InputError            mend the data
    │   ├── FeedError         a source that cannot be read as declared
    │   ├── TooManyRejects
    │   └── NotClean          asked for by ``Outcome.require_clean``
    ├── NotReached            what had to come before was not done
    ├── Refused               nothing was written, a person must decide
    │   ├── RulesChanged
    │   ├── ForeignTable
    │   ├── ChangesMissing    no kept change accounts for rows that the table has
    │   ├── NotAsRules        a table that was there before is not what its rules say
    │   ├── TooMuch           a load would delete or change more than its rules let pass
    │   └── TooOld            an extract older than what was taken
    ├── Temporary             trying again later can help
    │   ├── Busy
    │   ├── SourceDown        a source that cannot be reached, or went away in the middle
    │   ├── StoreDown         the same of the store; or a statement that took longer than it lets
    │   └── Overtaken         someone else's work in the store came between
    ├── StoreError            the store said no
    │   └── LayoutError       its ledger was written by another layout of Brenvik
    └── BrokenLaw             a bug of ours: nothing was written, please report it

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
    """The declaration of one table has faults."""


class ProjectError(DeclarationError):
    """The project file is missing, cannot be parsed, or declares something impossible."""


class InputError(BrenvikError):
    """The data do not fit the declaration."""


class FeedError(InputError):
    """A file or frame cannot be read at all, or lacks a column the rules need."""


class TooManyRejects(InputError):
    """More rows were rejected than ``max_rejects`` allows; nothing was written but the run."""

    def __init__(self, message: str, *, rejected: int, read: int) -> None:
        self.rejected = rejected
        self.read = read
        super().__init__(message)


class NotClean(InputError):
    """``Outcome.require_clean`` found rejected rows."""


class NotReached(BrenvikError):
    """A table was not loaded, because one that it comes after was not."""


class Refused(BrenvikError):
    """Nothing was written; a person must decide."""


class RulesChanged(Refused):
    """The rules differ from those the table was made with in a way a load cannot follow."""


class ForeignTable(Refused):
    """A table of that name exists, and Brenvik neither made nor adopted it."""


class NotAsRules(Refused):
    """A table that was there before has columns or rows that its rules do not allow or would not make."""


class ChangesMissing(Refused):
    """No kept change accounts for rows that the table has: the change log has lost entries, or someone else wrote the rows."""


class TooMuch(Refused):
    """A load would delete or change more than its rules let pass, or an extract is empty.

    ``counts`` is what the load would have done, ``living`` how many keys were alive before it.
    """

    def __init__(self, message: str, *, counts: Mapping[str, int], living: int) -> None:
        self.counts = counts
        self.living = living
        super().__init__(message)


class TooOld(Refused):
    """An extract is older than one that was taken; what it says of the table's present is past."""


class Temporary(BrenvikError):
    """Something outside stands in the way for now."""

    can_retry = True


class Busy(Temporary):
    """Another load holds the table or the store; ``holder`` says who, as far as it can be known."""

    def __init__(self, message: str, *, holder: str) -> None:
        self.holder = holder
        super().__init__(message)


class SourceDown(Temporary):
    """A source cannot be reached, or closed the connection before everything was read."""


class StoreDown(Temporary):
    """The store cannot be reached, went away, or ended a statement that took too long."""


class Overtaken(Temporary):
    """A deadlock, or a transaction that someone else's made impossible; everything was undone."""


class StoreError(BrenvikError):
    """The store cannot do what was asked of it."""


class LayoutError(StoreError):
    """The ledger in this store has a layout that this version of Brenvik does not write."""


class BrokenLaw(BrenvikError):
    """The sums of a load do not add up; it was undone before its commit."""
