"""Whether what a kit names is there: roles, disks, networks, steps and their order."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

from nimble_stone.core import drive_rule
from nimble_stone.core.errors import FormatError
from nimble_stone.core.kit import membership
from nimble_stone.core.kit.roles import NEEDS_NODES, Role
from nimble_stone.core.kit.sizing import STORED_UNITS
from nimble_stone.core.kit.texts import is_system, reads

if TYPE_CHECKING:
    from nimble_stone.core.kit.model import Kit


def check(kit: Kit) -> None:
    """Raises ValueError for the first fault."""
    roles = {role.id for role in kit.roles}
    _check_ids(kit)
    _check_roles(kit, roles)
    _check_carried(kit, roles)
    _check_built_hosts(kit)
    _check_management(kit)
    _check_disks(kit, roles)
    _check_forming(kit, roles)
    _check_stages(kit)
    membership.check(kit.joining, kit.leaving, roles, kit.forming)
    _check_upgrading(kit)
    _check_role_names(kit, roles)
    _check_addresses(kit)
    _check_layout(kit)
    _check_sizing(kit, roles)


def _check_management(kit: Kit) -> None:
    """Nodes are reached on a network where they have an address, by a password that is asked; who
    is only asked by commands tells no members.
    """
    networks = {net.id: net for net in kit.networks}
    if kit.managed_on and not (kit.managed_on in networks and networks[kit.managed_on].addressed):
        raise ValueError(f"managed_on names “{kit.managed_on}”, on which nodes have no address")
    asking = [one for one in kit.acceptance if one.kind in ("members", "one-lead")]
    if asking and not kit.service.path:
        raise ValueError(
            f"acceptance check “{asking[0].id}” asks for members, but nodes are only asked by"
            " command"
        )
    if kit.question(kit.admin_password) is None:
        raise ValueError(
            f"admin_password names “{kit.admin_password}”, which is not a setting of this kit"
        )


def _check_ids(kit: Kit) -> None:
    """Ids are given once."""
    seen: set[str] = set()
    for proof in kit.acceptance:
        if proof.id in seen:
            raise ValueError(f"two acceptance checks share the id “{proof.id}”")
        seen.add(proof.id)
    for ident, many in [
        ("id", [q.id for q in kit.questions]),
        ("network", [n.id for n in kit.networks]),
        ("role", [r.id for r in kit.roles]),
    ]:
        if twice := {one for one in many if many.count(one) > 1}:
            raise ValueError(f"{ident} “{sorted(twice)[0]}” occurs twice")


def _check_roles(kit: Kit, roles: set[str]) -> None:
    """Roles come after, and stand beside, roles of this kit; their counts are possible."""
    for role in kit.roles:
        if unknown := set(role.after) - roles:
            raise ValueError(
                f"role “{role.id}” comes after “{sorted(unknown)[0]}”, which is not a role of"
                " this kit"
            )
    for role in kit.roles:
        if not role.count.per_host and not role.count.allows(role.count.usual):
            raise ValueError(
                f"role “{role.id}”: usual {role.count.usual} is not among {role.count.words()}"
            )
        if role.beside and (role.beside not in roles or role.beside == role.id):
            raise ValueError(
                f"role “{role.id}” is next to “{role.beside}”, which is not another role of"
                " this kit"
            )
        if bool(role.environment) != bool(role.accepts):
            raise ValueError(
                f"role “{role.id}”: accepts and environment belong together: another product"
                " has its own properties"
            )
    for rule in kit.separate:
        if unknown := set(rule.roles) - roles:
            raise ValueError(f"separate: “{sorted(unknown)[0]}” is not a role of this kit")
    if all(role.accepts for role in kit.roles):
        raise ValueError("every role has another product, so no role uses the kit's")


def _check_carried(kit: Kit, roles: set[str]) -> None:
    """Roles are carried by nodes that there are; what has no nodes needs nothing of its own."""
    real = {role.id for role in kit.roles if role.own_nodes}
    for role in kit.roles:
        if unknown := set(role.carried_by) - (real - {role.id}):
            raise ValueError(
                f"role “{role.id}” is carried by “{sorted(unknown)[0]}”, which is not another"
                " role of this kit with nodes"
            )
        if unknown := set(role.not_with) - roles:
            raise ValueError(
                f"role “{role.id}” is not with “{sorted(unknown)[0]}”, which is not a role of"
                " this kit"
            )
        if waits := sorted(set(role.carried_by) & _waiting_for(kit, role.id)):
            raise ValueError(
                f"role “{waits[0]}” comes after “{role.id}”, which its own nodes may carry"
            )
        if role.own_nodes:
            continue
        if not role.carried_by:
            raise ValueError(f"role “{role.id}” has no nodes: say what it is “carried_by”")
        fields = Role.model_fields
        for name in sorted(NEEDS_NODES):
            # a kit that was written out names every field
            if getattr(role, name) != fields[name].default:
                raise ValueError(f"role “{role.id}” has no nodes, so it cannot have “{name}”")
        if role.count.per_host:
            raise ValueError(f"role “{role.id}” has no nodes, so not one on each host")


def _waiting_for(kit: Kit, ident: str) -> set[str]:
    return {role.id for role in kit.roles if ident in role.after}


def _check_built_hosts(kit: Kit) -> None:
    """Nodes that become hosts live on machines and take SSH logins."""
    for role in kit.roles:
        if role.becomes_host and not kit.ssh:
            raise ValueError(
                f"role “{role.id}” becomes hosts, but nodes of this kit take no SSH logins"
            )
        if role.becomes_host and role.lives_on == "hosts":
            raise ValueError(
                f"role “{role.id}” becomes hosts, but its nodes do not live on machines"
            )


def _check_disks(kit: Kit, roles: set[str]) -> None:
    """Extra disks are for roles and uses of this kit, and their limits are in order."""
    for rule in (
        *(role.system_drive for role in kit.roles),
        *(disk.drives for disk in kit.extra_disks),
    ):
        try:
            drive_rule.parse(rule)
        except FormatError as error:
            raise ValueError(f"{error}: {error.hint}") from error
    for disk in kit.extra_disks:
        if unknown := set(disk.roles) - roles:
            raise ValueError(
                f"extra disk “{disk.id}” is for “{sorted(unknown)[0]}”, which is not a role of"
                " this kit"
            )
        if unknown := set(disk.by_use) - set(kit.uses):
            raise ValueError(
                f"extra disk “{disk.id}” names “{sorted(unknown)[0]}”, which is not a purpose"
                " of this kit"
            )
        for use in ("", *disk.by_use):
            for name, span in zip(("size_gib", "count"), disk.limits(use), strict=True):
                if not span.least <= span.usual <= span.most:
                    raise ValueError(f"extra disk “{disk.id}”: {name} needs least ≤ usual ≤ most")


def _check_forming(kit: Kit, roles: set[str]) -> None:
    """Forming steps are for roles of this kit, come after earlier ones, and can be sent."""
    fetched: set[str] = set()
    for number, step in enumerate(kit.forming):
        for file in step.call.put:
            if file.fetched and file.fetched not in fetched:
                raise ValueError(
                    f"setup step “{step.id}” puts the file “{file.fetched}”, which no earlier"
                    " step fetches"
                )
        fetched |= set(step.call.fetch) | set(step.observe.fetch if step.observe else ())
        if step.role != "cluster" and step.role not in roles:
            raise ValueError(
                f"setup step “{step.id}” is for “{step.role}”, which is not a role of this kit"
            )
        if not step.call.is_said:
            raise ValueError(f"setup step “{step.id}” has neither a path nor a command")
        if step.undo is not None and (not is_system(kit, step.asks) or step.observe is None):
            raise ValueError(
                f"setup step “{step.id}” has `undo`, so it needs `observe` and asks a system"
            )
        if step.over and step.observe is None:
            raise ValueError(
                f"setup step “{step.id}” goes over “{step.over}”, so it needs `observe`"
            )
        asked = kit.question(step.over) if step.over else None
        if step.over and (asked is None or asked.secret):
            raise ValueError(
                f"setup step “{step.id}” goes over “{step.over}”, which is"
                f" {'a secret' if asked else 'not a setting of this kit'}"
            )
        if unknown := set(step.after) - {one.id for one in kit.forming[:number]}:
            raise ValueError(
                f"setup step “{step.id}” comes after “{sorted(unknown)[0]}”, which is not an"
                " earlier step"
            )


def _check_stages(kit: Kit) -> None:
    """Steps are written in the order of their stages, and each stage has something in it."""
    order = {None: -1} | {one.id: place for place, one in enumerate(kit.stages)}
    reached = -1
    for step in kit.forming:
        if step.stage not in order:
            raise ValueError(
                f"setup step “{step.id}” is of stage “{step.stage}”, which this kit has not"
            )
        if order[step.stage] < reached:
            raise ValueError(
                f"setup step “{step.id}” of stage “{step.stage or 'none'}” is written after"
                " steps of a later stage"
            )
        reached = order[step.stage]
    for check in kit.acceptance:
        if check.stage not in order:
            raise ValueError(
                f"acceptance check “{check.id}” is of stage “{check.stage}”, which this kit has not"
            )
    if unknown := set(kit.healthy) - {check.id for check in kit.acceptance}:
        raise ValueError(f"healthy names “{sorted(unknown)[0]}”, which is not an acceptance check")
    used = {step.stage for step in kit.forming} | {one.stage for one in kit.acceptance}
    for stage in kit.stages:
        if stage.id not in used:
            raise ValueError(f"stage “{stage.id}” has neither steps nor checks")


def _check_upgrading(kit: Kit) -> None:
    """Each is for a role of its own, whose disks can be replaced."""
    seen: set[str] = set()
    for one in kit.upgrading:
        role = kit.role(one.role)
        if role is None or one.role in seen:
            why = "twice" if role else "which is not a role of this kit"
            raise ValueError(f"upgrading names “{one.role}”, {why}")
        seen.add(one.role)
        if one.way == "system" and role.installer is not None:
            raise ValueError(
                f"nodes of role “{one.role}” cannot have their system disk replaced: an"
                " installer makes it; use the way “again”"
            )


def _check_role_names(kit: Kit, roles: set[str]) -> None:
    """Whatever names roles names roles of this kit."""
    for what, ident, names in [
        *(("network", one.id, one.roles) for one in kit.networks),
        *(("virtual address", one.id, one.members) for one in kit.virtual),
        *(("port", str(one.port), one.to) for one in kit.ports),
        *(("balanced service", one.id, one.members) for one in kit.balanced),
        *(("list", one.id, one.of) for one in kit.lists),
        *(("certificate", one.id, one.roles) for one in kit.certificates),
        *(("size", one.size, one.roles) for one in kit.sizes),
    ]:
        if unknown := set(names) - roles:
            raise ValueError(
                f"{what} “{ident}” names “{sorted(unknown)[0]}”, which is not a role of this kit"
            )


def _check_addresses(kit: Kit) -> None:
    """Virtual addresses lie in networks, balanced services turn to virtual addresses."""
    networks = {network.id for network in kit.networks}
    for virtual in kit.virtual:
        if virtual.network and virtual.network not in networks:
            raise ValueError(
                f"virtual address “{virtual.id}” is in “{virtual.network}”, which is not a"
                " network of this kit"
            )
    for balanced in kit.balanced:
        if balanced.virtual not in {one.id for one in kit.virtual}:
            raise ValueError(
                f"balanced service “{balanced.id}” uses “{balanced.virtual}”, which is not a"
                " virtual address of this kit"
            )


def _check_layout(kit: Kit) -> None:
    """Data is stored on extra disks of this kit, by values that its settings allow."""
    if not kit.data_layout:
        return
    if unknown := set(kit.data_layout.disks) - {disk.id for disk in kit.extra_disks}:
        raise ValueError(
            f"data_layout uses “{sorted(unknown)[0]}”, which is not an extra disk of this kit"
        )
    for ident, answer in (
        (ident, answer) for way in kit.data_layout.schemes for ident, answer in way.answers.items()
    ):
        asked = kit.question(ident)
        if asked is None or (asked.rule.choices and answer not in asked.rule.choices):
            raise ValueError(
                f"data_layout sets “{ident}” to “{answer}”, which is not a"
                f" {'choice of it' if asked else 'setting of this kit'}"
            )


def _check_sizing(kit: Kit, roles: set[str]) -> None:
    """Sizing is for roles, and names loads, of this kit."""
    if not kit.sizing:
        return
    loads = {load.id for load in kit.sizing.loads}
    _check_stored(kit, {load.id: load.unit for load in kit.sizing.loads if load.stored})
    for ident, sizing in kit.sizing.roles.items():
        if ident not in roles:
            raise ValueError(f"sizing is for “{ident}”, which is not a role of this kit")
        for carries in (sizing.carries, *sizing.by_size.values()):
            _check_carries(ident, carries, loads)
        reads(
            f"sizing of “{ident}”",
            sizing.count,
            loads | {f"count.{role}" for role in roles},
        )


def _check_stored(kit: Kit, stored: Mapping[str, str]) -> None:
    """Loads that data disks carry have such disks, a unit of bytes, and no formula."""
    formulas = {
        load
        for sizing in (kit.sizing.roles.values() if kit.sizing else ())
        for carries in (sizing.carries, *sizing.by_size.values())
        for load in carries
    }
    for ident, unit in stored.items():
        if kit.data_layout is None:
            raise ValueError(f"load “{ident}” is stored, but the kit has no data_layout")
        if unit not in STORED_UNITS:
            raise ValueError(f"load “{ident}” is stored, so its unit is GiB or TiB")
        if ident in formulas:
            raise ValueError(f"load “{ident}” is stored, so no formula may say how much fits")


def _check_carries(ident: str, carries: Mapping[str, str], loads: set[str]) -> None:
    if unknown := set(carries) - loads:
        raise ValueError(
            f"sizing of “{ident}” names “{sorted(unknown)[0]}”, which is not a load of this kit"
        )
    for formula in carries.values():
        reads(f"sizing of “{ident}”", formula, loads | {"n", "vcpu", "memory_gib"})
