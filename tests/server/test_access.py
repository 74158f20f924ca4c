"""Who may come in: tries, sessions, tokens, the names a server answers to, and the headers of its
answers.
"""

from __future__ import annotations

import json
import subprocess
import threading
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import httpx
import pytest

from nimble_stone.cli.client import Client
from nimble_stone.core.errors import Busy, Denied
from nimble_stone.server import auth
from nimble_stone.server.guard import host_is_known, known_names
from tests.server.test_flood import health_watched, most_seconds
from tests.support.processes import CLI, ServerProcess, wait_for


@pytest.fixture
def own(tmp_path: Path) -> Iterator[ServerProcess]:
    process = ServerProcess(tmp_path / "data")
    yield process
    process.stop()


def http(server: ServerProcess, **more: object) -> httpx.Client:
    return httpx.Client(base_url=server.url, trust_env=False, timeout=30, **more)  # type: ignore[arg-type]


class Clock:
    def __init__(self) -> None:
        self.now = 1000.0

    def __call__(self) -> float:
        return self.now


def test_ten_wrong_tries_of_one_address_stop_that_address_alone() -> None:
    clock = Clock()
    tries = auth.Tries(clock)
    for _ in range(10):
        tries.begin("10.44.1.9")
        clock.now += 1
    with pytest.raises(Busy) as caught:
        tries.begin("10.44.1.9")
    assert 45 <= caught.value.retry_after_s <= 52
    tries.begin("10.44.1.8")
    clock.now += caught.value.retry_after_s
    tries.begin("10.44.1.9")


def test_right_tries_do_not_count_and_networks_of_ipv6_count_as_one() -> None:
    tries = auth.Tries(Clock())
    for _ in range(50):
        tries.was_right("10.44.1.9", tries.begin("10.44.1.9"))
    for number in range(10):
        tries.begin(f"2001:db8::{number:x}")
    with pytest.raises(Busy):
        tries.begin("2001:db8::ffff")
    tries.begin("2001:db8:0:1::1")


def test_so_many_addresses_are_remembered_and_no_more() -> None:
    tries = auth.Tries(Clock())
    for number in range(auth.ADDRESSES + 500):
        tries.begin(f"10.{number >> 16 & 255}.{number >> 8 & 255}.{number & 255}")
    assert len(tries._by_address) == auth.ADDRESSES


def test_asking_in_parallel_passes_no_limit_and_stalls_nobody(own: ServerProcess) -> None:
    with http(own) as asking, ThreadPoolExecutor(30) as pool, health_watched(own) as took:
        answers = list(
            pool.map(lambda _: asking.post("/api/session", json={"key": "wrong"}), range(60))
        )
    codes = [answer.json()["code"] for answer in answers]
    assert codes.count("wrong-key") == 10
    assert {answer.status_code for answer in answers} == {401, 429}
    refused = next(answer for answer in answers if answer.status_code == 429)
    assert 1 <= int(refused.headers["Retry-After"]) <= 61
    # hashing takes both processors: what another program takes counts too
    assert max(took) < most_seconds(own)


def test_the_command_line_holds_a_token_and_not_the_key(own: ServerProcess) -> None:
    profile = json.loads((own.data / "client.json").read_text())
    assert set(profile) == {"url", "token"}
    assert own.key not in (own.data / "client.json").read_text()
    assert own.cli("run", "list").stdout.startswith("There was no run yet")
    database = b"".join(path.read_bytes() for path in own.data.glob("nimble-stone.db*"))
    assert profile["token"].encode() not in database


def test_a_token_is_made_used_and_revoked(own: ServerProcess) -> None:
    client = own.client()
    made = client.call("POST", "/api/access/tokens", {"name": "night script"})
    script = Client(own.url, token=made["token"])
    assert script.call("GET", "/api/plans") == []
    with pytest.raises(Denied, match="cannot create tokens"):
        script.call("POST", "/api/access/tokens", {"name": "another"})
    row = next(
        one for one in client.call("GET", "/api/access")["tokens"] if one["id"] == made["id"]
    )
    assert row["name"] == "night script"
    assert row["used_at"] is not None
    client.call("DELETE", f"/api/access/tokens/{made['id']}")
    with pytest.raises(Denied):
        script.call("GET", "/api/plans")


def test_a_new_key_ends_sessions_and_tokens(own: ServerProcess) -> None:
    session, token = own.client(), Client(own.url, token=own.token)
    assert session.call("GET", "/api/plans") == token.call("GET", "/api/plans")
    made = subprocess.run(
        [*CLI, "key", "--data", str(own.data)], capture_output=True, text=True, check=True
    ).stdout.strip()
    for old in (session, token):
        with pytest.raises(Denied):
            old.call("GET", "/api/plans")
    assert Client(own.url, made).call("GET", "/api/plans") == []
    assert own.cli("plan", "list").returncode == 0  # the profile got a new token with it


def test_all_sessions_end_at_once_and_open_streams_with_them(
    server: ServerProcess, client: Client
) -> None:
    run = client.call("POST", "/api/plans/western/run")["run"]
    watcher = server.client()
    lines: list[str] = []

    def watch() -> None:
        with watcher._http.stream("GET", f"/api/runs/{run}/events", timeout=30) as answer:
            lines.extend(answer.iter_lines())

    thread = threading.Thread(target=watch)
    thread.start()
    wait_for(lambda: lines, 10, "the stream")
    assert "sessions ended" in server.cli("access", "end-sessions").stdout
    thread.join(10)
    assert not thread.is_alive()
    assert "event: signed-out" in lines[-3:]
    with pytest.raises(Denied):
        watcher.call("GET", "/api/plans")
    Client(server.url, token=server.token).call("POST", f"/api/runs/{run}/undo", {})


NAMES = known_names(("stone.holm.example",))


@pytest.mark.parametrize(
    ("header", "known"),
    [
        ("127.0.0.1:8440", True),
        ("localhost", True),
        ("[::1]:8440", True),
        ("10.44.1.5", True),
        ("stone.holm.example:8440", True),
        ("STONE.holm.example.", True),
        ("evil.example", False),
        ("127.0.0.1.evil.example", False),
        ("", False),
        ("x", False),
    ],
)
def test_a_host_name_is_known_or_refused(header: str, known: bool) -> None:
    assert host_is_known(header, NAMES) is known


def test_a_request_sent_to_another_name_is_refused(own: ServerProcess) -> None:
    with http(own) as asking:
        answer = asking.get("/api/health", headers={"Host": "evil.example"})
        assert (answer.status_code, answer.json()["code"]) == (421, "host-unknown")
        assert asking.get("/", headers={"Host": "evil.example"}).status_code == 421


def test_every_answer_bears_the_headers_that_keep_pages_apart(own: ServerProcess) -> None:
    with http(own) as asking:
        for path in ("/", "/api/health", "/api/plans", "/nowhere"):
            headers = asking.get(path).headers
            policy = headers["Content-Security-Policy"]
            assert all(
                part in policy
                for part in (
                    "base-uri 'none'",
                    "form-action 'self'",
                    "frame-ancestors 'none'",
                    "object-src 'none'",
                )
            )
            assert headers["X-Content-Type-Options"] == "nosniff"
        assert asking.get("/api/plans").headers["Cache-Control"] == "no-store"


def test_a_folder_that_was_open_is_closed_to_others(tmp_path: Path) -> None:
    data = tmp_path / "data"
    data.mkdir()
    data.chmod(0o755)
    (data / "nimble-stone.db").touch(mode=0o644)
    server = ServerProcess(data)
    try:
        assert data.stat().st_mode & 0o777 == 0o700
        for path in data.glob("nimble-stone.db*"):
            assert path.stat().st_mode & 0o777 == 0o600, path
    finally:
        server.stop()


def test_a_second_server_on_one_folder_says_who_holds_it_and_ends(own: ServerProcess) -> None:
    assert own.process is not None
    found = subprocess.run(
        [*CLI, "serve", "--data", str(own.data), "--port", "0"],
        capture_output=True,
        text=True,
        timeout=60,
    )
    assert found.returncode == 1
    assert f"process {own.process.pid}, http://127.0.0.1:{own.port}, since " in found.stderr
    assert "is in use by another Nimble Stone server" in found.stderr
    own.kill()
    # a hold ends with its process, however that ended
    own.start()
    assert own.client().call("GET", "/api/plans") == []
