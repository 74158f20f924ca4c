"""Patterns that people write, by an engine whose time is linear in the text. Pure."""

from __future__ import annotations

import re2


def fault_of(pattern: str) -> str:
    """Why it is no pattern, '' when it is one."""
    quiet = re2.Options()
    quiet.log_errors = False
    try:
        re2.compile(pattern, quiet)
    except re2.error as error:
        said = error.args[0] if error.args else ""
        return said.decode("utf-8", "replace") if isinstance(said, bytes) else str(said)
    return ""
