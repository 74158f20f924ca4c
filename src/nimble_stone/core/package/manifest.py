"""The manifest of a package: `SHA256(name)= hex` lines (DSP0243 §6.4; SHA-1, SHA-384 and SHA-512
are read too).
"""

from __future__ import annotations

import re

from nimble_stone.core.errors import FormatError

_LINE = re.compile(
    r"^(SHA-?(?:1|256|384|512))\s*\((.{1,255})\)\s*=\s*([0-9a-fA-F]+)$", re.IGNORECASE
)
_LENGTH = {"sha1": 40, "sha256": 64, "sha384": 96, "sha512": 128}
MAX_LINES = 20_000


def parse(data: bytes) -> dict[str, tuple[str, str]]:
    """File name → (algorithm as hashlib names it, digest in lower-case hex).

    Raises: FormatError naming the line that is no digest line, names a file twice, or has a digest
    of the wrong length.
    """
    found: dict[str, tuple[str, str]] = {}
    for number, line in enumerate(data.decode("utf-8-sig", "replace").splitlines(), 1):
        if not line.strip():
            continue
        match = _LINE.match(line.strip())
        if number > MAX_LINES:
            raise FormatError(f"the manifest has more than {MAX_LINES} lines", code="manifest-line")
        if not match or len(match[3]) != _LENGTH[match[1].lower().replace("-", "")]:
            raise FormatError(
                "this manifest line is not of the form SHA256(file)= digest",
                code="manifest-line",
                place=f"manifest line {number}",
                clause="DSP0243 6.4",
            )
        if match[2] in found:
            raise FormatError(
                f"“{match[2]}” is listed twice",
                code="manifest-line",
                place=f"manifest line {number}",
            )
        found[match[2]] = (match[1].lower().replace("-", ""), match[3].lower())
    return found
