"""A rule in words for the drives of a machine, such as “2 smallest ssd”. Pure. Sizes in bytes."""

from __future__ import annotations

import re
from dataclasses import dataclass

from nimble_stone.core.errors import FormatError
from nimble_stone.core.units import GIB

KINDS = ("ssd", "hdd", "nvme")
RULE = "[NUMBER | all] [smallest | largest] [ssd | hdd | nvme] [from N GiB]"
MOST_NUMBER, MOST_GIB = 512, 1 << 20
_FROM = re.compile(r"from (\d{1,7}) gib")


@dataclass(frozen=True)
class DriveRule:
    """What a rule asks for. `number`: None for all that fit; `kind` '' for any; “ssd” takes NVMe
    drives too.
    """

    number: int | None = 1
    order: str = ""
    kind: str = ""
    least_bytes: int = 0


def parse(text: str) -> DriveRule:
    """A rule. Raises FormatError with the form it has."""
    words = " ".join(text.lower().split())
    least = 0
    if found := _FROM.search(words):
        least = int(found[1]) * GIB
        words = (words[: found.start()] + words[found.end() :]).strip()
    number: int | None = 1
    order = kind = ""
    for place, word in enumerate(words.split()):
        if word == "all" and not place:
            number = None
        elif word.isascii() and word.isdigit() and not place and 0 < int(word) <= MOST_NUMBER:
            number = int(word)
        elif word in ("smallest", "largest") and not order and not kind:
            order = word
        elif word in KINDS and not kind:
            kind = word
        else:
            raise FormatError(
                f"“{text[:60]}” is not a drive rule", code="drive-rule", hint=f"Write {RULE}."
            )
    if not words and not least:
        raise FormatError("a drive rule is empty", code="drive-rule", hint=f"Write {RULE}.")
    return DriveRule(number, order, kind, least)
