"""Real packages beyond the plain appliance: a set of two systems, a kernel with a ramdisk by zstd,
and an installer ISO by GNU's tools. All of the appliance's own parts.
"""

from __future__ import annotations

import gzip
import shutil
import subprocess
from pathlib import Path

from inspection import ramdisk
from tests.hypervisor import appliance
from tests.support import gauge_set, vm_kits

INSTALLER_LABEL, ANSWERS_LABEL = "GAUGE_4_2_0", "GAUGE_ANSWERS"
INSTALL = """#!/bin/sh
# The installer: writes the appliance onto the first disk, leaves the answers there, and is off.
export PATH=/bin:/sbin
mount -t proc proc /proc; mount -t sysfs sysfs /sys; mount -t devtmpfs dev /dev
while read -r module; do insmod "$module" 2>/dev/null; done < /modules.list
mkdir -p /one /two /data; tries=0
until [ -e /dev/sr1 ] && [ -e /dev/vda ]; do
  tries=$((tries + 1)); [ $tries -gt 30 ] && break; sleep 1
done
for drive in /dev/sr0 /dev/sr1; do
  mount -t iso9660 -o ro $drive /one 2>/dev/null || continue
  [ -f /one/system.gz ] && zcat /one/system.gz | dd of=/dev/vda bs=1M conv=fsync 2>/dev/null
  [ -f /one/ovf-env.xml ] && cp /one/ovf-env.xml /answers.xml
  umount /one
done
echo "installer: system written"; blockdev --rereadpt /dev/vda; sleep 1
mount -t ext4 /dev/vda2 /data && cp /answers.xml /data/ovf-env.xml && sync && umount /data
echo "installer: done"; poweroff -f
"""
MENU = """set timeout=0
menuentry install {
  linux /kernel console=ttyS0,115200 quiet loglevel=3 mitigations=off nokaslr panic=5 rdinit=/init
  initrd /initrd
}
"""
_ENVIRONMENT = """<?xml version="1.0"?>
            <Environment xmlns="http://schemas.dmtf.org/ovf/environment/1"
              xmlns:oe="http://schemas.dmtf.org/ovf/environment/1"><PropertySection>
            %s
            </PropertySection></Environment>
"""


def the_set(work: Path) -> Path:
    """An OVA of two systems, each with the appliance's disk."""
    appliance.build(work)
    disk = (work / "disk.vmdk").read_bytes()
    target = work / "gauge-set.ova"
    target.write_bytes(gauge_set.ova((work / "disk.raw").stat().st_size, disk, scale=64))
    return target


def kernel_and_ramdisk(work: Path) -> list[Path]:
    """The appliance's kernel, and its ramdisk packed by zstd. `work`: where it was built."""
    found = [work / "vmlinuz", work / "initrd.zst"]
    shutil.copy(work / "tree/kernel", found[0])
    plain = gzip.decompress((work / "tree/initrd").read_bytes())
    subprocess.run(["zstd", "-q", "-f", "-o", found[1]], input=plain, check=True)
    return found


def installer_iso(work: Path) -> Path:
    """An ISO that starts by BIOS and UEFI and installs the appliance. `work`: where it was
    built.
    """
    root, tree = work / "installer-root", work / "installer"
    version = ramdisk.version_of(ramdisk.kernel("cloud"))
    ramdisk.base(root, version, appliance.MODULES, ())
    (root / "init").write_text(INSTALL)
    (root / "init").chmod(0o755)
    (tree / "boot/grub").mkdir(parents=True)
    shutil.copy(work / "tree/kernel", tree / "kernel")
    ramdisk.pack(root, tree / "initrd")
    with gzip.open(tree / "system.gz", "wb", 1) as out, (work / "disk.raw").open("rb") as disk:
        shutil.copyfileobj(disk, out)
    (tree / "boot/grub/grub.cfg").write_text(MENU)
    target = work / "gauge-installer.iso"
    ramdisk.run("grub-mkrescue", "-o", str(target), str(tree), "--", "-volid", INSTALLER_LABEL)
    return target


def kernel_kit() -> str:
    """Two nodes from the kernel, with a fencing volume. They form no cluster."""
    text = vm_kits.kernel()
    start, end = text.index("forming:"), text.index("durations:")
    text = text[:start] + text[end:]
    start, end = text.index("  - id: archive"), text.index("\nsizes:")
    text = text[:start] + "\n" + text[end:]
    text = text[: text.index("# Disks besides")] + text[text.index("ports:") :]
    text = text.replace("{least: 1, most: 1, usual: 1}", "{least: 1, most: 4, usual: 2}")
    text = text.replace("    short: lead\n", "    short: lead\n    fence: true\n")
    # nothing of it is changed while it stands
    start = text.index("upgrading:")
    return text[:start] + _ACCEPTANCE


def installer_kit() -> str:
    """One node, installed from the ISO with its answers on a second medium."""
    text = vm_kits.installed("gauge-installed", label=ANSWERS_LABEL, ends="off")
    text = text.replace('{product: KEELSON, versions: ["2."]}', "{product: GAUGE}")
    text = text.replace("most: 64, usual: 2", "most: 1, usual: 1")
    text = text.replace("memory_mib: 512}], disk_gib: 4", "memory_mib: 256}], disk_gib: 1")
    known = {
        "hostname": "@{name}",
        "address": "@{address}",
        "prefix": "@{prefix}",
        "gateway": "@{gateway}",
        "role": "server",
        "admin_password": "@{root_password}",
    }
    lines = "\n            ".join(
        f'<Property oe:key="gauge.{key}" oe:value="{value}"/>' for key, value in known.items()
    )
    start = text.index("        - path: /keelson.yaml")
    end = text.index("questions:")
    answer = "        - path: /ovf-env.xml\n          format: xml\n          text: |\n            "
    text = text[:start] + answer + _ENVIRONMENT % lines + text[end:]
    return text[: text.index("acceptance:")] + _ACCEPTANCE


_ACCEPTANCE = """acceptance:
  - {id: running, label: VM running, kind: running}
  - {id: hardware, label: "vCPU, memory, disks", kind: hardware}
  - {id: disks, label: Disk sizes and files, kind: disks}
  - {id: boot, label: Boot source, kind: boot}
  - {id: name, label: Name, kind: name}
  - {id: address, label: Address, kind: address}
  - {id: port, label: Service port, kind: port}
"""
