"""The public names, pinned."""

import importlib.metadata
import pydoc

import brenvik


def test_the_public_names() -> None:
    errors = [
        "Blocked", "BrenvikError", "Busy", "ChangesMissing", "Conflict", "DeclarationError", "DependencyFailed", "FeedError",
        "ForeignTable", "InputError", "InvariantBroken", "LedgerVersionError", "LimitExceeded", "NotClean", "ProjectError",
        "RulesChanged", "RulesError", "SchemaMismatch", "SourceUnavailable", "StaleExtract", "StoreError", "StoreUnavailable",
        "Temporary", "TooManyRejects",
    ]  # fmt: skip
    others = [
        "Allowed", "DatabaseFeed", "FileFeed", "FrameSource", "LoadOptions", "LoadRequest", "Operations", "Outcome", "Outcomes",
        "Project", "Source", "Store", "Table", "TableRules", "__version__", "open_store", "read_project",
    ]  # fmt: skip
    assert brenvik.__all__ == sorted([*errors, *others])
    assert all(getattr(brenvik, name).__doc__ for name in brenvik.__all__ if name != "__version__")


def test_they_show_in_dir_and_help() -> None:
    assert set(brenvik.__all__) <= set(dir(brenvik))
    told = pydoc.render_doc(brenvik, renderer=pydoc.plaintext)
    assert "class TableRules" in told
    assert "open_store(" in told


def test_the_version_is_in_one_place() -> None:
    assert brenvik.__version__ == importlib.metadata.version("brenvik")
