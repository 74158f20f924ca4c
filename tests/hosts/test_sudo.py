"""What an account that is not root sends, and the rules that allow exactly that."""

from __future__ import annotations

import shutil
import subprocess
from ipaddress import IPv4Address
from pathlib import Path

import pytest

from nimble_stone.core import preparation as prep
from nimble_stone.hosts.kvm import actions, sudo

NAMES = prep.AddNames(
    host="fulmar",
    records=(prep.NameRecord(address=IPv4Address("10.44.99.1"), names=("weir",)),),
)
STORE = prep.FolderStore(host="fulmar", name="inner", path="/var/lib/libvirt/images/inner")
KEY = prep.AddKey(host="fulmar", credential="key", public=f"ssh-ed25519 {'A' * 68}")
WIPE = prep.WipeDisk(host="fulmar", device="/dev/sdb", size_bytes=1 << 40, parts=("/dev/sdb1",))


def test_only_what_belongs_to_root_is_asked_for() -> None:
    names = sudo.as_account(actions.work(NAMES, "g0a1b2c3d"))
    [act] = names.act()
    assert act.text == "LC_ALL=C timeout -k 2 10 sudo -n tee -a /etc/hosts"
    assert act.data == actions.work(NAMES, "g0a1b2c3d").act()[0].data
    # the hypervisor does it, or it is the account's own
    for action in (STORE, KEY):
        work = actions.work(action, "g0a1b2c3d")
        assert sudo.as_account(work) == work
        assert sudo.asked(work) == []
    assert sudo.asked(names) == sudo.asked(actions.work(NAMES, "g0a1b2c3d"))


def test_rules_allow_these_arguments_and_no_others() -> None:
    found = sudo.rules("oper", sudo.asked(actions.work(NAMES, "g0a1b2c3d")))
    assert found[0] == "oper ALL=(root) NOPASSWD: /usr/bin/tee ^-a /etc/hosts$"
    assert "nimble-stone:g[0-9a-f]+" in found[1]
    assert "0a1b2c3d" not in "".join(found)
    [wipe] = sudo.rules("oper", sudo.asked(actions.work(WIPE, "g0a1b2c3d")))
    assert wipe.endswith("/usr/sbin/wipefs ^--all /dev/sdb1 /dev/sdb$")


@pytest.mark.parametrize("action", [NAMES, WIPE], ids=["names", "wipe"])
def test_sudos_own_checker_takes_the_rules(action: prep.Action, tmp_path: Path) -> None:
    """visudo, as Debian has it."""
    assert shutil.which("visudo") is not None
    file = tmp_path / "rules"
    lines = sudo.rules("oper", sudo.asked(actions.work(action, "g0a1b2c3d")))
    file.write_text("\n".join(lines) + "\n")
    file.chmod(0o440)
    told = subprocess.run(
        ["visudo", "-c", "-f", str(file)], capture_output=True, text=True, check=False
    )
    assert told.returncode == 0, told.stdout + told.stderr
