"""Kit files in the data folder: seen at once, and a bad moment of the machine is not held
against them.
"""

from __future__ import annotations

import asyncio
import time
from itertools import count
from pathlib import Path

import pytest

from nimble_stone.app import aside as reading
from nimble_stone.app.kits import KitFolder, read_kit
from nimble_stone.core.yaml_bounds import while_still
from tests.hypervisor import packages

SHELF = Path(__file__).parents[2] / "src/nimble_stone/kits"


@pytest.fixture
def folder(tmp_path: Path) -> KitFolder:
    """Every look is a new one; one kit of its own lies there."""
    text = (SHELF / "skerry.yaml").read_text()
    (tmp_path / "reef.yaml").write_text(text.replace("id: skerry", "id: reef", 1))
    return KitFolder(tmp_path, count().__next__)


def test_a_file_read_too_slowly_is_read_again(folder: KitFolder) -> None:
    folder.look()
    other = (folder.folder / "reef.yaml").read_text().replace("id: reef", "id: islet", 1)
    (folder.folder / "islet.yaml").write_text(other)
    with while_still(lambda: False):
        assert [one.file for one in folder.look().faulty] == ["islet.yaml", "reef.yaml"]
    assert folder.look().faulty == ()
    assert {"islet", "reef"} <= set(folder.last.kits)


def test_a_file_that_is_wrong_stays_wrong_until_it_changes(folder: KitFolder) -> None:
    path = folder.folder / "reef.yaml"
    right = path.read_text()
    path.write_text("nimble-stone: kit/1\nid: [")
    [faulty] = folder.look().faulty
    assert (faulty.file, faulty.passing) == ("reef.yaml", False)
    path.write_text(right)
    assert "reef" in folder.look().kits


def test_a_machine_that_stands_still_makes_no_file_too_slow(
    folder: KitFolder, monkeypatch: pytest.MonkeyPatch
) -> None:
    minutes = count(0, 60)
    monkeypatch.setattr(time, "monotonic", lambda: float(next(minutes)))
    assert asyncio.run(reading.aside(folder.look)).faulty == ()


@pytest.mark.parametrize("text", [packages.kernel_kit(), packages.installer_kit()])
def test_the_kits_of_tests_with_real_hosts_are_kits(text: str) -> None:
    """They are cut out of others: found wrong here, not after ten minutes there."""
    assert read_kit(text, "cut").acceptance
