"""An account that may use the hypervisor and is not root: digests and consoles come through the
hypervisor. (A rollout by such an account on a real host is in tests/hypervisor.)
"""

from __future__ import annotations

import hashlib
from typing import Any

import pytest

from nimble_stone.core.errors import RemoteFailed
from nimble_stone.core.estate import Mark
from nimble_stone.hosts.api import VmDesign, VmMedium
from nimble_stone.hosts.kvm import xml_in
from nimble_stone.hosts.kvm.session import Session
from nimble_stone.hosts.kvm.storage import KvmStorage
from nimble_stone.hosts.kvm.vms import KvmVms
from nimble_stone.reach import Answer, Credential, Target

CONTENT = hashlib.sha256(b"content").hexdigest()
POOL = (
    "<pool type='dir'><name>store</name><capacity>9</capacity><available>9</available>"
    "<target><path>/srv/store</path></target></pool>"
)


class Host:
    """Answers commands by what they contain; remembers them and what was sent with them."""

    def __init__(self, *answers: tuple[str, Answer]) -> None:
        self.answers, self.asked = answers, list[str]()

    async def run(self, _: Target, command: str, data: bytes = b"", **__: Any) -> Answer:
        self.asked.append(command + data.decode())
        return next((one for part, one in self.answers if part in command), said(""))


def said(text: str, status: int = 0, err: str = "") -> Answer:
    return Answer(status, text.encode(), err, 0.0)


def session(host: Host, user: str = "oper") -> Session:
    target = Target("gannet", "10.44.1.11", 22, Credential(user, "x"))

    class Reach:
        ssh = host

    return Session(Reach(), target, lambda *_: None)  # type: ignore[arg-type]


DENIED = said("", 1, "sha256sum: /srv/store/v: Permission denied")


async def test_a_digest_is_read_through_the_hypervisor() -> None:
    host = Host(("vol-download", said(f"{CONTENT}  -")), ("sha256sum", DENIED))
    assert await KvmStorage(session(host)).digest("/srv/store/v") == CONTENT
    assert "pipefail" in host.asked[-1]


async def test_the_digest_of_nothing_is_refused() -> None:
    nothing = said(f"{hashlib.sha256(b'').hexdigest()}  -")
    host = Host(("vol-download", nothing), ("sha256sum", DENIED))
    with pytest.raises(RemoteFailed, match="read nothing of it"):
        await KvmStorage(session(host)).digest("/srv/store/v")


NO_VM = ("dumpxml", said("", 1, "error: failed to get domain 'reef-1'"))


def design() -> VmDesign:
    return VmDesign(
        "reef-1",
        Mark(run="r1", node="server-1", plan="reef"),
        "qemu",
        1,
        64 << 20,
        (),
        VmMedium("store", "ns-r1-reef-1-config", "hda"),
        (),
        (),
    )


@pytest.mark.parametrize(("user", "place"), [("root", "/var/log/"), ("oper", "/srv/store/ns-r1-")])
async def test_the_console_is_written_where_the_account_may_read_it(user: str, place: str) -> None:
    host = Host(("pool-dumpxml", said(POOL)), NO_VM)
    await KvmVms(session(host, user)).define(design())
    document = next(line for line in host.asked if "<domain" in line)
    document = document[document.index("<domain") :]
    log = xml_in.console_log(document)
    assert log is not None
    assert log.path.startswith(place)
    host = Host(
        ("dumpxml", said(document)), ("vol-download", said("login:")), ("tail", said("boot"))
    )
    text = await KvmVms(session(host, user)).console("reef-1")
    assert text == ("boot" if user == "root" else "login:")


async def test_the_console_goes_with_its_vm() -> None:
    host = Host(("pool-dumpxml", said(POOL)), NO_VM)
    await KvmVms(session(host)).define(design())
    document = next(line for line in host.asked if "<domain" in line)
    document = document[document.index("<domain") :]
    host = Host(("dumpxml", said(document)), ("domstate", said("shut off")))
    assert await KvmVms(session(host)).remove("reef-1", "r1")
    assert "vol-delete /srv/store/ns-r1-reef-1-console.log" in host.asked[-1]
