"""Controllers that lie, leave out and lead astray: bounded, told in words, never followed off the
controller.
"""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nimble_stone.core.errors import FormatError, LoginRefused, RemoteError, RemoteFailed
from nimble_stone.hosts.redfish import RedfishMachine
from nimble_stone.reach import https
from nimble_stone.reach.https import JsonAnswer
from tests.hosts.certificates import certificate

ROOT = {"RedfishVersion": "1.11.0", "Systems": {"@odata.id": "/redfish/v1/Systems"}}


class Peer:
    """A controller from a tree of documents."""

    def __init__(self, tree: dict[str, Any], *, sessions: int = 201) -> None:
        self.tree, self.sessions, self.asked = tree, sessions, list[str]()

    async def ask(
        self, method: str, path: str, *, body: Any = None, headers: Any = None
    ) -> JsonAnswer:
        self.asked.append(f"{method} {path}")
        if path.endswith("/Sessions"):
            return JsonAnswer(
                self.sessions,
                {},
                (
                    {"x-auth-token": "t", "location": "/redfish/v1/SessionService/Sessions/1"}
                    if self.sessions == 201
                    else {}
                ),
            )
        found = self.tree.get(path)
        return JsonAnswer(200, found) if isinstance(found, dict) else JsonAnswer(404, {})


def machine(tree: dict[str, Any], **more: Any) -> RedfishMachine:
    return RedfishMachine("gneiss", Peer(tree, **more), "admin", "secret")  # type: ignore[arg-type]


async def test_only_what_lies_on_the_controller_is_followed() -> None:
    for path in (
        "//evil.holm.example/redfish/v1",
        "http://evil.holm.example/redfish/",
        "/etc/passwd",
        "/redfish/../../etc",
    ):
        tree = {"/redfish/v1/": ROOT, "/redfish/v1/Systems": {"Members": [{"@odata.id": path}]}}
        one = machine(tree)
        with pytest.raises(RemoteFailed, match="not on the controller"):
            await one.read_facts(1.0)
        # the session is given back all the same
        assert one.peer.asked[-1] == "DELETE /redfish/v1/SessionService/Sessions/1"  # type: ignore[attr-defined]


async def test_a_collection_without_end_is_cut() -> None:
    nics = {f"/redfish/v1/Systems/1/N/{n}": {"Id": str(n)} for n in range(500)}
    tree = {
        "/redfish/v1/": ROOT,
        "/redfish/v1/Systems": {"Members": [{"@odata.id": "/redfish/v1/Systems/1"}]},
        "/redfish/v1/Systems/1": {
            "@odata.id": "/redfish/v1/Systems/1",
            "EthernetInterfaces": {"@odata.id": "/redfish/v1/Systems/1/N"},
        },
        "/redfish/v1/Systems/1/N": {"Members": [{"@odata.id": path} for path in nics]},
        **nics,
    }
    facts = await machine(tree).read_facts(1.0)
    assert len(facts.nics) == 64
    assert "drives" in facts.missing


async def test_what_is_no_controller_and_a_login_that_is_refused_are_told() -> None:
    with pytest.raises(RemoteFailed, match="no Redfish service"):
        await machine({}).read_facts(1.0)
    with pytest.raises(LoginRefused):
        await machine({"/redfish/v1/": ROOT}, sessions=401).read_facts(1.0)
    with pytest.raises(RemoteFailed, match="status 500"):
        await machine({"/redfish/v1/": ROOT}, sessions=500).read_facts(1.0)
    with pytest.raises(RemoteFailed, match="knows no system"):
        await machine({"/redfish/v1/": ROOT, "/redfish/v1/Systems": {"Members": []}}).read_facts(
            1.0
        )


NONSENSE = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats(allow_nan=False) | st.text(max_size=8),
    lambda inner: (
        st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=6), inner, max_size=3)
    ),
    max_leaves=6,
)


@given(
    st.dictionaries(
        st.sampled_from(
            [
                "MemorySummary",
                "Status",
                "Boot",
                "Actions",
                "PowerState",
                "Processors",
                "Storage",
                "EthernetInterfaces",
                "Model",
                "UUID",
                "BiosVersion",
            ]
        ),
        NONSENSE,
    )
)
@settings(max_examples=60)
async def test_members_of_a_wrong_kind_are_left_out(members: dict[str, Any]) -> None:
    tree = {
        "/redfish/v1/": ROOT,
        "/redfish/v1/Systems": {"Members": [{"@odata.id": "/redfish/v1/Systems/1"}, 7, None]},
        "/redfish/v1/Systems/1": members,
    }
    try:
        facts = await machine(tree).read_facts(1.0)
    except RemoteError:
        return
    assert 0 <= facts.memory_bytes < 1 << 62


def test_a_certificate_is_told_in_words() -> None:
    good = https.describe(certificate("10.44.3.104", 0, 3650), "10.44.3.104", 1_800_000_000.0)
    assert (good.odd, good.fingerprint[:7]) == ("", "SHA256 ")
    assert (
        "issued to 10.44.3.104"
        in https.describe(certificate("10.44.3.104", 0, 3650), "10.44.3.105", 1_800_000_000.0).odd
    )
    assert (
        "expired on"
        in https.describe(certificate("10.44.3.104", -900, -10), "10.44.3.104", 1_800_000_000.0).odd
    )
    assert (
        "valid only from"
        in https.describe(certificate("10.44.3.104", 10, 20), "10.44.3.104", 1_800_000_000.0).odd
    )
    with pytest.raises(FormatError):
        https.describe(b"no certificate", "10.44.3.104", 0.0)
