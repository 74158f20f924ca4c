"""Answers that are kept because they can be had again: bounded, and keyed by the versions of what
they were made from.
"""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Hashable
from typing import Generic, TypeVar

Key = TypeVar("Key", bound=Hashable)
Version = TypeVar("Version")
Value = TypeVar("Value")


class Latest(Generic[Version, Value]):
    """One value, and the version of what it was made from."""

    def __init__(self) -> None:
        self._kept: tuple[Version, Value] | None = None

    def get(self, version: Version) -> Value | None:
        """The value, unless it was made from another version."""
        return self._kept[1] if self._kept is not None and self._kept[0] == version else None

    def put(self, version: Version, value: Value) -> Value:
        """Keep a value in place of the one before."""
        self._kept = (version, value)
        return value


class Recent(Generic[Key, Value]):
    """At most `size` values; the one that was not asked for longest goes first."""

    def __init__(self, size: int) -> None:
        self._size = size
        self._kept: OrderedDict[Key, Value] = OrderedDict()

    def get(self, key: Key) -> Value | None:
        """The value, or None."""
        if key not in self._kept:
            return None
        self._kept.move_to_end(key)
        return self._kept[key]

    def put(self, key: Key, value: Value) -> Value:
        """Keep a value."""
        self._kept[key] = value
        self._kept.move_to_end(key)
        while len(self._kept) > self._size:
            self._kept.popitem(last=False)
        return value
