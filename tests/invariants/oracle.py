"""What a table must hold, worked out with dicts and loops. Shares no code with the core."""

from __future__ import annotations

import copy
import math
import re
import unicodedata
from collections import Counter, defaultdict
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from decimal import ROUND_HALF_UP, Context, Decimal
from typing import Any
from zoneinfo import ZoneInfo


@dataclass(frozen=True)
class Declared:
    """The part of a declaration that the oracle needs, in its own words."""

    keys: tuple[str, ...]
    order: tuple[str, ...]
    effective: str | None
    type_0: tuple[str, ...]
    type_1: tuple[str, ...]
    type_2: tuple[str, ...]
    deletes: str
    precision: str | None = None
    """What effective times are cut to: second, minute, hour, day, week or month."""
    zone: str = "UTC"
    """Where those are cut that have a zone."""
    gone_if: str | None = None
    """The column that is true in a row whose key is gone."""
    not_compared: tuple[str, ...] = ()
    """Columns that come with a change and make none."""
    type_3: dict[str, str] = field(default_factory=dict)
    """Type 1 columns, each with the column that has its previous value."""
    ignored: dict[str, tuple[Any, ...]] = field(default_factory=dict)
    """What makes no difference in a column: case, blanks, unicode; or round, and the digits."""
    key_form: tuple[str, ...] = ()
    """What texts of keys are brought to: lower, upper, blanks, unicode."""
    first_arrived: bool = False
    """Whether type 0 columns keep what arrived first, not what holds first."""
    refuses_ties: bool = False
    """Whether changes are refused that say different things of one key, time and order."""

    @property
    def values(self) -> tuple[str, ...]:
        return (*self.type_0, *self.type_1, *self.type_2, *self.not_compared)

    def with_key(self, row: dict[str, Any]) -> dict[str, Any]:
        """A row whose key is in the form of keys."""
        texts = {name: row[name] for name in self.keys if isinstance(row[name], str)}
        return row | {name: self.text_form(value, self.key_form) for name, value in texts.items()}

    def text_form(self, value: str, words: tuple[Any, ...]) -> str:
        value = unicodedata.normalize("NFC", value) if "unicode" in words else value
        value = "".join(map(str.lower, value)) if "case" in words or "lower" in words else value
        value = "".join(map(str.upper, value)) if "upper" in words else value
        return " ".join(re.split("[ \t\n\r\f\v\xa0]+", value)).strip(" ") if "blanks" in words else value

    def form(self, name: str, value: Any) -> Any:
        """What of a value is compared."""
        words = self.ignored.get(name, ())
        if value is None or not words:
            return plain(value)
        if words[0] == "round":
            if isinstance(value, Decimal):
                return value.quantize(Decimal(1).scaleb(-words[1]), ROUND_HALF_UP, Context(prec=80))
            return math.floor(value * 10.0 ** words[1] + 0.5) if abs(value) < 1e15 else plain(value)
        return self.text_form(value, words)


@dataclass
class Change:
    key: tuple[Any, ...]
    effective: Any
    order: tuple[Any, ...]
    arrived: int
    batch: int
    delete: bool
    said: dict[str, Any]
    raw: dict[str, Any]
    state: dict[str, Any] = field(default_factory=dict)
    """Type 1 and type 2 values after this change, and the type 0 values known by then."""
    protected: dict[str, Any] = field(default_factory=dict)
    """The type 0 values of its life."""
    life: list[Change] = field(default_factory=list)
    """All changes of its life."""


def plain(value: Any) -> Any:
    """Something by which values compare as a table compares them: NaN equals NaN, -0.0 equals 0.0, 1 is not True."""
    if isinstance(value, float):
        return "nan" if math.isnan(value) else ("float", value + 0.0)
    if isinstance(value, datetime) and value.tzinfo:
        return ("instant", value.astimezone(UTC).isoformat())
    return (type(value).__name__, value)


def cut(moment: Any, precision: str, zone: str = "UTC") -> Any:
    """The beginning of the unit that a date or a time lies in, where one with a zone is local."""
    if not isinstance(moment, datetime):
        return cut(datetime(moment.year, moment.month, moment.day), precision).date()
    here = moment.astimezone(ZoneInfo(zone)) if moment.tzinfo else moment
    lengths = {"second": timedelta(seconds=1), "minute": timedelta(minutes=1), "hour": timedelta(hours=1)}
    midnight = datetime(here.year, here.month, here.day)
    if precision in lengths:
        return moment - (here.replace(tzinfo=None) - midnight) % lengths[precision]
    day = {"day": here.day, "month": 1}.get(precision)
    begin = midnight.replace(day=day) if day else midnight - timedelta(days=here.weekday())
    return begin.replace(tzinfo=here.tzinfo).astimezone(UTC) if here.tzinfo else begin


class Oracle:
    def __init__(self, declared: Declared, *, holds: bool = False, ignores: bool = False) -> None:
        self.holds = holds or ignores
        self.ignores = ignores
        self.out: set[int] = set()
        """The batches that are reverted."""
        self.aside: list[Change] = []
        self.held: dict[int, Change] = {}
        self.declared = declared
        self.kept: dict[tuple[Any, ...], list[Change]] = defaultdict(list)
        self.open_rejects: set[Any] = set()
        self.open_ties: set[Any] = set()
        self.reach: dict[tuple[Any, ...], Any] = {}
        """Of keys whose oldest changes were forgotten: until when they hold. What holds from no later is refused."""
        self.forgotten: set[int] = set()
        """What was forgotten, by when it arrived."""
        self.altered = 0
        """How many changes of the last batch say something else of type 0 columns than what was known."""
        self.batch = 0
        self.arrived = 0
        self.numbered = 0

    def load(self, rows: list[dict[str, Any]], loaded_at: Any = None) -> list[str]:
        """Takes one batch; returns the decision of every row."""
        self.batch += 1
        told: list[str | None] = []
        new: list[tuple[int, Change]] = []
        waiting: list[tuple[int, Change]] = []
        read = [self._read(row, loaded_at) for row in rows]
        beyond = [change for change in read if change and self._is_beyond(change)]
        placed = [change for change in read if change and not any(change is one for one in beyond)]
        tied = self._tied(placed) if self.declared.refuses_ties else []
        for row, change in zip(rows, read, strict=True):
            self.arrived += 1
            if change:
                change.arrived = self.arrived
            if change is None or any(change is one for one in (*beyond, *tied)):
                content = self._content(row)
                told.append("duplicate" if content in self.open_rejects else "rejected")
                self.open_rejects.add(content)
                if any(change is one for one in tied):
                    self.open_ties.add(content)
            elif self._is_known(change):
                told.append("duplicate")
            elif self.holds and change.delete:
                told.append(None)
                self.aside.append(change)
                waiting.append((len(told) - 1, change))
            else:
                told.append(None)
                new.append((len(told) - 1, change))
                self.kept[tuple(map(plain, change.key))].append(change)
        for index, change in new:
            told[index] = self._judge(change)
        for index, change in waiting:
            told[index] = self._hold(change)
        self.altered = sum(self._alters(change) for _, change in new)
        return [decision or "?" for decision in told]

    def _content(self, row: dict[str, Any]) -> Any:
        return tuple(sorted((name, plain(value)) for name, value in row.items()))

    def _is_beyond(self, change: Change) -> bool:
        reach = self.reach.get(tuple(map(plain, change.key)))
        return reach is not None and bool(change.effective <= reach)

    def forget(self, settled: Callable[[Change], bool]) -> None:
        """Forgets old changes that the table does not need, and with them how to place what holds from no later than the last old
        one. Old are of each key those that are settled, up to the first that is not, but for the last of them and what holds from
        the same time. The table stays as it is, so all are still known here."""
        for key in [*self.kept]:
            aside = [change for change in self.aside if tuple(map(plain, change.key)) == key]
            ends = [change.effective for change in (*self.kept[key], *aside) if not settled(change)]
            changes = [c for c in self._counting(key) if settled(c) and not any(c.effective >= end for end in ends)]
            old = [change for change in changes if change.effective < max(c.effective for c in changes)]
            left = [change for change in old if change.arrived not in self.forgotten]
            needed = self._needed(old)
            if len(left) > len(needed):
                self.reach[key] = max(change.effective for change in old)
                self.forgotten |= {change.arrived for change in left} - {change.arrived for change in needed}

    def _needed(self, changes: list[Change]) -> list[Change]:
        """Those of the changes of a key on which its rows depend, when each says all there is to say."""
        d, line = self.declared, [group[-1] for group in self._line(changes)]
        places: set[int] = {len(line) - 1}
        ends = [sum(change.delete for change in line[: n + 1]) for n in range(len(line))]
        upserts = [n for n, change in enumerate(line) if not change.delete]

        def differs(n: int, names: Iterable[str]) -> bool:
            return any(plain(line[n].state[name]) != plain(line[n - 1].state[name]) for name in names)

        begins = {n for n in upserts if n == 0 or line[n - 1].delete}
        needed = begins | {n for n in upserts if n not in begins and differs(n, d.type_2)} | {*upserts[-1:]}
        needed |= {n for n, change in enumerate(line) if change.delete and n and not line[n - 1].delete}
        last = [[n for n in upserts if n not in begins and differs(n, [name])] for name in d.type_3]
        if d.not_compared and not d.type_2:
            last.append([n for n in upserts if n in begins or differs(n, d.type_1)])
        for found in last:
            needed |= {n - back for n in found[-1:] for back in (0, 1) if n >= back}
        if d.deletes == "remove" or not d.type_2:
            needed = {n for n in needed if n in upserts and ends[n] == ends[upserts[-1]]}
        return [line[n] for n in sorted(places | needed) if line]

    def _tied(self, changes: list[Change]) -> list[Change]:
        """Those that another one contradicts: of this batch, of one before, or of one that was refused for that."""
        if not self.declared.order:
            return []

        def place(change: Change) -> Any:
            return (*map(plain, change.key), plain(change.effective), *map(plain, change.order))

        old = [*self.aside, *(change for changes in self.kept.values() for change in changes)]
        taken: dict[Any, set[Any]] = defaultdict(set)
        for change in old:
            if change.batch not in self.out:
                taken[place(change)].add(self._meaning(change))
        takes_part = [change for change in changes if self._meaning(change) not in taken[place(change)]]
        said: dict[Any, set[Any]] = defaultdict(set)
        for change in takes_part:
            said[place(change)].add(self._meaning(change))
        return [
            change
            for change in takes_part
            if len(said[place(change)]) > 1 or taken[place(change)] or self._content(change.raw) in self.open_ties
        ]

    def _meaning(self, change: Change) -> Any:
        """What makes a change another one at its key, time and order: not what is not compared."""
        raw = {name: value for name, value in change.raw.items() if name != "op"}
        names = (name for name in raw if name not in self.declared.not_compared)
        said = tuple(sorted((name, self.declared.form(name, raw[name])) for name in names))
        return (change.delete, frozenset(raw), said)

    def _hold(self, change: Change) -> str:
        """The decision on a delete that awaits approval (one per key and lifetime), or that will never count."""
        if self.ignores:
            return "ignored"
        key = tuple(map(plain, change.key))
        versions = self._versions(self._counting(key))
        if not versions:
            return "ignored"
        if versions[-1]["valid_to"] is not None or any(
            tuple(map(plain, c.key)) == key for c in self.waiting().values()
        ):
            return "unchanged"
        self.numbered += 1
        self.held[self.numbered] = change
        return "pending"

    def waiting(self) -> dict[int, Change]:
        """The deletes that are held, as far as their batches count."""
        return {number: change for number, change in self.held.items() if change.batch not in self.out}

    def _counting(self, key: tuple[Any, ...]) -> list[Change]:
        return [change for change in self.kept[key] if change.batch not in self.out]

    def decide(self, batch: int, key: tuple[Any, ...], *, drop: bool, at: Any) -> None:
        """What a person decided of the delete of a key that an extract told of: whether or not it would be held here, it holds
        from then on, or is dropped."""
        alike = tuple(map(plain, key))
        self.held = {n: change for n, change in self.held.items() if tuple(map(plain, change.key)) != alike}
        if not drop:
            self.kept[alike].append(Change(key, at, (), self.arrived, batch, True, {}, {}))

    def release(self, number: int) -> None:
        change = self.held.pop(number)
        self.kept[tuple(map(plain, change.key))].append(change)

    def extract(self, rows: list[dict[str, Any]], at: Any, scope: str | None = None) -> list[str]:
        """Takes an extract; returns the decisions of its rows, then of the deletes of absent keys. It holds all rows of the
        table, or those whose value of the column ``scope`` is not null. A row with the value "too long" is refused, which says
        that its key is there."""
        d = self.declared
        originals, rows = rows, [d.with_key(row) for row in rows]
        self.batch += 1
        told: list[str | None] = []
        new: list[tuple[int, Change]] = []
        refused = [None in [row[name] for name in d.keys] or "too long" in row.values() for row in rows]
        keys = [tuple(plain(row[name]) for name in d.keys) for row in rows]
        if d.refuses_ties:
            contents: dict[Any, set[Any]] = defaultdict(set)
            for row, key, is_refused in zip(rows, keys, refused, strict=True):
                if not is_refused:
                    contents[key].add(self._meaning(self._change(row, at, delete=False)))
            refused = [is_refused or len(contents[key]) > 1 for key, is_refused in zip(keys, refused, strict=True)]
        named = Counter(key for key, is_refused in zip(keys, refused, strict=True) if not is_refused)
        living = {tuple(plain(row[name]) for name in d.keys): row for row in self.rows() if row["valid_to"] is None}
        for original, row, key, is_refused in zip(originals, rows, keys, refused, strict=True):
            self.arrived += 1
            said = {name: row[name] for name in d.values if name in row}
            if is_refused:
                content = self._content(original)
                told.append("duplicate" if content in self.open_rejects else "rejected")
                self.open_rejects.add(content)
            elif named[key] == 1 and key in living and self._equal(living[key], said):
                told.append("unchanged")
            else:
                told.append(None)
                new.append((len(told) - 1, self._keep(row, at, delete=False)))
        waiting = {tuple(map(plain, change.key)): number for number, change in self.waiting().items()}
        for key in waiting.keys() & {*keys}:
            del self.held[waiting[key]]  # it came back
        for key, row in sorted(living.items(), key=lambda item: repr(item[0])):
            if key in keys or key in waiting or (scope is not None and row[scope] is None):
                continue
            self.arrived += 1
            gone = {name: row[name] for name in d.keys}
            if self.holds:
                self.numbered += 1
                self.held[self.numbered] = self._change(gone, at, delete=True)
                told.append("pending")
            else:
                told.append(None)
                new.append((len(told) - 1, self._keep(gone, at, delete=True)))
        for index, change in new:
            told[index] = self._judge(change)
        return [decision or "?" for decision in told]

    def _equal(self, row: dict[str, Any], said: dict[str, Any]) -> bool:
        compared = {name: value for name, value in said.items() if name not in self.declared.not_compared}
        return not any(self._differ(name, row[name], value) for name, value in compared.items())

    def _differ(self, name: str, one: Any, other: Any) -> bool:
        return bool(self.declared.form(name, one) != self.declared.form(name, other))

    def _change(self, row: dict[str, Any], at: Any, *, delete: bool) -> Change:
        said = {name: row[name] for name in self.declared.values if name in row}
        key = tuple(row[name] for name in self.declared.keys)
        return Change(key, at, (), self.arrived, self.batch, delete, said, row)

    def _keep(self, row: dict[str, Any], at: Any, *, delete: bool) -> Change:
        change = self._change(row, at, delete=delete)
        self.kept[tuple(map(plain, change.key))].append(change)
        return change

    def without(self, batches: set[int]) -> Oracle:
        """The same without what some batches brought."""
        left = copy.deepcopy(self)
        left.out = set(batches)
        return left

    def rows(self) -> list[dict[str, Any]]:
        """The rows that the table must hold, without system_columns but valid_from, valid_to and is_deleted."""
        found = []
        for key in list(self.kept):
            found += self._versions(self._counting(key))
        return found

    def _read(self, row: dict[str, Any], loaded_at: Any) -> Change | None:
        d = self.declared
        row = d.with_key(row)
        key, order = tuple(row[name] for name in d.keys), tuple(row[name] for name in d.order)
        effective = row[d.effective] if d.effective else loaded_at
        if d.precision and effective is not None:
            effective = cut(effective, d.precision, d.zone)
        if None in key or None in order or effective is None or row.get("op", "U") not in {"I", "U", "D"}:
            return None
        said = {name: row[name] for name in d.values if name in row}
        gone = row.get("op") == "D" or (d.gone_if is not None and row.get(d.gone_if) is True)
        return Change(key, effective, order, self.arrived, self.batch, gone, said, row)

    def counts(self, row: dict[str, Any]) -> bool:
        """Whether what a row says is kept, by whichever batch that is not out."""
        change = self._read(row, None)
        return change is not None and self._is_known(change)

    def _is_known(self, change: Change) -> bool:
        if not self.declared.order:
            return False

        key = tuple(map(plain, change.key))
        known = [*self.kept[key], *(old for old in self.aside if tuple(map(plain, old.key)) == key)]
        alike = [old for old in known if (old.effective, old.order) == (change.effective, change.order)]
        return any(self._meaning(old) == self._meaning(change) for old in alike if old.batch not in self.out)

    def _line(self, changes: list[Change]) -> list[list[Change]]:
        """The changes of a key, grouped by effective time, in order; sets every change's state."""
        groups: dict[Any, list[Change]] = {}
        for change in sorted(changes, key=lambda c: (c.effective, c.order, c.arrived)):
            groups.setdefault(change.effective, []).append(change)
        lives: list[list[Change]] = [[]]
        for group in groups.values():
            if group[-1].delete:
                lives.append([])
            else:
                lives[-1] += [change for change in group if not change.delete]
        for life in lives:
            state: dict[str, Any] = dict.fromkeys(self.declared.values)
            source = {name: self._source(life, name) for name in self.declared.type_0}
            for change in life:
                state |= {n: value for n, value in change.said.items() if n not in self.declared.type_0}
                state |= {name: change.said[name] for name, of in source.items() if change is of}
                change.state = dict(state)
                change.protected = {name: of.said[name] for name, of in source.items() if of}
                change.life = life
        self._keep_first_forms([group[-1] for group in groups.values()])
        return list(groups.values())

    def _keep_first_forms(self, line: list[Change]) -> None:
        """What does not really differ from the value before it stays as that was."""
        columns = [name for name in self.declared.ignored if name not in self.declared.type_0]
        kept: dict[str, Any] | None = None
        for change in line:
            if change.delete:
                kept = None
                continue
            for name in columns:
                if kept is not None and not self._differ(name, change.state[name], kept[name]):
                    change.state[name] = kept[name]
            kept = change.state

    def _source(self, life: list[Change], name: str) -> Change | None:
        """The change of a life, in order, whose value a type 0 column keeps."""
        known = [change for change in life if change.said.get(name) is not None]
        if self.declared.first_arrived:
            known.sort(key=lambda change: change.arrived)
        return known[0] if known else None

    def _judge(self, change: Change) -> str:
        d = self.declared
        line = self._line(self._counting(tuple(map(plain, change.key))))
        place = next(i for i, group in enumerate(line) if group[-1].effective == change.effective)
        group = line[place]
        if group[-1] is not change:
            return "superseded"
        before = line[place - 1][-1] if place else None
        replaced = next((c for c in reversed(group) if c.batch < change.batch), None)
        alive = before is not None and not before.delete
        if change.delete:
            if replaced is not None:
                return "unchanged" if replaced.delete else "deleted"
            return "ignored" if before is None else "deleted" if alive else "unchanged"
        if self._is_forgotten(line, place):
            return "superseded"
        begins = replaced is None or replaced.delete
        if begins and not alive and not self._had_life(line, place, change.batch):
            return "inserted"
        if begins and not alive:  # the life that is there begins earlier
            return "versioned" if d.type_2 else "overwritten"
        if replaced is not None and replaced.delete:
            return "versioned"
        reference = (replaced or before).state  # type: ignore[union-attr]

        def differs(names: tuple[str, ...]) -> bool:
            return any(self._differ(name, change.state[name], reference[name]) for name in names)

        if differs(d.type_2):
            return "versioned"
        if differs(d.type_1) or any(reference[n] is None and change.state[n] is not None for n in d.type_0):
            return "overwritten"
        return "protected" if self._tampers(change) else "unchanged"

    def _tampers(self, change: Change) -> bool:
        """Whether a change says something else of a type 0 column than what it keeps."""
        said = {name: change.said[name] for name in self.declared.type_0 if name in change.said}
        return any(
            self._differ(name, value, change.protected[name] if value is not None else change.state[name])
            for name, value in said.items()
        )

    def _alters(self, change: Change) -> bool:
        """Whether a change tampers, or is an earlier one that replaces what was known."""
        line = self._line(self._counting(tuple(map(plain, change.key))))
        place = next(i for i, group in enumerate(line) if group[-1].effective == change.effective)
        if line[place][-1] is not change or change.delete:
            return False
        if self._tampers(change):
            return True
        earlier = [c for c in line[place] if c.batch < change.batch] or (line[place - 1] if place else [])
        before = earlier[-1] if earlier and not earlier[-1].delete else None
        for name in self.declared.type_0:
            old = self._source([c for c in change.life if c.batch < change.batch], name)
            learns = change.state[name] is not None and (before is None or before.state[name] is None)
            if learns and old and self._differ(name, old.said[name], change.state[name]):
                return True
        return False

    def _had_life(self, line: list[list[Change]], place: int, batch: int) -> bool:
        """Whether the life that a group belongs to had changes of earlier batches."""
        later = next((i for i, group in enumerate(line) if i > place and group[-1].delete), len(line))
        return any(c.batch < batch and not c.delete for group in line[place:later] for c in group)

    def _is_forgotten(self, line: list[list[Change]], place: int) -> bool:
        """Whether an upsert belongs to an earlier life that the table does not keep."""
        ends = [i for i, group in enumerate(line) if group[-1].delete and i > place]
        if self.declared.deletes == "remove":
            return bool(ends)
        if self.declared.type_2:
            return False
        return any(any(not later[-1].delete for later in line[end:]) for end in ends)

    def _versions(self, changes: list[Change]) -> list[dict[str, Any]]:
        d = self.declared
        lives: list[list[dict[str, Any]]] = []
        alive = False
        last: dict[str, Any] = {}
        beside: dict[str, Any] = {}
        earlier: dict[str, Any] = {}
        for group in self._line(changes):
            event = group[-1]
            if event.delete:
                if alive:
                    lives[-1][-1] |= {"valid_to": event.effective, "is_deleted": True}
                alive = False
                continue
            if not alive:
                lives.append([])
            life = lives[-1]
            opens = not life or any(plain(life[-1][n]) != plain(event.state[n]) for n in d.type_2)
            overwrites = not d.type_2 and any(plain(last.get(n)) != plain(event.state[n]) for n in d.type_1)
            if opens and not life:
                beside = dict.fromkeys(d.not_compared)
                earlier = dict.fromkeys(d.type_3.values())
            earlier |= {
                before: last[n] for n, before in d.type_3.items() if life and plain(last[n]) != plain(event.state[n])
            }
            if opens or overwrites:  # a row has the values of the change that made it
                beside |= {n: event.said[n] for n in d.not_compared if n in event.said}
            if opens:
                if life:
                    life[-1]["valid_to"] = event.effective
                row = dict(zip(d.keys, event.key, strict=True)) | {n: event.state[n] for n in d.values} | beside
                life.append(row | {"valid_from": event.effective, "valid_to": None, "is_deleted": False})
            life[-1] |= beside
            for row in life:  # type 0: what is known by now holds for the whole life
                row |= {n: event.state[n] for n in d.type_0}
            alive = True
            last = event.state
        if d.deletes == "remove":
            lives = lives[-1:] if alive else []
        elif not d.type_2:
            lives = lives[-1:]
        return [row | {n: last[n] for n in d.type_1} | earlier for life in lives for row in life]


def counted(decisions: list[str]) -> Counter[str]:
    return Counter(decisions)
