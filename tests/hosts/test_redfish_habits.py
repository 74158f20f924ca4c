"""Controllers as they are in the wild: with each habit, and with many at once, the same work is
done.
"""

from __future__ import annotations

import asyncio
from pathlib import Path

import pytest
import redfish

from nimble_stone.core.errors import Conflict, RemoteFailed
from nimble_stone.hosts.redfish import until
from nimble_stone.lab.controllers.habits import FOREIGN_IMAGE, HABITS
from nimble_stone.lab.scenario.demo import BMC_PASSWORD
from tests.hosts.controllers import Idle, Place, controller

IMAGE = "https://10.44.0.9:8441/media/abc/inspection.iso"
WORKABLE = sorted(set(HABITS) - {"foreign-image"})
BITES = {
    "etags": 428,
    "tasks": 202,
    "busy": 503,
    "short-sessions": 401,
    "sessions-taken": 503,
    "basic-only": 404,
    "strict-media": 400,
    "change-media": 204,
}
"""Habit → a status that only a controller with it answers here."""
TOGETHER = (
    ("media-at-system", "etags", "tasks", "busy", "pages", "short-sessions", "boot-mode"),
    ("sessions-taken", "etags", "strict-media", "transfer-protocol", "no-allowable", "busy"),
    ("basic-only", "change-media", "etags", "pages", "boot-mode"),
)


async def _boots_from_an_image_once(place: Place) -> None:
    client, box = place.client, place.controller.power
    facts = await client.read_facts(1.0)
    assert facts.missing == ()
    slots = 2 if "second-slot" in place.machine.knobs.habits else 1
    assert (len(facts.drives), len(facts.nics), len(facts.media)) == (10, 4, slots)
    assert await client.insert(IMAGE) == "CD1"
    # once more is no fault: a killed server does everything again
    assert await client.insert(IMAGE) == "CD1"
    assert await client.inserted() == [IMAGE]
    await client.boot_once("Cd")
    await client.power("On")
    assert await until(client, "On", 20, client.pause)
    await asyncio.wait_for(_written(box), 5)
    # used up by booting, as it was asked for once
    assert (await client.read_facts(2.0)).boot_enabled == "Disabled"
    await client.boot_once("Cd")
    await client.boot_as_set()
    assert (await client.read_facts(3.0)).boot_enabled == "Disabled"
    assert await client.eject([IMAGE]) == ["CD1"]
    assert await client.inserted() == []
    await client.power("ForceOff")
    assert await until(client, "Off", 20, client.pause)


async def _written(power: object) -> None:
    box = power._box  # type: ignore[attr-defined]
    assert isinstance(box, Idle)
    while box.booted != ["Cd"]:
        await asyncio.sleep(0.01)


@pytest.mark.parametrize("habit", WORKABLE)
async def test_each_habit_is_coped_with(habit: str, tmp_path: Path) -> None:
    async with controller(tmp_path, habit) as place:
        await _boots_from_an_image_once(place)
        # the habit was met, not passed by
        assert place.controller.answers[BITES.get(habit, 200)] > 0, place.controller.answers


@pytest.mark.parametrize("habits", TOGETHER)
async def test_many_habits_at_once_are_coped_with(habits: tuple[str, ...], tmp_path: Path) -> None:
    async with controller(tmp_path, *habits) as place:
        await _boots_from_an_image_once(place)


async def test_what_somebody_else_inserted_stays(tmp_path: Path) -> None:
    async with controller(tmp_path, "foreign-image") as place:
        with pytest.raises(Conflict, match="was not inserted by us") as refused:
            await place.client.insert(IMAGE)
        assert FOREIGN_IMAGE in str(refused.value)
        assert await place.client.eject([IMAGE]) == []
        assert await place.client.inserted() == [FOREIGN_IMAGE]


async def test_a_machine_without_virtual_media_says_so(tmp_path: Path) -> None:
    async with controller(tmp_path, name="flint") as place:
        with pytest.raises(Conflict, match="no virtual CD or DVD"):
            await place.client.insert(IMAGE)


async def test_a_boot_source_that_is_not_offered_is_told(tmp_path: Path) -> None:
    async with controller(tmp_path) as place:
        with pytest.raises(RemoteFailed, match="cannot boot once from UsbCd; it offers None"):
            await place.client.boot_once("UsbCd")


# self-made certificates, as controllers have them
@pytest.mark.filterwarnings("ignore::urllib3.exceptions.InsecureRequestWarning")
async def test_the_habits_are_the_standards_own_as_the_dmtfs_library_sees_them(
    tmp_path: Path,
) -> None:
    async with controller(tmp_path, "etags", "tasks", "pages", "media-at-system") as place:
        await asyncio.to_thread(_drive_with_the_foreign_client, place.port)
        assert place.machine.image == "http://10.44.0.9/x.iso"


def _drive_with_the_foreign_client(port: int) -> None:
    client = redfish.redfish_client(
        base_url=f"https://127.0.0.1:{port}",
        username="admin",
        password=BMC_PASSWORD,
        timeout=20,
        max_retry=1,
    )
    client.login(auth="session")
    try:
        path = client.get("/redfish/v1/Systems").dict["Members"][0]["@odata.id"]
        change = {"Boot": {"BootSourceOverrideTarget": "Cd", "BootSourceOverrideEnabled": "Once"}}
        assert client.patch(path, body=change).status == 428
        assert client.patch(path, body=change, headers={"If-Match": 'W/"old"'}).status == 412
        tag = client.get(path).getheader("etag")
        assert client.patch(path, body=change, headers={"If-Match": tag}).status == 204
        nics = client.get(client.get(path).dict["EthernetInterfaces"]["@odata.id"]).dict
        assert (len(nics["Members"]), nics["Members@odata.count"]) == (2, 4)
        rest = client.get(nics["Members@odata.nextLink"]).dict
        assert len(rest["Members"]) == 2
        slots = client.get(client.get(path).dict["VirtualMedia"]["@odata.id"]).dict
        slot = client.get(slots["Members"][0]["@odata.id"]).dict
        insert = slot["Actions"]["#VirtualMedia.InsertMedia"]["target"]
        answer = client.post(insert, body={"Image": "http://10.44.0.9/x.iso"})
        assert answer.is_processing
        while answer.is_processing:
            answer = answer.monitor(client)
        assert answer.status == 204
    finally:
        client.logout()
