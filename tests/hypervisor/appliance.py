"""Builds a real, bootable appliance from Debian's kernel and busybox, and packs it as an OVA.

Disk: MBR, boot loader, an ext2 partition with kernel and initial ramdisk, an ext4 partition that
keeps data over reboots.
"""

from __future__ import annotations

import re
import shutil
import struct
import subprocess
from pathlib import Path

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


def _run(*command: str, **more: object) -> str:
    return subprocess.run(command, check=True, capture_output=True, text=True, **more).stdout  # type: ignore[call-overload]


def _kernel() -> tuple[Path, str]:
    kernels = sorted(Path("/boot").glob("vmlinuz-*-cloud-amd64"))
    if not kernels:
        raise RuntimeError("no cloud kernel in /boot; `make setup-hypervisor` installs one")
    return kernels[-1], kernels[-1].name.removeprefix("vmlinuz-")


def _ramdisk(work: Path, version: str) -> Path:
    root = work / "root"
    for name in (
        "bin",
        "sbin",
        "usr/sbin",
        "usr/bin",
        "proc",
        "sys",
        "dev",
        "cd",
        "etc/dropbear",
        "run",
        "root",
        "www",
        "tmp",
        "var/log",
        "lib/modules",
        "lib64",
        "lib/x86_64-linux-gnu",
    ):
        (root / name).mkdir(parents=True, exist_ok=True)
    shutil.copy("/bin/busybox", root / "bin/busybox")
    for applet in _run("/bin/busybox", "--list").split():
        if applet != "busybox":
            (root / "bin" / applet).symlink_to("busybox")
    shutil.copy("/usr/sbin/dropbear", root / "usr/sbin/dropbear")
    for library in re.findall(r"(/\S+)\s+\(0x", _run("ldd", "/usr/sbin/dropbear")):
        target = root / library.lstrip("/")
        target.parent.mkdir(parents=True, exist_ok=True)
        shutil.copy(Path(library).resolve(), target)
    listed: list[str] = []
    for module in MODULES:
        for line in _run(
            "/usr/sbin/modprobe", "--show-depends", "-S", version, module
        ).splitlines():
            if line.startswith("insmod "):
                path = line.split()[1]
                inside = f"/lib/modules/{Path(path).name}"
                if inside not in listed:
                    listed.append(inside)
                    shutil.copy(path, root / inside.lstrip("/"))
    (root / "modules.list").write_text("\n".join(listed) + "\n")
    shutil.copy(HERE / "guest/init", root / "init")
    shutil.copytree(HERE / "guest/cgi-bin", root / "www/cgi-bin")
    packed = work / "initrd"
    with packed.open("wb") as out:
        archive = subprocess.run(
            "find . -print0 | cpio --null -o -H newc --quiet | gzip -1",
            shell=True,
            cwd=root,
            check=True,
            capture_output=True,
        )
        out.write(archive.stdout)
    return packed


def build(work: Path, *, name: str = "gauge-collector.ova") -> Path:
    """The OVA. About 15 MB; a few seconds."""
    work.mkdir(parents=True, exist_ok=True)
    kernel, version = _kernel()
    tree = work / "tree"
    (tree / "boot/grub").mkdir(parents=True)
    shutil.copy(kernel, tree / "kernel")
    shutil.copy(_ramdisk(work, version), tree / "initrd")
    (tree / "boot/grub/grub.cfg").write_text(GRUB)
    raw = work / "disk.raw"
    total = (1 + BOOT_MIB + DATA_MIB) * MIB
    with raw.open("wb") as file:
        file.truncate(total)
    _run(
        "mke2fs",
        "-q",
        "-t",
        "ext2",
        "-d",
        str(tree),
        "-E",
        f"offset={MIB}",
        str(raw),
        f"{BOOT_MIB}M",
    )
    _run(
        "mke2fs",
        "-q",
        "-t",
        "ext4",
        "-E",
        f"offset={(1 + BOOT_MIB) * MIB}",
        str(raw),
        f"{DATA_MIB}M",
    )
    core = work / "core.img"
    _run(
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
            entry(1, BOOT_MIB, True)
            + entry(1 + BOOT_MIB, DATA_MIB, False)
            + bytes(32)
            + b"\x55\xaa"
        )
        file.seek(512)
        file.write(image)
    disk = work / "disk.vmdk"
    _run(
        "qemu-img", "convert", "-O", "vmdk", "-o", "subformat=streamOptimized", str(raw), str(disk)
    )
    data = disk.read_bytes()
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
