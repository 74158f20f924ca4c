"""Reading what Linux tools answer: JSON where they offer it, key=value otherwise. Pure; bounded;
nothing is guessed from garbage.
"""

from __future__ import annotations

import json
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from ipaddress import ip_address
from typing import Any

from nimble_stone.core.estate import BlockDevice, DiskUse, Interface, TimeSync

# interfaces, disks or lines that are read of one answer
MOST = 512
_KINDS = {"bridge": "bridge", "bond": "bond", "vlan": "vlan", "tun": "tap", "macvtap": "tap"}


def document(text: str) -> Any:
    """The JSON of an answer, {} when it is none."""
    try:
        return json.loads(text or "{}")
    except (ValueError, RecursionError):
        return {}


def _items(data: Any, *path: str) -> list[dict[str, Any]]:
    for key in path:
        data = data.get(key) if isinstance(data, dict) else None
    return (
        [item for item in data[:MOST] if isinstance(item, dict)] if isinstance(data, list) else []
    )


def _whole(value: Any) -> int:
    """A number that JSON may hold as text; 0 for anything else, also for what no such thing could
    be.
    """
    try:
        number = int(str(value).strip())
    except ValueError:
        return 0
    return number if 0 <= number < 1 << 62 else 0


def interfaces(addr: str, speeds: str) -> tuple[Interface, ...]:
    """`ip -j -d addr` and `grep -s . /sys/class/net/*/speed` (path:value a line; -1 where there is
    no link).
    """
    fast = {
        match[1]: _whole(match[2])
        for match in re.finditer(
            r"^/sys/class/net/([^/\s]{1,32})/speed:(\d{1,7})$", speeds, re.MULTILINE
        )
    }
    found = []
    data = document(addr)
    for item in _items({"all": data}, "all"):
        name = str(item.get("ifname", ""))[:32]
        info = item.get("linkinfo") if isinstance(item.get("linkinfo"), dict) else {}
        assert isinstance(info, dict)
        word = str(info.get("info_kind", ""))
        details = info.get("info_data") if isinstance(info.get("info_data"), dict) else {}
        assert isinstance(details, dict)
        flags = item.get("flags") if isinstance(item.get("flags"), list) else []
        assert isinstance(flags, list)
        kind = "loopback" if "LOOPBACK" in flags else _KINDS.get(word, word or "physical")
        found.append(
            Interface(
                name=name,
                kind=kind[:20],
                mac=str(item.get("address", ""))[:20],
                mtu=_whole(item.get("mtu")),
                link="LOWER_UP" in flags,
                speed_mbit=fast.get(name, 0),
                master=str(item.get("master", ""))[:32],
                parent=str(item.get("link", ""))[:32],
                vlan=_whole(details.get("id")),
                addresses=tuple(
                    f"{entry.get('local')}/{_whole(entry.get('prefixlen'))}"
                    for entry in _items(item, "addr_info")
                    if entry.get("scope") == "global" and _is_address(str(entry.get("local")))
                ),
            )
        )
    return tuple(found)


def _is_address(text: str) -> bool:
    try:
        ip_address(text)
    except ValueError:
        return False
    return True


def processors(text: str) -> dict[str, str]:
    """`lscpu -J` as a mapping of its fields."""
    found: dict[str, str] = {}

    def walk(items: list[dict[str, Any]], depth: int) -> None:
        for item in items:
            found[str(item.get("field", "")).rstrip(":")] = str(item.get("data", ""))[:400]
            if depth < 4:
                walk(_items(item, "children"), depth + 1)

    walk(_items(document(text), "lscpu"), 0)
    return found


def disks(text: str) -> tuple[BlockDevice, ...]:
    """`lsblk -J -b` as disks with what uses them. Only whole disks are listed; what lies on them is
    judged with them.
    """
    found = []
    for item in _items(document(text), "blockdevices"):
        size = _whole(item.get("size"))
        if (
            item.get("type") != "disk"
            or not size
            or str(item.get("name", "")).startswith(("zram", "ram", "nbd"))
        ):
            continue
        used = _use(item)
        found.append(
            BlockDevice(
                name=str(item.get("name", ""))[:64],
                path=str(item.get("path") or f"/dev/{item.get('name')}")[:128],
                size_bytes=size,
                rotational=item.get("rota") in (True, "1", 1),
                model=str(item.get("model") or "").strip()[:60],
                serial=str(item.get("serial") or "").strip()[:60],
                bus=str(item.get("tran") or "")[:12],
                use=used.use,
                why=used.why,
                parts=tuple(
                    str(part.get("path") or f"/dev/{part.get('name')}")[:128]
                    for part in _items(item, "children")
                    if part.get("type") == "part"
                ),
            )
        )
    return tuple(found)


_MEMBERS = {
    "linux_raid_member": "RAID",
    "LVM2_member": "volume group",
    "crypto_LUKS": "encrypted volume",
    "zfs_member": "ZFS pool",
    "multipath_member": "multipath device",
    "mpath_member": "multipath device",
}


@dataclass(frozen=True)
class Use:
    """What a disk is used for, and why that is said."""

    use: DiskUse
    why: str = ""


def _use(item: dict[str, Any], depth: int = 0) -> Use:
    """Whether a disk is free, and if not, why: the heaviest use of anything on it."""
    points = [*(item.get("mountpoints") or []), item.get("mountpoint")]
    mounts = [str(point) for point in points if point]
    name = str(item.get("name", ""))[:64]
    if mounts:
        where = "swap" if mounts[0] == "[SWAP]" else f"mounted at {mounts[0][:80]}"
        return Use("mounted", f"{where} ({name})" if depth else where)
    below = [_use(child, depth + 1) for child in _items(item, "children")] if depth < 6 else []
    for wanted in ("mounted", "member", "unrecognised"):
        heavy = [one for one in below if one.use == wanted]
        if heavy:
            return min(heavy, key=lambda one: "mounted at / " not in one.why)
    return _barred(item, name, depth) or _remains(item, name, depth, below) or Use("free")


def _barred(item: dict[str, Any], name: str, depth: int) -> Use | None:
    """Why a disk is not ours to use, whatever is on it."""
    kind = str(item.get("type") or "")
    if kind not in ("disk", "part"):
        group = "volume group" if kind == "lvm" else kind
        return Use(
            "member", f"{'RAID' if kind.startswith('raid') else group} {name} is active on it"
        )
    if item.get("ro") in (True, "1", 1):
        return Use("unrecognised", "it is read-only")
    if item.get("rm") in (True, "1", 1) and not depth:
        return Use("unrecognised", "it is removable")
    return None


def _remains(item: dict[str, Any], name: str, depth: int, below: Sequence[Use]) -> Use | None:
    """What was left on a disk that nothing uses."""
    form, where = str(item.get("fstype") or ""), f" on {name}" if depth else ""
    if form in _MEMBERS:
        return Use("remains", f"remains of a {_MEMBERS[form]}{where}")
    if form:
        labelled = f" labelled {str(item['label'])[:40]}" if item.get("label") else ""
        return Use("remains", f"a file system ({form[:20]}){where}{labelled}")
    inside = next((one for one in below if one.use == "remains"), None)
    if inside is not None:
        return inside
    if item.get("pttype"):
        return Use("remains", f"a partition table ({str(item['pttype'])[:10]})")
    return None


def remote_mounts(text: str) -> dict[str, str]:
    """`findmnt -J -l` as mount point → source, for file systems that other hosts may see too: those
    that come from a server, and those
    that are made for disks several hosts share."""
    return {
        str(item.get("target")): str(item.get("source"))[:300]
        for item in _items(document(text), "filesystems")
        if re.match(r"[\w.\[\]:-]+:/|//", str(item.get("source")))
        or str(item.get("fstype")) in ("ocfs2", "gfs2")
    }


def mounted_from(path: str, mounts: Mapping[str, str]) -> str:
    """The remote source that a path lies on, '' when it is local: the longest mount point
    above it.
    """
    best = max(
        (point for point in mounts if path == point or path.startswith(point.rstrip("/") + "/")),
        key=len,
        default="",
    )
    rest = path[len(best.rstrip("/")) :] if best else ""
    return f"{mounts[best].rstrip('/')}{rest}" if best else ""


def files(text: str) -> dict[str, str]:
    """`head -v FILE…` as path → text."""
    found: dict[str, str] = {}
    name = ""
    lines: list[str] = []
    for line in text.splitlines():
        if match := re.fullmatch(r"==> (/\S+) <==", line):
            if name:
                found[name] = "\n".join(lines).strip("\n")
            name, lines = match[1], []
        else:
            lines.append(line)
    if name:
        found[name] = "\n".join(lines).strip("\n")
    return found


def meminfo(text: str) -> dict[str, int]:
    """/proc/meminfo in bytes."""
    return {
        match[1]: int(match[2]) << 10
        for match in re.finditer(r"^(\w+):\s+(\d{1,15}) kB$", text, re.MULTILINE)
    }


def settings(text: str) -> dict[str, str]:
    """key=value lines, values without quotes (os-release)."""
    return {
        match[1]: match[2].strip("\"'")
        for match in re.finditer(r"^([A-Z_]+)=(.*)$", text, re.MULTILINE)
    }


def resolvers(text: str) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """(name servers, search domains) of a resolv.conf."""
    servers, search = [], []
    for line in text.splitlines():
        words = line.split("#")[0].split(";")[0].split()
        if (
            words[:1] == ["nameserver"]
            and len(words) > 1
            and _is_address(words[1].partition("%")[0])
        ):
            servers.append(words[1])
        elif words[:1] in (["search"], ["domain"]):
            search = words[1:7]
    return tuple(servers[:8]), tuple(search)


def first_number(text: str) -> float:
    """The first number of a line (/proc/uptime, /proc/loadavg), 0.0 when there is none."""
    match = re.match(r"\s*(\d{1,12}(\.\d{1,9})?)", text)
    return float(match[1]) if match else 0.0


def clock(date: str, tracking: str, sent: float, received: float) -> TimeSync | None:
    """Time as `date +%s.%N` says, against our clock halfway between asking and hearing; and what
    chrony follows. None without a date.
    """
    moment = re.fullmatch(r"\s*(\d{9,11})\.(\d{1,9})\s*", date)
    if not moment:
        return None
    at = float(f"{moment[1]}.{moment[2]}")
    half = max(0.0, (received - sent) / 2)
    cells = tracking.strip().split(",")
    follows = (
        len(cells) >= 14
        and cells[0] not in ("", "00000000")
        and cells[13].strip() != "Not synchronised"
    )
    return TimeSync(
        offset_s=round(at - (sent + half), 4),
        uncertain_s=round(half, 4),
        source=cells[1][:80] if follows else "",
        stratum=_whole(cells[2]) if follows else 0,
    )


def resolved(text: str, names: tuple[str, ...], *, whole: bool = True) -> dict[str, str]:
    """`getent ahostsv4 NAME…` as name → address, '' for names it does not know. When it ran out of
    time (not `whole`), only what was found.
    """
    found = dict.fromkeys(names, "")
    for line in text.splitlines()[:MOST]:
        words = line.split()
        if len(words) < 3 or not _is_address(words[0]):
            continue
        said = {word.lower() for word in words[2:]} | {
            word.lower().partition(".")[0] for word in words[2:]
        }
        for name in names:
            if name.lower() in said and not found[name]:
                found[name] = words[0]
    return found if whole else {name: address for name, address in found.items() if address}


def password_login(text: str) -> bool | None:
    """What `sshd -T` says of passwords, None when it says nothing."""
    match = re.search(r"^passwordauthentication (yes|no)$", text, re.MULTILINE)
    return match[1] == "yes" if match else None
