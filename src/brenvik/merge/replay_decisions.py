"""The decision on each change that is replayed, and whether it starts a version: expressions over a row ``j`` of ``lined``."""

from __future__ import annotations

from brenvik.merge import sql
from brenvik.merge.current_path import before_column, is_present
from brenvik.merge.schema import DELETE, TableSchema

BEGINS = "j.brenvik_prev_delete IS NULL OR j.brenvik_prev_delete = 1"


def starts(schema: TableSchema, names: tuple[str, ...]) -> str:
    """Whether a version starts with an event: a lifetime begins, or the values of these columns differ from the event before."""
    differs = [f"j.{sql.quote(name)} IS DISTINCT FROM j.brenvik_prev_{schema.values.index(name)}" for name in names]
    return sql.flag(f"j.{DELETE} = 0 AND ({' OR '.join((BEGINS, *differs))})")


def _learns(schema: TableSchema) -> dict[str, str]:
    """For type 0 columns: whether their value became known through a change."""
    position = {name: f"j.brenvik_known_at_{schema.values.index(name)}" for name in schema.type_0}
    return {
        name: f"({known} > COALESCE(j.brenvik_replaces, j.brenvik_prev_position) AND {known} <= j.brenvik_position)"
        for name, known in position.items()
    }


def _tampers(schema: TableSchema) -> list[str]:
    """For type 0 columns: whether a change has another value than the one that stays."""
    found = []
    for index, name in ((schema.values.index(name), name) for name in schema.type_0):
        source = f"j.brenvik_source_{index}"
        known = f"({source} IS NOT NULL OR j.brenvik_known_at_{index} <= j.brenvik_position)"
        differs = schema.differs(name, source, f"j.{sql.quote(name)}")
        found.append(f"({' AND '.join(filter(None, [is_present(schema, 'j', name), known, differs]))})")
    return found


def changes_type_0(schema: TableSchema) -> str:
    """Whether a change has another value of a type 0 column than was known, be it that the known one stays, or that the change is
    an earlier one and replaces it."""
    replaces = []
    for name, learns in _learns(schema).items():
        prior = f"j.brenvik_prior_{schema.values.index(name)}"
        replaces.append(f"({learns} AND {prior} IS NOT NULL AND {schema.differs(name, prior, f'j.{sql.quote(name)}')})")
    return sql.flag(f"j.brenvik_is_new = 1 AND j.{DELETE} = 0 AND {sql.any_of([*_tampers(schema), *replaces])}")


def decision_of(schema: TableSchema, *, meets_base: bool) -> str:
    """The decision on a change; the first case that applies."""

    def differs(names: tuple[str, ...]) -> list[str]:
        return [schema.differs(name, f"j.{sql.quote(name)}", f"j.{before_column(schema, name)}") for name in names]

    if schema.keeps_lifetimes:
        forgotten = []
    else:
        last = "brenvik_lifetimes" if schema.deletes == "remove" else "brenvik_last_lifetime"
        forgotten = [f"j.{DELETE} = 0 AND j.brenvik_lifetime < j.{last}"]
    begins = "versioned" if schema.type_2 else "overwritten"
    keys = sql.columns(schema.keys, "j")
    known = f"max(j.brenvik_was_known) OVER (PARTITION BY {keys}, j.brenvik_lifetime)" if meets_base else "0"
    cases = [
        (forgotten, "'superseded'"),
        ([f"j.{DELETE} = 1 AND j.brenvik_replaces IS NOT NULL AND j.brenvik_replaced_delete = 0"], "'deleted'"),
        ([f"j.{DELETE} = 1 AND j.brenvik_replaces IS NOT NULL"], "'unchanged'"),
        ([f"j.{DELETE} = 1 AND j.brenvik_prev_delete IS NULL"], "'ignored'"),
        ([f"j.{DELETE} = 1 AND j.brenvik_prev_delete = 0"], "'deleted'"),
        ([f"j.{DELETE} = 1"], "'unchanged'"),
        (
            ["j.brenvik_replaces IS NOT NULL AND j.brenvik_replaced_delete = 1 AND j.brenvik_prev_delete = 0"],
            "'versioned'",
        ),
        (
            [f"(j.brenvik_replaces IS NULL OR j.brenvik_replaced_delete = 1) AND ({BEGINS})"],
            f"CASE WHEN {known} = 0 THEN 'inserted' ELSE '{begins}' END",
        ),
        (differs(schema.type_2), "'versioned'"),
        ([*differs(schema.type_1), *_learns(schema).values()], "'overwritten'"),
        (_tampers(schema), "'protected'"),
    ]
    arms = "".join(f"\n    WHEN {' OR '.join(tests)} THEN {decision}" for tests, decision in cases if tests)
    return f"CASE{arms}\n    ELSE 'unchanged'\n  END"
