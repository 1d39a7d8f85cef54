"""The characters that a database in another encoding than UTF-8 cannot hold."""

from __future__ import annotations

from functools import cache

_CODECS = {
    **{f"LATIN{number}": f"iso8859-{part}" for number, part in enumerate((1, 2, 3, 4, 9, 10, 13, 14, 15, 16), 1)},
    **{f"ISO_8859_{part}": f"iso8859-{part}" for part in (5, 6, 7, 8)},
    **{f"WIN{page}": f"cp{page}" for page in (866, 874, *range(1250, 1259))},
    "KOI8R": "koi8-r",
    "KOI8U": "koi8-u",
    "EUC_JP": "euc_jp",
    "EUC_KR": "euc_kr",
    "EUC_CN": "gb2312",
}
"""What PostgreSQL's names of encodings are called in Python."""
_PLANE = 0x10000


def codec_of(encoding: str) -> str | None:
    """Python's name for one of PostgreSQL's encodings; None where it holds every character, or is not known here."""
    return _CODECS.get(encoding)


@cache
def beyond(codec: str) -> str:
    """A regular expression for one character that an encoding does not have."""
    ranges: list[list[int]] = []
    for point in range(1, _PLANE):
        try:
            chr(point).encode(codec)
        except UnicodeEncodeError:
            continue
        if ranges and ranges[-1][1] == point - 1:
            ranges[-1][1] = point
        else:
            ranges.append([point, point])
    held = "".join(rf"\x{{{first:x}}}-\x{{{last:x}}}" for first, last in ranges)
    return f"[^{held}]"


def escaped(text: str, codec: str) -> str:
    """A text with the characters that an encoding does not have as ``\\uXXXX``, the way JSON writes them."""

    def shown(character: str) -> str:
        try:
            character.encode(codec)
        except UnicodeEncodeError:
            units = character.encode("utf-16-be")
            return "".join(f"\\u{units[at : at + 2].hex()}" for at in range(0, len(units), 2))
        return character

    return text if text.isascii() else "".join(map(shown, text))
