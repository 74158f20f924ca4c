"""Names of files inside a package: plain, or in folders below the descriptor's own."""

from __future__ import annotations

from urllib.parse import unquote

MAX_NAME = 255
MAX_FOLDERS = 8


def inside(name: str) -> str | None:
    """The name without “.” segments, or None when it is none of a file at or below the package's
    folder. “..” is never one.
    """
    segments = [segment for segment in name.split("/") if segment != "."]
    if not 1 <= len(segments) <= MAX_FOLDERS + 1 or len(name) > MAX_NAME:
        return None
    if any(
        segment in ("", "..") or not segment.isprintable() or "\\" in segment
        for segment in segments
    ):
        return None
    return "/".join(segments)


def referred(href: str) -> str | None:
    """The file that a relative-path reference names: “./disks/a/../d%20one.vmdk” is “disks/d
    one.vmdk” (RFC 3986, 2.1, 4.2 and 5.2.4).

    None when it leads out of the package or names no file. A reference with a scheme is none of a
    file of the package.
    """
    segments: list[str] = []
    for segment in unquote(href).split("/"):
        if segment == ".":
            continue
        if segment != "..":
            segments.append(segment)
        elif segments and segments[-1]:
            segments.pop()
        else:
            return None
    return inside("/".join(segments))
