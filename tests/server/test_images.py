"""Images for drives on the server's disk: unpacked once, also after an attempt that was killed."""

from __future__ import annotations

import hashlib
from pathlib import Path

import pytest

from nimble_stone.core.disk.source import BytesSource
from nimble_stone.core.errors import FormatError
from nimble_stone.core.package.contents import Contents, examine
from nimble_stone.core.package.given import Given
from nimble_stone.lab.scenario import appliance
from nimble_stone.packages import extents, stored

OVA = appliance.ova(mib=2)


def put(folder: Path) -> Contents:
    """The package as the server keeps it."""
    digest = hashlib.sha256(OVA).hexdigest()
    path = stored.blob(folder, digest)
    path.parent.mkdir(parents=True)
    path.write_bytes(OVA)
    return examine([Given("x.ova", BytesSource(OVA), digest)])


def test_it_is_unpacked_once_and_goes_with_its_package(tmp_path: Path) -> None:
    contents = put(tmp_path)
    told: list[tuple[int, int]] = []
    assert extents.find(tmp_path, contents) is None
    made = extents.make(tmp_path, contents, lambda done, total: told.append((done, total)))
    assert told[-1] == (made.size, made.size)
    assert made.sha256 == hashlib.sha256(made.path.read_bytes()).hexdigest()
    told.clear()
    assert extents.make(tmp_path, contents, lambda *pair: told.append(pair)) == made
    assert told == []
    extents.forget(tmp_path, contents.sha256)
    assert list((tmp_path / "extents").iterdir()) == []


def test_what_a_kill_left_counts_as_not_there(tmp_path: Path) -> None:
    contents = put(tmp_path)

    def killed(done: int, total: int) -> None:
        raise KeyboardInterrupt

    with pytest.raises(KeyboardInterrupt):
        extents.make(tmp_path, contents, killed)
    assert extents.find(tmp_path, contents) is None
    # a real kill leaves the part; a kill between the two files leaves data without its map
    place = tmp_path / "extents" / f"{contents.sha256}"
    place.with_suffix(".part").write_bytes(b"half")
    place.with_suffix(".data").write_bytes(b"of another attempt")
    assert extents.find(tmp_path, contents) is None
    made = extents.make(tmp_path, contents, lambda *_: None)
    assert made.size > 1 << 20
    assert not place.with_suffix(".part").exists()
    # data that was cut is not sent as if it were whole
    made.path.write_bytes(made.path.read_bytes()[:-1])
    assert extents.find(tmp_path, contents) is None


def test_without_room_it_says_so(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    contents = put(tmp_path)
    monkeypatch.setattr(extents.spool, "MARGIN", 1 << 62)
    with pytest.raises(FormatError, match="on the server's disk; .* is free"):
        extents.make(tmp_path, contents, lambda *_: None)
