"""Brenvik applies change feeds to warehouse and lakehouse tables: exactly once, with history, every decision explained.

A first load::

    import brenvik

    store = brenvik.open_store("duckdb:coast.duckdb")
    buoy = store.table(brenvik.TableRules("buoy", natural_key="buoy_code", order_by="changed_at"))
    outcome = buoy.load(frame, kind="changes", operation="op")
    buoy.history("NB-104")

Stores and tables: ``open_store``, ``Store``, ``Table``. Declarations: ``TableRules``, and the feeds ``FileFeed`` and
``DatabaseFeed`` with ``Operations`` and ``FeedColumns`` (``Origin``, ``ValueFormats``). Results: ``Outcome``, ``Outcomes``. Whole
projects: ``read_project``, ``Project``, loaded with ``LoadOptions`` (``LoadRequest``, ``Allowed``). Feeds of your own:
``Source``, ``FrameSource``. Errors: ``BrenvikError`` and its subclasses, see ``brenvik.errors``.
"""

from importlib import import_module
from typing import TYPE_CHECKING, Any

__version__ = "0.1.0"

if TYPE_CHECKING:
    from brenvik.errors import (
        Blocked,
        BrenvikError,
        Busy,
        ChangesMissing,
        Conflict,
        DeclarationError,
        DependencyFailed,
        FeedError,
        ForeignTable,
        InputError,
        InvariantBroken,
        LedgerVersionError,
        LimitExceeded,
        NotClean,
        ProjectError,
        RulesChanged,
        RulesError,
        SchemaMismatch,
        SourceUnavailable,
        StaleExtract,
        StoreError,
        StoreUnavailable,
        Temporary,
        TooManyRejects,
        UnreadableFile,
    )
    from brenvik.feeds.frames import FrameSource
    from brenvik.feeds.protocol import LoadRequest, Source
    from brenvik.model.feeds import DatabaseFeed, FeedColumns, FileFeed, Operations, Origin
    from brenvik.model.rules import TableRules
    from brenvik.model.value_formats import ValueFormats
    from brenvik.outcome import Outcome, Outcomes
    from brenvik.project.file import read_project
    from brenvik.project.project import Project
    from brenvik.runs.guards import Allowed
    from brenvik.runs.load import LoadOptions
    from brenvik.store import Store, open_store
    from brenvik.table import Table

_HOMES = {
    "errors": (
        "Blocked",
        "BrenvikError",
        "Busy",
        "ChangesMissing",
        "Conflict",
        "DeclarationError",
        "DependencyFailed",
        "FeedError",
        "ForeignTable",
        "InputError",
        "InvariantBroken",
        "LedgerVersionError",
        "LimitExceeded",
        "NotClean",
        "ProjectError",
        "RulesChanged",
        "RulesError",
        "SchemaMismatch",
        "SourceUnavailable",
        "StaleExtract",
        "StoreError",
        "StoreUnavailable",
        "Temporary",
        "TooManyRejects",
        "UnreadableFile",
    ),
    "feeds.frames": ("FrameSource",),
    "feeds.protocol": ("LoadRequest", "Source"),
    "model.feeds": ("DatabaseFeed", "FeedColumns", "FileFeed", "Operations", "Origin"),
    "model.rules": ("TableRules",),
    "model.value_formats": ("ValueFormats",),
    "outcome": ("Outcome", "Outcomes"),
    "runs.guards": ("Allowed",),
    "runs.load": ("LoadOptions",),
    "project.file": ("read_project",),
    "project.project": ("Project",),
    "store": ("Store", "open_store"),
    "table": ("Table",),
}
_HOME_OF = {name: home for home, names in _HOMES.items() for name in names}

__all__ = [
    "Allowed",
    "Blocked",
    "BrenvikError",
    "Busy",
    "ChangesMissing",
    "Conflict",
    "DatabaseFeed",
    "DeclarationError",
    "DependencyFailed",
    "FeedColumns",
    "FeedError",
    "FileFeed",
    "ForeignTable",
    "FrameSource",
    "InputError",
    "InvariantBroken",
    "LedgerVersionError",
    "LimitExceeded",
    "LoadOptions",
    "LoadRequest",
    "NotClean",
    "Operations",
    "Origin",
    "Outcome",
    "Outcomes",
    "Project",
    "ProjectError",
    "RulesChanged",
    "RulesError",
    "SchemaMismatch",
    "Source",
    "SourceUnavailable",
    "StaleExtract",
    "Store",
    "StoreError",
    "StoreUnavailable",
    "Table",
    "TableRules",
    "Temporary",
    "TooManyRejects",
    "UnreadableFile",
    "ValueFormats",
    "__version__",
    "open_store",
    "read_project",
]


def __dir__() -> list[str]:
    return [*__all__, "__doc__", "__name__"]


def __getattr__(name: str) -> Any:
    """Public names are imported when first used, so that a look at the version costs nothing."""
    if name in _HOME_OF:
        return getattr(import_module(f"brenvik.{_HOME_OF[name]}"), name)
    raise AttributeError(f"module 'brenvik' has no attribute {name!r}")
