"""Which addresses a scan means: networks, ranges and single addresses, as people write them. Pure;
bounded.
"""

from __future__ import annotations

import re
from ipaddress import AddressValueError, IPv4Address, IPv4Network, NetmaskValueError

from nimble_stone.core.errors import InputError

MOST_ADDRESSES = 4096
MOST_PORTS = 8
DEFAULT_PORTS = (22, 443)


def addresses(text: str) -> list[IPv4Address]:
    """`10.44.1.0/24`, `10.44.1.11-10.44.1.30`, `10.44.1.11-30` or an address; several by commas or
    spaces. Each address once, in order.

    Raises: InputError for what is none of these, and for more than 4,096 addresses.
    """
    found: dict[IPv4Address, None] = {}
    for piece in re.split(r"[\s,;]+", re.sub(r"\s*-\s*", "-", text.strip())):
        if not piece:
            continue
        first, last = _ends(piece)
        if int(last) - int(first) + 1 + len(found) > MOST_ADDRESSES:
            raise InputError(
                f"that is more than {MOST_ADDRESSES} addresses",
                code="range-too-large",
                hint="Scan smaller ranges, one after the other.",
            )
        found |= dict.fromkeys(IPv4Address(number) for number in range(int(first), int(last) + 1))
    if not found:
        raise InputError(
            "no range was given", code="range", hint="Such as 10.44.1.0/24 or 10.44.1.11-30."
        )
    return list(found)


def _ends(piece: str) -> tuple[IPv4Address, IPv4Address]:
    try:
        if "/" in piece:
            network = IPv4Network(piece, strict=False)
            if network.num_addresses <= 2:
                return network.network_address, network.broadcast_address
            return network.network_address + 1, network.broadcast_address - 1
        start, dash, end = piece.partition("-")
        first = IPv4Address(start)
        if not dash:
            return first, first
        last = IPv4Address(end if "." in end else f"{start.rpartition('.')[0]}.{end}")
    except (AddressValueError, NetmaskValueError, ValueError) as error:
        raise InputError(
            f"“{piece[:60]}” is not a range of IPv4 addresses",
            code="range",
            hint="Such as 10.44.1.0/24 or 10.44.1.11-30.",
        ) from error
    if last < first:
        raise InputError(f"“{piece[:60]}” ends before it begins", code="range")
    return first, last


def ports(wanted: list[int]) -> list[int]:
    """The ports, each once; 22 and 443 when none is named. Raises InputError for more than eight,
    or what is no port.
    """
    found = list(dict.fromkeys(wanted)) or list(DEFAULT_PORTS)
    if len(found) > MOST_PORTS or any(not 1 <= port <= 65535 for port in found):
        raise InputError(f"at most {MOST_PORTS} ports from 1 to 65535", code="ports")
    return found
