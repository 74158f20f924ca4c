"""Virtual media (DSP0268, VirtualMedia): under the manager or under the system, by action or by
change, with the members that a controller demands and without those that it does not know.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from nimble_stone.core.errors import Conflict, RemoteFailed, RemoteTimeout
from nimble_stone.hosts.redfish.answers import at, message_ids, on_service, text, words
from nimble_stone.hosts.redfish.service import Service

SETTLE_S = 60.0
"""How long an inserted or ejected medium may take to be reported, seconds."""
BOOTABLE = ("CD", "DVD")


@dataclass(frozen=True)
class Slot:
    """A virtual media slot. `insert` and `eject`: the targets of its actions, '' where it is
    changed itself. `protocols`: the values of TransferProtocolType that it names.
    """

    path: str
    id: str
    kinds: tuple[str, ...]
    image: str
    inserted: bool
    insert: str = ""
    eject: str = ""
    protocols: tuple[str, ...] = ()


async def slots(
    service: Service, system: Mapping[str, Any], manager: Mapping[str, Any] | None
) -> list[Slot]:
    """The slots of a machine: of its manager, else of the system (DSP0268 since 2020.1)."""
    found = await service.members(await service.linked(manager, "VirtualMedia"))
    if not found:
        found = await service.members(await service.linked(system, "VirtualMedia"))
    return [_slot(one) for one in found]


def bootable(found: list[Slot], machine: str) -> Slot:
    """The slot that a CD image goes into: an empty one first. Raises Conflict when there is
    none.
    """
    fitting = [slot for slot in found if not slot.kinds or set(slot.kinds) & set(BOOTABLE)]
    if not fitting:
        raise Conflict(
            f"the controller of {machine} has no virtual CD or DVD",
            code="no-virtual-media",
            hint="Boot it from the network.",
        )
    return sorted(fitting, key=lambda slot: slot.inserted)[0]


async def insert(service: Service, slot: Slot, url: str) -> None:
    """Insert an image and wait until the controller reports it. Raises Conflict when something else
    is inserted, RemoteFailed, RemoteTimeout.
    """
    if slot.inserted:
        raise Conflict(
            f"{slot.id} of {service.name} holds {slot.image or 'an image without a name'}; it was"
            " not inserted by us",
            code="media-inserted",
            hint="If it is no longer needed, eject it on the controller's page, then retry.",
        )
    what = f"insert {url.rsplit('/', 1)[-1][:40]} into {slot.id}"
    if slot.insert:
        await _by_action(service, slot, url, what)
    else:
        await service.change("PATCH", slot.path, {"Image": url, "Inserted": True}, what)
    await _until(service, slot, True, what)


async def eject(service: Service, slot: Slot) -> None:
    """Eject what is inserted and wait until the slot is reported empty. Raises RemoteFailed,
    RemoteTimeout.
    """
    if not slot.inserted:
        return
    what = f"eject {slot.id}"
    if slot.eject:
        await service.change("POST", slot.eject, {}, what)
    else:
        await service.change("PATCH", slot.path, {"Image": None, "Inserted": False}, what)
    await _until(service, slot, False, what)


async def _by_action(service: Service, slot: Slot, url: str, what: str) -> None:
    """InsertMedia, first with all that the standard says is wise, then with less: some controllers
    refuse members that they do not know, some demand TransferProtocolType.
    """
    protocol = {"TransferProtocolType": url.partition(":")[0].upper()}
    full = {"Image": url, "Inserted": True, "WriteProtected": True}
    attempts: list[dict[str, Any]] = [
        full | (protocol if slot.protocols else {}),
        {"Image": url},
        {"Image": url} | protocol,
    ]
    for number, body in enumerate(attempts, 1):
        answer = await service.ask("POST", slot.insert, body)
        if answer.status in (200, 201, 202, 204):
            return
        about_members = answer.status == 400 and any(
            word in ident for ident in message_ids(answer) for word in ("Parameter", "Property")
        )
        if not about_members or number == len(attempts):
            raise service.refused(answer, what)


async def _until(service: Service, slot: Slot, inserted: bool, what: str) -> None:
    waited = 0.0
    while True:
        data = await service.get(slot.path)
        if data is None:
            raise RemoteFailed(
                f"{service.name}: {slot.id} is gone", target=service.name, operation=what
            )
        if _slot(data).inserted is inserted:
            return
        if waited >= SETTLE_S:
            raise RemoteTimeout(
                f"{service.name} accepted to {what}, but does not report it after {SETTLE_S:g} s",
                target=service.name,
                operation=what,
                hint="See whether the controller reaches this server.",
            )
        await service.pause(1.0)
        waited += 1.0


def _slot(data: Mapping[str, Any]) -> Slot:
    action = at(data, "Actions", "#VirtualMedia.InsertMedia")
    image = text(data, "Image")
    return Slot(
        path=text(data, "@odata.id"),
        id=text(data, "Id"),
        kinds=words(data.get("MediaTypes")),
        image=image,
        inserted=data.get("Inserted") is True,
        insert=_target(action),
        eject=_target(at(data, "Actions", "#VirtualMedia.EjectMedia")),
        protocols=words(at(action, "TransferProtocolType@Redfish.AllowableValues")),
    )


def _target(action: Any) -> str:
    target = action.get("target") if isinstance(action, dict) else None
    return target if isinstance(target, str) and on_service(target) else ""
