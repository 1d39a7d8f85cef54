"""What a role may not do and loads need, as the grants that are missing."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

from brenvik.merge import sql

_RIGHTS = "SELECT, INSERT, UPDATE, DELETE"


class Rights:
    """The rights of the role of a connection. ``ask`` answers a query of PostgreSQL's, ``has_table`` whether a table exists."""

    def __init__(
        self, ask: Callable[[str, Mapping[str, Any]], Sequence[Sequence[Any]]], has_table: Callable[[str], bool]
    ) -> None:
        self._ask, self._has_table = ask, has_table

    def missing(self, tables: Sequence[str], *, own_schema: str) -> list[str]:
        role, database = (sql.quote(name) for name in self._ask("SELECT current_user, current_database()", {})[0])
        missing = []
        if not self._may("has_database_privilege(current_database(), 'TEMPORARY')"):
            missing.append(f"GRANT TEMPORARY ON DATABASE {database} TO {role};")
        schemas = {own_schema: None} | {name.rpartition(".")[0]: None for name in tables}
        for schema in schemas:
            missing += self._missing_in(schema or self._first_schema(), role, makes=schema == own_schema)
        for name in tables:
            if self._has_table(name):
                missing += self._missing_on(sql.relation(name), name, role, _RIGHTS)
            elif not self._may("has_schema_privilege(%(schema)s, 'CREATE')", schema=self._schema_of(name)):
                grant = f"GRANT CREATE ON SCHEMA {sql.quote(self._schema_of(name))} TO {role};"
                missing.append(f"{grant}  -- or make {name}, and adopt it")
        own = self._ask(
            "SELECT c.relname, c.relkind FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace "
            "WHERE n.nspname = %(schema)s AND c.relkind IN ('r', 'p', 'v') ORDER BY c.relname",
            {"schema": own_schema},
        )
        for name, kind in own:
            rights = "SELECT" if kind == "v" else _RIGHTS
            missing += self._missing_on(sql.relation(f"{own_schema}.{name}"), f"{own_schema}.{name}", role, rights)
        return missing

    def _may(self, question: str, **values: Any) -> bool:
        return bool(self._ask(f"SELECT {question}", values)[0][0])

    def _first_schema(self) -> str:
        return str(self._ask("SELECT COALESCE(current_schema(), 'public')", {})[0][0])

    def _schema_of(self, name: str) -> str:
        return name.rpartition(".")[0] or self._first_schema()

    def _missing_in(self, schema: str, role: str, *, makes: bool) -> list[str]:
        there = self._ask("SELECT 1 FROM pg_catalog.pg_namespace WHERE nspname = %(name)s", {"name": schema})
        if not there and (not makes or not self._may("has_database_privilege(current_database(), 'CREATE')")):
            return [f"CREATE SCHEMA {sql.quote(schema)} AUTHORIZATION {role};"]
        wanted = ("USAGE", "CREATE") if makes else ("USAGE",)
        return [
            f"GRANT {right} ON SCHEMA {sql.quote(schema)} TO {role};"
            for right in wanted
            if there and not self._may(f"has_schema_privilege(%(schema)s, '{right}')", schema=schema)
        ]

    def _missing_on(self, relation: str, name: str, role: str, rights: str) -> list[str]:
        if not self._may("has_schema_privilege(%(schema)s, 'USAGE')", schema=self._schema_of(name)):
            return [f"GRANT {rights} ON {relation} TO {role};"]  # not to be seen without the right to its schema
        lacks = [
            right
            for right in rights.split(", ")
            if not self._may(f"has_table_privilege(%(name)s, '{right}')", name=relation)
        ]
        return [f"GRANT {', '.join(lacks)} ON {relation} TO {role};"] if lacks else []
