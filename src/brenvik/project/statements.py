"""The statements of a load in the order in which it runs them, for people who want to read before they trust."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace

from brenvik.errors import DeclarationError
from brenvik.ledger.schema import (
    approved_deletes,
    change_log_table,
    currently_pending,
    known_rejects,
    record_pending,
    record_rejected_keys,
    record_rejects,
)
from brenvik.merge import (
    accounting,
    change_log,
    classify,
    current_path,
    diff,
    extract_diff,
    pending_deletes,
    replay,
    sql,
    validate,
)
from brenvik.merge.resolve import resolve
from brenvik.merge.schema import EFFECTIVE_AT, TableSchema
from brenvik.merge.validate import Staging
from brenvik.model.feeds import FeedRules
from brenvik.model.types import ColumnType
from brenvik.project.project import Project
from brenvik.store import Store

TRIED = ("duckdb", "postgres", "sqlite")
"""The languages in which statements were ever run."""


@dataclass(frozen=True)
class Statement:
    """One statement: the stage of the load that runs it, what it is for, and its text in the store's language.

    ``beside`` says that it runs in the DuckDB of the process and not in the store.
    """

    stage: str
    note: str
    text: str
    beside: bool = False


def statements_of(
    project: Project, table: str, store: Store, *, feed: str | None = None, dialect: str | None = None
) -> list[Statement]:
    """The statements of a load of a table from a feed (its only one where none is named), as that load runs them when it meets
    every case: new and known keys, late changes, deletes, faulty rows, and in an extract absent keys and some that stand twice.

    ``dialect`` asks for another language than the store's. Raises DeclarationError for one that is unknown, and whatever a look
    at the feed raises.
    """
    language = _known(dialect) if dialect else store.engine.dialect
    found, chosen = project.feed(table, feed)
    columns = next(iter(project.source(found, chosen, store).columns().values()), None)
    state = store.ledger.state(table) if store.ledger.exists() else None
    if columns is None:
        raise DeclarationError(f"Feed {chosen.name} has nothing to look at: {chosen.reads!r} finds no file.")
    operations = chosen.operations
    types = {name: kind for name, kind in columns.items() if not operations or name != operations.column}
    schema = resolve(
        found.rules,
        types,
        known=state.columns if state else (),
        store=store.engine.capabilities,
        change_log=change_log_table(found.rules.table),
        source=chosen.reads,
    )
    carried = tuple(sorted({*types} & {*schema.change_columns}))
    schema = schema.with_column_sets({1: carried})
    return [
        Statement(
            stage,
            note,
            store.engine.statement(text, pretty=True) if not (dialect or beside) else _written(text, language, beside),
            beside and language != "duckdb",
        )
        for stage, note, text, beside in _of_load(schema, columns, chosen)
    ]


def _known(dialect: str) -> str:
    from sqlglot.dialects.dialect import Dialects

    names = sorted(each.value for each in Dialects if each.value)
    if dialect not in names:
        raise DeclarationError(f"{dialect!r} is not a supported dialect; supported are {', '.join(names)}")
    return dialect


def _written(text: str, language: str, beside: bool) -> str:
    if beside:
        return sql.translate(text, "duckdb", flavour="duckdb", pretty=True)
    return sql.translate(text, language, pretty=True)


_Told = tuple[str, str, str, bool]
"""Stage, note, text in its flavour, and whether it runs in DuckDB's."""


def _here(stage: str, note: str, text: str) -> _Told:
    return stage, note, text.strip(), False


def _of_holds(schema: TableSchema) -> Iterator[_Told]:
    yield _here("deletes", "the deletes that were approved", pending_deletes.find_approved(approved_deletes()))
    yield _here("deletes", "runs that were reverted", change_log.EXCLUDED_RUNS)
    yield _here("deletes", "each of them", change_log.exclude_runs())
    yield _here("deletes", "the kept changes that count", change_log.active_changes(schema))
    if schema.inactive_deletes == "review":
        yield _here(
            "deletes", "keys of deletes that wait already", pending_deletes.find_pending(schema, currently_pending())
        )


def _of_staging(schema: TableSchema, staging: Staging) -> Iterator[_Told]:
    order = "; in the order of keys, piece by piece" if staging.order else ""
    yield (
        "validate",
        f"every row of the feed, cast to the types of the table; what is wrong with it, if anything{order}",
        f"CREATE TEMP TABLE {sql.work(staging.into)} AS {staging.question}",
        True,
    )
    if staging.into == extract_diff.EXTRACT_ROWS:
        refused = extract_diff.find_rejected_keys(schema, staging.into)
        yield _here("validate", "keys of which only faulty rows stand there: they are not missed", refused)
    take, leave = validate.remove_invalid(derives=False, relation=staging.into)
    yield _here("validate", "rows with a fault", take)
    yield _here("validate", "and the others without them", leave)
    yield _here(
        "validate", "a row that equals an open reject is refused as a duplicate", known_rejects(has_ledger=True)
    )


def _of_comparison(schema: TableSchema, scope: str | None) -> Iterator[_Told]:
    yield _here("compare", "the time of the extract; all rows must be of one", extract_diff.times())
    at_once = "; as the rows come, where none stands twice" if schema.store.streams else ""
    yield _here(
        "compare",
        f"what differs from the current version of its key, and the keys that are absent{at_once}",
        f"CREATE TEMP TABLE {sql.work(extract_diff.EXTRACT_DIFF)} AS {extract_diff.compare(schema, scope)}",
    )
    if scope:
        yield _here(
            "compare",
            "how many keys are current in its part of the table",
            extract_diff.count_current_keys(schema, scope),
        )
    sizes = extract_diff.count_rows(schema, first=False)
    yield _here("compare", "how many are new and absent, which tells whether a key stands twice", sizes)
    yield _here(
        "compare", "all rows of such keys go on, so that the last counts", extract_diff.add_duplicated_keys(schema)
    )
    yield _here(
        "compare", "what differs is a change; equal rows are only counted", extract_diff.extract_changes(schema)
    )
    if schema.inactive_deletes != "ignore":
        absent = extract_diff.add_absent(
            schema, some_rejected=True, some_pending=schema.inactive_deletes == "review", column_set=1
        )
        yield _here("compare", "an absent key is a delete", absent)


def _of_load(schema: TableSchema, columns: Mapping[str, ColumnType], feed: FeedRules) -> Iterator[_Told]:
    is_extract = feed.kind == "full_extract"
    if schema.inactive_deletes:
        yield from _of_holds(schema)
        schema = replace(schema, some_excluded=True)
    staging = validate.validate(
        schema,
        tuple(columns.items()),
        feed.operations,
        ((0, 1),),
        into=extract_diff.EXTRACT_ROWS if is_extract else "changes",
        extract_time=feed.extract_time.get("column", "") if is_extract else None,
        scope=feed.extract_scope,
    )
    yield from _of_staging(schema, staging)
    if is_extract:
        yield from _of_comparison(schema, feed.extract_scope)
    if schema.order or not is_extract:  # else all changes are of one time
        yield _here(
            "classify",
            "how many changes are late, as they are not above all that was ever taken",
            classify.sums(schema, first=False, derives=False),
        )
    if schema.inactive_deletes:
        into, out = pending_deletes.set_deletes_aside(schema)
        yield _here("classify", "deletes, which do not count by themselves, are set aside", into)
        yield _here("classify", "and taken off here", out)
    yield _here(
        "classify",
        "the keys to replay: with several changes, or late ones; all others have one change, newer than all before",
        classify.find_replay_keys(schema, some_late=True),
    )
    yield from _of_paths(schema)
    yield from _of_writing(schema, is_extract=is_extract)


def _of_paths(schema: TableSchema) -> Iterator[_Told]:
    yield _here(
        "current path",
        "one newer change a key: a join with its current version",
        current_path.decide(schema, some_replayed=True, told=False),
    )
    if schema.type_1 and schema.keeps_lifetimes:
        yield _here(
            "current path",
            "keys that return: their closed versions follow in type 1",
            current_path.find_returning_keys(schema),
        )
    yield _here("current path", "how many changes are what", current_path.summary())
    send, drop = current_path.send_to_replay(schema)
    yield _here("current path", "keys whose current version does not tell enough are replayed", send)
    yield _here("current path", "and taken off here", drop)
    closes, removes = diff.current_path_actions(schema, some_replayed=True)
    yield _here("current path", "rows that end", closes)
    yield _here("current path", "rows to take away", str(removes))
    if schema.type_1 and schema.has_versions:
        yield _here("current path", "closed versions that follow in type 1", current_path.find_closed_versions(schema))

    yield _here("replay", "changes that are there already", classify.find_duplicates(schema, first=False))
    yield _here("replay", "keys that need all of their changes replayed", classify.widen_to_full_replay(schema))
    yield _here(
        "replay",
        "the changes of a key in order: which count, the state after each, its decision",
        replay.decide(schema, first=False),
    )
    yield _here("replay", "the rows that the replayed keys should have", replay.find_target_versions(schema))

    yield _here("diff", "the rows that they have", diff.find_stored_versions(schema))
    if schema.change_log:
        told = "keys whose rows no kept change accounts for: a load that meets one stops"
        yield _here("diff", told, accounting.count_in_load(schema))
    yield _here("diff", "which becomes which: by key and start, what is left in order", diff.match_versions(schema))
    for relation, text in diff.replay_actions(schema):
        yield _here("diff", _EFFECTS[relation], text)

    if schema.inactive_deletes:
        aside = pending_deletes.decide(schema, some_replayed=True, some_pending=schema.inactive_deletes == "review")
        yield _here("diff", "what becomes of deletes set aside, now that it is known which keys are current", aside)


def _of_writing(schema: TableSchema, *, is_extract: bool) -> Iterator[_Told]:
    yield _here("write", "versions end before others begin", diff.close_rows(schema, deletes=True))
    if schema.type_1:
        if schema.store.moves:
            yield _here("write", "where rows that were ended are now", current_path.refresh_row_ids(schema))
        yield _here(
            "write",
            "type 1 is overwritten",
            diff.overwrite_type_1(schema, schema.type_1, spreads=schema.has_versions),
        )
    yield _here(
        "write", "rows of replayed keys with new values", diff.update_rows(schema, (EFFECTIVE_AT, *schema.values))
    )
    yield _here("write", "rows that go", diff.delete_rows(schema))
    yield _here("write", "new rows", diff.insert_rows(schema, current=True, replayed=True))

    if schema.change_log:
        yield _here("log", "every accepted change is kept", classify.log_changes(schema, some_duplicates=True))
    if schema.inactive_deletes:
        yield _here("log", "so are those set aside", pending_deletes.log_deletes(schema))
    if schema.inactive_deletes == "review":
        yield _here("log", "deletes that wait from now on", record_pending())
    if schema.inactive_deletes == "review" and is_extract:
        yield _here("log", "deletes that waited lapse where the key is there again", pending_deletes.lapsed(schema))
    yield _here("log", "refused rows are kept with their reasons", record_rejects(((1, "a file"),)))
    if is_extract:
        keys = record_rejected_keys(schema.key_text("r"))
        yield _here("log", "and their keys, which the extract did not lack", keys)
    if schema.order or not is_extract:
        yield _here(
            "log",
            "the highest order and time ever taken; they go into the ledger with the run, its watermark and its files",
            classify.highest(schema, first=False),
        )


_EFFECTS = {
    "to_close": "rows that only end, or end at another time",
    "to_update": "rows whose content changes",
    "to_insert": "rows that are new",
    "to_delete": "rows that are too many",
}
