"""How the code is laid out: what may import what, and how large a module or function may be."""

from __future__ import annotations

import ast
import re
from functools import cache
from graphlib import TopologicalSorter
from pathlib import Path

import brenvik

ROOT = Path(brenvik.__path__[0])
LAYERS = (
    ("brenvik.errors", "brenvik"),
    ("brenvik.model",),
    ("brenvik.merge",),
    ("brenvik.ledger",),
    ("brenvik.engines",),
    ("brenvik.feeds",),
    ("brenvik.outcome",),
    ("brenvik.runs", "brenvik.arguments"),
    ("brenvik.sources",),
    ("brenvik.table",),
    ("brenvik.store",),
    ("brenvik.project",),
    ("brenvik.cli.render", "brenvik.cli.exits"),
    ("brenvik.demo",),
    ("brenvik.cli", "brenvik.__main__"),
)
"""From the bottom to the top."""


@cache
def trees() -> dict[str, ast.Module]:
    """Every module of the package, by its name."""
    paths = {path.relative_to(ROOT.parent).with_suffix(""): path for path in ROOT.rglob("*.py")}
    return {
        ".".join(place.parts).removesuffix(".__init__"): ast.parse(path.read_text(encoding="utf-8"))
        for place, path in paths.items()
    }


def imports_of(module: str) -> set[str]:
    """The modules of ours that a module imports, wherever in it, for types as well; packages are not modules."""
    found: set[str] = set()
    for node in ast.walk(trees()[module]):
        if isinstance(node, ast.ImportFrom) and node.module:
            inside = {f"{node.module}.{each.name}" for each in node.names} & trees().keys()
            found |= inside or {node.module}
        elif isinstance(node, ast.Import):
            found |= {each.name for each in node.names}
    return (found & trees().keys()) - {module}


def layer_of(module: str) -> int:
    fits = [(len(name), number) for number, names in enumerate(LAYERS) for name in names if _is_in(module, name)]
    return max(fits)[1]


def _is_in(module: str, name: str) -> bool:
    return module == name or (name != "brenvik" and module.startswith(f"{name}."))


def test_imports_point_down() -> None:
    upward = [
        f"{module} imports {other}"
        for module in trees()
        if module != "brenvik"  # which gives the public names, when they are asked for
        for other in imports_of(module)
        if layer_of(other) > layer_of(module)
    ]
    assert upward == []


def test_no_module_imports_one_that_imports_it() -> None:
    graph = {module: imports_of(module) for module in trees() if module != "brenvik"}
    assert list(TopologicalSorter(graph).static_order())


def test_modules_and_functions_can_be_read_at_once() -> None:
    top = [module for module in trees() if module.count(".") == 1 and (ROOT / f"{module[8:]}.py").exists()]
    assert len(top) + 1 <= 8, top
    long = [f"{path}: {n} lines" for path in ROOT.rglob("*.py") if (n := len(path.read_text().splitlines())) > 500]
    for module, tree in trees().items():
        for node in ast.walk(tree):
            if isinstance(node, (ast.FunctionDef, ast.AsyncFunctionDef)):
                size = (node.end_lineno or 0) - node.lineno + 1
                long += [f"{module}.{node.name}: {size} lines"] if size > 60 else []
    assert "\n".join(long) == ""


def test_no_meaning_is_read_back_out_of_sql() -> None:
    """Regular expressions are for messages of drivers, names of types, paths, and the marks of parameters; nothing else."""
    found = {
        str(path.relative_to(ROOT).with_suffix(""))
        for folder in ("engines", "ledger", "merge", "runs")
        for path in (ROOT / folder).rglob("*.py")
        if re.search(r"\bre\.(compile|match|fullmatch|search|sub|findall)\b", path.read_text())
    }
    assert found == {
        "engines/duckdb/engine",  # who holds a file, by DuckDB's message
        "engines/lakehouse/catalogs",  # a name as a part of a path
        "engines/lakehouse/lake",  # the size of a decimal type
        "engines/lakehouse/relocating",  # paths in metadata
        "engines/postgres/values",  # the size of a type
        "engines/scratch",  # the parameters of a statement
        "engines/sqlite/values",  # the size of a type
        "merge/sql",  # the parameters of a statement
        "merge/value_formats",  # the codes of a format
    }
