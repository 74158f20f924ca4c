"""Series: pools of MAC addresses, IPv6 addresses and numbers. Their members are worked with as
whole numbers and written in their own form.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator, Mapping
from functools import lru_cache
from ipaddress import IPv4Address, IPv6Address
from typing import Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

from nimble_stone.core.errors import InputError

Kind = Literal["mac", "ipv6", "number"]
MAX_SPAN = 1 << 20
"""Members of a series that are ever looked at."""
_MAC = re.compile(r"[0-9a-f]{2}([:-][0-9a-f]{2}){5}")


@lru_cache(maxsize=16384)
def number_of(kind: Kind, text: str) -> int | None:
    """The member a text stands for, None when it is none. MAC addresses as in IEEE 802 (colons or
    hyphens), IPv6 as in RFC 4291.
    """
    text = text.strip().lower()
    if kind == "mac":
        return int(re.sub("[:-]", "", text), 16) if _MAC.fullmatch(text) else None
    if kind == "ipv6":
        try:
            return int(IPv6Address(text))
        except ValueError:
            return None
    return int(text) if text.isascii() and text.isdigit() and len(text) <= 9 else None


def text_of(kind: Kind, number: int) -> str:
    """The form in which a member is written: lower case with colons (RFC 5952 for IPv6)."""
    if kind == "mac":
        digits = f"{number:012x}"
        return ":".join(digits[at : at + 2] for at in range(0, 12, 2))
    return str(IPv6Address(number)) if kind == "ipv6" else str(number)


def clean(kind: Kind, text: str) -> str:
    """A text in the form in which members are written; what is no member stays as it is."""
    number = number_of(kind, text)
    return text if number is None else text_of(kind, number)


class Series(BaseModel):
    """A range of MAC addresses, IPv6 addresses or numbers, handed out in order; both ends belong to
    it.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    name: str = Field(min_length=1, max_length=60)
    kind: Kind
    network: str = Field(
        default="", max_length=60, description="The network that IPv6 addresses lie in."
    )
    first: str
    last: str
    excluded: tuple[str, ...] = Field(default=(), max_length=10_000)
    reserved: dict[str, str] = Field(
        default={},
        max_length=10_000,
        description="Reserved for others: member → for whom.",
    )
    order: Literal["up", "down"] = Field(
        default="up", description="From which end members are given."
    )

    @model_validator(mode="after")
    def _is_a_range(self) -> Series:
        low, high = number_of(self.kind, self.first), number_of(self.kind, self.last)
        for text in (self.first, self.last, *self.excluded, *self.reserved):
            if number_of(self.kind, text) is None:
                raise ValueError(f"series “{self.name}”: “{text[:60]}” is not {A_WORD[self.kind]}")
        if low is None or high is None or low > high:
            raise ValueError(f"series “{self.name}”: {self.first} lies after {self.last}")
        if self.kind == "mac" and (low >> 40) & 1:
            raise ValueError(
                f"series “{self.name}”: {self.first} is a group address; a VM's MAC address has an"
                " even first octet"
            )
        if self.kind == "ipv6" and not self.network:
            raise ValueError(
                f"series “{self.name}” names no network that its IPv6 addresses lie in"
            )
        return self

    @property
    def low(self) -> int:
        """The first member as a number."""
        return number_of(self.kind, self.first) or 0

    @property
    def high(self) -> int:
        """The last member that is looked at, as a number."""
        return min(number_of(self.kind, self.last) or 0, self.low + MAX_SPAN - 1)

    def member(self, number: int) -> str:
        """The member as plans hold it: numbers belong to their series, addresses are what they are
        everywhere.
        """
        return f"{self.name}#{number}" if self.kind == "number" else text_of(self.kind, number)

    def gone(self, taken: Collection[str]) -> set[int]:
        """Members that must not be assigned. `taken`: members in the form of `member`. Cost:
        O(taken).
        """
        gone = {
            number
            for text in (*self.excluded, *self.reserved)
            if (number := number_of(self.kind, text)) is not None
        }
        mine = f"{self.name}#"
        for text in taken:
            if self.kind == "number":
                number = (
                    number_of("number", text.removeprefix(mine)) if text.startswith(mine) else None
                )
            else:
                number = number_of(self.kind, text) if ":" in text else None
            if number is not None:
                gone.add(number)
        return gone


MAX_LISTED = 10_000


def listed(kind: Literal["mac", "ipv6", "number", "ipv4"], text: str) -> list[str]:
    """Members as they are listed: single ones and ranges (“…5-…9”), apart by commas or blanks.
    Raises InputError for what is none.
    """
    found: list[str] = []
    for word in re.split(r"[\s,;]+", text.strip()):
        if not word:
            continue
        first, dash, last = word.partition("-") if kind != "mac" or ":" in word else (word, "", "")
        low, high = _any(kind, first), _any(kind, last) if dash else _any(kind, first)
        if low is None or high is None or low > high:
            raise InputError(
                f"“{word[:80]}” is not {A_WORD.get(kind, 'an IPv4 address')} or a range of them",
                code="members",
                hint="Write single numbers and ranges (first-last), separated by commas.",
            )
        if high - low + len(found) >= MAX_LISTED:
            raise InputError(
                f"more than {MAX_LISTED} members are listed",
                code="members",
                hint="Use a smaller range instead.",
            )
        found += [
            str(IPv4Address(number)) if kind == "ipv4" else text_of(kind, number)
            for number in range(low, high + 1)
        ]
    return found


def condensed(kind: Literal["mac", "ipv6", "number", "ipv4"], members: Collection[str]) -> str:
    """Members as `listed` reads them, neighbours as ranges, in their order."""
    numbers = sorted({number for text in members if (number := _any(kind, text)) is not None})
    found: list[list[int]] = []
    for number in numbers:
        if found and found[-1][1] == number - 1:
            found[-1][1] = number
        else:
            found.append([number, number])

    def written(number: int) -> str:
        return str(IPv4Address(number)) if kind == "ipv4" else text_of(kind, number)

    return ", ".join(
        written(low) if low == high else f"{written(low)}-{written(high)}" for low, high in found
    )


def _any(kind: Literal["mac", "ipv6", "number", "ipv4"], text: str) -> int | None:
    if kind != "ipv4":
        return number_of(kind, text)
    try:
        return int(IPv4Address(text.strip()))
    except ValueError:
        return None


A_WORD: Mapping[str, str] = {
    "mac": "a MAC address",
    "ipv6": "an IPv6 address",
    "number": "a number",
}
MANY: Mapping[str, str] = {"mac": "MAC addresses", "ipv6": "IPv6 addresses", "number": "numbers"}


def draw(
    series: Series, wanting: Collection[str], held: Mapping[str, int], gone: Collection[int]
) -> dict[str, int]:
    """A member for each slot: the one it held so far where that is still free, else the next free
    in order.

    Slots that find the series exhausted are absent. Laws: no member twice, none that is gone, none
    outside the range.
    Cost: O(wanting + gone).
    """
    used = set(gone)
    found: dict[str, int] = {}
    for slot in wanting:
        before = held.get(slot)
        if before is not None and series.low <= before <= series.high and before not in used:
            found[slot] = before
            used.add(before)
    free = _free(series, used)
    for slot in wanting:
        if slot not in found and (number := next(free, None)) is not None:
            found[slot] = number
    return found


def _free(series: Series, used: Collection[int]) -> Iterator[int]:
    span = range(series.low, series.high + 1)
    return (
        number
        for number in (span if series.order == "up" else reversed(span))
        if number not in used
    )
