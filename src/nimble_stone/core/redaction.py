"""Secrets in texts: as they look where other texts hold them, and taken out again."""

from __future__ import annotations

import html
import json
from collections.abc import Iterator, Sequence
from urllib.parse import quote, quote_plus
from xml.sax.saxutils import escape

BLANK = "••••••"
CUT = "…"
LEAST = 4
"""Characters of a secret, or of the beginning of one, that are worth taking out."""
FEW = 60
"""Beginnings of secrets that are looked for one by one; more by the text's own parts."""
IN_SHELL = "'\"'\"'"
"""How a single quote is written inside single quotes, by shlex."""


def looks_of(value: str) -> set[str]:
    """How a secret looks in plain text, JSON, Python, XML, HTML, paths, queries and forms, and in
    words of a shell, and of a shell that a shell starts. Empty for one that is too short to be
    looked for.
    """
    if len(value) < LEAST:
        return set()
    once = value.replace("'", IN_SHELL)
    return {
        value,
        json.dumps(value)[1:-1],
        json.dumps(value, ensure_ascii=False)[1:-1],
        repr(value)[1:-1],
        escape(value),
        escape(value, {'"': "&quot;"}),
        escape(value, {'"': "&quot;", "'": "&apos;"}),
        html.escape(value),
        quote(value, safe=""),
        quote(value),
        quote_plus(value),
        once,
        once.replace("'", IN_SHELL),
    }


def shortened(text: str, most: int) -> str:
    """The beginning of a text, with a sign that it was cut: by that `Secrets` knows that one
    may have been cut, too.
    """
    return text if len(text) <= most else f"{text[: most - 1]}{CUT}"


class Secrets:
    """Secrets that are taken out of texts."""

    def __init__(self) -> None:
        self._by_start: dict[str, set[str]] = {}
        """First characters → how secrets look that begin so."""

    def add(self, value: str) -> None:
        """Take it out from now on, however it is written."""
        for look in looks_of(value):
            self._by_start.setdefault(look[:LEAST], set()).add(look)

    def without(self, text: str) -> str:
        """The text without any secret, also without the beginning of one that was cut. Longest
        first, so that no tail of one remains. O(length + secrets that may be in it × length).
        """
        near = sorted(self._near(text), key=len, reverse=True)
        for look in near:
            text = text.replace(look, BLANK)
        if not near or CUT not in text:
            return text
        *cut, last = text.split(CUT)
        return "".join(_without_end(part, near) + CUT for part in cut) + last

    def _near(self, text: str) -> Iterator[str]:
        """Those whose first characters are in the text."""
        starts = set(self._by_start)
        if len(starts) > FEW:
            starts &= {text[at : at + LEAST] for at in range(len(text))}
        for start in starts:
            yield from self._by_start[start]


def _without_end(part: str, looks: Sequence[str]) -> str:
    """Without the beginning of a secret at the end."""
    for look in looks:
        at = part.rfind(look[:LEAST])
        while at >= 0:
            if look.startswith(part[at:]):
                return part[:at] + BLANK
            at = part.rfind(look[:LEAST], 0, at + LEAST - 1)
    return part
