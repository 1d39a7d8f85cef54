"""Loads from sources of any kind, with the options that a project uses."""

from __future__ import annotations

from typing import Any

import brenvik
from brenvik.feeds.protocol import Source
from brenvik.runs.load import LoadOptions


def load_from(store: brenvik.Store, rules: brenvik.TableRules, source: Source, **options: Any) -> brenvik.Outcome:
    return store.table(rules).load_from(source, LoadOptions(**options))
