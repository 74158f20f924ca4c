"""Disks: a second tool agrees with our reader and our writer; damage is refused."""

from __future__ import annotations

import json
import subprocess
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nimble_stone.core.disk import convert
from nimble_stone.core.disk.opening import open_image
from nimble_stone.core.disk.source import BytesSource
from nimble_stone.core.disk.vmdk import VmdkImage
from nimble_stone.core.errors import FormatError
from nimble_stone.lab.scenario import appliance
from nimble_stone.packages.files import FileSource

GRAIN = 1 << 16


def qcow2_of(data: bytes) -> bytes:
    return b"".join(convert.prepare(open_image(BytesSource(data))).stream())


def raw_of(capacity: int, grains: dict[int, bytes]) -> bytes:
    raw = bytearray(capacity)
    for index, data in grains.items():
        raw[index * GRAIN : index * GRAIN + len(data)] = data[: capacity - index * GRAIN]
    return bytes(raw)


@settings(max_examples=25, deadline=None)
@given(
    st.dictionaries(
        st.integers(min_value=0, max_value=40), st.binary(min_size=1, max_size=200), max_size=12
    ),
    st.integers(min_value=1, max_value=5),
)
def test_what_was_written_is_what_another_tool_reads_from_the_converted_disk(
    tmp_path_factory: pytest.TempPathFactory, grains: dict[int, bytes], odd: int
) -> None:
    capacity = 41 * GRAIN - odd * 512
    grains = {index: data for index, data in grains.items() if index * GRAIN < capacity}
    folder = tmp_path_factory.mktemp("disk")
    (folder / "d.qcow2").write_bytes(qcow2_of(appliance.vmdk(capacity, grains)))
    checked = subprocess.run(
        ["qemu-img", "check", "--output=json", folder / "d.qcow2"], capture_output=True, text=True
    )
    assert checked.returncode == 0, checked.stdout
    subprocess.run(
        ["qemu-img", "convert", "-O", "raw", folder / "d.qcow2", folder / "d.raw"], check=True
    )
    assert (folder / "d.raw").read_bytes() == raw_of(capacity, grains)


@pytest.mark.parametrize("mib", [3, 2500])
def test_a_disk_another_tool_wrote_is_read(tmp_path: Path, mib: int) -> None:
    raw, packed = tmp_path / "d.raw", tmp_path / "d.vmdk"
    with raw.open("wb") as file:
        file.truncate(mib << 20)
        for at in (0, (mib << 20) // 2 + 777, (mib << 20) - 1000):
            file.seek(at)
            file.write(bytes(range(256)) * 3)
    subprocess.run(
        [
            "qemu-img",
            "convert",
            "-f",
            "raw",
            "-O",
            "vmdk",
            "-o",
            "subformat=streamOptimized",
            raw,
            packed,
        ],
        check=True,
    )
    (tmp_path / "d.qcow2").write_bytes(qcow2_of(packed.read_bytes()))
    subprocess.run(
        ["qemu-img", "compare", "-f", "raw", "-F", "qcow2", raw, tmp_path / "d.qcow2"], check=True
    )
    info = json.loads(
        subprocess.run(
            ["qemu-img", "info", "--output=json", tmp_path / "d.qcow2"],
            check=True,
            capture_output=True,
            text=True,
        ).stdout
    )
    assert info["virtual-size"] == mib << 20


def test_holes_do_not_travel_and_the_announced_size_is_exact() -> None:
    conversion = convert.prepare(
        open_image(BytesSource(appliance.vmdk(64 << 30, {5: b"a" * GRAIN, 500_000: b"b" * GRAIN})))
    )
    sent = sum(len(piece) for piece in conversion.stream())
    assert sent == conversion.file_bytes
    assert sent < 1 << 20


@settings(max_examples=80, deadline=None)
@given(st.data())
def test_damage_gives_a_format_error_or_a_disk_and_nothing_else(data: st.DataObject) -> None:
    good = bytearray(appliance.vmdk(30 * GRAIN, {1: b"a" * 900, 7: b"b" * 900, 29: b"c"}))
    if data.draw(st.booleans()):
        del good[data.draw(st.integers(min_value=0, max_value=len(good) - 1)) :]
    else:
        good[data.draw(st.integers(min_value=0, max_value=len(good) - 1))] ^= data.draw(
            st.integers(min_value=1, max_value=255)
        )
    try:
        total = sum(
            len(piece) for piece in convert.prepare(open_image(BytesSource(bytes(good)))).stream()
        )
    except FormatError as error:
        assert str(error)
    else:
        assert total < 64 << 20


@pytest.mark.parametrize(
    "junk", [b"", b"KDMV", b"KDMV" + bytes(600), b"\x00" * 2000, b"QFI\xfb" + bytes(4000)]
)
def test_garbage_is_no_disk(junk: bytes) -> None:
    with pytest.raises(FormatError):
        VmdkImage(BytesSource(junk))


def test_a_grain_that_inflates_beyond_its_size_is_refused() -> None:
    import zlib

    good = appliance.vmdk(4 * GRAIN, {0: b"a" * GRAIN})
    bomb = zlib.compress(bytes(8 << 20))
    at = good.find(zlib.compress(b"a" * GRAIN, 1))
    evil = good[: at - 4] + len(bomb).to_bytes(4, "little") + bomb + good[at + len(bomb) :]
    with pytest.raises(FormatError):
        list(convert.prepare(open_image(BytesSource(evil))).stream())


@settings(max_examples=30, deadline=None)
@given(st.sets(st.integers(min_value=0, max_value=40), max_size=9), st.data())
def test_any_part_of_the_stream_is_the_same_part_of_the_whole(
    present: set[int], data: st.DataObject
) -> None:
    conversion = convert.prepare(
        open_image(
            BytesSource(appliance.vmdk(41 * GRAIN, {index: b"x%d" % index for index in present}))
        )
    )
    whole = b"".join(conversion.stream())
    start = data.draw(st.integers(min_value=0, max_value=len(whole)))
    assert len(whole) == conversion.file_bytes
    assert b"".join(conversion.stream(start)) == whole[start:]


def test_a_window_never_reads_outside_itself(tmp_path: Path) -> None:
    path = tmp_path / "f"
    path.write_bytes(b"0123456789")
    with path.open("rb") as file:
        window = FileSource(file.fileno(), 2, 5)
        assert window.read_at(1, 4) == b"3456"
        for offset, length in ((0, 6), (5, 1), (-1, 2)):
            with pytest.raises(FormatError):
                window.read_at(offset, length)
