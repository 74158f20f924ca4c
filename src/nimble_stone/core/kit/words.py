"""A kit told in words. Pure."""

from __future__ import annotations

from nimble_stone.core.kit.model import Kit
from nimble_stone.core.kit.roles import Accepts, Role
from nimble_stone.core.kit.settings import Question
from nimble_stone.core.kit.systems import FIRST, ITSELF
from nimble_stone.core.storage_layout import Scheme
from nimble_stone.core.units import inside, time_text


def explain(kit: Kit) -> list[str]:
    """Lines, in the order in which a person would ask."""
    lines = [
        f"{kit.title}: {kit.summary}",
        f"Takes packages of {takes_text(kit.accepts)}.",
        "",
        "Roles",
    ]
    lines += [f"  {role.label}: {role_words(role)}" for role in kit.roles]
    if kit.sizing:
        lines += [
            "",
            "Sizing, by "
            + ", ".join(
                f"{inside(load.label)} ({load.id}, usually"
                f" {load.usual:g}{' ' + load.unit if load.unit else ''})"
                for load in kit.sizing.loads
            ),
        ]
        for ident, sizing in kit.sizing.roles.items():
            lines += [f"  {ident}: {sizing.count} of them"] if sizing.count else []
            for size, carries in {
                **({"any size": sizing.carries} if sizing.carries else {}),
                **sizing.by_size,
            }.items():
                lines += [
                    f"  {ident}, {size}: {load} {formula}" for load, formula in carries.items()
                ]
    if kit.networks or kit.virtual:
        lines += ["", "Networks", "  service: the first interface"]
        lines += [
            f"  {net.label}: interface"
            f" {net.interface}{f', MTU {net.mtu} at least' if net.mtu else ''}"
            f"{'' if net.addressed else ', no address'}."
            f" {net.purpose}"
            for net in kit.networks
        ]
        lines += [
            f"  {one.label}: one address for {', '.join(one.members)}, ports"
            f" {', '.join(map(str, one.ports)) or 'any'}"
            for one in kit.virtual
        ]
        lines += [
            f"  {one.label}: port {one.port} of {one.virtual}, handed to port {one.member_port} of"
            f" {', '.join(one.members)} {'in turn' if one.by == 'turns' else 'by load'}"
            for one in kit.balanced
        ]
    if kit.certificates:
        lines += [
            "",
            "Certificates",
            *(
                f"  {one.label}: for {', '.join(one.roles) or 'all'}, valid for"
                f" {', '.join(one.names)}"
                for one in kit.certificates
            ),
        ]
    if kit.ports or kit.outside:
        lines += ["", "Must get through"]
        lines += [
            f"  {port.protocol} {port.port} to {', '.join(port.to) or 'all'}, by"
            f" {port.by or 'anybody'}: {port.purpose}"
            for port in kit.ports
        ]
        lines += [
            f"  {place.label}: {place.host}, port {place.port}: {place.purpose}"
            for place in kit.outside
        ]
    lines += _systems(kit)
    if kit.extra_disks:
        lines += ["", "Disks besides the package's"]
        lines += [
            f"  {disk.label}: {disk.count.least} to {disk.count.most} of {disk.size_gib.least} to"
            f" {disk.size_gib.most} GiB{' for ' + ', '.join(disk.roles) if disk.roles else ''}."
            f" {disk.purpose}".rstrip()
            for disk in kit.extra_disks
        ]
        lines += [
            f"    for {use}: {own.count.least} to {own.count.most} of {own.size_gib.least} to"
            f" {own.size_gib.most} GiB, usually {own.size_gib.usual}"
            for disk in kit.extra_disks
            for use, own in disk.by_use.items()
        ]
    if kit.data_layout:
        lines += [
            "",
            f"Data on {', '.join(kit.data_layout.disks)}: "
            + "; ".join(
                f"{Scheme(way.pieces, way.spare).label}"
                f" ({', '.join(f'{key} = {value}' for key, value in way.answers.items())})"
                for way in kit.data_layout.schemes
            ),
        ]
    lines += [
        "",
        "Questions",
        *(f"  {_question(question)}" for question in kit.questions),
        "",
        "Order of forming",
    ]
    for number, step in enumerate(kit.forming, 1):
        how = f"runs “{step.call.ssh}”" if step.call.ssh else step.call.words().partition(" {")[0]
        how += f", asked of {step.asks}" if step.asks != ITSELF else ""
        when = f", where {step.when}" if step.when else ""
        after = f", after {', '.join(step.after)}" if step.after else ""
        lines.append(
            f"  {number}. {step.label}: {step.role}{when}{after}: {how},"
            f" about {time_text(step.wait.expected)}, {time_text(step.wait.longest)} at most"
        )
    return [
        *lines,
        *_membership(kit),
        "",
        *_separate(kit),
        "Checked at the end",
        *(
            f"  {proof.label} ({'cluster' if proof.of == 'cluster' else 'each node'})"
            for proof in kit.acceptance
        ),
    ]


def takes_text(accepts: Accepts) -> str:
    """“Tidebook 7.x”."""
    texts = [f"{one}x" if one.endswith(".") else f"{one}…" for one in accepts.versions]
    return f"{accepts.product} {', '.join(texts)}".strip()


def role_words(role: Role) -> str:
    """How many nodes of a role, where they live, and what it needs."""
    parts = [
        role.count.words()
        + (", one a host" if role.count.per_host else f", usually {role.count.usual}"),
        "kept apart" if role.apart else "",
        f"besides {role.beside}" if role.beside else "",
        f"{role.datastore} datastore" if role.datastore != "any" else "",
        _lives(role),
        f"sizes {', '.join(role.sizes)}" if role.sizes else "",
        "majority needed" if role.quorum else "",
        f"data in {role.copies} copies" if role.copies else "",
        "can be made again" if role.keeps == "nothing" else "",
        f"after {', '.join(role.after)}" if role.after else "",
        f"from packages of {takes_text(role.accepts)}" if role.accepts else "",
    ]
    return "; ".join(part for part in parts if part)


def _systems(kit: Kit) -> list[str]:
    """What is there already and is asked."""
    if not kit.systems:
        return []
    return [
        "",
        "Systems outside the plan",
        *(
            f"  {one.label}: {one.address}, port {one.real_port}. {one.purpose}".rstrip()
            for one in kit.systems
        ),
    ]


def _membership(kit: Kit) -> list[str]:
    """How nodes join and leave."""
    return [
        *(
            f"  before a node of {one.role} that is added starts: {one.label}, asked of"
            f" {'the first node' if one.asks == FIRST else one.asks}"
            for one in kit.joining
        ),
        *(
            f"  before a node of {one.role} is removed: {one.label}, asked of"
            f" {'the first node' if one.asks == FIRST else one.asks}"
            for one in kit.leaving
        ),
    ]


def _separate(kit: Kit) -> list[str]:
    """Which nodes are kept apart."""
    if not kit.separate:
        return []
    labels = {role.id: role.label for role in kit.roles}
    return [
        "Kept apart",
        *(
            f"  {', '.join(labels[one] for one in rule.roles)}: no two of them"
            f" {'share' if rule.must else 'should share'} a {rule.by}"
            for rule in kit.separate
        ),
        "",
    ]


def _lives(role: Role) -> str:
    if role.lives_on == "hosts":
        return ""
    where = "bare machines" if role.lives_on == "machines" else "hosts or bare machines"
    return f"on {where}, image on the {role.system_drive} drive"


def _question(question: Question) -> str:
    rule = question.rule
    parts = [
        f"for each {question.scope}" if question.scope != "plan" else "",
        "secret" if question.secret else "",
        f"usually {question.default}" if question.default else "",
        f"one of {', '.join(rule.choices)}" if rule.choices else "",
        f"at least {rule.min_length} characters" if rule.min_length else "",
        f"{rule.classes} kinds of characters" if rule.classes else "",
        f"of the form {rule.pattern}" if rule.pattern else "",
        f"asked where {question.when}" if question.when else "",
        "" if question.required else "may stay open",
    ]
    told = "; ".join(part for part in parts if part)
    return f"{question.label} ({question.id}){': ' + told if told else ''}"
