"""What the values of each column must look like. Every column has a form; none takes a control
character.

Values go into configuration files, shells and addresses of nodes: what is not of its form is told
here,
before anything is sent. Each form answers words that follow “… is not valid: ”, '' for a fitting
value.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from ipaddress import IPv4Address, IPv6Address, ip_address, ip_network

from nimble_stone.core.package.properties import misfit
from nimble_stone.core.plan.columns import Column
from nimble_stone.core.secrets_rule import violations

Form = Callable[[str], str]
MOST_LISTED = 12
_CONTROL = re.compile(r"[\x00-\x1f\x7f-\x9f\u2028\u2029]")
_BREAKS = "\n\r\u2028\u2029"
_LABEL = r"[A-Za-z0-9]([A-Za-z0-9-]{0,61}[A-Za-z0-9])?"
_DOMAIN = re.compile(rf"{_LABEL}(\.{_LABEL})*\.?")
_ZONE = re.compile(
    r"[A-Za-z]{1,30}([_+-]?[A-Za-z0-9]{1,30})*(/[A-Za-z]{1,30}([_+-]?[A-Za-z0-9]{1,30})*){0,2}"
)
_PARTS = re.compile(r"[\s,]+")


def listed(text: str) -> list[str]:
    """The items of a list as people type it: apart by spaces or commas."""
    return [part for part in _PARTS.split(text.strip()) if part]


def address(text: str) -> str:
    """An IPv4 or IPv6 address."""
    try:
        ip_address(text)
    except ValueError:
        return f"“{text[:40]}” is not an IP address"
    return ""


def ipv4(text: str) -> str:
    """An IPv4 address."""
    try:
        IPv4Address(text)
    except ValueError:
        return "use an IPv4 address"
    return ""


def ipv6(text: str) -> str:
    """An IPv6 address."""
    try:
        IPv6Address(text)
    except ValueError:
        return "use an IPv6 address"
    return ""


def domain(text: str) -> str:
    """A DNS name (RFC 1123, 2.1)."""
    return (
        "" if len(text) <= 253 and _DOMAIN.fullmatch(text) else f"“{text[:40]}” is not a DNS name"
    )


def server(text: str) -> str:
    """A host name or an address."""
    return (
        ""
        if not address(text)
        or not (all(part.isdigit() for part in text.split(".")) or domain(text))
        else f"“{text[:40]}” is not a host name or address"
    )


def each(form: Form) -> Form:
    """A list of at most twelve, each of a form."""

    def fault_of(text: str) -> str:
        if _CONTROL.search(text):
            return "it holds a line break or another control character"
        items = listed(text)
        if len(items) > MOST_LISTED:
            return f"it lists {len(items)}; use at most {MOST_LISTED}"
        return next((wrong for item in items if (wrong := form(item))), "")

    return fault_of


def whole(least: int, most: int) -> Form:
    """A whole number."""

    def fault_of(text: str) -> str:
        fits = text.isascii() and text.isdigit() and len(text) <= 12 and least <= int(text) <= most
        return "" if fits else f"use {least} to {most}"

    return fault_of


def zone(text: str) -> str:
    """A name of the time zone database, such as Europe/Oslo."""
    return (
        "" if _ZONE.fullmatch(text) and len(text) <= 60 else "use a name such as UTC or Europe/Oslo"
    )


def anything(text: str) -> str:
    """Told by a rule of its own."""
    return ""


def routes(text: str) -> str:
    """Routes such as “10.46.0.0/16 via 10.44.60.1”, separated by commas."""
    found = [one.split() for one in text.split(",")]
    if len(found) > MOST_LISTED:
        return f"it lists {len(found)}; use at most {MOST_LISTED}"
    for words in found:
        if len(words) != 3 or words[1] != "via" or _no_net(words[0]) or address(words[2]):
            return "write routes as “10.46.0.0/16 via 10.44.60.1”, separated by commas"
    return ""


def _no_net(text: str) -> bool:
    try:
        ip_network(text)
    except ValueError:
        return True
    return False


BY_PART: dict[str, Form] = {
    "prefix": whole(1, 32),
    "prefix6": whole(1, 128),
    "gateway": ipv4,
    "gateway6": ipv6,
    "dns": each(address),
    "domain": domain,
    "search": each(domain),
    "ntp": each(server),
    "time_zone": zone,
    "mtu": whole(576, 65535),
    "routes": routes,
    "vlan": whole(1, 4094),
}
"""Built-in columns by the last part of their name."""


def fault(column: Column, value: str) -> str:
    """Why a value cannot stand in a column, '' when it can. Cost: O(length)."""
    if column.kind != "ssh-key" and (found := _CONTROL.search(value)):
        return (
            "it holds a line break" if found.group() in _BREAKS else "it holds a control character"
        )
    if column.built_in and (form := BY_PART.get(column.id.rpartition(".")[2])):
        return form(value)
    if column.question is not None and (wrong := misfit(column.question, value)):
        return f"it {wrong}"
    if lacks := violations(value, column.rule):
        return f"it {lacks[0]}"
    if column.choices and value not in column.choices:
        return (
            f"use one of {', '.join(column.choices[:8])}{', …' if len(column.choices) > 8 else ''}"
        )
    return ""
