"""Sizes and times in words. Bytes are int, seconds are float; binary units throughout (IEC
80000-13).
"""

from __future__ import annotations

import difflib
from collections.abc import Iterable, Sequence

KIB, MIB, GIB, TIB = 1 << 10, 1 << 20, 1 << 30, 1 << 40


def size_text(count_bytes: int) -> str:
    """Bytes in the largest binary unit that keeps the figure short: 1536 -> '1.5 KiB'.

    >>> size_text(0), size_text(1536), size_text(48 * GIB)
    ('0 B', '1.5 KiB', '48 GiB')
    """
    value, unit = float(count_bytes), "B"
    for unit in ("B", "KiB", "MiB", "GiB", "TiB", "PiB"):
        if abs(value) < 1024 or unit == "PiB":
            break
        value /= 1024
    shown = f"{value:.1f}" if abs(value) < 100 else f"{value:.0f}"
    return f"{shown.removesuffix('.0')} {unit}"


def exact_size_text(count_bytes: int) -> str:
    """Bytes in the largest binary unit that is exact, so that two amounts never read the same.

    >>> exact_size_text(20 * GIB), exact_size_text(1536)
    ('20 GiB', '1.5 KiB')
    """
    for unit, size in (("TiB", GIB << 10), ("GiB", GIB), ("MiB", MIB), ("KiB", 1024)):
        if size <= count_bytes < size * 10_000 and count_bytes * 10 % size == 0:
            return f"{count_bytes / size:g} {unit}"
    return f"{count_bytes} B"


def time_text(seconds: float) -> str:
    """Seconds as people say them: 75 -> '1 min 15 s'.

    >>> time_text(4.2), time_text(75), time_text(7500)
    ('4 s', '1 min 15 s', '2 h 5 min')
    """
    whole = max(0, round(seconds))
    if whole < 60:
        return f"{whole} s"
    if whole < 3600:
        minutes, rest = divmod(whole, 60)
        return f"{minutes} min {rest} s" if rest and minutes < 10 else f"{minutes} min"
    hours, rest = divmod(whole, 3600)
    return f"{hours} h {rest // 60} min" if rest // 60 else f"{hours} h"


def count_text(count: int, noun: str, plural: str | None = None) -> str:
    """A count with its noun.

    >>> count_text(1, "host"), count_text(3, "host")
    ('1 host', '3 hosts')
    """
    return f"{count} {noun if count == 1 else plural or noun + 's'}"


def bays_text(names: Sequence[str]) -> str:
    """“bay kelda-main”, “bays kelda-main and kelda-edge”."""
    return f"{'bay' if len(names) == 1 else 'bays'} {' and '.join(names)}"


def inside(label: str) -> str:
    """A label in the middle of a sentence: its first letter small, unless it begins a word of
    capitals (“address by DHCP”, “DNS servers”).
    """
    return label if len(label) > 1 and label[:2].isupper() else label[:1].lower() + label[1:]


def nearest(word: str, known: Iterable[str]) -> str:
    """The known word that is most like another one, '' when none is."""
    found = difflib.get_close_matches(word[:80], list(known), n=1, cutoff=0.6)
    return found[0] if found else ""
