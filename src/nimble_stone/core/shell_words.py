"""Values in commands that a POSIX shell reads (IEEE 1003.1, 2.2 Quoting). Quoting is done here and
nowhere else.

A kit writes a command with values in braces. Each value becomes one word, or the part of one,
whatever it holds; so a
template must stand where a word stands: not inside quotes, not behind `$` or a backslash, not in a
text that is read as
a program once more. `fault_of` says where one does not.
"""

from __future__ import annotations

import re
import shlex
from collections.abc import Mapping

_TEMPLATE = re.compile(r"(?<!\$)\{([A-Za-z][A-Za-z0-9_.-]*)\}")
_PROGRAM = re.compile(r"(^|[\s;&|(])(eval|source|\.)\s+[^;&|]*$|(^|\s)-[a-z]*c\s+$")


def word(value: str) -> str:
    """The value as one word of a shell command. A NUL, which no shell can pass on, is left out."""
    return shlex.quote(value.replace("\0", ""))


def names(command: str) -> list[str]:
    """The names in its braces, in their order."""
    return _TEMPLATE.findall(command)


def filled(command: str, values: Mapping[str, str]) -> str:
    """The command with each name's value as a word. What is filled in is never itself a template.
    Raises KeyError for a name without a value.
    """
    return _TEMPLATE.sub(lambda found: word(values[found[1]]), command)


def as_input(command: str) -> bytes:
    """What a shell reads as its input to carry a command out that is too long to be sent as one.
    It reads the whole before it begins, so nothing in it reads the rest as its own input.
    """
    return f"{{\n{command}\n}} </dev/null\n".encode()


def of_input(text: str) -> str:
    """The command of such an input."""
    return text.removeprefix("{\n").removesuffix("\n} </dev/null\n")


def fault_of(command: str) -> str:
    """Why a command template cannot be filled in safely, '' when it can. Cost: O(length)."""
    quote = ""
    at = 0
    while at < len(command):
        sign = command[at]
        if quote == "" and sign == "\\":
            if _TEMPLATE.match(command, at + 1):
                return _told(command, at + 1, "is after a backslash")
            at += 2
            continue
        if quote == '"' and sign == "\\":
            at += 2
            continue
        if sign in "'\"`" and quote in ("", sign):
            quote = sign if not quote else ""
        elif found := _TEMPLATE.match(command, at):
            if wrong := _wrong_place(command, at, quote):
                return _told(command, at, wrong)
            at = found.end()
            continue
        at += 1
    if quote:
        return f"a quote ({quote}) is not closed"
    return (
        "it holds a here-document (<<): put such a text into a file by `put`"
        if "<<" in command
        else ""
    )


def _wrong_place(command: str, at: int, quote: str) -> str:
    before = command[:at]
    if quote == "`" or before.count("$(") > before.count(")"):
        return "is inside a command substitution"
    if quote:
        return f"is inside quotes ({quote})"
    if re.search(r"(^|\s)#[^\n]*$", before):
        return "is in a comment"
    return "is read as a program by the shell" if _PROGRAM.search(before) else ""


def _told(command: str, at: int, why: str) -> str:
    found = _TEMPLATE.match(command, at)
    return f"“{found.group() if found else ''}” {why}; leave that out, values are quoted for you"
