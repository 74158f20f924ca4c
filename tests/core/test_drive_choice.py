"""Drives of machines: rules in words, and which drives they take."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nimble_stone.core import drive_choice, drive_rule
from nimble_stone.core.drive_choice import KnownDrive
from nimble_stone.core.drive_rule import DriveRule
from nimble_stone.core.errors import FormatError
from nimble_stone.core.estate import Drive, MachineFacts
from nimble_stone.core.inspection.report import InsideDisk, Inspection, Signature
from nimble_stone.core.units import GIB


@pytest.mark.parametrize(
    ("text", "rule"),
    [
        ("all", DriveRule(None)),
        ("2 ssd", DriveRule(2, kind="ssd")),
        ("smallest SSD", DriveRule(1, "smallest", "ssd")),
        ("3 largest hdd from 4000 GiB", DriveRule(3, "largest", "hdd", 4000 * GIB)),
        ("from 100 gib", DriveRule(1, least_bytes=100 * GIB)),
        ("nvme", DriveRule(1, kind="nvme")),
    ],
)
def test_rules_are_read(text: str, rule: DriveRule) -> None:
    assert drive_rule.parse(text) == rule


@pytest.mark.parametrize("text", ["", "0", "-1", "2 2", "ssd smallest", "tape", "2 floppy", "²"])
def test_what_is_no_rule_is_told_with_the_form(text: str) -> None:
    with pytest.raises(FormatError) as told:
        drive_rule.parse(text)
    assert "[smallest | largest]" in told.value.hint


@given(st.text(max_size=80))
def test_any_text_is_a_rule_or_is_refused(text: str) -> None:
    try:
        rule = drive_rule.parse(text)
    except FormatError:
        return
    assert rule.number is None or rule.number > 0


DRIVES = st.lists(
    st.builds(
        KnownDrive,
        st.integers(0, 60).map(str),
        st.integers(0, 9).map(lambda n: n * GIB),
        st.sampled_from(("ssd", "hdd", "nvme", "")),
        st.sampled_from((None, "", "sda ext4")),
    ),
    max_size=12,
    unique_by=lambda drive: drive.serial,
)
RULES = st.builds(
    DriveRule,
    st.none() | st.integers(1, 6),
    st.sampled_from(("", "smallest", "largest")),
    st.sampled_from(("", "ssd", "hdd", "nvme")),
    st.integers(0, 9).map(lambda n: n * GIB),
)


@given(RULES, DRIVES, st.sets(st.integers(0, 60).map(str), max_size=5))
def test_what_is_picked_keeps_the_rule(
    rule: DriveRule, drives: list[KnownDrive], taken: set[str]
) -> None:
    found = drive_choice.pick(rule, drives, taken)
    assert not {drive.serial for drive in found} & taken
    assert all(not drive.holds for drive in found)
    assert all(drive.size_bytes >= rule.least_bytes for drive in found)
    if rule.kind:
        solid = {"ssd": ("ssd", "nvme")}.get(rule.kind, (rule.kind,))
        assert all(drive.kind in solid for drive in found)
    left = drive_choice.pick(DriveRule(None), drives, taken)
    if rule.number is not None:
        assert len(found) <= rule.number
    if rule.order and rule.number and not rule.kind and not rule.least_bytes:
        sizes = sorted((drive.size_bytes for drive in left), reverse=rule.order == "largest")
        assert [drive.size_bytes for drive in found] == sizes[: rule.number]


def test_the_inspection_tells_more_than_the_controller() -> None:
    listed = (
        Drive(name="Bay 1", size_bytes=4, kind="HDD", protocol="SAS", serial="A"),
        Drive(name="Bay 2", size_bytes=4, kind="SSD", protocol="NVMe", serial="B"),
        # two with one number cannot be told apart, one without cannot be found again
        Drive(name="Bay 3", size_bytes=4, kind="SSD", serial="C"),
        Drive(name="Bay 4", size_bytes=4, kind="SSD", serial="C"),
        Drive(name="Bay 5", size_bytes=4, kind="SSD"),
    )
    facts = MachineFacts(machine="m", drives=listed)
    assert drive_choice.drives_of(facts) == (
        KnownDrive("A", 4, "hdd", None),
        KnownDrive("B", 4, "nvme", None),
    )
    disks = (
        InsideDisk(device="sda", serial="A", size_bytes=4, kind="hdd"),
        InsideDisk(
            device="sdb",
            serial="B",
            size_bytes=4,
            kind="ssd",
            holds=(Signature(device="sdb1", kind="ext4", label="old"),),
        ),
    )
    inside = facts.model_copy(update={"inside": Inspection(machine="m", disks=disks)})
    assert drive_choice.drives_of(inside) == (
        KnownDrive("A", 4, "hdd", ""),
        KnownDrive("B", 4, "ssd", "sdb1 ext4 old"),
    )


@pytest.mark.parametrize("serial", ["", "a,b", "a\tb", "größe", " a", "x" * 61])
def test_a_drive_that_cannot_be_named_is_never_taken(serial: str) -> None:
    disks = (InsideDisk(device="sda", serial=serial), InsideDisk(device="sdb", serial="WD 4-2"))
    facts = MachineFacts(machine="m", inside=Inspection(machine="m", disks=disks))
    assert [drive.serial for drive in drive_choice.drives_of(facts)] == ["WD 4-2"]


def test_serial_numbers_may_hold_spaces() -> None:
    assert drive_choice.serials(" S1 ,  WD  42,,S3 ") == ("S1", "WD 42", "S3")
