"""Commands through OpenSSH's own server: what a kept connection does when its far end is gone."""

from __future__ import annotations

import asyncio
import getpass
import subprocess
from collections.abc import AsyncIterator
from pathlib import Path
from typing import ClassVar

import asyncssh
import pytest

from nimble_stone.core.errors import RemoteFailed, RemoteTimeout, Unreachable
from nimble_stone.reach import Credential, DialPolicy, Reach, Target
from nimble_stone.reach.ssh import Pins
from tests.support.ssh_servers import Relay, sshd


@pytest.fixture
def config(tmp_path: Path) -> Path:
    """The server's, with a host key and a login key beside it."""
    for name in ("host", "login"):
        key = tmp_path / name
        subprocess.run(["ssh-keygen", "-qt", "ed25519", "-N", "", "-f", key], check=True)
    Path("/run/sshd").mkdir(exist_ok=True)
    found = tmp_path / "sshd_config"
    found.write_text(
        f"HostKey {tmp_path}/host\nAuthorizedKeysFile {tmp_path}/login.pub\n"
        "StrictModes no\nPermitRootLogin yes\nUsePAM no\nPidFile none\n"
    )
    return found


@pytest.fixture
async def relay(config: Path) -> AsyncIterator[tuple[Relay, Reach, Target]]:
    pins: dict[str, str] = {}

    async def get(place: str) -> str | None:
        return pins.get(place)

    async def put(place: str, fingerprint: str) -> None:
        pins[place] = fingerprint

    made = Relay(sshd(config))
    server = await asyncio.start_server(made.take, "127.0.0.1", 0)
    reach = Reach(DialPolicy(connect_seconds=10), Pins(get, put))
    credential = Credential(getpass.getuser(), key=(config.parent / "login").read_text())
    port = int(server.sockets[0].getsockname()[1])
    yield made, reach, Target("knot", "127.0.0.1", port, credential)
    await reach.close()
    server.close()
    await server.wait_closed()
    await asyncio.gather(*made.tasks)


async def test_a_kept_connection_whose_far_end_is_gone_is_dialled_again(
    relay: tuple[Relay, Reach, Target],
) -> None:
    """Also by several commands side by side: one new connection serves them all."""
    made, reach, target = relay
    assert (await reach.ssh.run(target, "echo one")).out == b"one\n"
    made.restart()
    answers = await asyncio.gather(*(reach.ssh.run(target, f"echo {n}") for n in range(4)))
    assert [answer.out for answer in answers] == [b"0\n", b"1\n", b"2\n", b"3\n"]
    assert made.begun == 2


async def test_who_is_silent_is_given_up_by_all_who_ask_at_the_same_time(
    relay: tuple[Relay, Reach, Target], monkeypatch: pytest.MonkeyPatch
) -> None:
    """A machine without power ends no connection. A command may take minutes, but the session for
    it is there at once or never; then one attempt to dial anew is enough for all who ask.
    """
    monkeypatch.setattr("nimble_stone.reach.ssh.OPENS_S", 0.5)
    made, reach, target = relay
    policy = reach.ssh._policy
    monkeypatch.setattr(reach.ssh, "_policy", policy.model_copy(update={"connect_seconds": 1.0}))
    assert (await reach.ssh.run(target, "echo one")).out == b"one\n"
    made.power_off()
    asked = (reach.ssh.run(target, f"echo {n}", limit_s=3600) for n in range(5))
    async with asyncio.timeout(20):
        told = await asyncio.gather(*asked, return_exceptions=True)
    assert all(isinstance(one, Unreachable) for one in told), told
    assert {str(one) for one in told} == {
        f"knot (127.0.0.1:{target.port}) does not answer within 1 s"
    }
    assert made.begun == 2
    made.power_on()
    assert (await reach.ssh.run(target, "echo two")).out == b"two\n"


async def test_a_kept_connection_that_is_silent_is_replaced_and_what_runs_on_it_goes_on(
    relay: tuple[Relay, Reach, Target], monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    monkeypatch.setattr("nimble_stone.reach.ssh.OPENS_S", 0.5)
    made, reach, target = relay
    begun, gone_on = tmp_path / "begun", tmp_path / "gone-on"
    first = f"touch {begun}; until [ -e {gone_on} ]; do sleep 0.1; done; echo first"
    running = asyncio.create_task(reach.ssh.run(target, first, limit_s=60))
    while not begun.exists():
        await asyncio.sleep(0.02)
    made.power_off()
    made.off = False
    assert (await reach.ssh.run(target, "echo two", limit_s=60)).out == b"two\n"
    assert made.begun == 2
    # it was slow, not gone
    made.silent = 0
    gone_on.touch()
    assert (await running).out == b"first\n"


async def test_a_command_that_had_begun_is_not_run_a_second_time(
    relay: tuple[Relay, Reach, Target], tmp_path: Path
) -> None:
    made, reach, target = relay
    begun = tmp_path / "begun"
    command = f"echo x >> {begun}; timeout 10 tail -f /dev/null"

    async def restarted() -> None:
        while not begun.exists():
            await asyncio.sleep(0.02)
        for server in made.servers:
            server.kill()

    with pytest.raises(Unreachable, match="lost during a command"):
        await asyncio.gather(reach.ssh.run(target, command, limit_s=20), restarted())
    assert begun.read_text() == "x\n"
    assert (await reach.ssh.run(target, "echo two")).out == b"two\n"


async def test_a_server_that_takes_few_sessions_gets_one_after_the_other(
    config: Path, relay: tuple[Relay, Reach, Target], tmp_path: Path
) -> None:
    """OpenSSH refuses a second one; what runs in the first is not disturbed by that."""
    config.write_text(config.read_text() + "MaxSessions 1\n")
    made, reach, target = relay
    gone_on = tmp_path / "gone-on"
    first = f"until [ -e {gone_on} ]; do sleep 0.1; done; echo first"

    async def others() -> list[bytes]:
        answers = asyncio.gather(*(reach.ssh.run(target, f"echo {n}") for n in range(4)))
        # they wait: nothing of them is answered while the first one runs
        done, _ = await asyncio.wait([answers], timeout=1)
        assert not done
        gone_on.touch()
        return [answer.out for answer in await answers]

    answer, told = await asyncio.gather(reach.ssh.run(target, first, limit_s=30), others())
    assert answer.out == b"first\n"
    assert told == [b"0\n", b"1\n", b"2\n", b"3\n"]
    assert made.begun == 1


async def test_a_server_that_takes_no_session_is_told_as_such(
    config: Path, relay: tuple[Relay, Reach, Target], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("nimble_stone.reach.ssh.REFUSED_S", 0.5)
    config.write_text(config.read_text() + "MaxSessions 0\n")
    _, reach, target = relay
    with pytest.raises(Unreachable, match="knot opens no session: open failed"):
        await reach.ssh.run(target, "echo one")


class Hasty(asyncssh.SSHServer):
    """A server that ends a command before it says that it began, as small ones do at times."""

    ran: ClassVar[list[str]] = []

    def begin_auth(self, username: str) -> bool:
        return False

    def session_requested(self) -> asyncssh.SSHServerSession[bytes]:
        return _HastySession()


class _HastySession(asyncssh.SSHServerSession[bytes]):
    def connection_made(self, chan: asyncssh.SSHServerChannel[bytes]) -> None:
        self._chan = chan

    def exec_requested(self, command: str) -> bool:
        Hasty.ran.append(command)
        if command in ("lose", "close"):
            # it has run, and what it ran on is gone before anybody could say so
            gone = self._chan.get_connection().abort if command == "lose" else self._chan.close
            gone()
            return True
        self._chan.exit(int(command))
        return True


@pytest.fixture
async def hasty() -> AsyncIterator[tuple[Reach, Target]]:
    async def nothing(_: str, __: str = "") -> None:
        return None

    Hasty.ran.clear()
    key = asyncssh.generate_private_key("ssh-ed25519")
    server = await asyncssh.listen("127.0.0.1", 0, server_factory=Hasty, server_host_keys=[key])
    port = server.sockets[0].getsockname()[1]
    reach = Reach(DialPolicy(), Pins(nothing, nothing))
    yield reach, Target("hasty", "127.0.0.1", port, Credential("anybody", "x"))
    await reach.close()
    server.close()


@pytest.mark.parametrize(("command", "status"), [("0", 0), ("3", 3)])
async def test_a_command_that_ended_before_it_began_is_not_run_a_second_time(
    hasty: tuple[Reach, Target], command: str, status: int
) -> None:
    reach, target = hasty
    answer = await reach.ssh.run(target, command, limit_s=5)
    assert (answer.status, answer.out) == (status, b"")
    assert Hasty.ran == [command]


@pytest.mark.parametrize("command", ["lose", "close"])
async def test_a_command_that_may_have_run_is_not_run_a_second_time(
    hasty: tuple[Reach, Target], command: str
) -> None:
    """Connection or session are lost after it was sent: whether it ran is for the caller to find
    out.
    """
    reach, target = hasty
    with pytest.raises(Unreachable, match="lost during a command"):
        await reach.ssh.run(target, command, limit_s=5)
    assert Hasty.ran == [command]


async def _read(pieces: AsyncIterator[bytes], into: list[bytes]) -> None:
    async for piece in pieces:
        into.append(piece)


async def test_an_answer_of_any_length_is_handed_on_piece_by_piece(
    relay: tuple[Relay, Reach, Target],
) -> None:
    _, reach, target = relay
    found: list[bytes] = []
    await _read(reach.ssh.fetch(target, "head -c 40000000 /dev/zero", limit_s=60), found)
    assert sum(map(len, found)) == 40_000_000, "more than a command may answer at once"
    assert max(map(len, found)) <= 1 << 20
    # one that fails after it has begun says so, also when something came
    came: list[bytes] = []
    fails = "echo half; echo no such volume >&2; exit 3"
    with pytest.raises(RemoteFailed, match="no such volume"):
        await _read(reach.ssh.fetch(target, fails, limit_s=30), came)
    assert came == [b"half\n"]
    with pytest.raises(RemoteTimeout):
        await _read(reach.ssh.fetch(target, "sleep 30", limit_s=-4.5), came)


async def test_what_feeds_a_command_and_fails_ends_it_at_once(
    relay: tuple[Relay, Reach, Target],
) -> None:
    _, reach, target = relay

    async def broken() -> AsyncIterator[bytes]:
        yield b"half"
        raise RemoteFailed("the source is gone")

    async with asyncio.timeout(20):
        with pytest.raises(RemoteFailed, match="the source is gone"):
            await reach.ssh.stream(target, "cat > /dev/null", broken(), limit_s=3600)
    assert (await reach.ssh.run(target, "echo next")).out == b"next\n"
