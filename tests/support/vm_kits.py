"""Kits and packages for VMs that are installed from an ISO, and for VMs that the hypervisor starts
from a kernel.
"""

from __future__ import annotations

from importlib.resources import files
from pathlib import Path

from nimble_stone.lab.guests.label import labelled

INSTALLED = """nimble-stone: kit/1
id: pilot
title: Pilot
summary: Servers that an unattended installer sets up in VMs.
accepts: {product: KEELSON, versions: ["2."]}
names: "{plan}-{n}"
admin_password: root_password
roles:
  - id: server
    label: server
    short: srv
    count: {least: 1, most: 64, usual: 2}
    installer:
LABEL
      vm: {sizes: [{id: small, vcpu: 1, memory_mib: 512}], disk_gib: 4}
      expected: 30
      longest: 1800
      ends: ENDS
      answers:
        - path: /keelson.yaml
          format: yaml
          text: |
            install:
              name: "@{name}"
              roles: "@{roles}"
              drive: vda
              data: ""
              password: "@{root_password}"
              time_zone: "@{time_zone}"
            network:
              port: ""
              bond: none
              address: "@{address}/@{prefix}"
              gateway: "@{gateway}"
              dns: "@{dns}"
              domain: "@{domain}"
              ntp: "@{ntp}"
            report:
REPORT
questions:
  - {id: root_password, label: Root password, secret: true, rule: {min_length: 12}}
environment: {}
service: {port: 8080, path: /cgi-bin/status, ready: {state: ready}}
durations:
  boot: {expected: 20, longest: 600}
  services: {expected: 10, longest: 600}
acceptance:
  - {id: running, label: VM running, kind: running}
  - {id: name, label: Name, kind: name}
  - {id: address, label: Address, kind: address}
  - {id: hardware, label: "vCPU, memory, disks", kind: hardware}
  - {id: disks, label: Disk sizes and files, kind: disks}
  - {id: boot, label: Boot source, kind: boot}
"""
_REPORT = """              progress: "@{report.progress}"
              failed: "@{report.failed}"
              done: "@{report.done}"
"""
_SILENT = """              progress: ""
              failed: ""
              done: ""
"""


def installed(ident: str = "pilot", *, label: str = "", ends: str = "report") -> str:
    """A kit whose VMs are installed from Keelson's ISO."""
    text = INSTALLED.replace("id: pilot", f"id: {ident}").replace("ENDS", ends)
    text = text.replace("REPORT\n", _REPORT if ends == "report" else _SILENT)
    return text.replace("LABEL\n", f"      label: {label}\n" if label else "")


def kernel(*, memory_mib: int = 128) -> str:
    """The Gauge Collector, started from a kernel."""
    text = (files("nimble_stone.kits") / "gauge-collector.yaml").read_text()
    text = text.replace("id: gauge-collector", "id: gauge-kernel")
    text = text.replace("title: Gauge Collector", "title: Gauge Kernel")
    text = text.replace(
        'product: Gauge Collector\n  versions: ["4."]', "product: gauge-kernel\n  versions: []"
    )
    image = (
        f"    image: {{sizes: [{{id: small, vcpu: 1, memory_mib: {memory_mib}}}],"
        ' args: "console=ttyS0,115200 quiet panic=5 node=@{name}"}\n'
    )
    for role in ("lead", "archive", "relay"):
        text = text.replace(f"    label: {role}\n", f"    label: {role}\n{image}")
    return text


def boot_files(folder: Path) -> list[Path]:
    """A kernel that stand-ins take for the Gauge Collector's, and a ramdisk packed by zstd."""
    head = bytearray(64 << 10)
    head[0x202:0x206] = b"HdrS"
    made = labelled(bytes(head), "Gauge Collector", "4.2.0")
    found = [folder / "vmlinuz", folder / "initrd.img"]
    found[0].write_bytes(made)
    found[1].write_bytes(b"\x28\xb5\x2f\xfd" + bytes(4096))
    return found
