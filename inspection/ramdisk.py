"""Initial ramdisks of Debian's kernel and busybox, for small systems that start from a medium or a
drive.
"""

from __future__ import annotations

import re
import shutil
import subprocess
from collections.abc import Iterable
from pathlib import Path

FOLDERS = (
    *("bin", "sbin", "usr/sbin", "usr/bin", "usr/lib", "proc", "sys", "dev", "cd", "etc", "run"),
    *("root", "tmp", "www", "var/log", "lib/modules", "lib64", "lib/x86_64-linux-gnu"),
    "usr/share/udhcpc",
)


def run(*command: str) -> str:
    """What a command prints. Raises CalledProcessError."""
    return subprocess.run(command, check=True, capture_output=True, text=True).stdout


def kernel(kind: str) -> Path:
    """The newest kernel of that kind: cloud (virtual machines only) or full. Raises
    RuntimeError.
    """
    found = sorted(Path("/boot").glob("vmlinuz-*-amd64"))
    fitting = [path for path in found if ("cloud" in path.name) == (kind == "cloud")]
    if not fitting:
        raise RuntimeError(f"/boot has no {kind} kernel; `make inspection-image` installs one")
    return fitting[-1]


def version_of(image: Path) -> str:
    """“6.1.0-26-amd64”."""
    return image.name.removeprefix("vmlinuz-")


def base(root: Path, version: str, modules: Iterable[str], tools: Iterable[str]) -> None:
    """Folders, busybox, programs with their libraries, and modules in the order in which they are
    loaded (`/modules.list`). A module that the kernel lacks is left out.
    """
    for name in FOLDERS:
        (root / name).mkdir(parents=True, exist_ok=True)
    shutil.copy("/bin/busybox", root / "bin/busybox")
    for applet in run("/bin/busybox", "--list").split():
        if applet != "busybox":
            (root / "bin" / applet).symlink_to("busybox")
    for tool in tools:
        add_tool(root, tool)
    listed: list[str] = []
    for module in modules:
        asked = subprocess.run(
            ("/usr/sbin/modprobe", "--show-depends", "-S", version, module),
            check=False,
            capture_output=True,
            text=True,
        )
        for line in asked.stdout.splitlines():
            if not line.startswith("insmod "):
                continue
            path = line.split()[1]
            inside = f"/lib/modules/{Path(path).name}"
            if inside not in listed:
                listed.append(inside)
                shutil.copy(path, root / inside.lstrip("/"))
    (root / "modules.list").write_text("\n".join(listed) + "\n")


def add_tool(root: Path, tool: str) -> None:
    """A program and its libraries, at the paths they have here; in /bin as well, in place of
    busybox's.
    """
    name = Path(tool).name
    (root / "bin" / name).unlink(missing_ok=True)
    shutil.copy(tool, root / "bin" / name)
    for library in re.findall(r"(/\S+)\s+\(0x", run("ldd", tool)):
        target = root / library.lstrip("/")
        target.parent.mkdir(parents=True, exist_ok=True)
        shutil.copy(Path(library).resolve(), target)


def pack(root: Path, target: Path) -> None:
    """The ramdisk as a file."""
    with target.open("wb") as out:
        subprocess.run(
            "find . -print0 | cpio --null -o -H newc --quiet | gzip -1",
            shell=True,
            cwd=root,
            check=True,
            stdout=out,
        )
