"""Commands of groundwork given to the real tools of this machine, on files of the test: formatting,
looking, taking lines out.
"""

from __future__ import annotations

import subprocess
from ipaddress import IPv4Address
from pathlib import Path

from nimble_stone.core import preparation as prep
from nimble_stone.hosts.kvm import actions, linux_in


def run(command: str, data: str = "") -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        ["sh", "-c", command], input=data, capture_output=True, text=True, timeout=60
    )


def test_a_disk_is_looked_at_formatted_with_our_mark_and_wiped(tmp_path: Path) -> None:
    disk = tmp_path / "disk"
    with disk.open("wb") as file:
        file.truncate(64 << 20)
    empty = run(actions.probe_disk(str(disk)))
    assert (empty.returncode, empty.stdout, empty.stderr) == (2, "", "")
    ident = actions.uuid_of("g1", "gannet", "disk", "gannet-data")
    assert run(actions.format_disk(str(disk), ident).text).returncode == 0
    found = linux_in.settings(run(actions.probe_disk(str(disk))).stdout)
    assert (found["UUID"], found["TYPE"]) == (ident, "ext4")
    undo = actions.work(
        prep.DiskStore(host="gannet", name="gannet-data", device="/dev/sdz"), "g1"
    ).undo()[-1]
    assert run(undo.text.replace("/dev/sdz", str(disk))).returncode == 0
    assert run(actions.probe_disk(str(disk))).returncode == 2
    assert run(actions.probe_disk(str(tmp_path / "none"))).returncode != 0


def test_lines_and_files_of_one_run_go_and_all_others_stay(tmp_path: Path) -> None:
    hosts = tmp_path / "hosts"
    hosts.write_text("127.0.0.1 localhost\n10.44.1.12 fulmar # nimble-stone:g12\n")
    action = prep.AddNames(
        host="gannet",
        records=(
            prep.NameRecord(address=IPv4Address("10.44.1.13"), names=("skua.holm.example", "skua")),
        ),
    )
    work = actions.work(action, "g1")
    assert (
        run(work.act()[0].text.replace("/etc/hosts", str(hosts)), work.act()[0].data).returncode
        == 0
    )
    assert "10.44.1.13 skua.holm.example skua # nimble-stone:g1\n" in hosts.read_text()
    assert run(work.undo()[0].text.replace("/etc/hosts", str(hosts))).returncode == 0
    # g12 is not g1
    assert hosts.read_text() == "127.0.0.1 localhost\n10.44.1.12 fulmar # nimble-stone:g12\n"
    file = tmp_path / "20-ours.conf"
    assert (
        run(
            actions.write(str(file), actions.first_line("g1") + "x\n").text,
            actions.first_line("g1") + "x\n",
        ).returncode
        == 0
    )
    assert file.read_text() == "# nimble-stone:g1\nx\n"
    assert run(actions.remove(str(file)).text).returncode == 0
    assert not file.exists()
