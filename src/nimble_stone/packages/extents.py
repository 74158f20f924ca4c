"""Disks ready to be written to bare machines: the data of each in one file, made once for any
number of machines that fetch it.
"""

from __future__ import annotations

import hashlib
import json
import os
import shutil
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

from nimble_stone.core.disk import extents
from nimble_stone.core.disk.image import CLUSTER
from nimble_stone.core.errors import FormatError
from nimble_stone.core.package.contents import Contents
from nimble_stone.core.units import size_text
from nimble_stone.packages import spool, stored

Told = Callable[[int, int], None]
"""Takes bytes done and bytes in all."""


@dataclass(frozen=True)
class Prepared:
    """The data of a disk. `size`: bytes of `path`; `sha256`: its digest; `map`: where the data goes
    (core/disk/extents.py); `zero_bytes`: what the disk takes as a whole, in 64 KiB blocks.
    """

    path: Path
    size: int
    sha256: str
    map: str
    zero_bytes: int


def disk_of(contents: Contents) -> str:
    """The one disk with content that a machine's drive can get. Raises FormatError when there is
    none, or more than one.
    """
    found = stored.disk_ids(contents)
    if len(found) != 1:
        raise FormatError(
            f"the package has {len(found)} disks with content; one is written to a drive",
            code="disk-count",
            hint="Choose a package with one disk.",
        )
    return found[0]


def whole_bytes(folder: Path, contents: Contents) -> int:
    """Bytes that a drive must have for it: its capacity in whole blocks. Raises FormatError."""
    with stored.open_disk(folder, contents, disk_of(contents)) as conversion:
        return extents.blocks_of(conversion.image) * CLUSTER


def find(folder: Path, contents: Contents) -> Prepared | None:
    """What was made before, None when it was not."""
    path = _place(folder, contents)
    try:
        told = json.loads(path.with_suffix(".map").read_text())
        size = path.stat().st_size
    except (OSError, ValueError):
        return None
    if size != told["size"]:
        return None
    with suppress(FileNotFoundError):
        os.utime(path)
    return Prepared(path, size, told["sha256"], told["map"], told["zero_bytes"])


def make(folder: Path, contents: Contents, told: Told) -> Prepared:
    """Unpack the disk's data, if that was not done before. For a thread, one at a time for each
    package. Raises FormatError, also where there is no room.
    """
    known = find(folder, contents)
    if known is not None:
        return known
    final = _place(folder, contents)
    final.parent.mkdir(exist_ok=True, mode=0o700)
    with stored.open_disk(folder, contents, disk_of(contents)) as conversion:
        image = conversion.image
        runs = extents.extents(image)
        size = sum(run.count for run in runs) * CLUSTER
        free = shutil.disk_usage(folder).free
        if size + spool.MARGIN > free:
            raise FormatError(
                f"the image needs {size_text(size + spool.MARGIN)} on the server's disk;"
                f" {size_text(free)} is free",
                code="disk-full",
                hint="Free space on the server's disk.",
            )
        # what an attempt that was killed left is written over
        part = final.with_suffix(".part")
        digest, done = hashlib.sha256(), 0
        try:
            with part.open("wb") as out:
                for piece in extents.stream(image, runs):
                    digest.update(piece)
                    out.write(piece)
                    done += len(piece)
                    told(done, size)
                out.flush()
                os.fsync(out.fileno())
            found = {
                "size": size,
                "sha256": digest.hexdigest(),
                "map": extents.map_text(runs),
                "zero_bytes": extents.blocks_of(image) * CLUSTER,
            }
            os.replace(part, final)
            # the map comes last: without it the data counts as not there
            part.write_text(json.dumps(found))
            os.replace(part, final.with_suffix(".map"))
        except OSError as error:
            raise FormatError(
                f"the image cannot be unpacked here: {error.strerror}",
                code="disk-full",
                hint="Free space on the server's disk.",
            ) from error
        finally:
            part.unlink(missing_ok=True)
    made = find(folder, contents)
    assert made is not None
    return made


def forget(folder: Path, sha256: str) -> None:
    """Remove what was made of a package that goes."""
    for path in (folder / "extents").glob(f"{sha256}.*"):
        path.unlink(missing_ok=True)


def _place(folder: Path, contents: Contents) -> Path:
    return folder / "extents" / f"{contents.sha256}.data"
