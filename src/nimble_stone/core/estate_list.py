"""Lists of hosts as people have them: one a line, CSV or a spreadsheet's clipboard with a header,
sections with names.

Every line is accounted for: it is an entry, a heading, a comment, blank, or junk with its number
and reason. Nothing is guessed from junk.
"""

from __future__ import annotations

import csv
import io
import re
from dataclasses import dataclass, replace
from ipaddress import IPv4Address

MAX_LINES = 10_000
MAX_BYTES = 2 << 20
_NAME = re.compile(r"^[A-Za-z0-9]([A-Za-z0-9.-]{0,251}[A-Za-z0-9])?$")
_SECTION = re.compile(r"^\[\s*([^\[\]]{1,60}?)\s*\]$")
_COLUMNS = {
    "name": "name",
    "host": "name",
    "hostname": "name",
    "address": "address",
    "ip": "address",
    "ip address": "address",
    "port": "port",
    "ssh port": "port",
    "user": "user",
    "login": "user",
    "site": "site",
    "room": "site",
    "bay": "bay",
    "rack": "rack",
    "cabinet": "rack",
    "kind": "kind",
    "type": "kind",
    "credential": "credential",
    "keyring": "credential",
    "note": "note",
    "notes": "note",
    "comment": "note",
    "tags": "tags",
}

_KINDS = {
    "host": "host",
    "hypervisor": "host",
    "machine": "machine",
    "bmc": "machine",
    "controller": "machine",
    "redfish": "machine",
}


@dataclass(frozen=True)
class Entry:
    """A host or machine that was listed. `address` is '' when only a name is known; `line` counts
    from 1; `credential` names a keyring entry.
    """

    line: int
    name: str = ""
    address: str = ""
    port: int = 22
    user: str = ""
    site: str = ""
    bay: str = ""
    note: str = ""
    tags: tuple[str, ...] = ()
    kind: str = "host"
    credential: str = ""
    rack: str = ""

    @property
    def target(self) -> str:
        """What to dial: the address, else the name."""
        return self.address or self.name


@dataclass(frozen=True)
class Junk:
    """A line that is no host: its number, the line, and why."""

    line: int
    text: str
    reason: str


@dataclass(frozen=True)
class Listing:
    """All that a list held."""

    entries: tuple[Entry, ...]
    junk: tuple[Junk, ...]


def parse(text: str) -> Listing:
    """Read a list. At most 10,000 lines are read; the rest is one piece of junk. O(lines)."""
    lines = text[:MAX_BYTES].replace("\r\n", "\n").replace("\r", "\n").split("\n")
    junk: list[Junk] = []
    if len(lines) > MAX_LINES or len(text) > MAX_BYTES:
        junk.append(
            Junk(
                MAX_LINES + 1,
                "",
                f"the list is longer than {MAX_LINES} lines or 2 MiB; what follows was not read",
            )
        )
        lines = lines[:MAX_LINES]
    entries: list[Entry] = []
    columns: list[str] = []
    separator, bay = "", ""
    for number, raw in enumerate(lines, 1):
        line = raw.strip("\ufeff \t\u00a0") if not separator else raw.strip("\ufeff \u00a0")
        if not line.strip() or line.lstrip().startswith(("#", "//")):
            continue
        section = _SECTION.match(line.strip())
        if section:
            bay = section[1]
            continue
        if not columns and not entries and (found := _header(line)):
            separator, columns = found
            continue
        try:
            entry = _row(number, line, separator, columns) if columns else _loose(number, line)
        except ValueError as error:
            junk.append(Junk(number, raw[:200], str(error)))
            continue
        entries.append(replace(entry, bay=entry.bay or bay))
    kept, doubles = _once(entries)
    return Listing(tuple(kept), tuple(sorted(junk + doubles, key=lambda item: item.line)))


def _header(line: str) -> tuple[str, list[str]] | None:
    """(separator, columns) when a line is a header: at least two cells, all known, one of them name
    or address.
    """
    for separator in ("\t", ";", ","):
        cells = [cell.strip().strip('"').lower() for cell in line.split(separator)]
        known = [_COLUMNS.get(cell, "") for cell in cells]
        if len(cells) > 1 and {"name", "address"} & set(known) and sum(bool(k) for k in known) >= 2:
            return separator, known
    return None


def _row(number: int, line: str, separator: str, columns: list[str]) -> Entry:
    try:
        cells = next(csv.reader(io.StringIO(line), delimiter=separator, strict=True))
    except (csv.Error, StopIteration) as error:
        raise ValueError(f"the line is not a row of the table: {error}") from error
    if len(cells) > len(columns):
        raise ValueError(f"{len(cells)} cells where the header has {len(columns)}")
    values = {
        column: cell.strip()
        for column, cell in zip(columns, cells, strict=False)
        if column and cell.strip()
    }
    return _entry(number, values)


def _loose(number: int, line: str) -> Entry:
    """'name', 'address', 'name address' in either order, 'user@host:port', and a note after '#'."""
    body, _, note = line.partition("#")
    words = [word for word in re.split(r"[\s,;]+", body.strip()) if word]
    if not 0 < len(words) - any(word.lower() in _KINDS for word in words) <= 2:
        raise ValueError(f"{len(words)} words; a line holds a name, an address, or both")
    values = {"note": note.strip()} if note.strip() else {}
    for word in words:
        if word.lower() in _KINDS and len(words) > 1:
            values["kind"] = word
            continue
        if word.startswith("https://"):
            values["kind"], word = "machine", word.removeprefix("https://").split("/")[0]
        user, at, rest = word.rpartition("@")
        host, colon, port = rest.partition(":")
        if at and user:
            values["user"] = user
        if colon:
            values["port"] = port
        kind = "address" if _is_address(host) else "name"
        if kind in values:
            raise ValueError(f"two {'addresses' if kind == 'address' else 'names'} on one line")
        values[kind] = host
    return _entry(number, values)


def _is_address(text: str) -> bool:
    try:
        IPv4Address(text)
    except ValueError:
        return False
    return True


def _entry(number: int, values: dict[str, str]) -> Entry:
    name, address = values.get("name", "").lower().rstrip("."), values.get("address", "")
    if name and _is_address(name) and not address:
        name, address = "", name
    if not name and not address:
        raise ValueError("neither a name nor an address")
    if name and (not _NAME.match(name) or re.fullmatch(r"[\d.]+", name)):
        raise ValueError(f"“{name[:60]}” is neither a host name nor an IPv4 address")
    if address and not _is_address(address):
        raise ValueError(f"“{address[:60]}” is not an IPv4 address")
    said = values.get("kind", "").lower()
    if said and said not in _KINDS:
        raise ValueError(f"“{said[:20]}” is neither host nor machine")
    kind = _KINDS.get(said) or ("machine" if values.get("port") == "443" else "host")
    port = values.get("port", "443" if kind == "machine" else "22")
    if not port.isdigit() or not 1 <= int(port[:6]) <= 65535:
        raise ValueError(f"“{port[:20]}” is not a port (1 to 65535)")
    user = values.get("user", "")
    if user and not re.fullmatch(r"[A-Za-z0-9_][A-Za-z0-9_.-]{0,63}", user):
        raise ValueError(f"“{user[:40]}” is not a user name")
    return Entry(
        number,
        name,
        address,
        int(port),
        user,
        values.get("site", "")[:60],
        values.get("bay", "")[:60],
        values.get("note", "")[:500],
        tuple(dict.fromkeys(tag for tag in re.split(r"[\s,;]+", values.get("tags", "")) if tag))[
            :20
        ],
        kind,
        values.get("credential", "")[:120],
        values.get("rack", "")[:60],
    )


def _once(entries: list[Entry]) -> tuple[list[Entry], list[Junk]]:
    """Each host once: the second mention is junk that names the first."""
    seen: dict[str, int] = {}
    kept, junk = [], []
    for entry in entries:
        keys = [
            key
            for key in (entry.name, f"{entry.address}:{entry.port}" if entry.address else "")
            if key
        ]
        earlier = next((seen[key] for key in keys if key in seen), 0)
        if earlier:
            junk.append(Junk(entry.line, entry.target, f"is already in line {earlier} already"))
            continue
        for key in keys:
            seen[key] = entry.line
        kept.append(entry)
    return kept, junk
