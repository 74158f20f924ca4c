"""Builds a real, bootable appliance from Debian's kernel and busybox, and packs it as an OVA.

Disk: MBR, boot loader, an ext2 partition with kernel and initial ramdisk, an ext4 partition that
keeps data over reboots.
"""

from __future__ import annotations

import shutil
import struct
from pathlib import Path

from inspection import ramdisk
from nimble_stone.lab.scenario import appliance as scene

HERE = Path(__file__).parent
MODULES = (
    "virtio_pci",
    "virtio_blk",
    "virtio_net",
    "virtio_scsi",
    "ata_piix",
    "sd_mod",
    "sr_mod",
    "isofs",
    "button",
    "virtio_rng",
    "ext4",
)
MIB = 1 << 20
BOOT_MIB, DATA_MIB = 34, 12
GRUB = """set timeout=0
set default=0
menuentry gauge {
  linux /kernel console=tty0 console=ttyS0,115200 quiet loglevel=3 mitigations=off nokaslr \\
    panic=5 rdinit=/init
  initrd /initrd
}
"""


def _ramdisk(work: Path, version: str) -> Path:
    root = work / "root"
    ramdisk.base(root, version, MODULES, ())
    (root / "etc/dropbear").mkdir()
    shutil.copy("/usr/sbin/dropbear", root / "usr/sbin/dropbear")
    ramdisk.add_tool(root, "/usr/sbin/dropbear")
    shutil.copy(HERE / "guest/init", root / "init")
    shutil.copytree(HERE / "guest/cgi-bin", root / "www/cgi-bin")
    ramdisk.pack(root, work / "initrd")
    return work / "initrd"


def build(work: Path, *, name: str = "gauge-collector.ova") -> Path:
    """The OVA. About 15 MB; a few seconds."""
    work.mkdir(parents=True, exist_ok=True)
    kernel = ramdisk.kernel("cloud")
    data = disk(work, _ramdisk(work, ramdisk.version_of(kernel)), GRUB).read_bytes()
    total = (work / "disk.raw").stat().st_size
    target = work / name
    target.write_bytes(
        scene.pack(
            "gauge-collector",
            {
                "gauge-collector.ovf": scene.descriptor(total, len(data), scale=64).encode(),
                "gauge-collector-disk1.vmdk": data,
            },
        )
    )
    return target


def disk(work: Path, initrd: Path, menu: str, boot_mib: int = BOOT_MIB) -> Path:
    """The disk that starts Debian's kernel with this ramdisk, as VMDK; `disk.raw` stays beside it,
    and what is on it in `tree`. `menu`: of the boot loader.
    """
    tree = work / "tree"
    (tree / "boot/grub").mkdir(parents=True)
    shutil.copy(ramdisk.kernel("cloud"), tree / "kernel")
    shutil.copy(initrd, tree / "initrd")
    (tree / "boot/grub/grub.cfg").write_text(menu)
    raw = work / "disk.raw"
    total = (1 + boot_mib + DATA_MIB) * MIB
    with raw.open("wb") as file:
        file.truncate(total)
    ramdisk.run(
        "mke2fs",
        "-q",
        "-t",
        "ext2",
        "-d",
        str(tree),
        "-E",
        f"offset={MIB}",
        str(raw),
        f"{boot_mib}M",
    )
    ramdisk.run(
        "mke2fs",
        "-q",
        "-t",
        "ext4",
        "-E",
        f"offset={(1 + boot_mib) * MIB}",
        str(raw),
        f"{DATA_MIB}M",
    )
    core = work / "core.img"
    ramdisk.run(
        "grub-mkimage",
        "-O",
        "i386-pc",
        "-p",
        "(hd0,msdos1)/boot/grub",
        "-o",
        str(core),
        "biosdisk",
        "part_msdos",
        "ext2",
        "normal",
        "linux",
        "configfile",
    )
    boot = bytearray(Path("/usr/lib/grub/i386-pc/boot.img").read_bytes()[:440])
    image = core.read_bytes()
    assert 512 + len(image) < MIB, "the boot loader does not fit before the first partition"

    def entry(start: int, count: int, active: bool) -> bytes:
        return struct.pack(
            "<B3sB3sII",
            0x80 if active else 0,
            b"\xfe\xff\xff",
            0x83,
            b"\xfe\xff\xff",
            start * MIB // 512,
            count * MIB // 512,
        )

    with raw.open("r+b") as file:
        file.write(bytes(boot))
        file.seek(446)
        file.write(
            entry(1, boot_mib, True)
            + entry(1 + boot_mib, DATA_MIB, False)
            + bytes(32)
            + b"\x55\xaa"
        )
        file.seek(512)
        file.write(image)
    packed = work / "disk.vmdk"
    ramdisk.run(
        *("qemu-img", "convert", "-O", "vmdk", "-o", "subformat=streamOptimized"),
        *(str(raw), str(packed)),
    )
    return packed
