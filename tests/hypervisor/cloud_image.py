"""Builds a server image of Debian as it is, with its own cloud-init, from Debian's packages."""

from __future__ import annotations

import hashlib
import shutil
import struct
import subprocess
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

KEPT = Path(__file__).parents[2] / ".cache/cloud-image"
SUITE = "bookworm"
PACKAGES = (
    "linux-image-cloud-amd64,systemd-sysv,cloud-init,openssh-server,iproute2,netplan.io,dbus,sudo,"
    "iputils-ping,python3-minimal"
)
MIB = 1 << 20
SIZE_MIB = 1200
MENU = """set timeout=0
menuentry start {
  linux /vmlinuz root=/dev/vda1 rw console=ttyS0,115200 mitigations=off
  initrd /initrd.img
}
"""


def _run(*words: str, cwd: Path | None = None) -> None:
    done = subprocess.run(words, capture_output=True, text=True, cwd=cwd)
    assert done.returncode == 0, f"{' '.join(words)}: {done.stderr[-2000:]}"


@dataclass(frozen=True)
class Product:
    """What is on an image besides a plain server: Debian's packages, files by their path, and the
    services of them that start with the system.
    """

    name: str
    packages: tuple[str, ...] = ()
    files: Mapping[str, str] = field(default_factory=dict)
    services: tuple[str, ...] = ()


PLAIN = Product("shoal")


def image(product: Product = PLAIN) -> Path:
    """The qcow2 image, about 450 MB. Made once: 90 s."""
    stated = repr(product).encode() + Path(__file__).read_bytes()
    found = KEPT / f"{product.name}-{hashlib.sha256(stated).hexdigest()[:12]}.qcow2"
    if not found.exists():
        KEPT.mkdir(parents=True, exist_ok=True)
        for old in KEPT.glob(f"{product.name}-*"):
            old.unlink()
        shutil.rmtree(KEPT / "work", ignore_errors=True)
        _build(KEPT / "work", found, product)
        shutil.rmtree(KEPT / "work")
    return found


def _build(work: Path, to: Path, product: Product) -> None:
    packages = ",".join((PACKAGES, *product.packages))
    root, raw, core = work / "root", work / "disk.raw", work / "core.img"
    root.mkdir(parents=True)
    without = [f"--dpkgopt=path-exclude=/usr/share/{part}/*" for part in ("doc", "man", "locale")]
    _run(
        *("mmdebstrap", "--variant=minbase", f"--include={packages}", *without),
        *(SUITE, str(root)),
    )
    (root / "etc/machine-id").write_text("")
    for key in (root / "etc/ssh").glob("ssh_host_*"):
        key.unlink()
    (root / "etc/cloud/cloud.cfg.d/99-holm.cfg").write_text("datasource_list: [NoCloud, None]\n")
    (root / "etc/fstab").write_text("LABEL=root / ext4 defaults 0 1\n")
    for path, text in product.files.items():
        (root / path).parent.mkdir(parents=True, exist_ok=True)
        (root / path).write_text(text)
    for service in product.services:
        wanted = root / "etc/systemd/system/multi-user.target.wants" / service
        wanted.symlink_to(f"/etc/systemd/system/{service}")
    (root / "boot/grub").mkdir()
    (root / "boot/grub/grub.cfg").write_text(MENU)
    with raw.open("wb") as file:
        file.truncate(SIZE_MIB * MIB)
    # Debian's boot loader reads no newer ext4
    _run(
        *("mke2fs", "-q", "-t", "ext4", "-L", "root", "-O", "^metadata_csum_seed"),
        *("-d", str(root), "-E", f"offset={MIB}", str(raw), f"{SIZE_MIB - 1}M"),
    )
    _run(
        *("grub-mkimage", "-O", "i386-pc", "-o", str(core), "-p", "(hd0,msdos1)/boot/grub"),
        *("biosdisk", "part_msdos", "ext2", "normal", "linux", "configfile"),
    )
    unset = b"\xfe\xff\xff"
    entry = struct.pack(
        "<B3sB3sII", 0x80, unset, 0x83, unset, MIB // 512, (SIZE_MIB - 1) * MIB // 512
    )
    with raw.open("r+b") as file:
        file.write(Path("/usr/lib/grub/i386-pc/boot.img").read_bytes()[:440])
        file.seek(446)
        file.write(entry + bytes(48) + b"\x55\xaa" + core.read_bytes())
    _run("qemu-img", "convert", "-f", "raw", "-O", "qcow2", str(raw), str(to))
