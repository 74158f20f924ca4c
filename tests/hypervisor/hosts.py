"""Two real KVM hosts on this machine: each has its own mount, network, process and name spaces, its
own libvirtd and sshd.

Everything lives in one outer network namespace without any route out, so nothing can leave the
machine.
"""

from __future__ import annotations

import contextlib
import os
import shutil
import signal
import subprocess
import time
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

NETNS = "nimble-hv"
SUBNET, GATEWAY = "10.44.20.0/24", "10.44.20.1"
NAMES = {"gannet": "10.44.20.2", "fulmar": "10.44.20.3"}
HOST = """set -e
name=$1; dir=$2; address=$3; uuid=$4
mount --make-rprivate /
for d in root var/lib/libvirt var/log/libvirt var/cache/libvirt; do mkdir -p "$dir/$d"; done
if [ ! -e "$dir/etc/hosts" ]; then
  mkdir -p "$dir/etc"; cp -a /etc/. "$dir/etc/"
  # the package's own network; what is made here starts with the host
  rm -rf "$dir/etc/libvirt/qemu/networks/autostart"
fi
mkdir -p "$dir/etc/libvirt/qemu/networks"; : > "$dir/etc/resolv.conf"
{ echo "host_uuid = \\"$uuid\\""
  echo 'unix_sock_group = "libvirt"'; echo 'unix_sock_rw_perms = "0770"'
  echo 'auth_unix_ro = "none"'; echo 'auth_unix_rw = "none"'; } > "$dir/etc/libvirt/libvirtd.conf"
for d in etc root var/lib/libvirt var/log/libvirt var/cache/libvirt; do
  mkdir -p "/$d"; mount --bind "$dir/$d" "/$d"
done
mount -t tmpfs tmpfs /run; mkdir -p /run/sshd /run/libvirt /run/lock
mkdir -p /var/log/libvirt/qemu /var/lib/libvirt/images /var/lib/libvirt/boot /var/lib/libvirt/qemu
chown libvirt-qemu /var/lib/libvirt/qemu
chmod 711 /var/lib/libvirt/images "$dir" "$dir/var" "$dir/var/lib" "$dir/var/lib/libvirt"
hostname "$name.holm.example"
# An account that may use the hypervisor and is not root. '*': no password, but not locked.
id oper >/dev/null 2>&1 || useradd -M -d / -s /bin/bash -G libvirt -p '*' oper
mount -t proc proc /proc
umount -R -l /sys; mount -t sysfs sysfs /sys
ip link set lo up
until [ -e /sys/class/net/up0 ]; do sleep 0.05; done
ip link add br0 type bridge; ip link set up0 master br0; ip link set up0 up; ip link set br0 up
ip addr add "$address/24" dev br0; ip route add default via 10.44.20.1
virtlogd -d; libvirtd -d
until virsh -c qemu:///system hostname >/dev/null 2>&1; do sleep 0.1; done
if ! virsh -c qemu:///system net-info survey >/dev/null 2>&1; then
  printf '<network><name>survey</name><forward mode="bridge"/>' > "$dir/net.xml"
  printf '<bridge name="br0"/></network>' >> "$dir/net.xml"
  virsh -c qemu:///system net-define "$dir/net.xml"; virsh -c qemu:///system net-autostart survey
  virsh -c qemu:///system pool-define-as "$name-local" dir \\
    --target "/var/lib/libvirt/images/$name-local"
  virsh -c qemu:///system pool-build "$name-local"
  virsh -c qemu:///system pool-autostart "$name-local"
fi
virsh -c qemu:///system net-start survey >/dev/null 2>&1 || true
virsh -c qemu:///system pool-start "$name-local" >/dev/null 2>&1 || true
/usr/sbin/sshd -f "$dir/sshd_config" -E "$dir/sshd.log"
touch "$dir/up"
# As first process of its namespace it inherits every daemon that forks; it must reap them, or
# libvirtd waits for zombies.
while :; do sleep 1000 & wait $!; done
"""


def _run(*command: str) -> None:
    subprocess.run(command, check=True, capture_output=True, text=True)


@dataclass
class RealHost:
    """A host that is up. `power_off` pulls the plug; `power_on` starts it again with its state."""

    name: str
    address: str
    folder: Path
    number: int
    process: subprocess.Popen[bytes] | None = field(default=None)

    def power_on(self) -> None:
        """Start it and wait until it takes logins."""
        (self.folder / "up").unlink(missing_ok=True)
        script = self.folder / "host.sh"
        script.write_text(HOST)
        log = (self.folder / "host.log").open("ab")
        self.process = subprocess.Popen(
            [
                "ip",
                "netns",
                "exec",
                NETNS,
                "unshare",
                "--mount",
                "--net",
                "--uts",
                "--pid",
                "--ipc",
                "--fork",
                "--kill-child",
                "sh",
                str(script),
                self.name,
                str(self.folder),
                self.address,
                f"00000000-0000-4000-8000-00000000000{self.number}",
            ],
            stdout=log,
            stderr=log,
        )
        inner = self._inner()
        _run(
            "ip",
            "-n",
            NETNS,
            "link",
            "add",
            f"v{self.number}",
            "type",
            "veth",
            "peer",
            "name",
            "up0",
            "netns",
            str(inner),
        )
        _run("ip", "-n", NETNS, "link", "set", f"v{self.number}", "master", "hv0", "up")
        end = time.monotonic() + 60
        while not (self.folder / "up").exists():
            if time.monotonic() > end or self.process.poll() is not None:
                raise RuntimeError(
                    f"{self.name} did not come"
                    f" up:\n{(self.folder / 'host.log').read_text()[-3000:]}"
                )
            time.sleep(0.05)

    def _inner(self) -> int:
        """Process id of the host's first process: the child of unshare."""
        assert self.process is not None
        end = time.monotonic() + 10
        while time.monotonic() < end:
            children = (
                Path(f"/proc/{self.process.pid}/task/{self.process.pid}/children")
                .read_text()
                .split()
            )
            outer = {
                f"net:[{os.stat(f'/run/netns/{NETNS}').st_ino}]",
                os.readlink("/proc/self/ns/net"),
            }
            if children and os.readlink(f"/proc/{children[0]}/ns/net") not in outer:
                return int(children[0])
            time.sleep(0.02)
        raise RuntimeError(f"{self.name}: its first process did not start")

    def power_off(self) -> None:
        """Pull the plug: everything on it vanishes at once."""
        if self.process is not None:
            for child in (
                Path(f"/proc/{self.process.pid}/task/{self.process.pid}/children")
                .read_text()
                .split()
            ):
                with contextlib.suppress(ProcessLookupError):
                    os.kill(int(child), signal.SIGKILL)
            self.process.wait(20)
            self.process = None


@contextlib.contextmanager
def two_hosts(folder: Path) -> Iterator[list[RealHost]]:
    """The hosts, up; gone afterwards. The private key to log in lies in `folder`/key."""
    folder.mkdir(parents=True, exist_ok=True)
    folder.chmod(0o755)
    subprocess.run(["ip", "netns", "del", NETNS], capture_output=True)
    _run("ip", "netns", "add", NETNS)
    hosts = []
    try:
        _run("ip", "-n", NETNS, "link", "set", "lo", "up")
        _run("ip", "-n", NETNS, "link", "add", "hv0", "type", "bridge")
        _run("ip", "-n", NETNS, "link", "set", "hv0", "up")
        _run("ip", "-n", NETNS, "addr", "add", f"{GATEWAY}/24", "dev", "hv0")
        if not (folder / "key").exists():
            _run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(folder / "key"))
        for number, (name, address) in enumerate(NAMES.items(), 1):
            own = folder / name
            own.mkdir(exist_ok=True)
            if not (own / "hostkey").exists():
                _run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(own / "hostkey"))
            shutil.copy(folder / "key.pub", own / "authorized_keys")
            (own / "sshd_config").write_text(
                f"Port 22\nListenAddress {address}\nHostKey {own}/hostkey\nPidFile"
                f" {own}/sshd.pid\nAuthorizedKeysFile {own}/authorized_keys"
                " .ssh/authorized_keys\nStrictModes no\nUsePAM no\nPermitRootLogin"
                " yes\nPasswordAuthentication no\nKbdInteractiveAuthentication no\nUseDNS"
                " no\nMaxStartups 50:30:100\nMaxSessions 50\n"
            )
            host = RealHost(name, address, own, number)
            hosts.append(host)
            host.power_on()
        yield hosts
    finally:
        for host in hosts:
            host.power_off()
        subprocess.run(["ip", "netns", "del", NETNS], capture_output=True)


ESTATE = """networks:
  - {name: survey, subnet: 10.44.20.0/24, gateway: 10.44.20.1, dns: [10.44.20.1],
     ntp: 10.44.20.1, domain: kelda.holm.example}
pools:
  - {name: kelda-survey, network: survey, first: 10.44.20.11, last: 10.44.20.40}
hosts:
""" + "".join(
    f"  - {{name: {name}, address: {address}, user: root, credential: host-key, site: Kelda, bay:"
    " kelda-real}\n"
    for name, address in NAMES.items()
)

PLAN = """nimble-stone: plan/1
name: real
title: Real gauges
kit: gauge-collector
package: Gauge Collector 4.2.0
bay: kelda-real
values:
  pool: kelda-survey
  station: west
  size: small
roles:
  lead:
    count: 1
  archive:
    count: 2
"""
