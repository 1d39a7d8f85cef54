"""What a plan is made of: steps, and the facts that a run learns from them.

A step is one statement: its stage, its purpose, its text, and what the run learns from its result. Facts are frozen values,
one class per stage, each with the facts of the stages before it: a later stage cannot run on the facts of an earlier one.

    Begun → Validated → Classified → Resolved → RowChanges → Applied
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, fields, replace
from typing import Any, Generic, Literal, Self, TypeVar

from brenvik.merge import sql
from brenvik.merge.validate import Staging

Stage = Literal[
    "prepare",
    "exclude",
    "validate",
    "compare",
    "classify",
    "current path",
    "replay",
    "diff",
    "decide",
    "write",
    "log",
]
STAGES: dict[Stage, str] = {
    "prepare": "the table and its columns",
    "exclude": "which logged changes are active",
    "validate": "from staged rows to changes and rejects",
    "compare": "an extract against the table",
    "classify": "which path each change takes",
    "current path": "keys with one newer change",
    "replay": "the versions of all other keys",
    "diff": "the rows that exist against the rows that should",
    "decide": "what became of each change",
    "write": "the table, in one transaction with all that follows",
    "log": "what is recorded beside the table",
}
"""The stages of a load in order, each with a description."""

Row = Mapping[str, Any]


@dataclass(frozen=True)
class Begun:
    """What is known before the first stage.

    ``first`` means that no change was ever loaded. ``explains``: old values are kept for explaining the decisions; None until
    the number of rows is known. ``row_count`` and ``current_keys`` are those of the table before the run.
    """

    first: bool = False
    explains: bool | None = False
    row_count: int = 0
    current_keys: int = 0
    some_pending: bool = False
    """Whether deletes of this table are pending."""

    @classmethod
    def every_case(cls) -> Self:
        """Facts under which every step of a plan runs, in its most general form."""
        return cls(**{each.name: each.metadata["case"] for each in fields(cls) if "case" in each.metadata})

    def params(self) -> Mapping[str, Any]:
        """Parameters of statements that a run learns."""
        return {}

    @classmethod
    def after(cls, facts: Begun) -> Self:
        """The facts of the stages before, at the beginning of this one."""
        return cls(**{each.name: getattr(facts, each.name) for each in fields(facts)})


def _case(fact: Any) -> Mapping[str, Any]:
    """What a fact is in the most general case."""
    return {"case": fact}


@dataclass(frozen=True)
class Validated(Begun):
    """What came of the rows: of ``read`` rows, ``broken`` lines included, so many were ``rejected`` or equal an open reject
    (``repeated``), or in an extract equal the table (``equal``); ``derived`` changes were added. ``late`` of the changes are
    late; ``highest`` has their highest order and effective time where that is known already."""

    some_pending: bool = field(default=False, metadata=_case(True))
    read: int = 0
    broken: int = field(default=0, metadata=_case(1))
    invalid: int = field(default=0, metadata=_case(1))
    rejected: int = field(default=0, metadata=_case(1))
    repeated: int = 0
    derived: int = 0
    equal: int = 0
    late: int = field(default=0, metadata=_case(1))
    highest: Row | None = None
    current_in_scope: int | None = None
    extract_at: str | None = None
    """The effective time of an extract, as text."""
    compared: bool = field(default=False, metadata=_case(True))
    """Whether an extract was compared while it was read."""
    compare_again: bool = field(default=False, metadata=_case(True))
    """Whether it must be compared again, as a whole."""
    duplicated: bool = field(default=False, metadata=_case(True))
    """Whether keys may occur twice in an extract."""
    differing: int = 0
    sizes: Row = field(default_factory=dict, metadata=_case({"absent": 1}))
    times: Row = field(default_factory=dict)

    @property
    def some_invalid(self) -> bool:
        return bool(self.invalid or self.broken)

    def params(self) -> Mapping[str, Any]:
        return {} if self.extract_at is None else {"extract_at": self.extract_at}


@dataclass(frozen=True)
class Classified(Validated):
    """Which path the changes take: ``replay_keys`` keys are replayed, ``inactive`` deletes have no effect by themselves."""

    inactive: int = field(default=0, metadata=_case(1))
    replay_keys: int = field(default=0, metadata=_case(1))


_EVERY_DECISION = {
    name: {"n": 1, "sets": 1}
    for name in ("inserted", "versioned", "overwritten", "deleted", "protected", "unchanged", "full")
}


@dataclass(frozen=True)
class Resolved(Classified):
    """What is decided. ``current`` has the decisions on the current path, ``replayed`` and ``inactive_decisions`` the others;
    ``sizes_of_paths`` the numbers of changes, of those on the current path, and of duplicates on the replay path."""

    current: Mapping[str, Row] = field(default_factory=dict, metadata=_case(_EVERY_DECISION))
    some_replayed: bool = field(default=False, metadata=_case(True))

    def n(self, *decisions: str) -> int:
        """How many changes on the current path have one of these decisions."""
        return sum(self.current[name]["n"] for name in decisions if name in self.current)

    @property
    def sets_type_1(self) -> int:
        """How many changes on the current path overwrite type 1 values."""
        return sum(row["sets"] for name, row in self.current.items() if name != "full")


@dataclass(frozen=True)
class RowChanges(Resolved):
    """The changes to the rows of the table: how many of the rows in each of the relations of ``merge.diff``, and what became of
    each change."""

    to_close: int = field(default=0, metadata=_case(1))
    to_update: int = field(default=0, metadata=_case(1))
    to_insert: int = field(default=0, metadata=_case(1))
    to_delete: int = field(default=0, metadata=_case(1))
    closed_to_overwrite: int = field(default=0, metadata=_case(1))
    """Closed versions that get the new type 1 values of a change on the current path."""
    unlogged: Row = field(default_factory=dict)
    """Keys with rows that have no change in the log, as in ``merge.accounting``."""
    keys_of_replay: Row = field(default_factory=dict)
    """As in ``diff.count_current``."""
    replayed: tuple[Row, ...] = ()
    inactive_decisions: tuple[Row, ...] = ()
    sizes_of_paths: Row = field(default_factory=dict, metadata=_case({"duplicates": 1}))
    late_duplicates: int = 0
    counts: Mapping[str, int] = field(
        default_factory=dict, metadata=_case({"duplicate": 1, "pending": 1, "rejected": 1})
    )

    @property
    def inserted_on_path(self) -> int:
        """Rows that changes on the current path add."""
        return self.n("inserted", "versioned")

    @property
    def closed_and_overwritten(self) -> int:
        """Rows that are closed and overwritten in type 1, which count as one update."""
        return int(self.current["versioned"]["sets"]) if "versioned" in self.current else 0

    @property
    def rows_added(self) -> int:
        return self.inserted_on_path + self.to_insert

    @property
    def rows_updated(self) -> int:
        updated = self.to_close + self.sets_type_1 - self.closed_and_overwritten
        return updated + self.closed_to_overwrite + self.to_update

    @property
    def ended_keys(self) -> int:
        """Keys that are current and will not be."""
        return self.n("deleted") + int(self.keys_of_replay.get("ends", 0))

    @property
    def current_change(self) -> int:
        """By how much the number of current keys changes."""
        found = self.keys_of_replay
        return self.n("inserted") - self.n("deleted") + int(found.get("after", 0)) - int(found.get("before", 0))


@dataclass(frozen=True)
class Applied(RowChanges):
    """What was written: ``type_1`` and ``updated_columns`` are the columns that the updates set."""

    type_1: tuple[str, ...] | None = None
    updated_columns: tuple[str, ...] | None = None
    lapsed: tuple[int, ...] = ()
    """Pending deletes that lapse, by number: their keys are in the extract again."""
    deduplicated: tuple[Row, ...] = ()


F = TypeVar("F", bound=Begun)


@dataclass(frozen=True)
class When(Generic[F]):
    """When a step runs: in words, and as a test of the facts learned so far."""

    text: str
    holds: Callable[[F], bool]


@dataclass(frozen=True)
class Step(Generic[F]):
    """One statement of a run.

    ``does``: ``make`` a working relation, ``change`` one, ``ask`` a question, ``stage`` a stream of rows into a working
    relation, ``prune`` the table to the rows of some keys, ``write`` to tables, ``alter`` them. ``learn`` takes the facts and
    the result: the number of rows, or for questions the rows. ``index`` are working relations that are looked up by key from
    here on.
    """

    stage: Stage
    purpose: str
    text: str | Callable[[F], str] = ""
    does: Literal["make", "change", "ask", "stage", "prune", "write", "alter"] = "make"
    learn: Callable[[F, Any], F] | None = None
    when: When[F] | None = None
    index: tuple[str, ...] = ()
    params: Mapping[str, Any] | Callable[[F], Mapping[str, Any]] = field(default_factory=dict)
    staging: Staging | None = None
    broken: bool = False
    """Whether the stream is that of broken lines."""
    prune_to: tuple[str, bool] | None = None
    """The working relation with the keys, and whether all versions are needed."""
    index_table: tuple[str, tuple[str, ...], str | None] | None = None
    """A new table, the columns by which its rows are found, and the one that splits them; see ``Engine.index``."""
    expects: tuple[str, Callable[[F], int]] | None = None
    """For a write: what happens to the rows, and to how many of them."""

    def runs(self, facts: F) -> bool:
        return self.when is None or self.when.holds(facts)

    def statement(self, facts: F) -> str:
        return self.text if isinstance(self.text, str) else self.text(facts)

    def parameters(self, facts: F) -> Mapping[str, Any]:
        return self.params(facts) if callable(self.params) else self.params


def learned(**given: Callable[[Any], Any]) -> Callable[[F, Any], F]:
    """Takes facts from a result, each by its name."""
    return lambda facts, result: replace(facts, **{name: take(result) for name, take in given.items()})


REPLAYED: When[Any] = When("when keys are replayed", lambda facts: facts.some_replayed)
SOME_INACTIVE: When[Any] = When("when some deletes have no effect by themselves", lambda facts: facts.inactive > 0)


def count_of(relation: str) -> str:
    """How many rows a working relation has (``n``)."""
    return f"SELECT count(*) AS n FROM {sql.work(relation)}"
