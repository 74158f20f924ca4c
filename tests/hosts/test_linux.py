"""What Linux tools answer, read as facts: the real forms, and garbage."""

from __future__ import annotations

import json
import string

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nimble_stone.core.errors import RemoteFailed
from nimble_stone.hosts.kvm import linux_in, reading
from nimble_stone.hosts.kvm.reading import Said

ADDR = json.dumps(
    [
        {
            "ifname": "lo",
            "flags": ["LOOPBACK", "UP", "LOWER_UP"],
            "mtu": 65536,
            "address": "00:00:00:00:00:00",
            "addr_info": [{"local": "127.0.0.1", "prefixlen": 8, "scope": "host"}],
        },
        {
            "ifname": "eno2",
            "flags": ["BROADCAST", "UP", "LOWER_UP"],
            "mtu": 9000,
            "address": "52:54:00:00:00:01",
            "master": "bond0",
            "addr_info": [],
        },
        {
            "ifname": "eno3",
            "flags": ["NO-CARRIER", "BROADCAST", "UP"],
            "mtu": 1500,
            "address": "52:54:00:00:00:02",
            "addr_info": [],
        },
        {
            "ifname": "bond0.420",
            "link": "bond0",
            "flags": ["LOWER_UP"],
            "mtu": 1500,
            "master": "br-survey",
            "linkinfo": {"info_kind": "vlan", "info_data": {"id": 420}},
            "addr_info": [],
        },
        {
            "ifname": "br-survey",
            "flags": ["LOWER_UP"],
            "mtu": 1500,
            "linkinfo": {"info_kind": "bridge"},
            "addr_info": [
                {"local": "10.44.20.5", "prefixlen": 23, "scope": "global"},
                {"local": "fe80::1", "prefixlen": 64, "scope": "link"},
            ],
        },
        {
            "ifname": "vnet0",
            "flags": ["LOWER_UP"],
            "mtu": 1500,
            "linkinfo": {"info_kind": "tun"},
            "addr_info": [],
        },
    ]
)


def test_interfaces_with_their_kind_link_speed_and_place() -> None:
    found = {
        i.name: i
        for i in linux_in.interfaces(
            ADDR, "/sys/class/net/eno2/speed:25000\n/sys/class/net/eno3/speed:-1\n"
        )
    }
    assert (
        found["eno2"].kind,
        found["eno2"].link,
        found["eno2"].speed_mbit,
        found["eno2"].master,
    ) == ("physical", True, 25000, "bond0")
    assert (found["eno3"].link, found["eno3"].speed_mbit) == (False, 0)
    assert (
        found["bond0.420"].kind,
        found["bond0.420"].vlan,
        found["bond0.420"].parent,
        found["bond0.420"].master,
    ) == ("vlan", 420, "bond0", "br-survey")
    assert (found["br-survey"].kind, found["br-survey"].addresses) == ("bridge", ("10.44.20.5/23",))
    assert (found["lo"].kind, found["vnet0"].kind) == ("loopback", "tap")


def disk(**more: object) -> dict[str, object]:
    return {
        "name": "sdb",
        "path": "/dev/sdb",
        "type": "disk",
        "size": 4 << 40,
        "rota": True,
        "ro": False,
        "rm": False,
        "mountpoints": [None],
        **more,
    }


@pytest.mark.parametrize(
    ("item", "use", "why"),
    [
        (disk(), "free", ""),
        (disk(fstype="ext4", mountpoints=["/srv"]), "mounted", "mounted at /srv"),
        (disk(fstype="xfs", label="old"), "remains", "a file system (xfs) labelled old"),
        (disk(fstype="linux_raid_member"), "remains", "remains of a RAID"),
        (disk(pttype="gpt"), "remains", "a partition table (gpt)"),
        (disk(ro=True), "unrecognised", "it is read-only"),
        (disk(rm=True), "unrecognised", "it is removable"),
        (
            disk(
                fstype="LVM2_member",
                children=[{"name": "vg-data", "type": "lvm", "size": 5, "mountpoints": [None]}],
            ),
            "member",
            "volume group vg-data is active on it",
        ),
        (
            disk(
                pttype="gpt",
                children=[
                    {
                        "name": "sdb1",
                        "type": "part",
                        "size": 5,
                        "fstype": "swap",
                        "mountpoints": ["[SWAP]"],
                    }
                ],
            ),
            "mounted",
            "swap (sdb1)",
        ),
        (
            disk(
                pttype="gpt",
                children=[
                    {
                        "name": "sdb1",
                        "path": "/dev/sdb1",
                        "type": "part",
                        "size": 5,
                        "fstype": "zfs_member",
                    }
                ],
            ),
            "remains",
            "remains of a ZFS pool on sdb1",
        ),
        (
            disk(children=[{"name": "md0", "type": "raid1", "size": 5, "mountpoints": ["/data"]}]),
            "mounted",
            "mounted at /data (md0)",
        ),
        (disk(mountpoints=None, mountpoint="/old-lsblk"), "mounted", "mounted at /old-lsblk"),
    ],
)
def test_a_disk_says_what_uses_it(item: dict[str, object], use: str, why: str) -> None:
    [found] = linux_in.disks(json.dumps({"blockdevices": [item]}))
    assert (found.use, found.why) == (use, why)


def test_root_is_told_before_other_mounts_and_what_is_no_disk_is_left_out() -> None:
    system = disk(
        name="sda",
        children=[
            {"name": "sda1", "type": "part", "mountpoints": ["/boot"]},
            {"name": "sda2", "type": "part", "mountpoints": ["/"]},
        ],
    )
    text = json.dumps(
        {
            "blockdevices": [
                system,
                disk(name="zram0"),
                disk(name="loop0", type="loop"),
                disk(name="sdz", size=0),
            ]
        }
    )
    assert [d.why for d in linux_in.disks(text)] == ["mounted at / (sda2)"]
    # older ones tell no path
    assert linux_in.disks(text)[0].parts == ("/dev/sda1", "/dev/sda2")


def test_plain_files_mounts_time_and_names() -> None:
    files = linux_in.files(
        "==> /proc/uptime <==\n5021.22 1.0\n\n==> /etc/resolv.conf <==\nsearch"
        " kelda.holm.example\nnameserver 10.44.0.5 # ours\nnameserver bad\n"
    )
    assert linux_in.first_number(files["/proc/uptime"]) == 5021.22
    assert linux_in.resolvers(files["/etc/resolv.conf"]) == (
        ("10.44.0.5",),
        ("kelda.holm.example",),
    )
    assert linux_in.meminfo("MemTotal:       24 kB\nSwapFree: 3 kB\n") == {
        "MemTotal": 24 << 10,
        "SwapFree": 3 << 10,
    }
    mounts = linux_in.remote_mounts(
        json.dumps(
            {
                "filesystems": [
                    {"target": "/pools/x", "source": "filer:/e", "fstype": "nfs4"},
                    {"target": "/", "source": "/dev/sda", "fstype": "ext4"},
                ]
            }
        )
    )
    assert [
        linux_in.mounted_from(path, mounts)
        for path in ("/pools/x", "/pools/x/deep", "/pools/xy", "/")
    ] == ["filer:/e", "filer:/e/deep", "", ""]
    synced = "0A2C0005,10.44.0.5,3,1.0,0.1,0.1,0.1,1,0,0.1,0.1,0.1,64,Normal"
    clock = linux_in.clock("1000000004.500000000", synced, 1_000_000_000.0, 1_000_000_001.0)
    assert clock is not None
    assert (clock.offset_s, clock.uncertain_s, clock.source, clock.stratum) == (
        4.0,
        0.5,
        "10.44.0.5",
        3,
    )
    for tracking in (
        "506 Cannot talk to daemon",
        "",
        "00000000,,0,0,0,0,0,0,0,0,0,0,0,Not synchronised",
    ):
        assert linux_in.clock("1000000004.5", tracking, 1e9, 1e9).source == ""  # type: ignore[union-attr]
    assert linux_in.clock("mañana", synced, 0, 0) is None
    lines = (
        "10.44.1.11  STREAM gannet.kelda.holm.example\n10.44.1.11  DGRAM\n10.44.1.12 STREAM"
        " fulmar\n"
    )
    assert linux_in.resolved(lines, ("gannet", "fulmar", "skua")) == {
        "gannet": "10.44.1.11",
        "fulmar": "10.44.1.12",
        "skua": "",
    }
    assert linux_in.resolved(lines, ("gannet", "skua"), whole=False) == {"gannet": "10.44.1.11"}
    assert [
        linux_in.password_login(text)
        for text in (
            "passwordauthentication no\n",
            "passwordauthentication yes\n",
            "sshd: no hostkeys",
        )
    ] == [False, True, None]


@given(st.text(max_size=300), st.text(max_size=120))
def test_garbage_is_read_as_nothing_and_never_as_a_fault(text: str, other: str) -> None:
    linux_in.interfaces(text, other)
    linux_in.disks(text)
    linux_in.processors(text)
    linux_in.remote_mounts(text)
    linux_in.files(text)
    linux_in.clock(text, other, 0.0, 1.0)
    linux_in.resolved(text, ("a",))
    linux_in.resolvers(text)


JSON = st.recursive(
    st.none() | st.booleans() | st.integers() | st.text(max_size=8),
    lambda inner: (
        st.lists(inner, max_size=3)
        | st.dictionaries(
            st.sampled_from(
                [
                    "ifname",
                    "linkinfo",
                    "info_kind",
                    "info_data",
                    "addr_info",
                    "local",
                    "flags",
                    "blockdevices",
                    "children",
                    "mountpoints",
                    "size",
                    "type",
                    "name",
                    "fstype",
                    "lscpu",
                    "field",
                    "data",
                    "filesystems",
                    "target",
                    "source",
                ]
            ),
            inner,
            max_size=5,
        )
    ),
    max_leaves=20,
)


@given(JSON)
def test_json_of_a_wrong_shape_neither(data: object) -> None:
    text = json.dumps(data)
    linux_in.interfaces(text, "")
    linux_in.disks(text)
    linux_in.disks(json.dumps({"blockdevices": [data]}))
    linux_in.processors(json.dumps({"lscpu": [data]}))
    linux_in.remote_mounts(text)


@given(
    st.lists(
        st.tuples(
            st.integers(0, 255),
            st.text(string.ascii_letters + " \n{}[]:", max_size=40),
            st.text(string.ascii_letters + " \n", max_size=20),
        ),
        max_size=8,
    )
)
def test_the_answers_of_a_script_come_back_one_by_one(answers: list[tuple[int, str, str]]) -> None:
    out = "".join(
        f"{text}{'' if text.endswith(chr(10)) or not text else chr(10)}@@ {status}\n"
        for status, text, _ in answers
    )
    err = "".join(f"{words}\n@@\n" for _, _, words in answers)
    assert reading.split(out, err, len(answers)) == [
        Said(status, text.strip(), words.strip()) for status, text, words in answers
    ]


def test_a_script_that_broke_off_says_so() -> None:
    found = reading.split("gannet\n@@ 0\n<capab", "@@\n", 3)
    assert [said.status for said in found] == [0, -1, -1]
    answers = {key: Said(0, "", "") for key in reading.first([])} | {
        "capabilities": Said(-1, "", "")
    }
    with pytest.raises(RemoteFailed, match="broke off"):
        reading.needed("gannet", answers)
    answers["capabilities"] = Said(127, "", "bash: virsh: command not found")
    with pytest.raises(RemoteFailed, match="virsh is not installed"):
        reading.needed("gannet", answers)
    answers["capabilities"] = Said(1, "", "error: failed to connect to the hypervisor")
    with pytest.raises(RemoteFailed, match="failed to connect"):
        reading.needed("gannet", answers)


def test_every_command_of_a_reading_has_its_own_limit_and_no_input() -> None:
    lines = reading.script(list(reading.first(["a b; rm -rf /"]).values())).splitlines()
    commands = [line for line in lines if line.startswith(("timeout", "RES_OPTIONS"))]
    assert len(commands) == len(reading.first(["x"]))
    assert all("timeout -k 2 " in line and line.endswith("</dev/null") for line in commands)
    assert "'a b; rm -rf /'" in commands[-1]
