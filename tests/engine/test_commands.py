"""Calls by SSH to the servers of OpenSSH and Dropbear: files that are put, scripts, and root by
sudo, which asks for a password or does not. Accounts and rules are those of a file system of the
test's own.
"""

from __future__ import annotations

import asyncio
import base64
import contextlib
import socket
import subprocess
from collections.abc import AsyncIterator
from ipaddress import IPv4Network
from pathlib import Path
from types import SimpleNamespace
from typing import Any, cast

import pytest

from nimble_stone.core.errors import LoginRefused, NotFound, RemoteFailed
from nimble_stone.core.kit.calls import Call
from nimble_stone.core.models import FROZEN
from nimble_stone.core.reply import Reply, read
from nimble_stone.engine.commands import Commands
from nimble_stone.hosts.node import NodeAccess, NodeDoor
from nimble_stone.reach import DialPolicy, Reach
from nimble_stone.reach.policy import Mapping
from nimble_stone.reach.ssh import Pins
from tests.core.scene import sheet
from tests.support.ssh_servers import Relay, listening, sshd

KEYS = ("ed25519", "ecdsa", "rsa")
ADDRESS, PASSWORD = "10.44.99.1", "Tide tables' $1893"
IN = """
mount --bind "$0/etc" /etc
exec "$@"
"""


def inside(folder: Path) -> list[str]:
    """What carries out a command with the accounts of a folder."""
    return ["unshare", "-m", "sh", "-ec", IN, str(folder)]


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """An /etc with two accounts: `oper` gives sudo a password, `free` gives none."""
    found = tmp_path_factory.mktemp("accounts")
    subprocess.run(["cp", "-a", "/etc", found / "etc"], check=True)
    Path("/run/sshd").mkdir(exist_ok=True)
    subprocess.run([*inside(found), "sh", "-ec", SET_UP, PASSWORD], check=True)
    subprocess.run(["ssh-keygen", "-qt", "ed25519", "-N", "", "-f", found / "host"], check=True)
    for kind in KEYS:
        key = found / f"dropbear-{kind}"
        subprocess.run(["dropbearkey", "-t", kind, "-f", key], check=True, capture_output=True)
    (found / "sshd_config").write_text(
        f"HostKey {found}/host\nStrictModes no\nUsePAM no\nPidFile none\n"
        "PasswordAuthentication yes\n"
    )
    return found


SET_UP = """
for name in oper free; do
  useradd -M -d /tmp -s /bin/sh "$name"
  printf '%s:%s\\n' "$name" "$0" | chpasswd
done
printf 'oper ALL=(ALL) ALL\\nfree ALL=(ALL) NOPASSWD: ALL\\n' > /etc/sudoers.d/test
chmod 440 /etc/sudoers.d/test
"""


class Room:
    """What runs calls as an account, and what they are filled from."""

    def __init__(self, reach: Reach) -> None:
        self._reach, self.told = reach, list[str]()
        self.kept: dict[str, str] = {}

    async def run(
        self,
        call: dict[str, Any],
        user: str = "oper",
        *,
        password: str = PASSWORD,
        what: str = "a ' b",
        context: dict[str, bool] | None = None,
    ) -> Reply:
        def record(_: str, asked: str, said: str, *__: object) -> None:
            self.told += [asked, said]

        async def opened(name: str) -> str:
            if name not in self.kept:
                raise NotFound(name)
            return self.kept[name]

        about = sheet()
        at = SimpleNamespace(
            ports=SimpleNamespace(open_secret=opened),
            run=SimpleNamespace(id="r", sheet=about),
            node=about.nodes[0],
        )
        access = NodeAccess("knot", ADDRESS, 80, user, password)
        door = NodeDoor(self._reach, access, record)
        commands = Commands(cast("Any", at), door, password)
        return await commands.run(Call.model_validate(call, context=context), {"what": what})


@contextlib.asynccontextmanager
async def openssh(folder: Path) -> AsyncIterator[int]:
    """The port of OpenSSH's server."""
    made = Relay([*inside(folder), *sshd(folder / "sshd_config")])
    server = await asyncio.start_server(made.take, "127.0.0.1", 0)
    yield int(server.sockets[0].getsockname()[1])
    server.close()
    await server.wait_closed()
    await asyncio.gather(*made.tasks)


@contextlib.asynccontextmanager
async def dropbear(folder: Path) -> AsyncIterator[int]:
    """The port of Dropbear's."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = int(probe.getsockname()[1])
    keys = [word for kind in KEYS for word in ("-r", f"{folder}/dropbear-{kind}")]
    process = await asyncio.create_subprocess_exec(
        *(*inside(folder), "/usr/sbin/dropbear", "-F", "-E", "-p", f"127.0.0.1:{port}", *keys),
        stderr=asyncio.subprocess.DEVNULL,
    )
    await listening(port)
    yield port
    process.terminate()
    await process.wait()


@pytest.fixture(params=[openssh, dropbear], ids=["OpenSSH", "Dropbear"])
async def room(folder: Path, request: pytest.FixtureRequest) -> AsyncIterator[Room]:
    lies = Mapping(planned=IPv4Network(f"{ADDRESS}/32"), real=IPv4Network("127.0.0.1/32"))

    async def get(_: str) -> str | None:
        return None

    async def put(_: str, __: str) -> None:
        return None

    async with request.param(folder) as port:
        policy = DialPolicy(mapped=(lies,), low_ports=port - 22, connect_seconds=10)
        reach = Reach(policy, Pins(get, put))
        yield Room(reach)
        await reach.close()


async def test_a_script_answers_with_its_status_and_its_last_words(room: Room) -> None:
    answer = await room.run({"ssh": "whoami; for n in 1 2; do echo ${n} {what}; done"})
    assert (answer.status, read(answer, "said")) == (0, "2 a ' b")
    assert answer.seconds > 0
    with pytest.raises(RemoteFailed, match=r"does not carry out “ls /nowhere” \(status 2\): ls:"):
        await room.run({"ssh": "ls /nowhere"})
    expected = await room.run({"ssh": "ls /nowhere", "status": [2]})
    assert (expected.status, read(expected, "status")) == (2, "2")


async def test_what_a_command_prints_may_be_the_answer(room: Room) -> None:
    call = {
        "ssh": """printf '{"disks": [{"id": "sda"}, {"id": %s}]}' '"sdb"'""",
        "prints": "answer",
    }
    answer = await room.run(call)
    assert read(answer, "count:$.disks[*]") == "2"
    assert read(answer, "$.disks[1].id") == "sdb"


@pytest.mark.parametrize("user", ["oper", "free"])
async def test_files_are_put_with_their_rights_before_a_command_runs(
    room: Room, user: str, tmp_path: Path
) -> None:
    """As who logs in into a folder of theirs, as root by sudo anywhere; a file is whole or not
    there.
    """
    path = tmp_path / "a file's"
    call = {
        "put": [{"path": f"{tmp_path}/a file's", "text": "for {name}\n{what}", "mode": "0640"}],
        "ssh": f'stat -c \'%a %U\' "{path}"; cat "{path}"; id -un',
        "prints": "answer",
        "sudo": True,
    }
    answer = await room.run(call, user)
    assert answer.text == f"640 root\nfor {sheet().nodes[0].name}\na ' broot\n"
    assert [one.name for one in tmp_path.iterdir()] == ["a file's"]
    plain = {**call, "sudo": False, "put": [{**call["put"][0], "path": "/tmp/no/such"}]}
    with pytest.raises(RemoteFailed, match="No such file|nonexistent|not carry out “cat >"):
        await room.run(plain, user)


@pytest.mark.parametrize("user", ["oper", "free"])
async def test_a_file_is_fetched_and_put_byte_for_byte(
    room: Room, user: str, tmp_path: Path
) -> None:
    """A key that all nodes of a cluster share: made on one, root's alone, and never told."""
    key = bytes(range(256)) * 8
    (tmp_path / "key").write_bytes(key)
    (tmp_path / "key").chmod(0o600)
    fetch = {"ssh": "true", "fetch": {"key": f"{tmp_path}/key"}, "sudo": True}
    answer = await room.run(fetch, user)
    assert answer.files == {"key": key}
    assert f"({len(key)} bytes)" in room.told
    room.kept["run/r/file.key"] = base64.b64encode(answer.files["key"]).decode()
    put = {"path": f"{tmp_path}/other", "fetched": "key", "mode": "0400"}
    await room.run({"ssh": f"test -s {tmp_path}/other", "put": [put], "sudo": True}, user)
    assert (tmp_path / "other").read_bytes() == key
    with pytest.raises(RemoteFailed, match="does not carry out"):
        await room.run({**fetch, "fetch": {"key": f"{tmp_path}/none"}}, user)
    (tmp_path / "key").write_bytes(bytes(65_537))
    with pytest.raises(RemoteFailed, match="larger than 64 KiB"):
        await room.run(fetch, user)


@pytest.mark.parametrize("user", ["oper", "free"])
async def test_sudo_gets_the_password_where_it_asks_and_nothing_else_does(
    room: Room, user: str
) -> None:
    """What the command reads is never the password, and the transcript has none."""
    answer = await room.run({"ssh": "id -u; cat", "prints": "answer", "sudo": True}, user)
    assert answer.text == "0\n"
    assert PASSWORD not in "\n".join(room.told)
    # asked twice: sudo may remember the first time
    again = await room.run({"ssh": "cat", "prints": "answer", "sudo": True}, user)
    assert again.text == ""


async def test_a_wrong_password_is_told(room: Room) -> None:
    with pytest.raises(LoginRefused, match="rejected the login for “oper”"):
        await room.run({"ssh": "id", "sudo": True}, password="another")


async def test_a_command_that_grew_too_long_is_refused(room: Room) -> None:
    with pytest.raises(RemoteFailed, match="120005 characters is too long; 100000 are the most"):
        await room.run({"ssh": "echo {what}{what}"}, what="x" * 60_000)
    assert read(await room.run({"ssh": "echo {what} | wc -c"}, what="x" * 60_000), "said") == (
        "60001"
    )


async def test_a_command_that_quotes_its_values_itself_is_not_sent(room: Room) -> None:
    """Kits of runs that began before this was looked at may hold one."""
    with pytest.raises(RemoteFailed, match="cannot be filled in safely: “{what}” is inside quotes"):
        await room.run({"ssh": "echo '{what}'"}, what="'; touch /tmp/never; '", context=FROZEN)
    assert room.told == []


@pytest.mark.parametrize("sudo", [{}, {"sudo": True}], ids=["as who logs in", "as root"])
@pytest.mark.parametrize("user", ["oper", "free"])
async def test_a_long_script_is_carried_out_whole(
    room: Room, user: str, sudo: dict[str, Any]
) -> None:
    """Dropbear ends the connection at a command of 9,000 bytes. What reads its input gets nothing
    of the script.
    """
    lines = "\n".join(f"echo line {n} {{what}}" for n in range(600))
    script = f"cat\n{lines}\nid -un\nexit 3"
    call = {"ssh": script, "prints": "answer", "status": [3], **sudo}
    answer = await room.run(call, user)
    told = answer.text.splitlines()
    assert (len(told), told[599]) == (601, "line 599 a ' b")
    assert told[600] == ("root" if sudo else user)


async def test_commands_that_go_on_side_by_side_are_each_run_once(
    room: Room, tmp_path: Path
) -> None:
    """Also on a server that mixes up sessions which share a connection."""
    told = tmp_path / "told"

    async def say(number: int) -> str:
        call = {"ssh": f"echo {number} >> {told}; echo {number}", "sudo": True}
        answer = await room.run(call, "free")
        return str(read(answer, "said"))

    answers = await asyncio.gather(*(say(number) for number in range(200)))
    assert answers == [str(number) for number in range(200)]
    assert sorted(map(int, told.read_text().split())) == list(range(200))
