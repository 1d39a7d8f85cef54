"""Brenvik applies change feeds to warehouse tables: exactly once, with history, every decision explained."""

from importlib import import_module
from typing import TYPE_CHECKING, Any

__version__ = "0.1.0"

if TYPE_CHECKING:
    from brenvik.errors import BrenvikError
    from brenvik.model.feeds import Operations
    from brenvik.model.rules import TableRules
    from brenvik.outcome import Outcome
    from brenvik.project.file import read_project
    from brenvik.project.project import Project
    from brenvik.store import Store, open_store

_HOMES = {
    "BrenvikError": "errors",
    "Operations": "model.feeds",
    "Outcome": "outcome",
    "Project": "project.project",
    "Store": "store",
    "TableRules": "model.rules",
    "open_store": "store",
    "read_project": "project.file",
}

__all__ = [
    "BrenvikError",
    "Operations",
    "Outcome",
    "Project",
    "Store",
    "TableRules",
    "__version__",
    "open_store",
    "read_project",
]


def __dir__() -> list[str]:
    return [*__all__, "__doc__", "__name__"]


def __getattr__(name: str) -> Any:
    """Public names are brought in when first used, so that a look at the version costs nothing."""
    if name in _HOMES:
        return getattr(import_module(f"brenvik.{_HOMES[name]}"), name)
    raise AttributeError(f"module 'brenvik' has no attribute {name!r}")
