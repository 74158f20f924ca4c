"""What is written to a drive is the disk, put together by its map; its beginning comes last."""

from __future__ import annotations

import itertools
from collections.abc import Iterator

from hypothesis import given
from hypothesis import strategies as st

from nimble_stone.core.disk import extents
from nimble_stone.core.disk.image import CLUSTER
from nimble_stone.core.disk.raw import RawImage
from nimble_stone.core.disk.source import BytesSource

BLOCKS = 64


class Holey(BytesSource):
    """Bytes of which only some ranges are said to be data."""

    def __init__(self, data: bytes, clusters: set[int]) -> None:
        super().__init__(data)
        self._clusters = clusters

    def data_ranges(self) -> Iterator[tuple[int, int]]:
        for one in sorted(self._clusters):
            yield one * CLUSTER, (one + 1) * CLUSTER


def disk(clusters: set[int], tail: int) -> tuple[bytes, RawImage]:
    """A disk whose last block is cut to `tail` bytes, with data in these blocks."""
    size = (BLOCKS - 1) * CLUSTER + tail
    held = {one for one in clusters if one * CLUSTER < size}
    data = b"".join(
        bytes([one % 250 + 1]) * CLUSTER if one in held else bytes(CLUSTER) for one in range(BLOCKS)
    )[:size]
    return data, RawImage(Holey(data, held))


@given(st.sets(st.integers(0, BLOCKS - 1)), st.integers(1, CLUSTER // 512).map(lambda n: n * 512))
def test_the_map_puts_the_disk_together(clusters: set[int], tail: int) -> None:
    data, image = disk(clusters, tail)
    runs = extents.extents(image)
    stream = b"".join(extents.stream(image, runs))
    drive = bytearray(extents.blocks_of(image) * CLUSTER)
    at = 0
    for line in extents.map_text(runs).splitlines():
        first, count = (int(word) for word in line.split())
        length = count * CLUSTER
        drive[first * CLUSTER : first * CLUSTER + length] = stream[at : at + length]
        at += length
    assert at == len(stream)
    assert drive[: len(data)] == data
    assert not any(drive[len(data) :])


@given(st.sets(st.integers(0, BLOCKS - 1), min_size=1))
def test_no_run_overlaps_another_and_the_beginning_is_written_last(clusters: set[int]) -> None:
    _, image = disk(clusters, CLUSTER)
    runs = extents.extents(image)
    blocks = [block for run in runs for block in range(run.start, run.start + run.count)]
    assert len(blocks) == len(set(blocks))
    assert clusters <= set(blocks)
    head = [block < extents.HEAD for block in blocks]
    assert head == sorted(head)
    # a gap is sent only where that costs less than another run
    assert all(
        later.start - (run.start + run.count) > extents.GAP
        for run, later in itertools.pairwise(runs)
        if (run.start < extents.HEAD) == (later.start < extents.HEAD)
    )


def test_an_empty_disk_needs_no_run() -> None:
    _, image = disk(set(), CLUSTER)
    assert extents.extents(image) == []
    assert list(extents.stream(image, [])) == []
