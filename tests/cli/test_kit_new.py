"""A kit begun from a package is a kit that can be used, whatever the package is."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest

from nimble_stone.app.kits import read_kit
from nimble_stone.core.kit import beginning
from nimble_stone.core.package import descriptor
from nimble_stone.core.plan.packages import PackageView
from nimble_stone.lab.scenario import appliance, keelson, products, shoal
from tests.support import gauge_set, spawning

PACKAGES: dict[str, Callable[[], bytes]] = {
    "gauge.ova": lambda: appliance.ova(mib=1),
    "gauge-5.ova": lambda: appliance.ova(mib=1, edition=5),
    "set.ova": gauge_set.small,
    "keelson.iso": lambda: keelson.iso(mib=1),
    shoal.FILE: lambda: shoal.image(mib=8),
    **{
        f"{one.id}.ova": (lambda one=one: products.ova(one, mib=1)) for one in products.ALL.values()
    },
}


def new(file: Path) -> str:
    done = spawning.run(["kit", "new", "--from", str(file)])
    assert done.returncode == 0, done.stderr
    return done.stdout


@pytest.mark.parametrize("name", PACKAGES)
def test_what_is_written_is_a_kit(name: str, tmp_path: Path) -> None:
    file = tmp_path / name
    file.write_bytes(PACKAGES[name]())
    text = new(file)
    kit = read_kit(text, name)
    assert kit.accepts.product in text
    assert "check" in text
    if name == "gauge.ova":
        assert kit.environment["gauge.hostname"] == "{name}"
        assert kit.environment["gauge.prefix"] == "{prefix}"
        assert {one.id for one in kit.questions} == {"role", "station", "admin_password"}
        assert kit.admin_password == "admin_password"
        assert [size.size for size in kit.sizes] == ["small", "medium", "large"]
    if name == "set.ova":
        assert [role.system for role in kit.roles] == ["keeper", "shelf"]
    if name == "keelson.iso":
        assert kit.roles[0].installer is not None
    if name == shoal.FILE:
        assert kit.roles[0].image is not None


def test_a_hostile_package_puts_nothing_into_the_kit() -> None:
    """Names are texts, wherever they stand."""
    own = descriptor.parse(appliance.descriptor(1 << 30, 100).encode())
    bad = "x\nid: evil\n\"': {}[]#&*!|>%@`"
    spoilt = own.__class__(**{**vars(own), "product": bad, "version": f"1.{bad}", "name": bad})
    kit = read_kit(beginning.text_of(PackageView("a" * 64, spoilt, 0)), "kit")
    assert kit.accepts.product == bad
    assert kit.id != "evil"
