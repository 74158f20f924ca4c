"""The exact commands sent to a KVM host. Pure text: what stands here is what a person can paste
into a terminal.

Every command carries its own time limit (ending an SSH channel does not end the remote process) and
asks for plain messages.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from shlex import quote

VIRSH = "virsh -q -c qemu:///system"
PROBE_S = 6


def limited(command: str, seconds: int) -> str:
    """`command` with a remote time limit in seconds."""
    return f"LC_ALL=C timeout -k 2 {seconds} {command}"


def virsh(*words: str, seconds: int = 30) -> str:
    """A virsh command with its words quoted."""
    return limited(" ".join([VIRSH, *(quote(word) for word in words)]), seconds)


def virsh_limited(*words: str, seconds: int = 30) -> str:
    """A virsh command for a script, which sets the language itself."""
    return f"timeout -k 2 {seconds} " + " ".join([VIRSH, *(quote(word) for word in words)])


def script(seconds: int) -> str:
    """A shell that takes its commands from standard input."""
    return limited("sh -s", seconds)


def full_ping(address: str, mtu: int) -> str:
    """One packet of a network's full size that must not be broken up on the way (28 bytes are
    headers, RFC 791 and 792).
    """
    return limited(f"ping -n -c 1 -W 1 -M do -s {mtu - 28} {quote(address)}", 4)


def firmware_probe(accel: str) -> str:
    """Run the firmware of an empty guest under an accelerator (kvm, tcg). It prints its boot
    attempts, finds nothing and ends, where the accelerator works.
    """
    return limited(
        f"qemu-system-x86_64 -accel {accel} -nodefaults -display none -m 16 -no-reboot -boot"
        " reboot-timeout=1 -chardev stdio,id=d -device isa-debugcon,iobase=0x402,chardev=d",
        PROBE_S,
    )


def df(path: str) -> str:
    """For a script: bytes that may be written below a path; the pool's own figure ignores reserved
    blocks.
    """
    return f"timeout -k 2 10 df -B1 --output=avail {quote(path)}"


def digest(path: str) -> str:
    """SHA-256 of a file."""
    return limited(f"sha256sum {quote(path)}", 3600)


def digest_by_volume(path: str) -> str:
    """SHA-256 of a volume whose file only the hypervisor may read. Bash: a plain shell would hide
    that the first part failed.
    """
    read = f"{VIRSH} vol-download {quote(path)} /dev/stdout"
    return limited(f"bash -c {quote(f'set -o pipefail; {read} | sha256sum')}", 3600)


def volume_tail(path: str) -> str:
    """The last 8 KiB of a console log that lies in a datastore."""
    read = f"{VIRSH} vol-download {quote(path)} /dev/stdout"
    return limited(f"bash -c {quote(f'set -o pipefail; {read} | tail -c 8192')}", 20)


def ping(address: str) -> str:
    """One echo request, two seconds."""
    return limited(f"ping -n -c 1 -W 2 {quote(address)}", 5)


def own_address(address: str) -> str:
    """The line of an interface that has this address, nothing where none has."""
    return limited(f"ip -o addr show to {quote(address)}", 5)


def ask_arp(address: str, bridge: str) -> str:
    """Who has an IPv4 address, asked without saying who asks: routers that answer for others keep
    still then.
    """
    return limited(f"arping -D -f -I {quote(bridge)} -c 2 -w 3 {quote(address)}", 6)


def ask_neighbour(address: str, bridge: str) -> str:
    """Who has an IPv6 address."""
    return limited(f"ndisc6 -r 2 -w 1000 {quote(address)} {quote(bridge)}", 6)


def reach(name: str, port: int) -> str:
    """One TCP connection, four seconds. Raises ValueError for what is no host name or address: bash
    reads it as a path.
    """
    if not re.fullmatch(r"[A-Za-z0-9][A-Za-z0-9.:-]{0,252}", name):
        raise ValueError(name)
    return limited(f"bash -c {quote(f': < /dev/tcp/{name}/{port}')}", 4)


def ask_time(server: str) -> str:
    """One question to a time server, two seconds; prints the bytes of its answer. Raises ValueError
    for what is no host name or address.
    """
    if not re.fullmatch(r"[A-Za-z0-9][A-Za-z0-9.:-]{0,252}", server):
        raise ValueError(server)
    # version 4, mode 3, the rest is zero; in one write, which is one datagram
    packet = r"\043" + r"\000" * 47
    ask = f"exec 3<>/dev/udp/{server}/123; printf '{packet}' >&3; timeout 2 head -c 48 <&3 | wc -c"
    return limited(f"bash -c {quote(ask)}", 5)


def addresses_of(names: Sequence[str]) -> str:
    """What these names are, by the host's own means."""
    return limited(f"getent ahostsv4 {' '.join(map(quote, names))}", 10)


def name_of(address: str) -> str:
    """What an address is called, by the host's own means."""
    return limited(f"getent hosts {quote(address)}", 6)


def console_log(guest: str) -> str:
    """Path of a guest's serial console log."""
    return f"/var/log/libvirt/qemu/{guest}-console.log"


def console_tail(path: str) -> str:
    """The last 8 KiB of a console log."""
    return limited(f"tail -c 8192 {quote(path)}", 10)


def fetch(seconds: int) -> str:
    """A transfer by the host itself; its address and target come on standard input, so that no
    process list shows them.
    """
    return limited("curl --config -", seconds)


def swallow(seconds: int) -> str:
    """Read standard input and forget it (a trial of the way there)."""
    return limited("cat > /dev/null", seconds)


def file_size(path: str) -> str:
    """Size of a file in bytes."""
    return limited(f"stat -L -c %s {quote(path)}", 10)
