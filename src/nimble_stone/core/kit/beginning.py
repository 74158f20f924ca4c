"""The first text of a kit, from what a package asks and offers. Pure."""

from __future__ import annotations

import json
import re
from collections.abc import Sequence

from nimble_stone.core.package.model import Descriptor, Question
from nimble_stone.core.plan.packages import IMAGES, INSTALLERS, KERNELS, PackageView

KNOWN = {
    "name": ("hostname", "host_name", "host", "fqdn", "name"),
    "address": ("address", "ip", "ip0", "ipaddress", "ip_address", "ipv4"),
    "prefix": ("prefix", "prefixlen", "netmask_bits"),
    "gateway": ("gateway", "default_gateway", "gw"),
    "dns": ("dns", "dns_servers", "nameserver", "nameservers"),
    "domain": ("domain", "dns_domain", "search", "domainname"),
    "ntp": ("ntp", "ntp_server", "ntp_servers", "time_server"),
    "time_zone": ("timezone", "time_zone", "tz"),
}
"""Column → last parts of a question's key that usually mean it."""


def _ident(text: str, usual: str) -> str:
    found = re.sub(r"[^a-z0-9]+", "-", text.lower()).strip("-")[:30]
    return found if re.match(r"[a-z]", found) else usual


def _name(text: str) -> str:
    found = re.sub(r"[^a-z0-9]+", "_", text.lower()).strip("_")[:30]
    return found if re.match(r"[a-z]", found) else f"q_{found}"


def text_of(package: PackageView) -> str:
    """A commented kit file that `kit validate` takes. What only a person knows is guessed and
    marked “check:”.
    """
    product, ident = package.descriptor.product, _ident(package.descriptor.product, "product")
    version = package.descriptor.version.partition(".")[0]
    versions = f'["{version}."]' if version.isdigit() else "[]"
    roles = _roles(package)
    questions = _asked(package)
    secret = next((one.key for one in questions if one.secret), "")
    password = _name(secret.rpartition(".")[2]) if secret else "admin_password"
    lines = [
        "# Kit for " + " ".join(f"{product} {package.descriptor.version}".split()) + ".",
        "# Lines with “check:” are guesses. docs/kits.md and kit-reference.md explain the keys.",
        "nimble-stone: kit/1",
        f"id: {ident}",
        f"title: {json.dumps(product, ensure_ascii=False)}",
        f"accepts: {{product: {json.dumps(product, ensure_ascii=False)}, versions: {versions}}}",
        'names: "{plan}-{short}-{n}"',
        "admin: admin  # check: the administrator's name",
        f"admin_password: {password}",
        "",
        "roles:",
        *roles,
        *_sizes(package.descriptor),
        *_networks(package.descriptor),
        "",
        "questions:",
        *_questions(questions, password),
        "",
        *_environment(questions, password),
        "",
        "# check: where a node tells how it is; `access` in docs/kits.md is about HTTPS.",
        'service: {port: 443, path: /, ready: {"text:": ok}}',
        "",
        "durations:  # check: seconds",
        "  boot: {expected: 60, longest: 600}",
        "  services: {expected: 60, longest: 1800}",
        "",
        "acceptance:",
        "  - {id: running, label: VM running, kind: running}",
        '  - {id: hardware, label: "vCPU, memory, disks", kind: hardware}',
        "  - {id: port, label: Service port, kind: port}",
        "  # check: what else must be so; `kind: call` asks the product itself",
    ]
    return "\n".join(lines) + "\n"


def _roles(package: PackageView) -> list[str]:
    names = [one.name for one in package.systems] or ["node"]
    found = []
    for name in names:
        ident = _ident(name, "node")
        found += [
            f"  - id: {ident}",
            f"    label: {ident}",
            f"    short: {ident[:3]}",
            "    count: {least: 1, most: 9, usual: 1}  # check",
        ]
        if package.systems:
            found.append(f"    system: {json.dumps(name)}")
        found += _hardware(package.format)
    return found


def _hardware(form: str) -> list[str]:
    """What the package does not state."""
    sizes = "sizes: [{id: small, vcpu: 2, memory_mib: 2048}]"
    if form in IMAGES:
        return [f"    image: {{{sizes}}}  # check; `user_data` is told to cloud-init"]
    if form in KERNELS:
        return [f'    image: {{{sizes}, args: "console=ttyS0"}}  # check: the command line']
    if form in INSTALLERS:
        return [
            "    installer:",
            f"      vm: {{{sizes}, disk_gib: 20}}  # check; without `vm`: lives_on: machines",
            "      ends: off",
            "      answers:  # check: the files that the installer reads",
            '        - {path: /answers.txt, format: lines, text: "name=@{name}"}',
        ]
    return []


def _sizes(own: Descriptor) -> list[str]:
    if not own.sizes or own.sizes[0].id == "":
        return []
    return [
        "",
        "sizes:",
        *(
            "  - " + json.dumps({"size": one.id, "carries": one.description or one.label})
            for one in own.sizes
        ),
    ]


def _networks(own: Descriptor) -> list[str]:
    """Networks of interfaces beyond the first."""
    found = [
        f"  - {{id: {_ident(nic.network, f'net-{n}')}, label:"
        f" {json.dumps(nic.network or f'Interface {n}')}, interface: {n}}}"
        for n, nic in enumerate(own.nics, 1)
        if n > 1
    ]
    return ["", "networks:", *found] if found else []


def _asked(package: PackageView) -> Sequence[Question]:
    return [one for one in package.descriptor.questions if one.asked]


def _column(question: Question) -> str:
    tail = question.key.rpartition(".")[2].lower()
    return next((column for column, names in KNOWN.items() if tail in names), "")


def _questions(asked: Sequence[Question], password: str) -> list[str]:
    found = []
    for one in asked:
        if _column(one):
            continue
        label = one.label or one.key
        parts = [f"id: {_name(one.key.rpartition('.')[2])}", f"label: {json.dumps(label)}"]
        parts += ["secret: true"] if one.secret else []
        parts += [f"property: {json.dumps(one.key)}"]
        parts += [f"default: {json.dumps(one.default)}"] if one.default and not one.secret else []
        found.append(f"  - {{{', '.join(parts)}}}")
    if not any(one.secret for one in asked):
        found.append(f"  - {{id: {password}, label: Admin password, secret: true}}")
    return found


def _environment(asked: Sequence[Question], password: str) -> list[str]:
    mapped = {one.key: _column(one) for one in asked}
    rows = [
        f'  {json.dumps(key)}: "{{{column or _name(key.rpartition(".")[2])}}}"'
        for key, column in mapped.items()
    ]
    return (
        ["environment:  # check: how the package's settings are answered", *rows]
        if rows
        else ["environment: {}"]
    )
