"""Rules about the plan itself."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping

from nimble_stone.core.addressing import fault
from nimble_stone.core.checks.situation import Situation
from nimble_stone.core.findings import Edit, Finding, Remedy
from nimble_stone.core.kit.roles import Count
from nimble_stone.core.kit.words import takes_text
from nimble_stone.core.plan import forms
from nimble_stone.core.plan.columns import OWN_MEMORY, OWN_VCPU, Column, network_column
from nimble_stone.core.plan.model import Scalar
from nimble_stone.core.plan.own_size import allowed
from nimble_stone.core.plan.packages import accepts_of, takes
from nimble_stone.core.plan.sheet import Cell, Node, ip
from nimble_stone.core.units import count_text, nearest


def package_fits(s: Situation) -> Iterator[Finding]:
    """A package is chosen for every role, and the kit takes it."""
    kit, plan = s.sheet.kit, s.sheet.plan
    for role in (None, *(role for role in kit.roles if role.accepts and s.sheet.by_role[role.id])):
        ident = role.id if role else ""
        block = plan.roles.get(ident)
        path: tuple[str, ...] = ("package",)
        named = plan.package
        if ident:
            path = ("roles", ident, "package")
            named = block.package if block else ""
        wanted, package = accepts_of(kit, ident), s.sheet.packages.of(ident)
        fitting, whom = s.fitting.get(ident, ()), f" for role {role.label}" if role else ""
        remedy = (
            Remedy(label=f"Use {fitting[0]}", edit=Edit(path=path, value=fitting[0]))
            if fitting
            else None
        )
        if package is None:
            yield Finding(
                severity="blocker",
                code="package-missing",
                column="package",
                node=s.sheet.by_role[ident][0].id if ident else "",
                message=(
                    f"“{named}” is not imported{whom}." if named else f"No package is chosen{whom}."
                ),
                consequence="Nothing can be deployed.",
                remedy=remedy or Remedy(label=f"Import a package of {takes_text(wanted)}"),
            )
        elif not takes(wanted, package.descriptor.product, package.descriptor.version):
            yield Finding(
                severity="blocker",
                code="package-unfit",
                column="package",
                node=s.sheet.by_role[ident][0].id if ident else "",
                message=f"The kit {kit.title} does not support {package.title}{whom}.",
                consequence="Its steps and acceptance checks do not match this product.",
                remedy=remedy or Remedy(label=f"Import a package of {takes_text(wanted)}"),
            )


def counts(s: Situation) -> Iterator[Finding]:
    """Every role has as many nodes as the product allows."""
    for role in s.sheet.kit.roles:
        have = s.sheet.count_of(role.id)
        if not role.count.allows(have):
            near = _nearest(role.count, have)
            yield Finding(
                severity="blocker",
                code="count",
                message=(
                    f"{count_text(have, 'node')} of role {role.label}; the product supports"
                    f" {role.count.words()}."
                ),
                column="count",
                consequence="The cluster would not form.",
                remedy=Remedy(
                    label=f"Set {near}", edit=Edit(path=("roles", role.id, "count"), value=near)
                ),
            )
    for ident in s.sheet.plan.roles:
        if s.sheet.kit.role(ident) is None:
            yield Finding(
                severity="caution",
                code="role-unknown",
                message=(
                    f"The plan has a role “{ident}”; {s.sheet.kit.title} has "
                    f"{', '.join(r.id for r in s.sheet.kit.roles)}."
                ),
                consequence="It has no effect.",
                remedy=Remedy(label="Remove it", edit=Edit(path=("roles", ident))),
            )
    for ident in s.sheet.plan.nodes:
        if s.sheet.node(ident) is None:
            yield Finding(
                severity="note",
                code="node-unused",
                message=f"The plan has values for “{ident}”, which is not a node of this plan.",
                consequence="They have no effect.",
                remedy=Remedy(label="Remove them", edit=Edit(path=("nodes", ident))),
            )


def unknown_columns(s: Situation) -> Iterator[Finding]:
    """What the plan itself gives values to are columns of it. Shared values may speak of columns
    that other plans have.
    """
    known = {column.id for column in s.sheet.columns}
    settled = all(s.sheet.packages.of(role.id) for role in s.sheet.kit.roles)
    plan = s.sheet.plan
    places: list[tuple[tuple[str, ...], str, Mapping[str, Scalar]]] = [
        (("values",), "", plan.values)
    ]
    places += [
        (("roles", ident, "values"), "", block.values) for ident, block in plan.roles.items()
    ]
    places += [(("nodes", ident), ident, own) for ident, own in plan.nodes.items()]
    for path, node, values in places:
        for name in values:
            if name in known:
                continue
            near = nearest(name, known)
            # What a package asks is known only once there is one: until then the name may be right.
            yield Finding(
                severity="blocker" if settled else "caution",
                code="column-unknown",
                node=node,
                column=name,
                message=(
                    f"The plan sets “{name[:80]}”, which is not a value of {s.sheet.kit.title}"
                    f"{f'; the nearest is “{near}”' if near else ''}."
                ),
                consequence="It has no effect.",
                remedy=Remedy(label=f"Remove “{name[:40]}”", edit=Edit(path=(*path, name))),
            )


def _nearest(count: Count, have: int) -> int:
    near = min(max(have, count.least), count.most)
    if count.allows(near):
        return near
    return near + 1 if near < count.most else near - 1


def duplicates(s: Situation) -> Iterator[Finding]:
    """No name and no address stands twice, here or in a run of another plan."""
    give = s.next_free()
    names = ((node, "name", node.name) for node in s.sheet.nodes if node.name)
    for kind, word, items, held in (
        ("name", "Name", names, {claim.name: claim for claim in s.claims}),
        (
            "address",
            "Address",
            s.sheet.members(),
            {address: claim for claim in s.claims for address in claim.addresses},
        ),
    ):
        seen: dict[str, str] = {}
        for node, column, value in items:
            ident = node.id if node else ""
            if value in seen:
                yield Finding(
                    severity="blocker",
                    code=f"duplicate-{kind}",
                    node=ident,
                    column=column,
                    message=f"{_what(word, value)} is also {seen[value]}'s.",
                    consequence="Address or name conflict; both nodes will be unreliable.",
                    remedy=_address_remedy(node, column, give),
                )
            elif value in held:
                claim = held[value]
                whose = "the run of plan" if claim.run else "plan"
                yield Finding(
                    severity="blocker",
                    code=f"claimed-{kind}",
                    node=ident,
                    column=column,
                    message=f"{_what(word, value)} is held by {whose} “{claim.plan}”.",
                    consequence="The run will be refused.",
                    remedy=_address_remedy(node, column, give),
                )
            holder = column.removeprefix("virtual.")
            if node:
                holder = node.id if kind == "name" else node.name
            seen.setdefault(value, holder)


def _what(word: str, member: str) -> str:
    """“Number 7 of series groups” for a member of a series, “Address 10.44.20.11” else."""
    series, mark, number = member.rpartition("#")
    return f"Number {number} of series {series}" if mark else f"{word} {member}"


def _address_remedy(node: Node | None, column: str, give: Callable[[str], str]) -> Remedy | None:
    if not column.endswith("address"):
        return None
    address = give(node.value(column.removesuffix("address") + "pool")) if node else ""
    return (
        Remedy(label=f"Use {address}", edit=Edit(path=("nodes", node.id, column), value=address))
        if node and address
        else None
    )


def addresses(s: Situation) -> Iterator[Finding]:
    """Every address is one, lies in its subnet, and is neither of its ends nor the gateway."""
    give = s.next_free()
    words = {
        "outside": "is outside {net}",
        "network": "is the network address of {net}",
        "broadcast": "is the broadcast address of {net}",
        "gateway": "is the gateway of {net}",
    }
    for column in s.sheet.address_columns:
        own = column.removesuffix("address")
        missing: list[Node] = []
        for node in s.sheet.nodes:
            text = node.value(column)
            if not text:
                if node.cells[column].origin != "unused":
                    missing.append(node)
                continue
            address = ip(text)
            if address is None:
                yield Finding(
                    severity="blocker",
                    code="address-form",
                    node=node.id,
                    column=column,
                    message=f"“{text}” is not an IPv4 address.",
                    consequence="The node could not be configured.",
                    remedy=_address_remedy(node, column, give),
                )
                continue
            network = s.estate.network(node.value(f"{own}network"))
            wrong = ""
            if network:
                gateway = network.gateway if own else ip(node.value("gateway"))
                wrong = fault(address, network.subnet, gateway)
            if wrong and network:
                yield Finding(
                    severity="blocker",
                    code=f"address-{wrong}",
                    node=node.id,
                    column=column,
                    message=(
                        f"{text} {words[wrong].format(net=f'{network.name} ({network.subnet})')}."
                    ),
                    consequence="The node would not be reachable, or disturb others.",
                    remedy=_address_remedy(node, column, give),
                )
        if missing:
            out = missing[0].id in s.sheet.exhausted
            pool = missing[0].value(f"{own}pool")
            many = f" for {missing[0].name}" + (
                f" and {count_text(len(missing) - 1, 'more node')}" if len(missing) > 1 else ""
            )
            yield Finding(
                severity="blocker",
                code="address-missing",
                node=missing[0].id,
                column=column,
                message=(
                    f"Pool {pool} has no free address left{many}."
                    if out
                    else f"No address{many}, and no pool to take one from."
                ),
                consequence=(
                    "They could not be reached."
                    if len(missing) > 1
                    else "The node could not be reached."
                ),
                remedy=Remedy(label="Choose a pool or type an address"),
            )
    for one in s.sheet.kit.virtual if s.sheet.nodes else ():
        yield from _virtual(s, f"virtual.{one.id}", one.label, one.network or "")


def _virtual(s: Situation, column: str, label: str, role: str) -> Iterator[Finding]:
    """A virtual address is one, and lies in the network its members are in."""
    node = s.sheet.nodes[0]
    text, network = (
        node.value(column),
        s.estate.network(node.value(network_column(role, "network"))),
    )
    address = ip(text)
    if text and address is None:
        yield Finding(
            severity="blocker",
            code="address-form",
            column=column,
            message=f"{label}: “{text}” is not an IPv4 address.",
            consequence="No node can use it.",
            remedy=Remedy(label="Assign one from the pool", edit=Edit(path=("values", column))),
        )
    elif not text:
        yield Finding(
            severity="blocker",
            code="address-missing",
            column=column,
            message=f"{label} has no address, and no pool assigns one.",
            consequence="Clients cannot connect.",
            remedy=Remedy(label="Choose a pool or type an address"),
        )
    elif address and network and (wrong := fault(address, network.subnet, network.gateway)):
        yield Finding(
            severity="blocker",
            code=f"address-{wrong}",
            column=column,
            message=f"{label} {text} cannot lie in {network.name} ({network.subnet}): {wrong}.",
            consequence="No node can use it.",
            remedy=Remedy(label="Assign one from the pool", edit=Edit(path=("values", column))),
        )


def gateways(s: Situation) -> Iterator[Finding]:
    """The gateway lies in the subnet, and the prefix is the network's."""
    # most nodes share all three
    fine: set[tuple[str, str, str]] = set()
    for node in s.sheet.nodes:
        key = (node.value("network"), node.value("gateway"), node.value("prefix"))
        network = s.estate.network(key[0]) if key not in fine else None
        if network is None:
            continue
        gateway = ip(key[1])
        inside = gateway is not None and gateway in network.subnet
        if inside and key[2] == str(network.subnet.prefixlen):
            fine.add(key)
        if not inside:
            yield Finding(
                severity="blocker",
                code="gateway-outside",
                node=node.id,
                column="gateway",
                message=(
                    f"Gateway {node.value('gateway') or '(none)'} is outside {network.name}"
                    f" ({network.subnet})."
                ),
                consequence="The node cannot reach other networks.",
                remedy=Remedy(
                    label=f"Use {network.gateway}",
                    edit=_where_it_stands(node, "gateway", str(network.gateway)),
                ),
            )
        if node.value("prefix") != str(network.subnet.prefixlen):
            yield Finding(
                severity="blocker",
                code="prefix",
                node=node.id,
                column="prefix",
                message=(
                    f"Prefix {node.value('prefix') or '(none)'} does not fit {network.name}, which"
                    f" is a /{network.subnet.prefixlen}."
                ),
                consequence="Some neighbours could not be reached.",
                remedy=Remedy(
                    label=f"Use {network.subnet.prefixlen}",
                    edit=_where_it_stands(node, "prefix", network.subnet.prefixlen),
                ),
            )


def _where_it_stands(node: Node, column: str, value: str | int) -> Edit:
    """An edit at the level where the value was written."""
    cell = node.cells.get(column)
    origin = cell.origin if cell else "none"
    if origin == "node":
        return Edit(path=("nodes", node.id, column), value=value)
    return Edit(
        path=("roles", node.role, "values", column) if origin == "group" else ("values", column),
        value=value,
    )


def required(s: Situation) -> Iterator[Finding]:
    """Every required question has an answer that keeps its rule."""
    # told by rules of their own
    skip = {"host", "datastore"}
    for column in s.sheet.columns:
        if column.id not in skip and (column.kind != "address" or column.id == "gateway"):
            yield from _faults_of(s, column)
    yield from _unanswered(s, skip)


def _faults_of(s: Situation, column: Column) -> Iterator[Finding]:
    """Values of a column that do not keep its rule."""
    if column.kind in _OF_THEIR_OWN or column.id in ("size", "network", "pool"):
        return
    judged: dict[str, str] = {}  # most nodes share their values
    # and most of a role share the very cell
    fine: Cell | None = None
    for node in s.sheet.nodes:
        cell = node.cells[column.id]
        if cell is fine or not cell.value:
            continue
        if cell.value not in judged:
            judged[cell.value] = forms.fault(column, cell.value)
        if not judged[cell.value]:
            fine = cell
            continue
        yield Finding(
            severity="blocker",
            code="value",
            node=node.id,
            column=column.id,
            message=f"{column.label} “{cell.value[:60]}” is not valid: {judged[cell.value]}.",
            consequence="The product would refuse it.",
            remedy=Remedy(label="Change the value"),
        )


_OF_THEIR_OWN = ("secret", "certificate", "ssh-key")
"""Kinds of values that rules of their own look at."""


def _unanswered(s: Situation, skip: Collection[str]) -> Iterator[Finding]:
    for column in s.sheet.columns:
        if column.id in skip or (column.kind == "address" and column.id != "gateway"):
            continue
        if not column.required:
            continue
        cells = ((node, node.cells[column.id]) for node in s.sheet.nodes)
        nodes = [node for node, cell in cells if not cell.value and cell.origin != "unused"]
        if not nodes:
            continue
        whole = len(nodes) == len(s.sheet.nodes)
        whose = "" if whole else f" for {len(nodes)} nodes"
        yield Finding(
            severity="blocker",
            code="unanswered",
            node="" if whole else nodes[0].id,
            column=column.id,
            message=f"{column.label} is not set{whose}.",
            consequence="The product needs it to come up.",
            remedy=Remedy(label=f"Set {column.label}"),
        )


def choices(s: Situation) -> Iterator[Finding]:
    """Size, network and pool name something that exists."""
    for node in s.sheet.nodes:
        if s.sheet.packages.of(node.role) and node.size is None:
            have = ", ".join(s.sheet.packages.sizes(node.role))
            yield Finding(
                severity="blocker",
                code="size-unknown",
                node=node.id,
                column="size",
                message=f"The package has no size “{node.value('size')}”; it offers {have}.",
                consequence="The node has no vCPU and memory.",
                remedy=Remedy(label="Choose a size"),
            )
        for column, known in (("network", s.estate.network), ("pool", s.estate.pool)):
            value = node.value(column)
            if value and known(value) is None:
                yield Finding(
                    severity="blocker",
                    code=f"{column}-unknown",
                    node=node.id,
                    column=column,
                    message=f"The estate has no {column} “{value}”.",
                    consequence="No address can be assigned or checked.",
                    remedy=Remedy(label=f"Choose a {column}"),
                )


def withheld(s: Situation, reference: str, node: str, column: str) -> Finding:
    """What is said of a keyring entry that the plan names and may not open."""
    name = reference.removeprefix("keyring:")
    return Finding(
        severity="blocker",
        code="secret-not-granted",
        node=node,
        column=column,
        message=(
            f"Keyring entry “{name}” is not granted to plan {s.sheet.plan.name}; it belongs to"
            f" {s.withheld[reference]}."
        ),
        consequence=(
            "The run will not start: a plan opens only its own entries and those granted to it."
        ),
        remedy=Remedy(label="Type another value, or grant the entry on the keyring page"),
    )


def secrets(s: Situation) -> Iterator[Finding]:
    """Secrets are in the keyring and keep the product's rules."""
    for column in s.sheet.columns:
        if column.kind != "secret":
            continue
        told: set[str] = set()
        for node in s.sheet.nodes:
            reference = node.value(column.id)
            if not reference or reference in told:
                continue
            told.add(reference)
            if not reference.startswith("keyring:"):
                yield Finding(
                    severity="blocker",
                    code="secret-plain",
                    node=node.id,
                    column=column.id,
                    message=f"{column.label} is stored in the plan as plain text.",
                    consequence="Everyone who sees the file knows it.",
                    remedy=Remedy(label="Type it into the sheet; it goes to the keyring"),
                )
            elif reference in s.withheld:
                yield withheld(s, reference, node.id, column.id)
            elif reference not in s.verdicts:
                yield Finding(
                    severity="blocker",
                    code="secret-missing",
                    node=node.id,
                    column=column.id,
                    message=f"The keyring has no entry “{reference.removeprefix('keyring:')}”.",
                    consequence="The node would get no password.",
                    remedy=Remedy(label=f"Type {column.label} again"),
                )
            for lack in s.verdicts.get(reference, ()):
                yield Finding(
                    severity="blocker",
                    code="secret-weak",
                    node=node.id,
                    column=column.id,
                    message=f"{column.label} {lack}.",
                    consequence=("Installation will fail."),
                    remedy=Remedy(label="Type a stronger one"),
                )


def role_sizes(s: Situation) -> Iterator[Finding]:
    """A node has a size that the product allows for its role."""
    for role in s.sheet.kit.roles:
        odd = [
            node
            for node in s.sheet.by_role[role.id]
            if role.sizes and node.size is not None and node.value("size") not in role.sizes
        ]
        if odd:
            many = f" and {count_text(len(odd) - 1, 'more node')}" if len(odd) > 1 else ""
            yield Finding(
                severity="blocker",
                code="size-role",
                node=odd[0].id,
                column="size",
                message=(
                    f"{odd[0].name}{many} would be {odd[0].value('size')}; for role {role.label}"
                    f" the product supports {', '.join(role.sizes)}."
                ),
                consequence="The product does not support it.",
                remedy=Remedy(
                    label=f"Use {role.sizes[0]}",
                    edit=(
                        _where_it_stands(odd[0], "size", role.sizes[0])
                        if odd[0].cells["size"].origin in ("node", "group")
                        else Edit(path=("roles", role.id, "values", "size"), value=role.sizes[0])
                    ),
                ),
            )


def own_sizes(s: Situation) -> Iterator[Finding]:
    """vCPUs and memory of a plan's own are within the kit's limits."""
    for node in s.sheet.nodes:
        role = s.sheet.kit.role(node.role)
        if role is None or role.custom is None:
            continue
        for column, limits, unit in (
            (OWN_VCPU, role.custom.vcpu, "vCPU"),
            (OWN_MEMORY, role.custom.memory_gib, "GiB"),
        ):
            text = node.value(column)
            if text and not allowed(node.cells, column, limits.least, limits.most):
                yield Finding(
                    severity="blocker",
                    code="size-own",
                    node=node.id,
                    column=column,
                    message=(
                        f"{node.name}: “{text[:20]}” is no whole number from {limits.least} to"
                        f" {limits.most} {unit}."
                    ),
                    consequence="The product does not support it.",
                    remedy=Remedy(
                        label=f"Use {limits.most}",
                        edit=_where_it_stands(node, column, str(limits.most)),
                    ),
                )


def equal_sizes(s: Situation) -> Iterator[Finding]:
    """All nodes of a role have the same size."""
    for role in s.sheet.kit.roles:
        nodes = s.sheet.by_role[role.id]
        sizes = sorted({node.value("size") for node in nodes})
        if len(sizes) > 1:
            # The size of most; at a tie the one that was not typed for a single node.
            usual = max(
                sizes,
                key=lambda size: (
                    sum(node.value("size") == size for node in nodes),
                    any(
                        node.value("size") == size and node.cells["size"].origin != "node"
                        for node in nodes
                    ),
                ),
            )
            odd = next(node for node in nodes if node.value("size") != usual)
            yield Finding(
                severity="caution",
                code="sizes-unequal",
                node=odd.id,
                column="size",
                message=f"Nodes of role {role.label} differ in size: {', '.join(sizes)}.",
                consequence="The smallest limits all of them.",
                remedy=Remedy(
                    label=f"Use {usual} for {odd.name}",
                    edit=Edit(path=("nodes", odd.id, "size"), value=usual),
                ),
            )


def licence(s: Situation) -> Iterator[Finding]:
    """The licence text of this very package was accepted by a person."""
    if not s.licence_sha256:
        return
    accepted = s.sheet.plan.licence
    if s.licence_recorded:
        return
    if accepted is None or accepted.text != s.licence_sha256:
        changed = accepted is not None
        yield Finding(
            severity="blocker",
            code="licence",
            column="licence",
            message=(
                "The licence text has changed since it was accepted."
                if changed
                else "The licence is not accepted yet."
            ),
            consequence="The product may not be rolled out without it.",
            remedy=Remedy(label="Read and accept the licence"),
        )


def extra_disks(s: Situation) -> Iterator[Finding]:
    """Disks laid on top of the package keep to the maker's limits."""
    for disk in s.sheet.kit.extra_disks:
        for node in s.sheet.nodes:
            if not node.has_any(disk.roles):
                continue
            many = f"disk.{disk.id}.count"
            number, use = node.value(many) or "1", node.value("use")
            size_gib, count = disk.limits(use)
            for column, value, span, unit in (
                (f"disk.{disk.id}", node.value(f"disk.{disk.id}"), size_gib, " GiB"),
                (many, number, count, ""),
            ):
                if column == many and many not in node.cells:
                    continue
                if column != many and number == "0":
                    continue
                if (
                    not value.isdigit()
                    or len(value) > 6
                    or not span.least <= int(value) <= span.most
                ):
                    yield Finding(
                        severity="blocker",
                        code="extra-disk",
                        node=node.id,
                        column=column,
                        message=(
                            f"{disk.label} of {node.name} is"
                            f" “{value[:20]}{unit if value.isdigit() else ''}”; the maker's guide"
                            f" allows{f' for {use}' if use in disk.by_use else ''} {span.least} to"
                            f" {span.most}{unit}."
                        ),
                        consequence=disk.purpose or "The product is not supported that way.",
                        remedy=(
                            Remedy(label=f"Change the rule of its drives ({disk.label})")
                            if node.on_machine
                            else Remedy(
                                label=f"Use {span.usual}{unit}",
                                edit=Edit(path=("nodes", node.id, column), value=str(span.usual)),
                            )
                        ),
                    )
