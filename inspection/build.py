"""Builds the inspection image: one ISO that boots in BIOS and UEFI, from Debian's kernel and
busybox, with room for the job of a machine.

    python -m inspection.build build/inspection.iso [--neighbours 31] [--kernel cloud]

It needs the Debian packages that `make inspection-image` installs.
"""

from __future__ import annotations

import argparse
import shutil
import tempfile
from pathlib import Path

from inspection import ramdisk
from nimble_stone.core.inspection import job

HERE = Path(__file__).parent
TOOLS = (
    "/usr/bin/curl",
    "/usr/sbin/wipefs",
    "/usr/sbin/blkdiscard",
    "/usr/sbin/blkid",
    "/usr/bin/udevadm",
    "/usr/bin/tcpdump",
)
BASE_MODULES = (
    "virtio_pci",
    "virtio_blk",
    "virtio_net",
    "virtio_scsi",
    "sd_mod",
    "sr_mod",
    "isofs",
)
HARDWARE_MODULES = (
    *("ata_piix", "ahci", "nvme", "megaraid_sas", "mpt3sas", "smartpqi", "hpsa", "aacraid"),
    *("uas", "usb_storage", "xhci_pci", "ehci_pci", "af_packet", "usbhid", "hid_generic"),
    *("e1000", "e1000e", "igb", "igc", "ixgbe", "i40e", "ice", "tg3", "bnx2x", "bnxt_en"),
    *("mlx4_en", "mlx5_core", "qede", "be2net", "r8169", "vmxnet3", "vmw_pvscsi"),
)
"""What servers have; a kernel that lacks one does without."""
GRUB = """set timeout=0
set default=0
menuentry "Nimble Stone inspection" {{
  linux /kernel console=tty0 console=ttyS0,115200 quiet loglevel=3 panic=10 rdinit=/init \\
    neighbours={neighbours}
  initrd /initrd
}}
"""


def build(target: Path, *, neighbours: int = 31, kind: str = "full") -> Path:
    """Write the image. `neighbours`: how many seconds are waited for switches to name themselves
    (LLDP is sent every 30 s as a rule). Raises RuntimeError, CalledProcessError.
    """
    chosen = ramdisk.kernel(kind)
    wanted = BASE_MODULES if kind == "cloud" else BASE_MODULES + HARDWARE_MODULES
    with tempfile.TemporaryDirectory() as folder:
        work = Path(folder)
        root, tree = work / "root", work / "tree"
        (tree / "boot/grub").mkdir(parents=True)
        ramdisk.base(root, ramdisk.version_of(chosen), wanted, TOOLS)
        for name in ("init", "inspect", "wipe", "write", "disks", "dhcp"):
            script = root / ("init" if name == "init" else f"bin/{name}")
            shutil.copy(HERE / name, script)
            script.chmod(0o755)
        ramdisk.pack(root, tree / "initrd")
        shutil.copy(chosen, tree / "kernel")
        (tree / "boot/grub/grub.cfg").write_text(GRUB.format(neighbours=neighbours))
        (tree / job.FILE).write_bytes(job.placeholder())
        target.parent.mkdir(parents=True, exist_ok=True)
        part = target.with_suffix(".part")
        ramdisk.run("grub-mkrescue", "-o", str(part), str(tree), "--", "-volid", "INSPECTION")
        part.replace(target)
    return target


def main() -> None:
    """From the command line."""
    parser = argparse.ArgumentParser(description="Build the inspection image.")
    parser.add_argument("target", type=Path)
    parser.add_argument("--neighbours", type=int, default=31, help="seconds to wait for LLDP")
    parser.add_argument("--kernel", choices=("full", "cloud"), default="full")
    given = parser.parse_args()
    made = build(given.target, neighbours=given.neighbours, kind=given.kernel)
    print(f"{made}: {made.stat().st_size >> 20} MiB")


if __name__ == "__main__":
    main()
