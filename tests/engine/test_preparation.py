"""Groundwork on stand-in hosts: seen beforehand, done, repeated without effect, taken back; and
refused where it would do harm.
"""

from __future__ import annotations

import asyncio
from collections.abc import Iterator
from typing import Any

import asyncssh
import pytest

from nimble_stone.cli.client import Client
from nimble_stone.core.errors import StoneError
from nimble_stone.lab.scenario import demo
from tests.support.processes import LabProcess, ServerProcess, lab_and_server, wait_for

Place = tuple[LabProcess, ServerProcess, Client]


@pytest.fixture(scope="module")
def place(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Place]:
    with lab_and_server(tmp_path_factory.mktemp("ground")) as found:
        lab, _, client = found
        client.call("POST", "/api/estate", demo.estate_file(lab.plan).model_dump(mode="json"))
        client.call("POST", "/api/estate/read", {})
        yield found


def preview(client: Client, *actions: dict[str, Any]) -> dict[str, Any]:
    return dict(client.call("POST", "/api/estate/groundwork/preview", {"actions": list(actions)}))


def begin(client: Client, *actions: dict[str, Any], **more: Any) -> str:
    run = preview(client, *actions)["run"]
    client.call(
        "POST", "/api/estate/groundwork", {"run": run, "work": {"actions": list(actions), **more}}
    )
    return str(run)


def state(client: Client, run: str, *wanted: str) -> dict[str, Any]:
    view: dict[str, Any] = {}

    def there() -> bool:
        nonlocal view
        view = client.call("GET", f"/api/groundwork/{run}")
        return view["state"] in wanted

    try:
        wait_for(there, 60, f"{wanted}")
    except AssertionError as error:
        raise AssertionError(
            f"{view['state']}: {[(s['key'], s['state'], s['message']) for s in view['steps']]}"
        ) from error
    return view


def do(client: Client, *actions: dict[str, Any], **more: Any) -> str:
    run = begin(client, *actions, **more)
    view = state(client, run, "done", "trouble")
    assert view["state"] == "done", [(s["key"], s["message"]) for s in view["steps"]]
    return run


def undo(client: Client, run: str) -> None:
    client.call("POST", f"/api/groundwork/{run}/undo", {})
    state(client, run, "undone")


def host(lab: LabProcess, name: str) -> dict[str, Any]:
    return dict(lab.show()["hosts"][name])


def by_hand(lab: LabProcess, name: str, *commands: str, stdin: str = "") -> None:
    """Somebody at the host's own console, without the product."""

    async def work() -> None:
        plan = next(one for one in lab.plan.hosts if one.name == name)
        address, port = lab.plan.real(plan.address, 22)
        async with asyncssh.connect(
            address,
            port,
            username="root",
            password=demo.PASSWORD,
            known_hosts=None,
            config=None,
            agent_path=None,
        ) as link:
            for command in commands:
                done = await link.run(f"LC_ALL=C timeout -k 2 10 {command}", input=stdin)
                assert done.exit_status == 0, (command, done.stderr)

    asyncio.run(work())


def broken(client: Client, name: str) -> dict[str, dict[str, Any]]:
    return {
        v["rule"]: v
        for v in client.call("GET", "/api/estate/rules")["violations"]
        if v["host"] == name
    }


def without_effect(place: Place, name: str, *actions: dict[str, Any]) -> None:
    """Doing it again makes nothing, and taking that second run back takes nothing away."""
    lab, _, client = place
    before = host(lab, name)
    again = do(client, *actions)
    assert host(lab, name)["log"] == before["log"]
    undo(client, again)
    after = host(lab, name)
    assert (after["log"], after["stores"], after["nets"], after["files"]) == (
        before["log"],
        before["stores"],
        before["nets"],
        before["files"],
    )


def test_what_is_shown_is_what_is_sent_and_lies_in_the_transcript(place: Place) -> None:
    lab, _, client = place
    action = {
        "kind": "datastore-folder",
        "host": "gannet",
        "name": "gannet-scratch",
        "path": "/srv/scratch",
    }
    seen = preview(client, action)
    [step] = seen["steps"]
    assert step["refusals"] == []
    assert "virsh -q -c qemu:///system pool-define /dev/stdin <<'END'" in step["commands"][0]
    assert "<path>/srv/scratch</path>" in step["commands"][0]
    # a preview sends nothing
    assert "gannet-scratch" not in host(lab, "gannet")["stores"]
    client.call(
        "POST",
        "/api/estate/groundwork",
        {
            "run": seen["run"],
            "work": {"actions": [action], "care": {"watermark": 0.7, "protection": "disposable"}},
        },
    )
    state(client, seen["run"], "done")
    sent = [
        entry["command"]
        for entry in client.call("GET", f"/api/runs/{seen['run']}/transcript?step={step['key']}")
    ]
    assert [c.strip() for c in step["commands"]] == [
        s.strip() for s in sent if any(s.strip() == c.strip() for c in step["commands"])
    ]
    estate = client.call("GET", "/api/estate/facts")
    # read anew by itself
    assert any(
        store["name"] == "gannet-scratch" and store["active"]
        for store in estate["facts"]["gannet"]["datastores"]
    )
    assert {care["place"]: care["protection"] for care in estate["stores"]}[
        "gannet/gannet-scratch"
    ] == "disposable"
    without_effect(place, "gannet", action)
    undo(client, seen["run"])
    assert "gannet-scratch" not in host(lab, "gannet")["stores"]
    # a run begins once
    assert (
        client.call(
            "POST", "/api/estate/groundwork", {"run": seen["run"], "work": {"actions": [action]}}
        )["state"]
        == "undone"
    )


@pytest.mark.parametrize(
    ("rule", "name"), [("resolves", "knot"), ("time-source", "whimbrel"), ("networks", "knot")]
)
def test_a_violation_brings_its_remedy_and_is_gone_afterwards(
    place: Place, rule: str, name: str
) -> None:
    _, _, client = place
    violation = broken(client, name)[rule]
    run = do(client, violation["action"])
    assert rule not in broken(client, name)
    without_effect(place, name, violation["action"])
    undo(client, run)
    assert rule in broken(client, name)


def test_a_network_is_carried_over_a_trunk_by_networkd_too(place: Place) -> None:
    lab, _, client = place
    action = {
        "kind": "carry-network",
        "host": "tern",
        "network": "storage",
        "bridge": "br-storage",
        "uplink": "eno2",
        "vlan": 460,
        "mtu": 9000,
        "address": "10.44.60.77/24",
        "setup": "networkd",
    }
    run = do(client, action)
    files = host(lab, "tern")["files"]
    assert "VLAN=eno2.460" in "".join(text for path, text in files.items() if "eno2" in path)
    assert all(
        text.startswith(f"# nimble-stone:{run}\n")
        for path, text in files.items()
        if "nimble-stone" in path
    )
    facts = client.call("GET", "/api/estate/facts")["facts"]["tern"]
    link = next(link for link in facts["interfaces"] if link["name"] == "br-storage")
    assert (link["addresses"], link["mtu"]) == (["10.44.60.77/24"], 9000)
    without_effect(place, "tern", action)
    undo(client, run)
    assert {"br-storage", "eno2.460"}.isdisjoint(host(lab, "tern")["links"])
    for wrong, words in (
        ({"uplink": "eno9"}, "no interface"),
        ({"uplink": "eno3"}, "no link"),
        ({"setup": "ifupdown"}, "networkd"),
        ({"uplink": "eno1", "vlan": None}, "carries"),
        ({"mtu": 9100}, "9000 at most"),
        ({"address": "10.45.1.15/22"}, "reach it by"),
    ):
        assert words in " ".join(preview(client, action | wrong)["steps"][0]["refusals"]), wrong


def test_an_isolated_network_a_shared_datastore_and_a_fencing_volume(place: Place) -> None:
    lab, _, client = place
    isolated = {
        "kind": "isolated-network",
        "host": "fulmar",
        "name": "inner",
        "bridge": "virbr-inner",
    }
    run = do(client, isolated)
    facts = client.call("GET", "/api/estate/facts")["facts"]["fulmar"]
    assert next(net for net in facts["networks"] if net["name"] == "inner")["isolated"]
    without_effect(place, "fulmar", isolated)
    undo(client, run)
    assert "inner" not in host(lab, "fulmar")["nets"]
    nfs = [
        {
            "kind": "datastore-nfs",
            "host": name,
            "name": "kelda-cold",
            "server": "filer.kelda.holm.example",
            "export": "/export/cold",
        }
        for name in ("gannet", "skua")
    ]
    do(client, *nfs, care={"protection": "protected"})
    estate = client.call("GET", "/api/estate/facts")
    shared = {
        next(s["shared"] for s in estate["facts"][name]["datastores"] if s["name"] == "kelda-cold")
        for name in ("gannet", "skua")
    }
    # two hosts, one datastore
    assert shared == {"filer.kelda.holm.example:/export/cold"}
    fence = {
        "kind": "fencing-volume",
        "host": "gannet",
        "datastore": "kelda-cold",
        "name": "witness",
    }
    run = do(client, fence)
    assert "ns-witness" in host(lab, "skua")["volumes"]
    without_effect(place, "gannet", fence)
    undo(client, run)
    assert "ns-witness" not in host(lab, "skua")["volumes"]
    # VMs of one host may use a datastore of their host; one that is not there is none
    assert preview(client, fence | {"datastore": "gannet-local"})["steps"][0]["refusals"] == []
    there = preview(client, fence | {"datastore": "nowhere"})["steps"][0]["refusals"][0]
    assert "is not there, or not started" in there
    bad = begin(
        client,
        {
            "kind": "datastore-nfs",
            "host": "fulmar",
            "name": "nowhere",
            "server": "filer.kelda.holm.example",
            "export": "/export/none",
        },
    )
    assert "access denied" in state(client, bad, "trouble")["steps"][0]["message"]
    undo(client, bad)
    assert "nowhere" not in host(lab, "fulmar")["stores"]


def test_a_disk_is_wiped_only_when_it_is_the_one_that_was_confirmed(place: Place) -> None:
    lab, _, client = place
    wipe = broken(client, "petrel")["remains"]["action"]
    assert preview(client, wipe)["steps"][0]["confirm"] == "petrel /dev/sdc"
    assert "type “petrel /dev/sdc”" in preview(client, wipe)["steps"][0]["refusals"][0]
    with pytest.raises(StoneError, match="type"):
        begin(client, wipe)
    assert host(lab, "petrel")["disks"]["sdc"] == "gpt"
    for wrong, words in (
        ({"device": "/dev/sda"}, "left alone"),
        ({"serial": "other"}, "another disk"),
        ({"content": "nothing"}, "something else"),
        ({"device": "/dev/sdx"}, "not seen"),
    ):
        assert (
            words
            in preview(client, wipe | wrong | {"confirmed": "petrel /dev/sdc"})["steps"][0][
                "refusals"
            ][0]
        )
    dunlin = {
        "kind": "wipe-disk",
        "host": "dunlin",
        "device": "/dev/sdb",
        "serial": "",
        "size_bytes": 0,
        "confirmed": "dunlin /dev/sdb",
    }
    assert (
        "volume group" in preview(client, dunlin)["steps"][0]["refusals"][0]
        or "mounted" in preview(client, dunlin)["steps"][0]["refusals"][0]
    )
    store = {
        "kind": "datastore-disk",
        "host": "petrel",
        "name": "petrel-data",
        "device": "/dev/sdc",
    }
    assert "wipe it first" in preview(client, store)["steps"][0]["refusals"][0]
    both = [wipe | {"confirmed": "petrel /dev/sdc"}, store]
    # wiped, formatted, mounted, in this order
    run = do(client, *both)
    assert host(lab, "petrel")["disks"]["sdc"] == "ext4"
    assert "remains" not in broken(client, "petrel")
    disk = next(
        d
        for d in client.call("GET", "/api/estate/facts")["facts"]["petrel"]["disks"]
        if d["name"] == "sdc"
    )
    assert (disk["use"], disk["why"]) == (
        "mounted",
        "mounted at /var/lib/libvirt/images/petrel-data",
    )
    without_effect(place, "petrel", store)
    # what is run again is confirmed anew
    work = client.call("GET", f"/api/groundwork/{run}/work")
    assert [one.get("confirmed") for one in work["actions"]] == ["", None]
    undo(client, run)
    assert "petrel-data" not in host(lab, "petrel")["stores"]
    assert (
        "cannot be restored"
        in next(
            s
            for s in client.call("GET", f"/api/groundwork/{run}")["steps"]
            if s["kind"] == "wipe-disk"
        )["message"]
    )


def test_a_datastore_is_renamed_unless_guests_use_it_by_name(place: Place) -> None:
    lab, _, client = place
    do(
        client,
        {"kind": "datastore-folder", "host": "skua", "name": "default", "path": "/srv/default"},
    )
    action = broken(client, "skua")["store-named"]["action"]
    assert (
        action
        == {
            "kind": "rename-datastore",
            "host": "skua",
            "name": "default",
            "to": "skua-local",
        }
        or action is None
    )
    rename = {"kind": "rename-datastore", "host": "skua", "name": "default", "to": "skua-default"}
    run = do(client, rename)
    assert {"skua-default"} == set(host(lab, "skua")["stores"]) & {"skua-default", "default"}
    without_effect(place, "skua", rename)
    undo(client, run)
    assert {"default"} == set(host(lab, "skua")["stores"]) & {"skua-default", "default"}
    assert "already" in preview(client, rename | {"to": "skua-local"})["steps"][0]["refusals"][0]


def test_a_key_is_put_on_hosts_tried_and_then_passwords_are_refused(place: Place) -> None:
    lab, server, client = place
    key = client.call("POST", "/api/estate/keys", {"name": "rollout-key"})
    # asked twice, made once
    assert client.call("POST", "/api/estate/keys", {"name": "rollout-key"}) == key
    put = {
        "kind": "ssh-key",
        "host": "dunlin",
        "credential": "rollout-key",
        "public": key["public"],
    }
    refuse = {"kind": "refuse-passwords", "host": "dunlin"}
    assert "put a key first" in preview(client, refuse)["steps"][0]["refusals"][0]
    first = do(client, put)
    estate = client.call("GET", "/api/estate/facts")
    assert next(h["credential"] for h in estate["hosts"] if h["name"] == "dunlin") == "rollout-key"
    assert "by-key" not in broken(client, "dunlin")
    second = do(client, refuse)
    assert "passwords" not in broken(client, "dunlin")
    client.call("POST", "/api/estate/read", {"hosts": ["dunlin"]})
    # the key alone opens the door
    assert not client.call("GET", "/api/estate/facts")["facts"]["dunlin"]["trouble"]
    client.call("POST", f"/api/groundwork/{first}/undo", {})
    wait_for(
        lambda: any(
            "previous login" in s["message"]
            for s in client.call("GET", f"/api/groundwork/{first}")["steps"]
        ),
        30,
        "the refusal",
    )
    undo(client, second)
    undo(client, first)
    assert "ssh-ed25519" not in host(lab, "dunlin")["files"]["/root/.ssh/authorized_keys"]
    assert (
        next(
            h["credential"]
            for h in client.call("GET", "/api/estate/facts")["hosts"]
            if h["name"] == "dunlin"
        )
        == demo.CREDENTIAL
    )
    sealed = (server.data / "nimble-stone.db").read_bytes() + (
        server.data / "nimble-stone.db-wal"
    ).read_bytes()
    assert b"OPENSSH PRIVATE KEY" not in sealed


def test_one_host_that_fails_disturbs_no_other_and_is_retried(place: Place) -> None:
    lab, _, client = place
    lab.turn("tern", unreachable=True)
    actions = [
        {
            "kind": "names",
            "host": name,
            "records": [{"address": "10.45.9.9", "names": ["tide-gate"]}],
        }
        for name in ("tern", "whimbrel")
    ]
    run = begin(client, *actions)
    view = state(client, run, "trouble")
    assert {s["host"]: s["state"] for s in view["steps"]} == {"tern": "failed", "whimbrel": "done"}
    lab.turn("tern", unreachable=False)
    client.call("POST", f"/api/groundwork/{run}/retry", {})
    state(client, run, "done")
    assert "10.45.9.9 tide-gate" in host(lab, "tern")["files"]["/etc/hosts"]
    with pytest.raises(StoneError, match="twice"):
        preview(client, actions[0], actions[0])
    undo(client, run)
    assert "tide-gate" not in host(lab, "whimbrel")["files"]["/etc/hosts"]


def test_a_server_that_is_killed_at_any_moment_goes_on_and_does_nothing_twice(place: Place) -> None:
    lab, server, client = place
    actions = [
        {
            "kind": "datastore-folder",
            "host": name,
            "name": f"{name}-more",
            "path": f"/srv/{name}-more",
        }
        for name in ("gannet", "fulmar", "skua", "petrel")
    ]
    actions += [
        {
            "kind": "names",
            "host": name,
            "records": [{"address": "10.44.9.10", "names": ["lock-gate"]}],
        }
        for name in ("gannet", "fulmar", "skua", "petrel")
    ]
    for name in ("gannet", "fulmar", "skua", "petrel"):
        lab.turn(name, slow_s=0.04)
    run = begin(client, *actions)
    for life in range(5):
        wait_for(
            lambda least=life: (
                client.call("GET", f"/api/groundwork/{run}")["last_event"] > 4 * least
                or client.call("GET", f"/api/groundwork/{run}")["state"] == "done"
            ),
            30,
            "progress",
        )
        server.kill()
        server.start()
    state(client, run, "done")
    for name in ("gannet", "fulmar", "skua", "petrel"):
        assert host(lab, name)["log"].count(f"defined pool {name}-more") == 1
        assert host(lab, name)["files"]["/etc/hosts"].count("lock-gate") == 1
    undo(client, run)


def test_what_is_defined_but_asleep_is_started_and_left_asleep_again(place: Place) -> None:
    lab, _, client = place

    by_hand(
        lab,
        "fulmar",
        *(
            f"virsh -q -c qemu:///system {words}"
            for words in (
                "net-destroy storage",
                "net-autostart storage --disable",
                "pool-destroy kelda-shared",
                "pool-autostart kelda-shared --disable",
            )
        ),
    )
    client.call("POST", "/api/estate/read", {"hosts": ["fulmar"]})
    asleep = broken(client, "fulmar")
    actions = [asleep["networks-started"]["action"], asleep["stores-active"]["action"]]
    assert [action["kind"] for action in actions] == ["start-network", "start-datastore"]
    run = do(client, *actions)
    assert not {"networks-started", "stores-active"} & set(broken(client, "fulmar"))
    without_effect(place, "fulmar", *actions)
    undo(client, run)
    assert {"networks-started", "stores-active"} <= set(broken(client, "fulmar"))
    do(client, *actions)


# What is not of the run stays, whatever the run had begun to do: somebody came between, or was
# there before.


def in_vain(client: Client, *actions: dict[str, Any]) -> tuple[str, str]:
    """Begun, failed, tried again and failed again: (run, what was said)."""
    run = begin(client, *actions)
    state(client, run, "trouble")
    client.call("POST", f"/api/groundwork/{run}/retry", {})
    wait_for(
        lambda: client.call("GET", f"/api/groundwork/{run}")["steps"][-1]["attempt"] > 1,
        30,
        "the second try",
    )
    view = state(client, run, "trouble", "done")
    assert view["state"] == "trouble", view["sentence"]
    return run, str(view["steps"][-1]["message"])


def test_a_disk_that_somebody_formatted_meanwhile_is_neither_taken_nor_wiped(place: Place) -> None:
    lab, _, client = place
    store = {"kind": "datastore-disk", "host": "gannet", "name": "gannet-raw", "device": "/dev/sdc"}
    # by the last reading it is free
    assert preview(client, store)["steps"][0]["refusals"] == []
    by_hand(lab, "gannet", "mkfs.ext4 -q /dev/sdc")
    run, words = in_vain(client, store)
    assert "not free" in words
    undo(client, run)
    assert host(lab, "gannet")["disks"]["sdc"] == "ext4"
    assert "wiped /dev/sdc" not in host(lab, "gannet")["log"]


def test_a_disk_whose_content_changed_after_it_was_confirmed_is_not_wiped_at_the_second_try_either(
    place: Place,
) -> None:
    lab, _, client = place
    by_hand(lab, "skua", "mkfs.ext4 -q -L scrap /dev/sdb")
    client.call("POST", "/api/estate/read", {"hosts": ["skua"]})
    wipe = broken(client, "skua")["remains"]["action"] | {"confirmed": "skua /dev/sdb"}
    assert wipe["content"].endswith("labelled scrap")
    by_hand(lab, "skua", "mkfs.ext4 -q -L needed /dev/sdb")
    run, words = in_vain(client, wipe)
    assert "labelled needed" in words
    undo(client, run)
    assert host(lab, "skua")["disks"]["sdb"] == "ext4"


def test_files_and_bridges_of_others_are_neither_overwritten_nor_removed(place: Place) -> None:
    lab, _, client = place
    path = "/etc/systemd/network/40-nimble-stone-br-x.netdev"
    by_hand(lab, "tern", f"tee {path}", stdin="[NetDev]\nName=br-x\n")
    carry = {
        "kind": "carry-network",
        "host": "tern",
        "network": "x",
        "bridge": "br-x",
        "uplink": "eno2",
        "vlan": 77,
        "setup": "networkd",
    }
    run, words = in_vain(client, carry)
    assert "not created by this run" in words
    undo(client, run)
    assert host(lab, "tern")["files"][path] == "[NetDev]\nName=br-x\n"
    assert "already" in " ".join(
        preview(client, carry | {"bridge": "br-management"})["steps"][0]["refusals"]
    )


def test_the_time_server_of_another_run_stays(place: Place) -> None:
    lab, _, client = place
    path = "/etc/chrony/sources.d/nimble-stone.sources"
    first = do(client, {"kind": "time-source", "host": "whimbrel", "server": "10.45.0.5"})
    kept = host(lab, "whimbrel")["files"][path]
    second, words = in_vain(
        client, {"kind": "time-source", "host": "whimbrel", "server": "10.44.0.5"}
    )
    assert "not created by this run" in words
    undo(client, second)
    assert host(lab, "whimbrel")["files"][path] == kept
    undo(client, first)
    assert path not in host(lab, "whimbrel")["files"]


def test_a_fencing_volume_that_another_run_made_stays(place: Place) -> None:
    lab, _, client = place
    fence = {
        "kind": "fencing-volume",
        "host": "gannet",
        "datastore": "kelda-shared",
        "name": "arbiter",
    }
    client.call("POST", "/api/estate/read", {"hosts": ["gannet"]})
    lab.turn("gannet", full=True)
    first, words = in_vain(client, fence)
    assert "No space left" in words
    lab.turn("gannet", full=False)
    with pytest.raises(StoneError, match="already changing one of these objects"):
        begin(client, fence)
    client.call(
        "POST",
        f"/api/groundwork/{first}/skip",
        {
            "steps": [f"fencing-volume:gannet:{fence['datastore']}.arbiter"],
            "reason": "the filer is full",
        },
    )
    state(client, first, "done")
    second = do(client, fence)
    undo(client, first)
    assert "ns-arbiter" in host(lab, "gannet")["volumes"]
    undo(client, second)
    assert "ns-arbiter" not in host(lab, "gannet")["volumes"]


def test_a_datastore_that_was_there_before_stays_when_the_run_is_taken_back(place: Place) -> None:
    lab, _, client = place
    by_hand(lab, "tern", "virsh -q -c qemu:///system pool-destroy tern-local")
    run = do(
        client,
        {
            "kind": "datastore-folder",
            "host": "tern",
            "name": "tern-local",
            "path": "/var/lib/libvirt/images/tern-local",
        },
    )
    undo(client, run)
    assert "tern-local" in host(lab, "tern")["stores"]
    assert (
        "nothing was changed" in client.call("GET", f"/api/groundwork/{run}")["steps"][0]["message"]
    )


def test_what_a_run_did_is_run_again_after_its_rollback(place: Place) -> None:
    """All of it or on some hosts, with what was decided about the datastores."""
    lab, server, client = place
    stores = [
        {"kind": "datastore-folder", "host": name, "name": f"{name}-again", "path": f"/srv/{name}"}
        for name in ("tern", "gannet")
    ]
    run = do(client, *stores, care={"watermark": 0.5, "protection": "disposable"})
    undo(client, run)
    words = ("estate", "prepare", "--again", run, "--host", "tern")
    shown = server.cli(*words).stdout
    assert "pool-define" in shown
    assert "gannet" not in shown
    told = server.cli(*words, "--yes").stdout
    assert "tern-again" in host(lab, "tern")["stores"]
    assert "gannet-again" not in host(lab, "gannet")["stores"]
    cares = client.call("GET", "/api/estate/hosts/tern")["cares"]
    assert {one["watermark"] for one in cares if one["place"] == "tern/tern-again"} == {0.5}
    undo(client, told.splitlines()[-1].partition(":")[0])
    assert "tern-again" not in host(lab, "tern")["stores"]
    with pytest.raises(StoneError, match="there is no run"):
        client.call("GET", "/api/groundwork/g00000000/work")


def test_a_datastore_on_a_disk_of_its_own_is_not_renamed(place: Place) -> None:
    lab, _, client = place
    run = do(
        client,
        {"kind": "datastore-disk", "host": "fulmar", "name": "fulmar-data", "device": "/dev/sdb"},
    )
    assert (
        "its own disk"
        in preview(
            client,
            {
                "kind": "rename-datastore",
                "host": "fulmar",
                "name": "fulmar-data",
                "to": "fulmar-fast",
            },
        )["steps"][0]["refusals"][0]
    )
    undo(client, run)
    assert host(lab, "fulmar")["disks"]["sdb"] == ""


def test_a_setting_of_the_ssh_server_that_somebody_made_stays(place: Place) -> None:
    lab, _, client = place
    key = client.call("POST", "/api/estate/keys", {"name": "rollout-key"})
    first = do(
        client,
        {"kind": "ssh-key", "host": "knot", "credential": "rollout-key", "public": key["public"]},
    )
    path = "/etc/ssh/sshd_config.d/20-nimble-stone.conf"
    by_hand(lab, "knot", f"tee {path}", stdin="# by hand\nX11Forwarding no\n")
    second, words = in_vain(client, {"kind": "refuse-passwords", "host": "knot"})
    assert "not created by this run" in words
    undo(client, second)
    assert host(lab, "knot")["files"][path].startswith("# by hand")
    by_hand(lab, "knot", f"rm -f {path}")
    undo(client, first)
