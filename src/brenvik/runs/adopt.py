"""Existing tables: checked against their rules, and taken over with every row they have."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace

from brenvik.engines.conflicts import retry_on_conflict
from brenvik.engines.protocol import Engine
from brenvik.engines.workspace import Workspace
from brenvik.errors import DeclarationError, FeedError, SchemaMismatch
from brenvik.ledger.entries import now
from brenvik.ledger.ledger import Ledger
from brenvik.ledger.memory import LoadMemory
from brenvik.ledger.records import Preview, Run
from brenvik.ledger.schema import approved_deletes, change_log_table
from brenvik.merge import baseline, change_log, extract_diff, sql, writes
from brenvik.merge.plan.kinds import LoadPlan
from brenvik.merge.plan.preparing import make_log
from brenvik.merge.plan.steps import Begun, RowChanges
from brenvik.merge.resolve import resolve
from brenvik.merge.schema import Column, StoredColumn, TableSchema
from brenvik.merge.stamps import stamps_of
from brenvik.merge.surrogate_keys import key_type
from brenvik.merge.table_changes import AddColumns
from brenvik.model.rules import SYSTEM_COLUMNS, TableRules
from brenvik.model.types import INTEGER, TEXT, TIMESTAMP, ColumnType
from brenvik.outcome import Outcome
from brenvik.runs import pipeline
from brenvik.runs.context import RunContext
from brenvik.runs.prepare import check_log_name
from brenvik.runs.recompute import Prepared, apply_changes, find_changes, outcome_of

_NEVER_MISSING = ("valid_from", "valid_to")


@dataclass
class Fit:
    """How an existing table fits its rules: its schema where it does, what must be fixed where it does not, and notes.
    ``missing`` are system columns that an adoption adds,
    ``missing_stamps`` stamps."""

    rows: int = 0
    schema: TableSchema | None = None
    faults: list[str] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    missing: list[str] = field(default_factory=list)
    missing_stamps: list[str] = field(default_factory=list)


def fit(engine: Engine, rules: TableRules, feed: Mapping[str, ColumnType]) -> Fit:
    """Checks an existing table against its rules, columns and rows; ``feed`` are the columns that its feeds have."""
    stored = {column.name: column for column in engine.columns_of(rules.stored_as)}
    found = Fit(engine.rows(f"SELECT count(*) AS n FROM {sql.relation(rules.stored_as)}")[0]["n"])
    found.faults += _faults_of_columns(rules, stored, feed, found)
    own = _own(rules, _effective_type(rules, stored, feed))
    fitting = {name for _, name, kind in own if name in stored and (its := stored[name].type) and its.wide == kind.wide}
    needed = {name for column, name, _ in own if column in _NEVER_MISSING}
    if not needed <= fitting or any(name not in stored or not stored[name].type for name in rules.natural_key):
        return found  # nothing can be said of rows
    try:
        schema = _draw(engine, rules, stored, feed)
    except FeedError as error:
        found.faults.append(str(error))
        return found
    found.schema = schema
    seen = replace(  # what is not there yet cannot be asked for
        schema,
        system_columns=tuple((column, name if name in fitting else None) for column, name in schema.system_columns),
    )
    counts = engine.rows(baseline.count_timeline_errors(seen), _values(rules))[0] if schema.keys else {}
    found.faults += [baseline.TIMELINE_ERRORS[name].format(n=f"{n:,}") for name, n in counts.items() if n]
    types = {
        name: column.type
        for name, column in stored.items()
        if column.type and name in {*schema.change_columns, *fitting}
    }
    texts = tuple(name for name, kind in types.items() if kind.kind == "text")
    if texts:
        (alike,) = engine.rows(baseline.count_alike(rules.stored_as, texts))
        found.faults += [
            f"{name}: has a collation under which different texts are equal, such as 'a' and 'A'; Brenvik compares byte by "
            "byte. Change the collation of the column, or load into a new table"
            for index, name in enumerate(texts)
            if alike[f"alike_{index}"]
        ]
    for name, count in engine.malformed(rules.stored_as, types).items():
        found.faults.append(f"{name}: {count:,} values are not in the format of this store for {types[name]}")
    return found


def _values(rules: TableRules) -> dict[str, str | None]:
    return {"open_end": str(rules.open_end) if rules.open_end is not None else None}


def _faults_of_columns(
    rules: TableRules, stored: Mapping[str, StoredColumn], feed: Mapping[str, ColumnType], found: Fit
) -> Iterator[str]:
    folded = {name.casefold(): name for name in stored}

    def elsewhere(name: str) -> str:
        other = folded.get(name.casefold())
        return f"; it has {other!r}; names are case-sensitive" if other else ""

    previous = (*rules.type_3.values(),)
    named = dict.fromkeys((*rules.natural_key, *rules.listed_columns, *previous))
    for name in named:
        if name not in stored and (name in (*rules.natural_key, *previous) or name not in feed):
            yield f"{name}: the table has no such column{elsewhere(name)}"
    own = {}
    for column, name, expected in _own(rules, _effective_type(rules, stored, feed)):
        own[column], its = name, stored.get(name)
        if its is None and column in _NEVER_MISSING:
            yield (
                f"{name}: the table has no such column{elsewhere(name)}; name it: "
                f'system_columns = {{ {column} = "…" }}, or omit it: {column} = false'
            )
        elif its is None:
            found.missing.append(column)
            if column == "surrogate_key" and rules.surrogate_key == "identity":
                yield f"{name}: the table has no such column; add it as an identity column"
        elif (its.type is None or its.type.wide != expected.wide) and not (column == "surrogate_key" and its.filled):
            yield f"{name}: is {its.type_name}; {column} must be {expected}"
        elif column == "surrogate_key" and rules.surrogate_key == "identity" and not its.filled:
            yield f'{name}: the store does not number it; make it an identity column, or declare surrogate_key = "counter"'
    for stamp in stamps_of(rules):
        its = stored.get(stamp.name)
        if its is None:
            found.missing_stamps.append(stamp.name)
        elif its.type is None or its.type.kind != stamp.type.kind:
            yield f"{stamp.name}: is {its.type_name}; the stamp is {stamp.type}"
    if added := [*(own[column] for column in found.missing), *found.missing_stamps]:
        found.notes.append(f"Adoption adds {', '.join(added)}.")
    for name in dict.fromkeys((*named, *feed)):
        if name in stored and name not in own.values():
            yield from _faults_of_type(rules, stored[name], is_value=rules.role_of(name) is not None)
    absent = [name for name in feed if name not in stored and rules.role_of(name)]
    if absent:
        found.notes.append(f"The first load adds {', '.join(absent)}, which are new in the table.")
    for name, its in stored.items():
        if name in (*own.values(), *named, *rules.stamps) or (name in feed and rules.role_of(name)):
            continue
        if its.needed:
            yield f"{name}: is NOT NULL without a default, and neither the rules nor a feed provide it"
        else:
            found.notes.append(f"{name} is left unchanged: neither the rules nor a feed have it.")


def _own(rules: TableRules, effective: ColumnType) -> list[tuple[str, str, ColumnType]]:
    """The system columns of a table: which one, its name, its type."""
    logical = ColumnType("boolean")
    types = {"valid_from": effective, "valid_to": effective, "is_current": logical, "is_deleted": logical}
    types |= {
        "surrogate_key": key_type(rules.surrogate_key),
        "durable_key": TEXT,
        "first_run": INTEGER,
        "last_run": INTEGER,
    }
    named = ((column, rules.system_column_name(column)) for column in SYSTEM_COLUMNS)
    return [(column, name, types.get(column, TIMESTAMP)) for column, name in named if name]


def _faults_of_type(rules: TableRules, its: StoredColumn, *, is_value: bool) -> Iterator[str]:
    declared = rules.declared_type(its.name)
    if its.type is None:
        yield f"{its.name}: is {its.type_name}, which is not supported"
    elif its.filled == "generated" and is_value:
        yield f"{its.name}: is a generated column; add it to exclude"
    elif declared and declared.kind == its.type.kind == "text":
        if its.type.length and (declared.length is None or declared.length > its.type.length):
            yield f'{its.name}: is {its.type} in the table, {declared} in the rules; declare "{its.type}"'
    elif declared and declared not in (its.type, its.type.wide):
        yield f"{its.name}: is {its.type_name} in the table, {declared} in the rules"


def _effective_type(
    rules: TableRules, stored: Mapping[str, StoredColumn], feed: Mapping[str, ColumnType]
) -> ColumnType:
    name = rules.effective_column
    start = stored.get(rules.system_column_name("valid_from") or "")
    if name is None:
        return TIMESTAMP
    declared = rules.declared_type(name) or (stored[name].type if name in stored else None)
    return declared or (start.type if start and start.type else None) or feed.get(name, TIMESTAMP)


def _draw(
    engine: Engine, rules: TableRules, stored: Mapping[str, StoredColumn], feed: Mapping[str, ColumnType]
) -> TableSchema:
    """The schema of an existing table: of what its feeds have, the columns that it has."""
    required = (*rules.natural_key, *rules.order_by, *filter(None, [rules.effective_column]))
    named = rules.listed_columns
    types: dict[str, ColumnType] = {}
    for name in dict.fromkeys((*required, *named, *feed)):
        its = stored.get(name)
        if its and its.type:
            kind = its.type if its.type.kind != "text" else rules.declared_type(name) or its.type
            types[name] = kind
        elif name in required:
            types[name] = rules.declared_type(name) or (
                _effective_type(rules, stored, feed) if name == rules.effective_column else feed.get(name, INTEGER)
            )
    known = [
        Column(name, kind, "key" if name in rules.natural_key else rules.role_of(name) or "when")
        for name, kind in types.items()
        if name in required or rules.role_of(name)
    ]
    surrogate = stored.get(rules.system_column_name("surrogate_key") or "")
    return resolve(
        rules,
        types,
        known=known,
        numbered_by_store=bool(surrogate and surrogate.filled in ("identity", "default")),
        store=engine.capabilities,
        change_log=change_log_table(rules.table),
        source=f"table {rules.stored_as!r}",
    ).with_column_sets({1: tuple(sorted({c.name for c in known if c.role != "when"}))})


class _OnlyAsked(Exception):
    """Rolls back the transaction of a preview."""


def adopt(
    ledger: Ledger[Engine],
    rules: TableRules,
    feed: Mapping[str, ColumnType],
    *,
    allow_changes: int = 0,
    reason: str | None = None,
    preview: bool = False,
    wait_s: float = 30.0,
) -> Outcome:
    """Takes over an existing table as a run of its own: every version becomes changes of that run, so that late changes, reverts
    and rebuilds know them. Surrogate keys stay; system columns that the rules name and the table lacks are added.

    ``feed`` are the columns that its feeds have. Raises DeclarationError for a table that does not exist or is known already,
    SchemaMismatch when it does not fit, or when more than ``allow_changes`` of its rows differ from what the rules would
    produce.
    """
    ledger.prepare()

    def once() -> Outcome:
        with ledger.engine.lock(rules.table, wait_s=wait_s):
            if ledger.state(rules.table) is not None:
                raise DeclarationError(f"Table {rules.table!r} is already in the ledger; there is nothing to adopt.")
            if not ledger.engine.has_table(rules.stored_as):
                raise DeclarationError(
                    f"{ledger.engine.address} has no table {rules.stored_as!r} to adopt; the first load will create it."
                )
            if owner := ledger.owner_of(rules.stored_as):
                raise DeclarationError(f"{rules.stored_as!r} is the table of {owner!r}; there is nothing to adopt.")
            check_log_name(ledger.engine, rules)
            if preview:
                planned, _ = ledger.preview(rules.table, kind="adoption", source="adopted")
                return _adopt(ledger, rules, feed, planned, allow_changes)
            run, _ = ledger.start_run(rules, feed="", kind="adoption", source="adopted", reason=reason)
            try:
                return _adopt(ledger, rules, feed, run, allow_changes)
            except BaseException as error:
                ledger.enter_failure(run, error)
                raise

    return retry_on_conflict(once)


def _adopt(
    ledger: Ledger[Engine],
    rules: TableRules,
    feed: Mapping[str, ColumnType],
    run: Run | Preview,
    allow_changes: int,
) -> Outcome:
    params = {"run": run.number, "loaded_at": run.started_at, "feed": run.feed, **pipeline.table_params(rules, None)}
    work = Workspace(ledger.engine, params, ledger.engine.reserve())
    outcome = None
    try:
        with ledger.engine.transaction(rules if isinstance(run, Run) else None):
            found = fit(ledger.engine, rules, feed)
            if found.schema is None or found.faults:
                raise SchemaMismatch(
                    "\n  ".join(
                        [f"Table {rules.stored_as!r} does not match its rules; nothing was written:", *found.faults]
                    )
                )
            prepared = _prepare(RunContext(work, rules, found.schema, LoadMemory(True), run), found)
            changes, changed_keys = find_changes(prepared)
            outcome = outcome_of(run, changes.counts, changed_keys)
            outcome.notes = found.notes
            if isinstance(run, Preview):
                raise _OnlyAsked
            _check_changes(rules, changes, found.rows, allow_changes)
            ledger.add_column_sets(rules.table, dict(found.schema.column_sets))
            apply_changes(ledger, prepared, changes, run, first_run=run.number)
    except _OnlyAsked:
        pass
    finally:
        work.discard()
    assert outcome
    outcome.duration_s = (now() - run.started_at).total_seconds()
    return outcome


def _prepare(context: RunContext, found: Fit) -> Prepared:
    """Adds what the table lacks, and logs its versions as changes if it has a natural key."""
    schema, work = context.schema, context.workspace
    kinds = {name: kind for name, kind, _ in schema.table_columns()}
    if found.missing or found.missing_stamps:
        names = [*(str(schema.system_column(column)) for column in found.missing), *found.missing_stamps]
        work.engine.change_table(AddColumns(schema.table, tuple((name, kinds[name]) for name in names)))
    if "surrogate_key" in found.missing:
        work.apply(baseline.number_rows(schema))
    if others := tuple(column for column in found.missing if column != "surrogate_key"):
        work.apply(baseline.fill(schema, others))
    versions, ends = (f"versions_as_changes_{n}" for n in (0, 1))
    last_key = 0 if schema.numbered_by_store else work.row(baseline.highest_key(schema))["n"]
    if schema.appends:
        begun = Begun(row_count=found.rows, current_keys=found.rows)
        return Prepared(context.with_params(last_key=last_key), 0, begun=begun, plan=LoadPlan())
    texts, low = baseline.versions_as_changes(schema, 1), baseline.low_values(schema)
    count = work.make(versions, texts[0], params=low)
    work.make(ends, texts[1], params={**low, "count": count})
    log = (work.name(versions), work.name(ends))
    if schema.change_log is None:  # only for once: to see whether the rows are what the rules make of them
        work.make("kept", " UNION ALL ".join(f"SELECT k.* FROM {each} k" for each in log), view=True)
        schema = replace(schema, change_log=f"{sql.WORK}kept")
    else:
        context.carry_out(make_log(schema), Begun())
        work.apply(writes.log_explicit(schema, log))
    current_keys = work.row(extract_diff.count_current_keys(schema))["n"]
    keys = work.make("replay_keys", change_log.select_keys(schema))
    work.index("replay_keys", schema.keys)
    context = context.with_schema(schema).with_params(last_key=last_key)
    context.exclude((), approved=approved_deletes())
    return Prepared(context, keys, begun=Begun(row_count=found.rows, current_keys=current_keys))


def _check_changes(rules: TableRules, changes: RowChanges, rows: int, allowed: int) -> None:
    added, updated, removed = (changes.counts[f"rows_{name}"] for name in ("added", "updated", "removed"))
    if added + updated + removed <= allowed:
        return
    table = rules.table
    raise SchemaMismatch(
        f"{rules.stored_as}: not adopted, nothing written\n"
        f"Its {rows:,} rows differ from what the rules would produce: {updated:,} would change, {added:,} be added, "
        f"{removed:,} be removed.\n"
        f"to preview  brenvik adopt {table} --preview\n"
        f"to allow    brenvik adopt {table} --allow-changes {added + updated + removed}\n"
        f"in Python   adopt(…, allow_changes={added + updated + removed})"
    )
