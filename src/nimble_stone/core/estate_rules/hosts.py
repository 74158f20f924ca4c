"""Rules about a host's own answer, its processors, memory, clock, names, login and what was left
behind.
"""

from __future__ import annotations

import re

from nimble_stone.core.estate import HOST_RESERVE, Facts, Host
from nimble_stone.core.estate_rules.base import Broken, Found, Ground, HostRule, known, listed
from nimble_stone.core.preparation import (
    AddNames,
    NameRecord,
    RefusePasswords,
    TimeSource,
    WipeDisk,
)
from nimble_stone.core.units import size_text, time_text


def _answers(g: Ground, host: Host, facts: Facts) -> Found:
    if facts.trouble:
        yield Broken(
            "blocker",
            facts.trouble,
            "Check that it is up and the login is right, then refresh.",
        )


def _fresh(g: Ground, host: Host, facts: Facts) -> Found:
    if known(facts) and g.now - facts.read_at > g.limit(host, "fresh") * 3600:
        yield Broken(
            "caution", f"it was read {time_text(g.now - facts.read_at)} ago", "Read it again."
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
                    f"calls itself {value}"
                    if what == "hostname"
                    else f"has the machine identity {value[:12]}…"
                )
                yield Broken(
                    "blocker",
                    f"it {called}, and so does {other}: one machine under two names, or a copy",
                    "Remove or rename one.",
                )
                return


def _named(g: Ground, host: Host, facts: Facts) -> Found:
    if facts.hostname and facts.hostname.split(".")[0].lower() != host.name.split(".")[0]:
        yield Broken(
            "note",
            f"it calls itself {facts.hostname}",
            "Rename it here or there, so that people mean the same machine.",
        )


def _rights(g: Ground, host: Host, facts: Facts) -> Found:
    for text in facts.unread:
        yield Broken(
            "note",
            f"could not be read with this account: {text}",
            "Use an account with that right, or live without it.",
        )


def _virtualizes(g: Ground, host: Host, facts: Facts) -> Found:
    if facts.domain_type == "qemu":
        yield Broken(
            "caution",
            f"VMs run in software emulation: {facts.domain_reason}",
            "Switch hardware virtualization on in the firmware.",
        )


def _virtualization_on(g: Ground, host: Host, facts: Facts) -> Found:
    if facts.sockets and not facts.virtualization:
        yield Broken(
            "caution",
            "its processors show no virtualization",
            "Switch VT-x or AMD-V on in the firmware.",
        )


def _recent(g: Ground, host: Host, facts: Facts) -> Found:
    match = re.search(r"(\d{1,3})\.(\d{1,3})", facts.hypervisor)
    least = g.limit(host, "recent")
    if match and float(f"{match[1]}.{match[2]}") < least:
        yield Broken(
            "caution",
            f"it runs {facts.hypervisor}; at least {least:g} is asked for",
            "Bring it to a newer version.",
        )


def _same_version(g: Ground, host: Host, facts: Facts) -> Found:
    usual = g.usual(host, "hypervisor", lambda: (other.hypervisor for other in g.bay_of(host)))
    if facts.hypervisor and facts.hypervisor != usual:
        yield Broken(
            "caution",
            f"it runs {facts.hypervisor}, most of its bay {usual}",
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
            f"its kernel is {facts.kernel}, most of its bay run {usual}",
            "Bring the bay to one kernel.",
        )


def _overcommit(g: Ground, host: Host, facts: Facts) -> Found:
    promised = sum(guest.vcpu for guest in facts.guests if guest.running)
    most = g.limit(host, "overcommit")
    if facts.threads and promised > most * facts.threads:
        yield Broken(
            "caution",
            f"{promised} vCPU are promised on {facts.threads} threads, more than {most:g} each",
            "Move a VM.",
        )


def _load(g: Ground, host: Host, facts: Facts) -> Found:
    if facts.threads and facts.load > g.limit(host, "load") * facts.threads:
        yield Broken(
            "caution",
            f"its load is {facts.load:g} on {facts.threads} threads",
            "Find what keeps it busy.",
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
            f"{size_text(facts.swap_used_bytes)} of its memory lies on disk (swap)",
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
            "its clock follows no time server",
            f"Let it follow {server}, as its bay does." if server else "Give it a time server.",
            TimeSource(host=host.name, server=server) if server else None,
        )


def _clock(g: Ground, host: Host, facts: Facts) -> Found:
    if facts.time is None:
        return
    off, sure = abs(facts.time.offset_s), facts.time.uncertain_s
    if off - sure > g.limit(host, "clock"):
        yield Broken(
            "blocker" if off > 300 else "caution",
            f"its clock is {off:.1f} s {'ahead of' if facts.time.offset_s > 0 else 'behind'} ours",
            "Give it a time server; certificates and clusters depend on the time.",
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
            f"it finds {listed(wrong)}, which is not the address here",
            "Correct the name server or its hosts file.",
        )
    if lost:
        yield Broken(
            "caution",
            f"it does not know the name{'s' if len(lost) > 1 else ''} {listed(lost)} of its bay",
            "Put name records on it, or into its name server.",
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
            f"it asks {listed(list(facts.resolvers))} for names, most of its bay"
            f" {listed(list(usual))}",
        )


def _by_key(g: Ground, host: Host, facts: Facts) -> Found:
    if known(facts) and host.credential not in g.keys:
        yield Broken("note", "we log in by password", "Put a key on it (Prepare).")


def _passwords(g: Ground, host: Host, facts: Facts) -> Found:
    if facts.password_login:
        ours = host.credential in g.keys
        yield Broken(
            "caution" if ours else "note",
            "it takes logins by password",
            "Refuse them." if ours else "Put a key on it first, then refuse them.",
            RefusePasswords(host=host.name) if ours else None,
        )


def _leftovers(g: Ground, host: Host, facts: Facts) -> Found:
    for guest in facts.guests:
        if guest.mark and guest.mark.run not in g.live_runs:
            yield Broken(
                "caution",
                f"VM {guest.name} was created by run {guest.mark.run}, which does not exist any"
                " more",
                "Roll back that run, or delete the VM.",
            )


def _stopped(g: Ground, host: Host, facts: Facts) -> Found:
    idle = [guest.name for guest in facts.guests if not guest.running]
    if idle:
        yield Broken("note", f"{len(idle)} VMs are defined but stopped: {listed(idle)}")


def _remains(g: Ground, host: Host, facts: Facts) -> Found:
    for disk in facts.disks:
        if disk.use == "remains":
            yield Broken(
                "caution",
                f"{disk.path} ({size_text(disk.size_bytes)}) is not in use, but holds {disk.why}",
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
        "Without it nothing is known and nothing can be done.",
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
        "Is one machine",
        "Two entries for one host count its capacity twice.",
        "the host's name, /etc/machine-id",
        _identity,
    ),
    HostRule(
        "named",
        "reach",
        "Hostname matches the estate",
        "People on the phone mean the same machine.",
        "the host's name",
        _named,
    ),
    HostRule(
        "rights",
        "reach",
        "May be read wholly",
        "What cannot be read cannot be judged.",
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
        "Has virtualization switched on",
        "Without it, only emulation is left.",
        "lscpu",
        _virtualization_on,
    ),
    HostRule(
        "recent",
        "compute",
        "Runs a recent hypervisor",
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
        "Faults show everywhere or nowhere.",
        "/proc/sys/kernel/osrelease",
        _same_kernel,
    ),
    HostRule(
        "overcommit",
        "compute",
        "Promises no more vCPU than agreed",
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
        "Follows a time server",
        "Clocks drift apart otherwise.",
        "chronyc tracking",
        _time_source,
    ),
    HostRule(
        "clock",
        "time",
        "Has the right time",
        "Certificates, logs and clusters depend on it.",
        "date against our clock",
        _clock,
        1,
        "seconds",
    ),
    HostRule(
        "same-time",
        "time",
        "Follows the bay's time server",
        "One wrong server should not split a bay.",
        "chronyc tracking",
        _same_time,
    ),
    HostRule(
        "resolves",
        "names",
        "Finds its neighbours by name",
        "Clusters form by names.",
        "getent ahostsv4",
        _resolves,
    ),
    HostRule(
        "same-resolvers",
        "names",
        "Asks the bay's name servers",
        "Names mean the same everywhere.",
        "/etc/resolv.conf",
        _same_resolvers,
    ),
    HostRule(
        "by-key",
        "security",
        "Is logged in to by key",
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
        "No VMs of runs that no longer exist",
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
