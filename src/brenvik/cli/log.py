"""Log records on stderr, as lines for people or as JSON for programs."""

from __future__ import annotations

import json
import logging
from datetime import UTC, datetime

from brenvik.cli.render.characters import visible

PRESENT = ("run", "table", "feed", "counts")


class _Lines(logging.Formatter):
    def format(self, record: logging.LogRecord) -> str:
        about = " ".join(f"{name}={record.__dict__[name]}" for name in PRESENT[:3] if name in record.__dict__)
        return visible(f"{_moment(record)} {record.levelname.lower()} {about}  {record.getMessage()}")


class _Json(logging.Formatter):
    def format(self, record: logging.LogRecord) -> str:
        entry = {"at": _moment(record), "level": record.levelname.lower(), "message": record.getMessage()}
        entry |= {name: record.__dict__[name] for name in PRESENT if name in record.__dict__}
        return json.dumps(entry, ensure_ascii=False, default=str)


def _moment(record: logging.LogRecord) -> str:
    return datetime.fromtimestamp(record.created, UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")


def begin(form: str) -> None:
    """From now on what the library logs goes to stderr: ``text`` or ``json``."""
    handler = logging.StreamHandler()
    handler.setFormatter(_Json() if form == "json" else _Lines())
    log = logging.getLogger("brenvik")
    log.setLevel(logging.INFO)
    log.addHandler(handler)
    log.propagate = False
