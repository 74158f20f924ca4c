"""Rules about a host's own answer, its processors, memory, clock, names, login and what was left
behind.
"""

from __future__ import annotations

import re

from nimble_stone.core.estate import HOST_RESERVE, Facts, Guest, Host, Mark
from nimble_stone.core.estate_rules.base import Broken, Found, Ground, HostRule, known, listed
from nimble_stone.core.preparation import (
    AddNames,
    NameRecord,
    RefusePasswords,
    RemoveVm,
    TimeSource,
    WipeDisk,
)
from nimble_stone.core.units import size_text, time_text


def _answers(g: Ground, host: Host, facts: Facts) -> Found:
    if facts.trouble:
        yield Broken(
            "blocker",
            facts.trouble,
            "Check that it is up and the login is correct, then refresh.",
        )


def _fresh(g: Ground, host: Host, facts: Facts) -> Found:
    if known(facts) and g.now - facts.read_at > g.limit(host, "fresh") * 3600:
        yield Broken(
            "caution", f"its facts are {time_text(g.now - facts.read_at)} old", "Refresh it."
        )


def _identity(g: Ground, host: Host, facts: Facts) -> Found:
    for what, counted in (("hostname", g.hostnames), ("machine_id", g.machine_ids)):
        value = getattr(facts, what)
        if value and counted[value] > 1:
            other = next(
                (
                    name
                    for name, theirs in g.estate.facts.items()
                    if name != host.name and getattr(theirs, what) == value
                ),
                None,
            )
            if other:
                called = (
                    f"has the hostname {value}"
                    if what == "hostname"
                    else f"has the machine identity {value[:12]}…"
                )
                yield Broken(
                    "blocker",
                    f"it {called}, and {other} too: one machine with two names, or a copy",
                    "Remove or rename one.",
                )
                return


def _named(g: Ground, host: Host, facts: Facts) -> Found:
    if facts.hostname and facts.hostname.split(".")[0].lower() != host.name.split(".")[0]:
        yield Broken(
            "note",
            f"its hostname is {facts.hostname}",
            "Use one name in the estate and on the host.",
        )


def _rights(g: Ground, host: Host, facts: Facts) -> Found:
    for text in facts.unread:
        yield Broken(
            "note",
            f"some facts cannot be read with this account: {text}",
            "Use an account with more permissions, or ignore this.",
        )


def _virtualizes(g: Ground, host: Host, facts: Facts) -> Found:
    if facts.domain_type == "qemu":
        yield Broken(
            "caution",
            f"VMs run in software emulation: {facts.domain_reason}",
            "Enable hardware virtualization in the firmware.",
        )


def _virtualization_on(g: Ground, host: Host, facts: Facts) -> Found:
    if facts.sockets and not facts.virtualization:
        yield Broken(
            "caution",
            "its processors report no virtualization",
            "Enable VT-x or AMD-V in the firmware.",
        )


def _recent(g: Ground, host: Host, facts: Facts) -> Found:
    match = re.search(r"(\d{1,3})\.(\d{1,3})", facts.hypervisor)
    least = g.limit(host, "recent")
    if match and float(f"{match[1]}.{match[2]}") < least:
        yield Broken(
            "caution",
            f"it runs {facts.hypervisor}; at least {least:g} is required",
            "Upgrade it.",
        )


def _same_version(g: Ground, host: Host, facts: Facts) -> Found:
    usual = g.usual(host, "hypervisor", lambda: (other.hypervisor for other in g.bay_of(host)))
    if facts.hypervisor and facts.hypervisor != usual:
        yield Broken(
            "caution",
            f"it runs {facts.hypervisor}; most hosts of its bay run {usual}",
            "Use one version in the bay.",
        )


def _same_processor(g: Ground, host: Host, facts: Facts) -> Found:
    usual = g.usual(host, "cpu", lambda: (other.cpu_model for other in g.bay_of(host)))
    if facts.cpu_model and facts.cpu_model != usual:
        yield Broken("note", f"its processor is {facts.cpu_model}, most of its bay have {usual}")


def _same_kernel(g: Ground, host: Host, facts: Facts) -> Found:
    usual = g.usual(host, "kernel", lambda: (other.kernel for other in g.bay_of(host)))
    if facts.kernel and facts.kernel != usual:
        yield Broken(
            "note",
            f"its kernel is {facts.kernel}; most hosts of its bay run {usual}",
            "Use one kernel in the bay.",
        )


def _overcommit(g: Ground, host: Host, facts: Facts) -> Found:
    promised = sum(guest.vcpu for guest in facts.guests if guest.running)
    most = g.limit(host, "overcommit")
    if facts.threads and promised > most * facts.threads:
        yield Broken(
            "caution",
            f"{promised} vCPU are allocated on {facts.threads} threads, more than {most:g} each",
            "Move a VM.",
        )


def _load(g: Ground, host: Host, facts: Facts) -> Found:
    if facts.threads and facts.load > g.limit(host, "load") * facts.threads:
        yield Broken(
            "caution",
            f"its load is {facts.load:g} on {facts.threads} threads",
            "Find the process that uses the CPU.",
        )


def _reserve(g: Ground, host: Host, facts: Facts) -> Found:
    most = int(facts.memory_bytes * (1 - HOST_RESERVE))
    if known(facts) and facts.used_memory_bytes > most:
        yield Broken(
            "blocker",
            f"VMs have {size_text(facts.used_memory_bytes)} of"
            f" {size_text(facts.memory_bytes)}: the hypervisor has too little left",
            "Stop or move a VM.",
        )


def _one_lost(g: Ground, host: Host, facts: Facts) -> Found:
    bay = g.bay_of(host)
    total = g.usual(host, "room", lambda: [sum(_room(other) for other in bay)]) or 0
    room = total - _room(facts)
    if known(facts) and len(bay) > 1 and facts.used_memory_bytes > room:
        yield Broken(
            "caution",
            f"if it fails, its VMs ({size_text(facts.used_memory_bytes)}) do not fit on the"
            f" rest of the bay ({size_text(room)} free)",
            "Add a host, or move VMs to another bay.",
        )


def _room(facts: Facts) -> int:
    return max(0, int(facts.memory_bytes * (1 - HOST_RESERVE)) - facts.used_memory_bytes)


def _swap(g: Ground, host: Host, facts: Facts) -> Found:
    if facts.swap_used_bytes > g.limit(host, "swap") * (1 << 20):
        yield Broken(
            "caution",
            f"{size_text(facts.swap_used_bytes)} of its memory is in swap",
            "Stop or move a VM.",
        )


def _time_source(g: Ground, host: Host, facts: Facts) -> Found:
    if facts.time is not None and not facts.time.source:
        server = g.usual(
            host,
            "time",
            lambda: (other.time.source if other.time else None for other in g.bay_of(host)),
        )
        yield Broken(
            "caution",
            "its clock has no time server",
            f"Set time server {server}, as in its bay." if server else "Set a time server.",
            TimeSource(host=host.name, server=server) if server else None,
        )


def _clock(g: Ground, host: Host, facts: Facts) -> Found:
    if facts.time is None:
        return
    off, sure = abs(facts.time.offset_s), facts.time.uncertain_s
    if off - sure > g.limit(host, "clock"):
        yield Broken(
            "blocker" if off > 300 else "caution",
            f"its clock is {off:.1f} s {'ahead of' if facts.time.offset_s > 0 else 'behind'} the"
            " server's",
            "Set a time server; certificates and clusters depend on it.",
        )


def _same_time(g: Ground, host: Host, facts: Facts) -> Found:
    usual = g.usual(
        host,
        "time",
        lambda: (other.time.source if other.time else None for other in g.bay_of(host)),
    )
    if facts.time is not None and facts.time.source and usual and facts.time.source != usual:
        yield Broken("note", f"it follows {facts.time.source}, most of its bay {usual}")


def _resolves(g: Ground, host: Host, facts: Facts) -> Found:
    wrong, lost, records = [], [], []
    for name, seen in facts.resolves.items():
        other = g.hosts.get(name)
        if other is None or (other.site, other.bay) != (host.site, host.bay) or name == host.name:
            continue
        if not seen:
            lost.append(other.name)
            known_as = g.estate.facts[other.name].hostname if other.name in g.estate.facts else ""
            names = tuple(
                dict.fromkeys(
                    name
                    for name in (known_as.lower(), other.name)
                    if re.fullmatch(r"[a-z0-9]([a-z0-9.-]*[a-z0-9])?", name)
                )
            )
            records.append({"address": other.address, "names": names})
        elif seen != other.address:
            wrong.append(f"{other.name} as {seen}")
    if wrong:
        yield Broken(
            "caution",
            f"it resolves {listed(wrong)}, which is not the address in the estate",
            "Correct the name server or /etc/hosts.",
        )
    if lost:
        yield Broken(
            "caution",
            f"it cannot resolve {listed(lost)} of its bay",
            "Add name records on it, or to its name server.",
            AddNames(
                host=host.name,
                records=tuple(NameRecord.model_validate(record) for record in records),
            ),
        )


def _same_resolvers(g: Ground, host: Host, facts: Facts) -> Found:
    usual = g.usual(host, "resolvers", lambda: (other.resolvers for other in g.bay_of(host)))
    if facts.resolvers and usual and facts.resolvers != usual:
        yield Broken(
            "note",
            f"its name servers are {listed(list(facts.resolvers))}; most of its bay use"
            f" {listed(list(usual))}",
        )


def _by_key(g: Ground, host: Host, facts: Facts) -> Found:
    if known(facts) and host.credential not in g.keys:
        yield Broken("note", "Nimble Stone logs in with a password", "Install a key (Prepare).")


def _passwords(g: Ground, host: Host, facts: Facts) -> Found:
    if facts.password_login:
        ours = host.credential in g.keys
        yield Broken(
            "caution" if ours else "note",
            "it allows logins with a password",
            "Refuse passwords."
            if ours
            else "Install a key first (Prepare), then refuse passwords.",
            RefusePasswords(host=host.name) if ours else None,
        )


def _leftovers(g: Ground, host: Host, facts: Facts) -> Found:
    for guest in facts.guests:
        if guest.mark and guest.mark.run not in g.live_runs:
            yield Broken(
                "caution",
                f"VM {guest.name} was created by run {guest.mark.run}, which no longer exists",
                "Roll back that run, or delete the VM.",
            )
        elif guest.mark and (home := g.homes.get(guest.mark)):
            yield Broken(
                "blocker",
                f"VM {guest.name} was left here when {host.name} was lost; its node"
                f" {guest.mark.node} of plan {guest.mark.plan} is on {home} now",
                "Delete it: both have the same name and address.",
                _removal(host.name, guest, guest.mark, home),
            )


def _removal(host: str, guest: Guest, mark: Mark, home: str) -> RemoveVm:
    """What deletes it, with the disks that bear its run's mark."""
    own = [disk for disk in guest.disks if f"/ns-{mark.run}-" in disk]
    stores = dict.fromkeys(disk.partition("/")[0] for disk in own)
    config = [f"{store}/ns-{mark.run}-{guest.name}-config" for store in list(stores)[:1]]
    return RemoveVm(
        host=host,
        name=guest.name,
        uuid=guest.uuid,
        run=mark.run,
        home=home,
        volumes=(*own, *config),
    )


def _stopped(g: Ground, host: Host, facts: Facts) -> Found:
    idle = [guest.name for guest in facts.guests if not guest.running]
    if idle:
        are = "VM is" if len(idle) == 1 else "VMs are"
        yield Broken("note", f"{len(idle)} {are} defined but stopped: {listed(idle)}")


def _remains(g: Ground, host: Host, facts: Facts) -> Found:
    for disk in facts.disks:
        if disk.use == "remains":
            yield Broken(
                "caution",
                f"{disk.path} ({size_text(disk.size_bytes)}) is not in use, but has leftover data:"
                f" {disk.why}",
                "Wipe it if the data is not needed.",
                WipeDisk(
                    host=host.name,
                    device=disk.path,
                    serial=disk.serial,
                    size_bytes=disk.size_bytes,
                    content=disk.why,
                    parts=disk.parts,
                ),
            )


RULES: tuple[HostRule, ...] = (
    HostRule(
        "answers",
        "reach",
        "Answers, and the login works",
        "Otherwise nothing can be read or done.",
        "the last reading",
        _answers,
    ),
    HostRule(
        "fresh",
        "reach",
        "Was refreshed recently",
        "Old facts lead to wrong plans.",
        "the time of the last reading",
        _fresh,
        24,
        "hours",
    ),
    HostRule(
        "identity",
        "reach",
        "Is in the estate once",
        "Two entries for one host count its capacity twice.",
        "the host's name, /etc/machine-id",
        _identity,
    ),
    HostRule(
        "named",
        "reach",
        "Hostname matches the estate",
        "People mean the same machine by one name.",
        "the host's name",
        _named,
    ),
    HostRule(
        "rights",
        "reach",
        "All facts can be read",
        "Facts that are missing cannot be checked.",
        "commands that were refused",
        _rights,
    ),
    HostRule(
        "virtualizes",
        "compute",
        "Runs VMs with hardware support",
        "Emulation is many times slower.",
        "a firmware run under KVM",
        _virtualizes,
    ),
    HostRule(
        "virtualization",
        "compute",
        "Virtualization is enabled",
        "Otherwise VMs run in emulation.",
        "lscpu",
        _virtualization_on,
    ),
    HostRule(
        "recent",
        "compute",
        "Has a recent hypervisor",
        "Old versions lack fixes and devices.",
        "the hypervisor's version",
        _recent,
        5,
        "version",
    ),
    HostRule(
        "same-version",
        "compute",
        "Runs the bay's hypervisor version",
        "VMs behave alike and can be migrated.",
        "the hypervisor's version",
        _same_version,
    ),
    HostRule(
        "same-processor",
        "compute",
        "Has the bay's processor",
        "VMs find the same CPU features everywhere.",
        "lscpu",
        _same_processor,
    ),
    HostRule(
        "same-kernel",
        "compute",
        "Runs the bay's kernel",
        "Faults are the same on all hosts.",
        "/proc/sys/kernel/osrelease",
        _same_kernel,
    ),
    HostRule(
        "overcommit",
        "compute",
        "Allocates no more vCPU than allowed",
        "VMs wait for CPU time.",
        "the VMs' vCPUs, threads",
        _overcommit,
        4,
        "vCPU per thread",
    ),
    HostRule(
        "load",
        "compute",
        "Is not overloaded",
        "Rollouts take longer and time out.",
        "/proc/loadavg against threads",
        _load,
        1.5,
        "load per thread",
    ),
    HostRule(
        "reserve",
        "memory",
        "Keeps memory for the hypervisor",
        "A hypervisor without memory stops its VMs.",
        "the hypervisor's memory figures, the VMs' memory",
        _reserve,
    ),
    HostRule(
        "one-lost",
        "memory",
        "Its VMs fit on other hosts",
        "A lost host should cost a restart, not the service.",
        "memory of the bay's other hosts",
        _one_lost,
    ),
    HostRule(
        "swap",
        "memory",
        "Does not swap",
        "Swapping slows VMs down.",
        "/proc/meminfo",
        _swap,
        64,
        "MiB",
    ),
    HostRule(
        "time-source",
        "time",
        "Has a time server",
        "Clocks drift apart otherwise.",
        "chronyc tracking",
        _time_source,
    ),
    HostRule(
        "clock",
        "time",
        "Has the correct time",
        "Certificates, logs and clusters depend on it.",
        "date, compared with the server",
        _clock,
        1,
        "seconds",
    ),
    HostRule(
        "same-time",
        "time",
        "Has the bay's time server",
        "One wrong server should not split a bay.",
        "chronyc tracking",
        _same_time,
    ),
    HostRule(
        "resolves",
        "names",
        "Resolves its bay's hosts",
        "Clusters use names.",
        "getent ahostsv4",
        _resolves,
    ),
    HostRule(
        "same-resolvers",
        "names",
        "Has the bay's name servers",
        "Names mean the same everywhere.",
        "/etc/resolv.conf",
        _same_resolvers,
    ),
    HostRule(
        "by-key",
        "security",
        "Login uses a key",
        "Passwords are shared and guessed.",
        "the keyring entry's kind",
        _by_key,
    ),
    HostRule(
        "passwords",
        "security",
        "Refuses passwords",
        "Passwords can be guessed.",
        "sshd -T",
        _passwords,
    ),
    HostRule(
        "leftovers",
        "leftovers",
        "No VMs that are no longer deployed here",
        "They use addresses and capacity.",
        "the tag in the VMs' metadata",
        _leftovers,
    ),
    HostRule(
        "stopped",
        "leftovers",
        "No stopped VMs",
        "They can start and use capacity.",
        "the list of VMs",
        _stopped,
    ),
    HostRule(
        "remains",
        "leftovers",
        "No disks with leftover data",
        "Old cluster data can be reactivated or block new use.",
        "lsblk",
        _remains,
    ),
)
