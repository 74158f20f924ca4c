"""Scan ranges, changes between readings, groundwork as values and as exact commands: pure, and held
to their laws.
"""

from __future__ import annotations

import shlex
from ipaddress import IPv4Address

import pytest
from hypothesis import given
from hypothesis import strategies as st
from lxml import etree
from pydantic import ValidationError

from nimble_stone.core import changes, scan_range
from nimble_stone.core import preparation as prep
from nimble_stone.core.errors import InputError
from nimble_stone.core.estate import (
    BlockDevice,
    Datastore,
    Estate,
    Facts,
    Guest,
    Host,
    Interface,
    MachineFacts,
)
from nimble_stone.core.units import GIB
from nimble_stone.hosts.kvm import actions

HOST = Host(name="gannet", address="10.44.1.11", credential="c", site="Kelda", bay="main")


@given(st.integers(0, 2**32 - 4097), st.integers(0, 4095))
def test_a_range_holds_every_address_once_and_in_order(first: int, more: int) -> None:
    found = scan_range.addresses(
        f"{IPv4Address(first)}-{IPv4Address(first + more)} {IPv4Address(first)}"
        if more < 4095
        else f"{IPv4Address(first)}-{IPv4Address(first + more)}"
    )
    assert [int(a) for a in found] == list(range(first, first + more + 1))


@given(st.text(max_size=60))
def test_what_is_no_range_is_refused_in_words(text: str) -> None:
    try:
        assert 0 < len(scan_range.addresses(text)) <= scan_range.MOST_ADDRESSES
    except InputError as error:
        assert str(error)


def test_ranges_as_people_write_them() -> None:
    assert [str(a) for a in scan_range.addresses("10.44.1.0/30, 10.44.1.9 - 11\n10.44.1.2")] == [
        "10.44.1.1",
        "10.44.1.2",
        "10.44.1.9",
        "10.44.1.10",
        "10.44.1.11",
    ]
    assert len(scan_range.addresses("10.44.0.0/20")) == 4094
    assert [str(a) for a in scan_range.addresses("10.44.1.5/32")] == ["10.44.1.5"]
    assert scan_range.ports([]) == [22, 443]
    for wrong in ([0], [70000], list(range(1, 10))):
        with pytest.raises(InputError):
            scan_range.ports(wrong)


def facts(**more: object) -> Facts:
    return Facts.model_validate(
        {
            "host": "gannet",
            "memory_bytes": 256 * GIB,
            "hypervisor": "QEMU 7.2",
            "uptime_s": 100.0,
            "guests": [{"name": "a", "running": True}],
            "datastores": [{"name": "l", "path": "/l", "capacity_bytes": 9, "free_bytes": 5}],
            "network_setup": "networkd",
            "interfaces": [
                {"name": "eno2", "link": True, "mtu": 9000},
                {
                    "name": "br-management",
                    "kind": "bridge",
                    "link": True,
                    "addresses": ["10.44.1.11/22"],
                },
            ],
            "disks": [{"name": "sdc", "path": "/dev/sdc", "size_bytes": 5, "use": "free"}],
            **more,
        }
    )


def test_what_changed_is_told_and_what_always_moves_is_not() -> None:
    assert changes.of_host(facts(), facts(uptime_s=200.0, load=3.0)) == ()
    new = facts(
        hypervisor="QEMU 8.0",
        uptime_s=5.0,
        guests=[{"name": "a", "running": False}, {"name": "b", "running": True}],
        disks=[],
    )
    told = {(c.what, c.was, c.now) for c in changes.of_host(facts(), new)}
    assert told == {
        ("hypervisor", "QEMU 7.2", "QEMU 8.0"),
        ("it was restarted", "", ""),
        ("guest a", "runs", "does not run"),
        ("guest b", "not there", "runs"),
    }
    many = facts(guests=[{"name": f"g{n}", "running": True} for n in range(500)])
    assert len(changes.of_host(facts(), many)) == changes.MOST
    off, on = (
        MachineFacts(machine="m", power="Off", read_at=1),
        MachineFacts(machine="m", power="On", read_at=2),
    )
    assert [(c.what, c.was, c.now) for c in changes.of_machine(off, on)] == [("power", "Off", "On")]
    assert changes.of_machine(on, on) == ()


ESTATE = Estate(hosts=(HOST,), facts={"gannet": facts()})


def refused(
    action: prep.Action, estate: Estate = ESTATE, keys: frozenset[str] = frozenset()
) -> str:
    return " ".join(prep.refusals(action, estate, keys))


def test_each_action_is_refused_for_the_reason_that_is_there() -> None:
    assert "no host" in refused(prep.StartStore(host="nowhere", name="x"))
    assert "never read" in refused(
        prep.StartStore(host="gannet", name="x"), ESTATE.model_copy(update={"facts": {}})
    )
    assert "unreachable" in refused(
        prep.StartStore(host="gannet", name="x"),
        Estate(hosts=(HOST,), facts={"gannet": facts(trouble="gone")}),
    )
    assert "no datastore" in refused(prep.StartStore(host="gannet", name="x"))
    assert "no network" in refused(prep.StartNetwork(host="gannet", name="x"))
    assert "already, at /l" in refused(prep.FolderStore(host="gannet", name="l", path="/elsewhere"))
    assert "is datastore l" in refused(prep.FolderStore(host="gannet", name="m", path="/l/"))
    # once more is no harm
    assert refused(prep.FolderStore(host="gannet", name="l", path="/l")) == ""
    assert refused(prep.DiskStore(host="gannet", name="d", device="/dev/sdc")) == ""
    busy = Estate(
        hosts=(HOST,),
        facts={
            "gannet": facts(
                disks=[
                    {
                        "name": "sdc",
                        "path": "/dev/sdc",
                        "size_bytes": 5,
                        "use": "mounted",
                        "why": "mounted at /srv",
                    }
                ]
            )
        },
    )
    assert "mounted at /srv" in refused(
        prep.DiskStore(host="gannet", name="d", device="/dev/sdc"), busy
    )
    assert "left alone" in refused(
        prep.WipeDisk(host="gannet", device="/dev/sdc", size_bytes=5, confirmed="gannet /dev/sdc"),
        busy,
    )
    assert "password" in refused(prep.RefusePasswords(host="gannet"))
    assert refused(prep.RefusePasswords(host="gannet"), keys=frozenset({"c"})) == ""
    used = Estate(
        hosts=(HOST,),
        facts={"gannet": facts(guests=[{"name": "a", "running": True, "disks": ["l/a.qcow2"]}])},
    )
    assert "by name: a" in refused(prep.RenameStore(host="gannet", name="l", to="gannet-l"), used)
    carry = prep.CarryNetwork(
        host="gannet",
        network="survey",
        bridge="br-survey",
        uplink="eno2",
        vlan=420,
        setup="networkd",
    )
    assert refused(carry) == ""
    assert "15" in refused(
        carry.model_copy(update={"uplink": "enp179s0f1np1"}),
        Estate(
            hosts=(HOST,),
            facts={
                "gannet": facts(interfaces=[{"name": "enp179s0f1np1", "link": True, "mtu": 9000}])
            },
        ),
    )
    assert "eno2 already" in refused(carry.model_copy(update={"bridge": "eno2"}))
    assert "type" in refused(
        prep.WipeDisk(host="gannet", device="/dev/sdc", size_bytes=5),
        remains := Estate(
            hosts=(HOST,),
            facts={
                "gannet": facts(
                    disks=[{"name": "sdc", "path": "/dev/sdc", "size_bytes": 5, "use": "remains"}]
                )
            },
        ),
    )
    wipe, store = (
        prep.WipeDisk(host="gannet", device="/dev/sdc", size_bytes=5, confirmed="gannet /dev/sdc"),
        prep.DiskStore(host="gannet", name="d", device="/dev/sdc"),
    )
    assert "wipe it first" in refused(store, remains)
    # it is wiped by the same run, before
    assert prep.refusals(store, remains, frozenset(), (wipe, store)) == []
    passwords, key = (
        prep.RefusePasswords(host="gannet"),
        prep.AddKey(host="gannet", credential="k", public="ssh-ed25519 " + "A" * 68),
    )
    assert prep.refusals(passwords, ESTATE, frozenset(), (key, passwords)) == []
    # two runs may not work on one disk
    assert prep.things(wipe) & prep.things(store)
    assert not prep.things(passwords) & prep.things(key)
    neither = Estate(hosts=(HOST,), facts={"gannet": facts(network_setup="")})
    assert "neither" in refused(carry, neither)


@pytest.mark.parametrize(
    "wrong",
    [
        {"kind": "datastore-folder", "host": "g", "name": "a;b", "path": "/x"},
        {"kind": "datastore-folder", "host": "g", "name": "a", "path": "/x$(id)"},
        {"kind": "wipe-disk", "host": "g", "device": "/etc/passwd", "size_bytes": 1},
        {
            "kind": "names",
            "host": "g",
            "records": [{"address": "10.0.0.1", "names": ["a b\nroot"]}],
        },
        {"kind": "ssh-key", "host": "g", "credential": "k", "public": "ssh-ed25519 AAAA\nroot"},
        {"kind": "time-source", "host": "g", "server": "x\nserver evil"},
        {
            "kind": "carry-network",
            "host": "g",
            "network": "n",
            "bridge": "b",
            "uplink": "e; reboot",
            "setup": "networkd",
        },
        {"kind": "no-such", "host": "g"},
    ],
)
def test_nothing_that_could_break_out_of_a_command_is_an_action(wrong: dict[str, object]) -> None:
    with pytest.raises(ValidationError):
        prep.Preparation.model_validate({"actions": [wrong]})


ACTIONS: list[prep.Action] = [
    prep.AddKey(host="gannet", credential="k", public="ssh-ed25519 " + "A" * 68),
    prep.AddNames(
        host="gannet", records=(prep.NameRecord(address=IPv4Address("10.0.0.1"), names=("x",)),)
    ),
    prep.IsolatedNetwork(host="gannet", name="inner", bridge="in0"),
    prep.FolderStore(host="gannet", name="s", path="/srv/s"),
    prep.DiskStore(host="gannet", name="d", device="/dev/sdc"),
    prep.NfsStore(host="gannet", name="n", server="filer", export="/e"),
    prep.FencingVolume(host="gannet", datastore="n", name="witness"),
    prep.WipeDisk(host="gannet", device="/dev/sdc", size_bytes=1, parts=("/dev/sdc1",)),
    prep.RenameStore(host="gannet", name="l", to="gannet-l"),
    prep.StartStore(host="gannet", name="l"),
    prep.StartNetwork(host="gannet", name="x"),
    prep.TimeSource(host="gannet", server="10.44.0.5"),
    prep.RefusePasswords(host="gannet"),
    prep.CarryNetwork(
        host="gannet",
        network="survey",
        bridge="br-survey",
        uplink="eno2",
        vlan=420,
        setup="networkd",
        uplink_config="/etc/systemd/network/10-eno2.network",
    ),
    prep.CarryNetwork(
        host="gannet",
        network="survey",
        bridge="br-survey",
        uplink="eno2",
        vlan=420,
        setup="ifupdown",
    ),
    prep.CarryNetwork(
        host="gannet", network="survey", bridge="br-survey", uplink="eno2", setup="networkd"
    ),
]
BEFORE = Datastore(
    name="l", path="/l", capacity_bytes=9, free_bytes=5, uuid="066ed5c2-0ffe-555b-a164-fb7e3a68387d"
)


@pytest.mark.parametrize("action", ACTIONS, ids=lambda a: a.kind)
def test_commands_are_limited_marked_and_the_document_is_well_formed(action: prep.Action) -> None:
    made, again, other = (
        actions.work(action, run, BEFORE) for run in ("g0000000a", "g0000000a", "g0000000b")
    )
    # what is shown is what is sent
    assert made == again
    for command in (*made.act(), *made.undo()):
        assert shlex.split(command.text)[:4] == ["LC_ALL=C", "timeout", "-k", "2"]
        assert not set(";|&><`$") & set(command.text.replace("'/ nimble-stone:g0000000a$/d'", ""))
        if command.data.lstrip().startswith("<"):
            etree.fromstring(command.data.encode())
    if (
        any("uuid" in c.data or "nimble-stone:" in c.data for c in made.act())
        and action.kind != "rename-datastore"
    ):
        # another run's mark is another one
        assert made != other
    assert prep.label(action)
    assert made.undo() or not prep.undoable(action)


def test_a_file_that_is_written_is_ours_by_its_first_line() -> None:
    for action in ACTIONS:
        if isinstance(action, prep.CarryNetwork):
            files = actions.carry_files(action, "g1")
            assert all(text.startswith("# nimble-stone:g1\n") for text in files.values())
            assert all("nimble-stone" in path for path in files)


def test_facts_that_are_given_twice_are_the_same() -> None:
    one = facts(
        disks=[BlockDevice(name="sdb", path="/dev/sdb", size_bytes=5).model_dump()],
        interfaces=[Interface(name="e").model_dump()],
        guests=[Guest(name="a").model_dump()],
    )
    assert Facts.model_validate_json(one.model_dump_json()) == one
