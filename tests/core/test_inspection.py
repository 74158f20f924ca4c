"""Jobs and reports of inspections: whatever comes is taken apart within bounds, and what was
written is read again.
"""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nimble_stone.core.errors import FormatError
from nimble_stone.core.inspection import job, report
from nimble_stone.core.inspection.job import Job

TEXT = st.text(st.characters(codec="ascii", categories=("L", "N", "P")), max_size=60)
# chassis by MAC, port by name, time to live, system name (IEEE 802.1AB clause 8)
FRAME = (
    "0180c200000e001b21aabbcc88cc"
    "0207040011223344550408054769302f302f37060200780a0a6c6561662d32612e6b64"
    "0000"
)


def test_a_report_is_taken_apart() -> None:
    text = "\n".join(
        (
            report.FIRST_LINE,
            "serial\tHM1",
            "firmware\tuefi",
            "memory_kib\t393216",
            "threads\t2",
            "flags\tfpu lm nx",
            "nic\teth1\tens2f0\t52:54:BB:00:00:02\t0\t\t",
            f"nic\teth0\tens1f0\t52:54:bb:00:00:01\t1\t25000\t{FRAME}",
            "disk\tnvme0n1\tD0\teui.1\tHOLM\t1000\tnvme",
            "disk\tsda\tD1\t\t\t2000\thdd",
            "holds\tnvme0n1p2\tLVM2_member\t",
            "holds\tsda\tgpt\t",
            "holds\tsda1\text4\told archive",
            "holds\tsdb\text4\tof another disk",
            "something\tnew",
        )
    )
    found = report.parse(text.encode(), "gneiss", 7.0)
    assert (found.machine, found.serial, found.firmware, found.read_at) == (
        "gneiss",
        "HM1",
        "uefi",
        7.0,
    )
    assert (found.memory_bytes, found.threads, found.flags) == (384 << 20, 2, ("fpu", "lm", "nx"))
    first, second = found.nics
    assert (first.name, first.kernel, first.link, first.speed_mbit) == (
        "ens1f0",
        "eth0",
        True,
        25000,
    )
    assert first.neighbour == report.Neighbour(
        chassis="00:11:22:33:44:55", port="Gi0/0/7", name="leaf-2a.kd"
    )
    assert (second.mac, second.link, second.neighbour) == ("52:54:bb:00:00:02", False, None)
    nvme, sda = found.disks
    assert [sign.device for sign in nvme.holds] == ["nvme0n1p2"]
    assert [(sign.device, sign.kind, sign.label) for sign in sda.holds] == [
        ("sda", "gpt", ""),
        ("sda1", "ext4", "old archive"),
    ]


@pytest.mark.parametrize(
    ("data", "code"),
    [
        (b"", "report-format"),
        (b"hello\n", "report-format"),
        (b"\xff\xfe\0\0", "report-format"),
        (b"x" * (report.MOST_BYTES + 1), "report-long"),
    ],
)
def test_what_is_no_report_is_refused(data: bytes, code: str) -> None:
    with pytest.raises(FormatError) as refused:
        report.parse(data, "gneiss", 0.0)
    assert refused.value.code == code


@given(st.binary(max_size=400))
def test_whatever_a_machine_sends_is_bounded(rest: bytes) -> None:
    found = report.parse(report.FIRST_LINE.encode() + b"\n" + rest, "gneiss", 0.0)
    assert len(found.nics) <= 64
    assert len(found.disks) <= 512
    assert all(text.isprintable() for text in (found.serial, found.product, found.cpu))


@given(
    st.lists(
        st.tuples(st.sampled_from(("nic", "disk", "holds", "serial", "threads")), TEXT, TEXT, TEXT),
        max_size=20,
    )
)
def test_lines_of_any_words_are_taken(lines: list[tuple[str, ...]]) -> None:
    text = "\n".join((report.FIRST_LINE, *("\t".join(line) for line in lines)))
    found = report.parse(text.encode(), "gneiss", 0.0)
    known = {disk.device for disk in found.disks}
    assert len(known) == len(found.disks)


@given(st.binary(max_size=200))
def test_no_frame_is_too_strange(data: bytes) -> None:
    report.neighbour(data.hex())
    report.neighbour((bytes(12) + b"\x88\xcc" + data).hex())


def test_a_report_of_another_machine_is_told_by_its_serial_number() -> None:
    one = report.Inspection(machine="gneiss", serial="HM1")
    assert report.another(one, "hm1 ") == ""
    assert report.another(one, "") == ""
    assert report.another(report.Inspection(machine="gneiss"), "HM1") == ""
    assert "serial number HM1" in report.another(one, "HM2")


@given(TEXT, TEXT, TEXT)
def test_a_job_is_read_as_it_was_written(machine: str, address: str, pin: str) -> None:
    wanted = Job("inspect", machine, address, pin)
    data = job.written(wanted)
    assert len(data) == job.SIZE == len(job.placeholder())
    assert job.read(data) == wanted


@pytest.mark.parametrize("value", ["a\nkind=wipe", "a\rb", "a\0b", "a" * 5000])
def test_no_value_can_leave_its_line(value: str) -> None:
    with pytest.raises(ValueError, match=r"printable|longer"):
        job.written(Job("inspect", value, "", ""))


@given(st.integers(0, 9000), st.integers(1, 6000), st.integers(0, 9000))
def test_a_job_lies_in_every_piece_that_meets_it(at: int, length: int, start: int) -> None:
    from nimble_stone.packages.installers import patched

    base = bytes(range(256)) * 80
    data = job.written(Job("inspect", "gneiss", "https://x/report/1", "sha256//x"))
    whole = base[:at] + data + base[at + len(data) :]
    piece = base[start : start + length]
    assert patched(piece, start, data, at) == whole[start : start + length]
