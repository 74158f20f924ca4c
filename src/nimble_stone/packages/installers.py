"""Installer ISOs with room for answer files, made once for any number of machines: each machine's
answers are put into that room while it fetches the medium.
"""

from __future__ import annotations

import hashlib
import io
import json
import mmap
import os
import shutil
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path, PurePosixPath
from typing import Any

import pycdlib
from pycdlib.pycdlibexception import PyCdlibException

from nimble_stone.core.errors import FormatError
from nimble_stone.core.installing.answers import MAX_TEXT
from nimble_stone.core.package.contents import Contents
from nimble_stone.core.units import size_text
from nimble_stone.packages import spool, stored

PIECE = 1 << 20
ROOM = MAX_TEXT
"""Bytes that an answer file takes on the medium; the rest is filled with line breaks."""
FORM = "2"
"""Part of what is made: another number makes all media anew."""


@dataclass(frozen=True)
class Medium:
    """An installer ISO with room for answers. `rooms`: path → where in the file its room is."""

    path: Path
    size: int
    rooms: Mapping[str, int]


def in_room(text: str) -> bytes:
    """An answer file as it lies on the medium. Raises FormatError when it is too long."""
    data = text.encode()
    if len(data) > ROOM:
        raise FormatError(
            f"an answer file is {size_text(len(data))} once filled in; {size_text(ROOM)} fit",
            code="answer-size",
            hint="Shorten the values that it gets.",
        )
    return data + b"\n" * (ROOM - len(data))


def iso_of(folder: Path, contents: Contents) -> Path:
    """The installer ISO as it was taken in. Raises FormatError for another kind of package."""
    if contents.format != "iso" or not contents.members:
        raise FormatError(
            "the package is no ISO image", code="not-an-iso", hint="Choose an installer ISO."
        )
    return stored.blob(folder, contents.members[0].blob)


def find(folder: Path, contents: Contents, paths: Sequence[str]) -> Medium | None:
    """What was made before, None when it was not."""
    place = _place(folder, contents, paths)
    try:
        told = json.loads(place.with_suffix(".rooms").read_text())
        size = place.stat().st_size
    except (OSError, ValueError):
        return None
    if size != told["size"] or set(told["rooms"]) != set(paths):
        return None
    with suppress(FileNotFoundError):
        os.utime(place)
    return Medium(place, size, told["rooms"])


def make(
    folder: Path, contents: Contents, paths: Sequence[str], told: Callable[[int, int], None]
) -> Medium:
    """Make it, if that was not done before. For a thread, one at a time for each package. Raises
    FormatError for an ISO that cannot be changed, and where there is no room.
    """
    known = find(folder, contents, paths)
    if known is not None:
        return known
    source, final = iso_of(folder, contents), _place(folder, contents, paths)
    final.parent.mkdir(exist_ok=True, mode=0o700)
    needed, free = source.stat().st_size + spool.MARGIN, shutil.disk_usage(folder).free
    if needed > free:
        raise FormatError(
            f"the medium needs {size_text(needed)} on the server's disk; {size_text(free)} is free",
            code="disk-full",
            hint="Free space on the server's disk.",
        )
    # what an attempt that was killed left is written over
    part = final.with_suffix(".part")
    try:
        _write(source, part, paths, told)
        rooms = _rooms(part, paths)
        size = part.stat().st_size
        os.replace(part, final)
        part.write_text(json.dumps({"size": size, "rooms": rooms}))
        # the rooms come last: without them the medium counts as not there
        os.replace(part, final.with_suffix(".rooms"))
    except OSError as error:
        raise FormatError(
            f"the medium cannot be written here: {error.strerror}", code="disk-full"
        ) from error
    finally:
        part.unlink(missing_ok=True)
    return Medium(final, size, rooms)


def with_answers(made: Medium, files: Mapping[str, str]) -> Iterator[bytes]:
    """The medium in pieces, with answers (path → text) in their rooms. For a thread. Raises
    FormatError for one that is too long.
    """
    rooms = {made.rooms[path]: in_room(text) for path, text in files.items()}
    with made.path.open("rb") as file:
        at = 0
        while piece := file.read(PIECE):
            for start, room in rooms.items():
                piece = patched(piece, at, room, start)
            yield piece
            at += len(piece)


def patched(piece: bytes, start: int, data: bytes, at: int) -> bytes:
    """A piece that begins at `start`, with `data` in the place it lies at."""
    first, last = max(start, at), min(start + len(piece), at + len(data))
    if first >= last:
        return piece
    return piece[: first - start] + data[first - at : last - at] + piece[last - start :]


def forget(folder: Path, sha256: str) -> None:
    """Remove what was made of a package."""
    for path in (folder / "installers").glob(f"{sha256}-*"):
        path.unlink(missing_ok=True)


def labelled(files: Mapping[str, str], label: str) -> bytes:
    """A small ISO with answer files, for a second drive."""
    iso = pycdlib.PyCdlib()
    iso.new(interchange_level=3, vol_ident=label, rock_ridge="1.09", joliet=3)
    for number, (path, text) in enumerate(sorted(files.items())):
        data = text.encode()
        _add(iso, path, data, number)
    out = io.BytesIO()
    iso.write_fp(out)
    iso.close()
    return out.getvalue()


def _place(folder: Path, contents: Contents, paths: Sequence[str]) -> Path:
    text = "\n".join([FORM, *sorted(paths)])
    return (
        folder
        / "installers"
        / f"{contents.sha256}-{hashlib.sha256(text.encode()).hexdigest()[:12]}"
    )


def _mark(path: str) -> bytes:
    """What fills the room of a file until its answers are known: a whole room that nothing else on
    an ISO looks like.
    """
    digest = hashlib.sha512(f"nimble-stone answers {path}".encode()).digest()
    return digest * (ROOM // len(digest))


def _write(
    source: Path, target: Path, paths: Sequence[str], told: Callable[[int, int], None]
) -> None:
    def progress(done: int, total: int, _: Any = None) -> None:
        told(done, total)

    iso = pycdlib.PyCdlib()
    try:
        iso.open(str(source))
    except PyCdlibException as error:
        raise _unreadable(error) from error
    try:
        for number, path in enumerate(sorted(paths)):
            _drop(iso, path)
            _add(iso, path, _mark(path), number)
        with target.open("wb") as out:
            iso.write_fp(out, progress_cb=progress)
            out.flush()
            os.fsync(out.fileno())
    except PyCdlibException as error:
        raise _unreadable(error) from error
    finally:
        iso.close()


def _unreadable(error: Exception) -> FormatError:
    return FormatError(
        f"the ISO image cannot be changed: {error}",
        code="iso-change",
        hint="Use a kit whose installer reads a second medium (label).",
    )


def _drop(iso: Any, path: str) -> None:
    """Take a file out whose place an answer file takes, if there is one."""
    with suppress(PyCdlibException):
        kind = "rr_path" if iso.has_rock_ridge() else "iso_path"
        record = iso.get_record(**{kind: path})
        iso.rm_hard_link(iso_path=iso.full_path_from_dirrecord(record))
    for kind, has in (("joliet_path", iso.has_joliet()), ("udf_path", iso.has_udf())):
        if has:
            with suppress(PyCdlibException):
                iso.get_record(**{kind: path})
                iso.rm_hard_link(**{kind: path})


def _add(iso: Any, path: str, data: bytes, number: int) -> None:
    """A file under a path, by all the names that the ISO has; folders are made where they lack."""
    folders = list(PurePosixPath(path).parents)[-2::-1]
    plain = ""
    for depth, folder in enumerate(folders):
        plain = _folder(iso, str(folder), plain, depth)
    names: dict[str, str] = {"iso_path": f"{plain}/NSANS{number}.TXT;1"}
    if iso.has_rock_ridge():
        names["rr_name"] = PurePosixPath(path).name
    if iso.has_joliet():
        names["joliet_path"] = path
    if iso.has_udf():
        names["udf_path"] = path
    if len(names) == 1:
        names["iso_path"] = f"{plain}/{_plain(PurePosixPath(path).name)};1"
    iso.add_fp(io.BytesIO(data), len(data), **names)


def _folder(iso: Any, folder: str, above: str, depth: int) -> str:
    """The ISO 9660 path of a folder, made where it lacks; `above`: that of the one it is in."""
    for child in iso.list_children(iso_path=above or "/"):
        name = child.file_identifier().decode("ascii", "replace")
        shown = child.rock_ridge.name().decode() if child.rock_ridge else name
        if child.is_dir() and shown.lower() == PurePosixPath(folder).name.lower():
            return f"{above}/{name}"
    own = f"{above}/NSDIR{depth}"
    names: dict[str, str] = {"iso_path": own}
    if iso.has_rock_ridge():
        names["rr_name"] = PurePosixPath(folder).name
    if iso.has_joliet():
        names["joliet_path"] = folder
    if iso.has_udf():
        names["udf_path"] = folder
    if len(names) == 1:
        own = names["iso_path"] = f"{above}/{_plain(PurePosixPath(folder).name)}"
    iso.add_directory(**names)
    return own


def _plain(name: str) -> str:
    """A name for an ISO that has only ISO 9660 names (ECMA-119, 7.5)."""
    stem, _, rest = name.upper().partition(".")
    keep = "".join(c if c.isalnum() else "_" for c in stem)[:8]
    return f"{keep}.{''.join(c for c in rest if c.isalnum())[:3]}" if rest else keep


def _rooms(path: Path, wanted: Sequence[str]) -> dict[str, int]:
    """Where the room of each file begins."""
    found = {}
    with path.open("rb") as file, mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ) as data:
        for name in wanted:
            at = data.find(_mark(name))
            if at < 0 or at % 2048:
                raise FormatError(f"no room for {name} was made", code="iso-change")
            found[name] = at
    return found
