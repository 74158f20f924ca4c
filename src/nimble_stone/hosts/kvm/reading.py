"""Reading a host's facts in two conversations: what there is, and then each thing by name. Which
commands are sent and how their
answers become facts; pure. Several commands travel as one script, so that a host far away is asked
twice and not fifty times."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from shlex import quote
from typing import Literal

from nimble_stone.core.errors import RemoteFailed
from nimble_stone.core.estate import Carried, Datastore, Facts, NumaCell
from nimble_stone.hosts.kvm import commands, linux_in, xml_in

SPEEDS = "grep -s . /sys/class/net/*/speed"
LSBLK = (
    "lsblk -J -b -o"
    " NAME,PATH,TYPE,SIZE,ROTA,RO,RM,MODEL,SERIAL,TRAN,FSTYPE,LABEL,MOUNTPOINTS,PTTYPE"
)
FILES = (
    "/proc/uptime",
    "/proc/loadavg",
    "/proc/meminfo",
    "/proc/sys/kernel/osrelease",
    "/etc/machine-id",
    "/etc/os-release",
    "/etc/resolv.conf",
)
CHUNK = 24


@dataclass(frozen=True)
class Said:
    """What one command of a script answered."""

    status: int
    out: str
    err: str


def script(lines: Sequence[str]) -> str:
    """Commands as one shell script: each with a time limit of its own and no input; both outputs
    are marked after each.
    """
    return "export LC_ALL=C\n" + "".join(
        f'{line} </dev/null\necho "@@ $?"; echo "@@" >&2\n' for line in lines
    )


def split(out: str, err: str, count: int) -> list[Said]:
    """The answers of a script, one per command; those that never came have status -1."""
    pieces, statuses = [""], []
    for line in out.split("\n"):
        if match := re.fullmatch(r"(.*)@@ (\d{1,3})", line):
            pieces[-1] += match[1]
            statuses.append(int(match[2]))
            pieces.append("")
        else:
            pieces[-1] += line + "\n"
    words = err.split("@@")
    return [
        Said(
            statuses[n] if n < len(statuses) else -1,
            pieces[n].strip() if n < len(statuses) else "",
            words[n].strip() if n < len(words) else "",
        )
        for n in range(count)
    ]


def first(names: Sequence[str]) -> dict[str, str]:
    """What there is: key → command. `names` are peers whose addresses the host is asked for."""
    asked = {
        key: commands.virsh_limited(*words)
        for key, words in {
            "hostname": ("hostname",),
            "capabilities": ("capabilities",),
            "offers": ("domcapabilities", "--machine", "q35"),
            "memory": ("nodememstats",),
            "version": ("version",),
            "pools": ("pool-list", "--all", "--name"),
            "active pools": ("pool-list", "--name"),
            "nets": ("net-list", "--all", "--name"),
            "active nets": ("net-list", "--name"),
            "guests": ("list", "--all", "--name"),
            "running": ("list", "--name"),
        }.items()
    }
    asked |= {
        key: f"timeout -k 2 10 {text}"
        for key, text in {
            "addr": "ip -j -d addr",
            "speeds": SPEEDS,
            "lscpu": "lscpu -J",
            "lsblk": LSBLK,
            "mounts": "findmnt -J -l -o TARGET,SOURCE,FSTYPE",
            "files": f"head -v -n 80 {' '.join(FILES)}",
            "tracking": "chronyc -c tracking",
            "sshd": "/usr/sbin/sshd -T",
            "setup": "ls -d /run/systemd/netif /etc/network/interfaces.d",
            "date": "date +%s.%N",
        }.items()
    }
    if names:
        # A name server that does not answer costs a second a name; what was found until the limit
        # is kept.
        asked["names"] = (
            "RES_OPTIONS='timeout:1 attempts:1' timeout -k 2 20 stdbuf -oL getent ahostsv4"
            f" {' '.join(quote(name) for name in names[:64])}"
        )
    return asked


def second(found: Mapping[str, Said]) -> list[tuple[str, str, str]]:
    """Each thing by name: (kind, name, command)."""
    asked = [
        ("pool", name, commands.virsh_limited("pool-dumpxml", name))
        for name in xml_in.names(found["pools"].out)
    ]
    asked += [
        ("net", name, commands.virsh_limited("net-dumpxml", name))
        for name in xml_in.names(found["nets"].out)
    ]
    return asked + [
        ("guest", name, commands.virsh_limited("dumpxml", name))
        for name in xml_in.names(found["guests"].out)
    ]


def needed(host: str, found: Mapping[str, Said]) -> None:
    """Raises RemoteFailed in the host's own words when what everything rests on was not
    answered.
    """
    for key in (
        "hostname",
        "capabilities",
        "memory",
        "pools",
        "active pools",
        "nets",
        "active nets",
        "guests",
        "running",
        "addr",
    ):
        said = found[key]
        if said.status != 0:
            words = " ".join(
                line.removeprefix("error:").strip()
                for line in said.err.splitlines()
                if line.strip()
            )[:400]
            lost = {
                -1: "the answer broke off",
                124: "it ran into its time limit",
                127: "virsh is not installed, or not in the path of this account",
            }
            raise RemoteFailed(
                f"{host}: {key}: {lost.get(said.status) or words or f'status {said.status}'}",
                target=host,
                operation=f"read {key}",
                hint="Fix the host, then refresh it.",
            )


def unread(found: Mapping[str, Said]) -> tuple[str, ...]:
    """What this account may not read, or the host cannot tell: the thing, and why."""
    names = {
        "lscpu": "processors",
        "lsblk": "disks",
        "sshd": "whether passwords are taken (sshd -T, for root only)",
        "tracking": "what its clock follows",
        "mounts": "what is mounted",
    }
    told = []
    for key, what in names.items():
        said = found[key]
        if said.status == 127:
            told.append(f"{what}: the program for it is not there")
        elif said.status not in (0, 124) and key != "tracking":
            words = (said.err or said.out).splitlines()
            told.append(f"{what}: {words[0][:120] if words else f'status {said.status}'}")
    return tuple(told)


def datastores(
    asked: Sequence[tuple[str, str, str]],
    said: Sequence[Said],
    active: set[str],
    mounts: Mapping[str, str],
    free: Mapping[str, int],
) -> tuple[Datastore, ...]:
    """The pools, with the smaller of what the pool and the file system say is free, and what remote
    export they lie on.
    """
    stores = []
    for (kind, _, _), answer in zip(asked, said, strict=True):
        if kind == "pool" and answer.status == 0:
            pool = xml_in.pool(answer.out)
            store = xml_in.datastore(pool, pool.name in active, free.get(pool.path))
            stores.append(
                store.model_copy(
                    update={"shared": store.shared or linux_in.mounted_from(pool.path, mounts)}
                )
            )
    return tuple(stores)


def build(
    host: str,
    now: float,
    sent: float,
    received: float,
    found: Mapping[str, Said],
    asked: Sequence[tuple[str, str, str]],
    said: Sequence[Said],
    free: Mapping[str, int],
    names: Sequence[str],
) -> Facts:
    """All answers as facts, without the probe of the domain type. Raises RemoteFailed when one
    cannot be read.
    """
    files = linux_in.files(found["files"].out)
    memory, cpu = (
        linux_in.meminfo(files.get("/proc/meminfo", "")),
        linux_in.processors(found["lscpu"].out),
    )
    interfaces = linux_in.interfaces(found["addr"].out, found["speeds"].out)
    links = {interface.name: interface.mtu for interface in interfaces}
    uplinked = {
        interface.master
        for interface in interfaces
        if interface.kind in ("physical", "bond", "vlan", "veth")
    }
    model, threads = xml_in.capabilities(found["capabilities"].out)
    running, active_nets = (
        set(xml_in.names(found["running"].out)),
        set(xml_in.names(found["active nets"].out)),
    )
    networks, guests = [], []
    for (kind, name, _), answer in zip(asked, said, strict=True):
        if kind == "net" and answer.status == 0:
            net = xml_in.network(answer.out, name in active_nets, links)
            networks.append(_isolated(net, answer.out, uplinked))
        elif kind == "guest" and answer.status == 0:
            guests.append(xml_in.guest(answer.out, name in running))
    offers = xml_in.offers(found["offers"].out if found["offers"].status == 0 else "")
    servers, search = linux_in.resolvers(files.get("/etc/resolv.conf", ""))
    sockets = int(cpu.get("Socket(s)", "0") or 0) if cpu.get("Socket(s)", "0").isdigit() else 0
    per = int(cpu["Core(s) per socket"]) if cpu.get("Core(s) per socket", "").isdigit() else 0
    return Facts(
        host=host,
        read_at=now,
        tried_at=now,
        hostname=found["hostname"].out[:253],
        cpu_model=cpu.get("Model name") or model,
        vm_processors=offers.processors,
        tpm=offers.tpm,
        secure_boot=offers.secure_boot,
        threads=threads,
        sockets=sockets,
        cores=sockets * per,
        virtualization={"VT-x": "VT-x", "AMD-V": "AMD-V"}.get(cpu.get("Virtualization", ""), ""),
        numa=tuple(
            NumaCell(id=cell[0], threads=cell[1], memory_bytes=cell[2])
            for cell in xml_in.numa(found["capabilities"].out)
        ),
        memory_bytes=xml_in.memory_bytes(found["memory"].out),
        memory_free_bytes=memory.get("MemAvailable", 0),
        swap_bytes=memory.get("SwapTotal", 0),
        swap_used_bytes=max(0, memory.get("SwapTotal", 0) - memory.get("SwapFree", 0)),
        hypervisor=xml_in.key_values(found["version"].out).get("Running hypervisor", "")[:60],
        kernel=files.get("/proc/sys/kernel/osrelease", "")[:80],
        os=linux_in.settings(files.get("/etc/os-release", "")).get("PRETTY_NAME", "")[:80],
        machine_id=files.get("/etc/machine-id", "")[:64],
        uptime_s=linux_in.first_number(files.get("/proc/uptime", "")),
        load=linux_in.first_number(files.get("/proc/loadavg", "")),
        interfaces=interfaces,
        disks=linux_in.disks(found["lsblk"].out),
        time=linux_in.clock(found["date"].out, found["tracking"].out, sent, received),
        resolvers=servers,
        search=search,
        resolves=(
            linux_in.resolved(
                found["names"].out, tuple(names), whole=found["names"].status in (0, 2)
            )
            if "names" in found
            else {}
        ),
        password_login=linux_in.password_login(found["sshd"].out),
        network_setup=_network_setup(found["setup"].out),
        datastores=datastores(
            asked,
            said,
            set(xml_in.names(found["active pools"].out)),
            linux_in.remote_mounts(found["mounts"].out),
            free,
        ),
        networks=tuple(networks),
        guests=tuple(guests),
        unread=unread(found),
    )


def _network_setup(folders: str) -> Literal["", "networkd", "ifupdown"]:
    """What sets the interfaces up, by the folders that are there."""
    if "/run/systemd/netif" in folders:
        return "networkd"
    return "ifupdown" if "/etc/network/interfaces.d" in folders else ""


def _isolated(net: Carried, text: str, uplinked: set[str]) -> Carried:
    """A network without forwarding whose bridge has no interface that leads out."""
    return net.model_copy(
        update={"isolated": "<forward" not in text and net.bridge not in uplinked}
    )
