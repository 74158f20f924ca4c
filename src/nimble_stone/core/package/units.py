"""Allocation units: the programmatic units of DSP0004 annex C, the older words, and the short forms
seen in the field.
"""

from __future__ import annotations

import re

_OLD = {
    "bytes": 1,
    "byte": 1,
    "kilobytes": 1 << 10,
    "megabytes": 1 << 20,
    "gigabytes": 1 << 30,
    "terabytes": 1 << 40,
    "kb": 1 << 10,
    "mb": 1 << 20,
    "gb": 1 << 30,
    "tb": 1 << 40,
    "kib": 1 << 10,
    "mib": 1 << 20,
    "gib": 1 << 30,
    "tib": 1 << 40,
}
_PREFIXES = {
    "": 1,
    "kilo": 10**3,
    "mega": 10**6,
    "giga": 10**9,
    "tera": 10**12,
    "kibi": 1 << 10,
    "mebi": 1 << 20,
    "gibi": 1 << 30,
    "tebi": 1 << 40,
}
_PROGRAMMATIC = re.compile(
    r"^\s*(kilo|mega|giga|tera|kibi|mebi|gibi|tebi|)byte"
    r"((?:\s*\*\s*\d{1,13}\s*(?:\^\s*\d{1,2})?){0,8})\s*$"
)
_FACTOR = re.compile(r"\*\s*(\d+)\s*(?:\^\s*(\d+))?")
MAX_UNIT = 1 << 50


def bytes_per(text: str) -> int | None:
    """Bytes per unit for an allocation-unit string, None when it is not understood or beyond
    reason.

    'byte * 2^20', 'byte * 1024 * 1024' (DSP0004 annex C), 'MegaBytes' (as OVF 1.0 examples have it)
    and 'MB' all mean 1,048,576.
    """
    word = text.strip().lower()
    if word in _OLD:
        return _OLD[word]
    match = _PROGRAMMATIC.match(word)
    if not match:
        return None
    value = _PREFIXES[match[1]]
    for base_text, power_text in _FACTOR.findall(match[2]):
        base, power = int(base_text), int(power_text or 1)
        if power > 60 or (base > 1 and power * base.bit_length() > 80):
            return None
        value *= base**power
    return value if 0 < value <= MAX_UNIT else None
