"""The public names, pinned."""

import ast
import dataclasses
import importlib.metadata
import inspect
import pydoc

import brenvik


def test_the_public_names() -> None:
    errors = [
        "Blocked", "BrenvikError", "Busy", "ChangesMissing", "Conflict", "DeclarationError", "DependencyFailed", "FeedError",
        "ForeignTable", "InputError", "InvariantBroken", "LedgerVersionError", "LimitExceeded", "NotClean", "ProjectError",
        "RulesChanged", "RulesError", "SchemaMismatch", "SourceUnavailable", "StaleExtract", "StoreError", "StoreUnavailable",
        "Temporary", "TooManyRejects", "UnreadableFile",
    ]  # fmt: skip
    others = [
        "Allowed", "DatabaseFeed", "FeedColumns", "FileFeed", "FrameSource", "LoadOptions", "LoadRequest", "Operations", "Origin",
        "Outcome", "Outcomes", "Project", "Source", "Store", "Table", "TableRules", "ValueFormats", "__version__", "open_store",
        "read_project",
    ]  # fmt: skip
    assert brenvik.__all__ == sorted([*errors, *others])
    assert all(getattr(brenvik, name).__doc__ for name in brenvik.__all__ if name != "__version__")


def test_they_show_in_dir_and_help() -> None:
    assert set(brenvik.__all__) <= set(dir(brenvik))
    page = pydoc.render_doc(brenvik, renderer=pydoc.plaintext)
    assert "class TableRules" in page
    assert "open_store(" in page


def test_a_type_checker_knows_the_rules_as_they_are() -> None:
    """What it sees of ``TableRules`` is written beside the fields: their names and defaults."""
    tree = ast.parse(inspect.getsource(brenvik.TableRules))
    (written,) = (node.args for node in ast.walk(tree) if isinstance(node, ast.FunctionDef) and node.name == "__init__")
    defaults = {
        each.arg: default and ast.literal_eval(default)
        for each, default in zip(written.kwonlyargs, written.kw_defaults, strict=True)
    }
    assert {"table", *defaults} == {*inspect.signature(brenvik.TableRules).parameters}
    plain = dataclasses.asdict(brenvik.TableRules("buoy", natural_key="code"))
    assert all(plain[name] == value for name, value in defaults.items() if name != "natural_key")


def test_the_version_is_in_one_place() -> None:
    assert brenvik.__version__ == importlib.metadata.version("brenvik")
