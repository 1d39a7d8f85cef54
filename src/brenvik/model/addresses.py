"""Addresses of stores and databases: secrets are filled in and never shown."""

from __future__ import annotations

import re
from urllib.parse import quote

_SCHEME = re.compile(r"([A-Za-z][A-Za-z0-9+.-]*):(?=//)")
_LOCAL = ("duckdb:", "sqlite:", "lakehouse:")
_PLAIN = re.compile(r"[\w .~/\\-]*")  # no part of it can be a secret


def filled(template: str, begin: int, end: int, value: str) -> str:
    """The replacement of ``template[begin:end]``: the value, percent-encoded in the user, password or query of a URL."""
    scheme = _SCHEME.match(template)
    if not scheme or begin < scheme.end():
        return value
    in_query = "?" in template[:begin]
    authority_goes_on = "/" not in template[scheme.end() + 2 : begin] and "@" in template[end:].partition("/")[0]
    return quote(value, safe="") if in_query or authority_goes_on else value


def without_secrets(address: str) -> str:
    """An address for messages: of a URL the scheme and what follows the last @, without its query; of any other text, only
    what cannot be a secret."""
    scheme = _SCHEME.match(address)
    if address.startswith(_LOCAL) and not scheme:
        return address
    if not scheme:
        return address if _PLAIN.fullmatch(address) else "…"
    rest = address[scheme.end() + 2 :].partition("?")[0]
    _, at, place = rest.rpartition("@")
    return f"{scheme[1]}://{'…@' if at else ''}{place}"


def is_ambiguous(url: str) -> bool:
    """Whether a URL has an @ or / that can be part of the password as well as its end: programs would split it at the wrong
    place and take part of the password for a host."""
    scheme = _SCHEME.match(url)
    if not scheme:
        return True
    authority, _, path = url[scheme.end() + 2 :].partition("?")[0].partition("/")
    port = authority.rpartition("@")[2].rpartition("]")[2].partition(":")[2]
    return authority.count("@") > 1 or "@" in path or bool(port and not re.fullmatch(r"[0-9,:]*", port))
