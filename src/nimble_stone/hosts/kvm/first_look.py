"""What is asked of a KVM host before it is one of ours: does the login work, what may it do."""

from __future__ import annotations

from nimble_stone.hosts.api import FirstLook
from nimble_stone.hosts.kvm import commands, reading
from nimble_stone.hosts.kvm.actions import IMAGES
from nimble_stone.reach import Reach, Target

RIGHTS = {
    "test -w /etc/hosts": (
        "it may not write below /etc, so no name records, bridges, VLANs, time servers"
    ),
    f"test -w {IMAGES}": "it may not write where disks lie, so no datastores in folders",
    "test -r /etc/shadow": (
        "it is not root, so disks cannot be formatted or wiped, and whether SSH takes passwords"
        " is not seen"
    ),
}
"""A question to the host, and what is not possible without that right."""


async def first_look(reach: Reach, target: Target, shown: str) -> FirstLook:
    """Log in to a host that shows the key `shown`. Raises RemoteError and its kinds."""
    answer = await reach.ssh.try_out(target, shown, commands.virsh("hostname", seconds=10))
    if answer.status == 127:
        return FirstLook(why="virsh is not installed there")
    if answer.status != 0:
        lines = (line.removeprefix("error:").strip() for line in answer.err.splitlines())
        words = " ".join(lines)[:200]
        return FirstLook(why=f"the account may not use the hypervisor: {words}")
    name = answer.text.splitlines()[0][:120] if answer.text else ""
    return FirstLook(hostname=name, lacking=await _lacking(reach, target, shown))


async def _lacking(reach: Reach, target: Target, shown: str) -> tuple[str, ...]:
    """What the account may not do, in words. Using the hypervisor was tried before."""
    text = reading.script([f"timeout -k 2 5 {command}" for command in RIGHTS])
    answer = await reach.ssh.try_out(target, shown, commands.script(20), data=text.encode())
    said = reading.split(answer.out.decode("utf-8", "replace"), answer.err, len(RIGHTS))
    told = zip(RIGHTS.values(), said, strict=True)
    return tuple(words for words, one in told if one.status == 1)
