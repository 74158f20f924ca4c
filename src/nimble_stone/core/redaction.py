"""Secrets in texts: as they look where other texts hold them, and taken out again."""

from __future__ import annotations

import html
import json
from collections.abc import Iterable
from urllib.parse import quote, quote_plus
from xml.sax.saxutils import escape

BLANK = "••••••"
CUT = "…"
LEAST = 4
"""Characters of a secret, or of the beginning of one, that are worth taking out."""
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
    """The beginning of a text, with a sign that it was cut: by that `without` knows that a secret
    may have been cut, too.
    """
    return text if len(text) <= most else f"{text[: most - 1]}{CUT}"


def without(text: str, looks: Iterable[str]) -> str:
    """The text without any secret, also without the beginning of one that was cut. Longest first,
    so that no tail of one remains. O(secrets × length).
    """
    ordered = sorted(looks, key=len, reverse=True)
    for look in ordered:
        text = text.replace(look, BLANK)
    if CUT not in text:
        return text
    *cut, last = text.split(CUT)
    return "".join(_without_end(part, ordered) + CUT for part in cut) + last


def _without_end(part: str, looks: Iterable[str]) -> str:
    """Without the beginning of a secret at the end."""
    for look in looks:
        at = part.rfind(look[:LEAST])
        while at >= 0:
            if look.startswith(part[at:]):
                return part[:at] + BLANK
            at = part.rfind(look[:LEAST], 0, at + LEAST - 1)
    return part
