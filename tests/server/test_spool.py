"""Disks converted once for many: several are made at the same time in one folder."""

from __future__ import annotations

import os
from pathlib import Path

import pytest

from nimble_stone.core.errors import FormatError
from nimble_stone.packages import spool, stored
from tests.server.test_images import put


def test_a_file_that_vanishes_meanwhile_is_no_trouble(tmp_path: Path) -> None:
    """Another conversion ends, and its part gets its name, while this one counts what is there."""
    contents = put(tmp_path)
    place = tmp_path / "spool"
    place.mkdir()
    # listed, and not there when it is looked at
    (place / "0123456789ab.part").symlink_to(place / "gone")
    (place / "ns-base-1.qcow2.0123").symlink_to(place / "gone too")
    made = spool.make(tmp_path, contents, stored.disk_ids(contents)[0])
    assert made is not None
    assert made.path.stat().st_size == made.size


def test_what_another_conversion_writes_is_not_pruned(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    contents = put(tmp_path)
    place = tmp_path / "spool"
    place.mkdir()
    under_way, old = place / "0123456789ab.part", place / "ns-base-1.qcow2.0123"
    for path in (under_way, old):
        path.write_bytes(b"x")
        os.truncate(path, 1 << 40)
    assert spool.make(tmp_path, contents, stored.disk_ids(contents)[0]) is not None
    assert under_way.exists()
    assert not old.exists()


def test_a_folder_that_takes_nothing_is_told_in_words(tmp_path: Path) -> None:
    contents = put(tmp_path)
    (tmp_path / "spool").write_text("a file where the folder belongs")
    with pytest.raises(FormatError, match="the disk cannot be converted here"):
        spool.make(tmp_path, contents, stored.disk_ids(contents)[0])
