"""Which rows of a table a run has to do with: those of its keys, told before anything is asked of them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from brenvik.merge import sql
from brenvik.merge.schema import Blueprint


@dataclass(frozen=True)
class Near:
    """Rows of a table (as ``t``) whose keys stand in the relation ``of`` and that fit ``where``; '' fits all."""

    table: str
    keys: Sequence[str]
    of: str
    where: str


def near(blueprint: Blueprint, of: str, *, all_versions: bool) -> Near:
    """The rows of the keys that stand in a working table; or only their living versions, where others do not matter."""
    only_living = blueprint.keeps_lives and not blueprint.type_1 and not all_versions
    return Near(blueprint.table, blueprint.keys, sql.work(of), blueprint.is_open("t") if only_living else "")
