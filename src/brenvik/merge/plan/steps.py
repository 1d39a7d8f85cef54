"""What a plan is made of: steps, and the facts that a run learns from them.

A step makes one relation from earlier ones, asks a question, or hands the store a change: its stage, its purpose, its text, and
what the run learns from its result. A relation is made once and never changed. Facts are frozen values, one class per stage, each
with the facts of the stages before it: a later stage cannot run on the facts of an earlier one.

    Begun → Validated → Classified → Resolved → RowChanges → Applied
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, fields, replace
from typing import Any, Generic, Literal, Self, TypeVar

from brenvik.merge import sql
from brenvik.merge.diff import DECIDED
from brenvik.merge.row_changes import RowChange
from brenvik.merge.table_changes import TableChange
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
    "decide": "deletes that have no effect by themselves",
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
    (``repeated``), or in an extract equal the table (``equal``); ``derived`` changes were added. There are ``changes``, besides
    ``inactive`` deletes that have no effect by themselves; ``late`` of both are late. ``changed_keys`` have changes; of these
    ``replay_keys`` have several or late ones, ``replayed`` together. ``highest`` has the highest order and effective time of the
    changes."""

    some_pending: bool = field(default=False, metadata=_case(True))
    read: int = 0
    broken: int = field(default=0, metadata=_case(1))
    invalid: int = field(default=0, metadata=_case(1))
    rejected: int = field(default=0, metadata=_case(1))
    repeated: int = 0
    derived: int = field(default=0, metadata=_case(1))
    equal: int = 0
    erased: int = field(default=0, metadata=_case(1))
    """Rows of keys that were erased."""
    possibly_beyond: int = field(default=0, metadata=_case(1))
    """Rows that hold from before the change log reaches for all keys."""
    changes: int = field(default=0, metadata=_case(2))
    inactive: int = field(default=0, metadata=_case(1))
    late: int = field(default=0, metadata=_case(1))
    changed_keys: int = field(default=0, metadata=_case(1))
    replay_keys: int = field(default=0, metadata=_case(1))
    replayed: int = field(default=0, metadata=_case(1))
    highest: Row = field(default_factory=dict)
    current_in_scope: int | None = None
    extract_at: str | None = None
    """The effective time of an extract, as text."""
    compared: bool = field(default=False, metadata=_case(True))
    """Whether an extract was compared while it was read."""
    compare_again: bool = field(default=False, metadata=_case(True))
    """Whether it must be compared again, as a whole."""
    duplicated: bool = field(default=False, metadata=_case(True))
    """Whether keys may occur twice in an extract."""
    sizes: Row = field(default_factory=dict, metadata=_case({"absent": 1}))
    times: Row = field(default_factory=dict)

    @property
    def some_invalid(self) -> bool:
        return bool(self.invalid or self.broken)

    @property
    def some_current(self) -> bool:
        """Whether any change takes the current path."""
        return self.changes > self.replayed

    def params(self) -> Mapping[str, Any]:
        return {} if self.extract_at is None else {"extract_at": self.extract_at}


@dataclass(frozen=True)
class Classified(Validated):
    """Which path the changes take: the keys that have several or late changes are known."""


_EVERY_DECISION = {
    name: {"n": 1, "sets": 1}
    for name in ("inserted", "versioned", "overwritten", "deleted", "protected", "unchanged", "full")
}


@dataclass(frozen=True)
class Resolved(Classified):
    """What is decided on the current path: how many changes have which decision (``current``), and how many inserts are of keys
    that return and are replayed (``returning``). ``overwritten`` are the type 1 columns that any of them sets, None if the write
    need not know."""

    current: Mapping[str, Row] = field(default_factory=dict, metadata=_case(_EVERY_DECISION))
    returning: int = field(default=0, metadata=_case(1))
    overwritten: tuple[str, ...] | None = None
    chosen_keys: int = 0
    """Keys that a run chose to replay, without changes of theirs."""

    def n(self, *decisions: str) -> int:
        """How many changes on the current path have one of these decisions."""
        found = sum(int(self.current[name]["n"]) for name in decisions if name in self.current)
        return found - self.returning if "inserted" in decisions else found

    @property
    def on_current_path(self) -> int:
        """How many changes the current path decides."""
        return self.n(*(name for name in self.current if name != "full"))

    @property
    def some_full(self) -> bool:
        """Whether the current version of any key is not sufficient."""
        return "full" in self.current

    @property
    def also_replayed(self) -> bool:
        """Whether the current path sends keys to the replay path."""
        return self.some_full or self.returning > 0

    @property
    def some_replayed(self) -> bool:
        return self.replay_keys > 0 or self.chosen_keys > 0 or self.also_replayed

    @property
    def sets_type_1(self) -> int:
        """How many changes on the current path overwrite type 1 values."""
        return sum(int(row["sets"]) for row in self.current.values())


@dataclass(frozen=True)
class RowChanges(Resolved):
    """The changes to the rows of the table: what becomes of how many, and of each change."""

    removed_rows: int = field(default=0, metadata=_case(1))
    """Rows that deletes on the current path remove."""
    closed_versions: int = field(default=0, metadata=_case(1))
    """Closed versions that get the new type 1 values of a change on the current path."""
    actions: Row = field(
        default_factory=dict,
        metadata=_case(
            {"close": 1, "update": 1, "insert": 1, "delete": 1, "current_change": 0, "ended": 0, "duplicates": 1}
        ),
    )
    """What the replay comes to; as in ``diff.summarize`` and ``ties.count_ties``."""
    missing: int = field(default=0, metadata=_case(1))
    """Rows that an extract lacks, and that are marked."""
    back: int = field(default=0, metadata=_case(1))
    """Rows that lose such a mark."""
    decided_deletes: tuple[Row, ...] = ()
    """As in ``pending_deletes.summarize``."""
    counts: Mapping[str, int] = field(
        default_factory=dict, metadata=_case({"duplicate": 1, "pending": 1, "rejected": 1})
    )

    def action(self, name: str) -> int:
        """How many rows of replayed keys have an action, or another sum of ``diff.summarize``."""
        return int(self.actions.get(name, 0))

    @property
    def marked(self) -> int:
        """Rows that are marked as missing, or no longer."""
        return self.missing + self.back

    @property
    def not_last(self) -> int:
        """Replayed changes that are not the last ones of their key at their effective time."""
        return self.changes - self.on_current_path - self.action("duplicates") - sum(map(self.action, DECIDED))

    @property
    def changed_type_0(self) -> int:
        """Changes that have other values of type 0 columns, where these are refused."""
        return sum(int(row.get("type_0", 0)) for row in self.current.values()) + self.action("type_0")

    @property
    def closed_and_overwritten(self) -> int:
        """Rows that the current path closes, and overwrites in type 1."""
        return int(self.current["versioned"]["sets"]) if "versioned" in self.current else 0

    @property
    def overwritten_rows(self) -> int:
        """Rows that the current path overwrites in type 1, and does not close."""
        return self.sets_type_1 - self.closed_and_overwritten + self.closed_versions

    @property
    def inserted_on_path(self) -> int:
        """Rows that changes on the current path add."""
        return self.n("inserted", "versioned")

    @property
    def rows_added(self) -> int:
        return self.inserted_on_path + self.action("insert")

    @property
    def late_duplicates(self) -> int:
        of_deletes = sum(row["late"] for row in self.decided_deletes if row["brenvik_decision"] == "duplicate")
        return int(of_deletes) + self.action("late_duplicates")

    @property
    def ended_keys(self) -> int:
        """Keys that are current and will not be."""
        return self.n("deleted") + self.action("ended")

    @property
    def current_change(self) -> int:
        """By how much the number of current keys changes."""
        return self.n("inserted") - self.n("deleted") + self.action("current_change")


@dataclass(frozen=True)
class Applied(RowChanges):
    """What was written."""

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
    """One step of a run.

    ``makes`` names the working relation that the query ``text`` makes, as a table or as a ``view``; without it, ``text`` is a
    question. Instead of a text a relation may be the ``same_as`` another, be rows of a stream (``staging``) or the rows that the
    table has of some keys (``stored``: the relation with the keys, and whether all versions are needed).
    ``change`` is what the store is asked to write, ``alter`` how the table is altered.

    ``learn`` takes the facts and the result: the number of rows, for questions the rows. ``index``: the relation is looked up by
    key from here on, or by these columns. ``compares``: working relations that the query compares with the table or its change
    log.
    """

    stage: Stage
    purpose: str
    text: str | Callable[[F], str] = ""
    makes: str = ""
    learn: Callable[[F, Any], F] | None = None
    when: When[F] | None = None
    view: bool = False
    index: bool | tuple[str, ...] = False
    compares: tuple[str, ...] = ()
    same_as: str | Callable[[F], str] = ""
    staging: Staging | None = None
    broken: bool = False
    """Whether the stream is that of broken lines."""
    stored: tuple[str, bool] | None = None
    change: Callable[[F], RowChange] | None = None
    alter: TableChange | None = None
    record: str = ""
    """The table of the ledger that gets the rows of the query ``text``."""
    expected: Callable[[F], int] | None = None
    """How many rows a change, or what is recorded, must be about."""
    what: str = ""
    """What happens to the rows that are recorded."""
    params: Mapping[str, Any] = field(default_factory=dict)

    def runs(self, facts: F) -> bool:
        return self.when is None or self.when.holds(facts)

    def query(self, facts: F) -> str:
        return self.text if isinstance(self.text, str) else self.text(facts)

    def original(self, facts: F) -> str:
        """The relation that this one is the same as."""
        return self.same_as if isinstance(self.same_as, str) else self.same_as(facts)


def learned(**given: Callable[[Any], Any]) -> Callable[[F, Any], F]:
    """Takes facts from a result, each by its name."""
    return lambda facts, result: replace(facts, **{name: take(result) for name, take in given.items()})


REPLAYED: When[Any] = When("when keys are replayed", lambda facts: facts.some_replayed)
SOME_INACTIVE: When[Any] = When("when some deletes have no effect by themselves", lambda facts: facts.inactive > 0)


def count_of(relation: str) -> str:
    """How many rows a working relation has (``n``)."""
    return f"SELECT count(*) AS n FROM {sql.work(relation)}"
