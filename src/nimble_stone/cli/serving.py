"""serve, demo, key: starting things. The server is imported where it is started: the offline
commands do without it.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import logging
import os
import signal
import socket
import subprocess
import sys
from collections.abc import Iterator
from dataclasses import dataclass
from multiprocessing import get_context
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from nimble_stone.cli import seeding
from nimble_stone.cli.client import Client, data_folder, write_profile
from nimble_stone.core.errors import InputError

if TYPE_CHECKING:
    from multiprocessing.process import BaseProcess

    from pydantic import BaseModel

    from nimble_stone.lab.scenario.demo import LabPlan
    from nimble_stone.reach.netboot import NetBoot

Data = Annotated[
    Path | None,
    typer.Option(help="Data folder; else NIMBLE_STONE_DATA or ~/.local/share/nimble-stone."),
]
DEMO_SPEED = 1.4


def add_commands(app: typer.Typer) -> None:
    """serve, demo and key on the main command."""
    app.command()(serve)
    app.command()(demo)
    app.command("key")(key)
    app.command()(schema)
    app.command("openapi", hidden=True)(openapi)


@dataclass(frozen=True)
class Made:
    """A new access key, and a token for the command line of this user."""

    key: str
    token: str


def _new_key(data: Path, *, only_if_none: bool) -> Made | None:
    """Make an access key and a token; None when there is a key already and that will do. Sessions
    and tokens of before end.
    """
    from nimble_stone.server import auth
    from nimble_stone.server.app import open_application
    from nimble_stone.store import records

    async def work() -> Made | None:
        ports = open_application(data, 1.0)
        try:
            known = await ports.store.read(records.get_meta, "access-key")
            if only_if_none and known:
                return None
            made = auth.new_key()
            await auth.set_key(ports, made)
            _, token = await auth.make_token(ports, "command line")
            return Made(key=made, token=token)
        finally:
            ports.store.close()

    return asyncio.run(work())


def serve(
    data: Data = None,
    host: str = "127.0.0.1",
    port: int = 8440,
    pace: Annotated[float, typer.Option(help="Scale of expected times.")] = 1.0,
    inbox: Annotated[
        Path | None, typer.Option(help="A watched folder: packages in it are imported.")
    ] = None,
    reachable_at: Annotated[
        str,
        typer.Option(
            help="URL under which hosts reach this server; with it they may fetch disks themselves."
        ),
    ] = "",
    pull_mib: Annotated[
        float, typer.Option(help="Most MiB per second that one host may fetch at; 0: no limit.")
    ] = 0.0,
    reports_host: Annotated[
        str, typer.Option(help="Address to listen on for reports of machines; else --host.")
    ] = "",
    reports_port: Annotated[
        int, typer.Option(help="Port that inspected machines report to; 0: any free one.")
    ] = 0,
    inspection_image: Annotated[
        Path | None,
        typer.Option(help="Image that machines boot from; else inspection.iso in the data folder."),
    ] = None,
    netboot_interface: Annotated[
        str,
        typer.Option(
            help="Interface on which machines that boot from the network are answered (dnsmasq)."
        ),
    ] = "",
    netboot_range: Annotated[
        str,
        typer.Option(
            help="FIRST-LAST: addresses given out there; empty: another DHCP server gives them."
        ),
    ] = "",
    name: Annotated[
        list[str] | None,
        typer.Option(help="Host name under which the server may be addressed; repeatable."),
    ] = None,
    fd: Annotated[int, typer.Option(help="Serve on this open socket instead of a port.")] = -1,
) -> None:
    """Start the server (on the loopback address unless told otherwise)."""
    from nimble_stone.store.folder import held

    url = f"http://{host}:{port}"
    with held(data or data_folder(), url) as folder:
        made = _new_key(folder, only_if_none=True)
        if made:
            write_profile(folder, url, made.token)
            typer.echo(f"Access key (shown once, keep it): {made.key}")
        typer.echo(f"Nimble Stone answers at {url}")
        sys.stdout.flush()
        _serve(
            folder,
            url,
            {"fd": fd} if fd >= 0 else {"host": host, "port": port},
            pace=pace,
            inbox=inbox,
            reachable_at=reachable_at,
            pull_rate=pull_mib * 2**20,
            names=(host, *(name or ())),
            reports_host=reports_host or host,
            reports_port=reports_port,
            inspection_image=inspection_image,
            netboot=_netboot(folder, netboot_interface, netboot_range),
        )


def _netboot(folder: Path, interface: str, span: str) -> NetBoot | None:
    """Who answers machines that boot from the network. Raises InputError for an interface that
    cannot be used, or a range that cannot be read.
    """
    from nimble_stone.reach import netboot

    if not interface:
        return None
    network = netboot.address_of(interface)
    netboot.config(folder, interface, network, span, "")
    return netboot.NetBoot(folder / "netboot.log", interface, network, span)


def _serve(folder: Path, url: str, where: dict[str, Any], **options: Any) -> None:
    logging.basicConfig(level=logging.INFO, format="%(asctime)s %(levelname)s %(name)s %(message)s")
    logging.getLogger("asyncssh").setLevel(logging.WARNING)
    logging.getLogger("httpx").setLevel(logging.WARNING)
    import uvicorn

    from nimble_stone.server import connections
    from nimble_stone.server.app import create_app

    uvicorn.run(
        create_app(folder, **options), timeout_graceful_shutdown=3, **connections.options(), **where
    )


def key(data: Data = None) -> None:
    """Make a new access key; the old one ends, and with it every session and token."""
    folder = data or data_folder()
    made = _new_key(folder, only_if_none=False)
    path = folder / "client.json"
    assert made is not None
    if path.exists():
        write_profile(folder, json.loads(path.read_text())["url"], made.token)
    typer.echo(made.key)


def schema(
    kind: Annotated[str, typer.Argument(help="plan, kit, estate, values or answers")],
    words: Annotated[
        bool, typer.Option("--words", help="In words, as a page of the documentation.")
    ] = False,
) -> None:
    """The JSON Schema of a file of ours, or the same in words."""
    from nimble_stone.core.estate import EstateFile
    from nimble_stone.core.kit.model import Kit
    from nimble_stone.core.plan.model import Plan, SharedValues
    from nimble_stone.lab.guests.answers import Answers

    models: dict[str, type[BaseModel]] = {
        "plan": Plan,
        "kit": Kit,
        "estate": EstateFile,
        "values": SharedValues,
        "answers": Answers,
    }
    if kind not in models:
        raise InputError(f"there is no schema “{kind}”; there are {', '.join(models)}")
    if words:
        from nimble_stone.core.reference import reference

        typer.echo(reference(models[kind], f"The {kind} file, key by key"), nl=False)
    else:
        typer.echo(json.dumps(models[kind].model_json_schema(), indent=2))


def openapi() -> None:
    """The server's OpenAPI document, from which the page's types are made."""
    from nimble_stone.server.app import create_app

    typer.echo(json.dumps(create_app(Path("unused")).openapi(), indent=1, sort_keys=True))


def demo(
    data: Annotated[Path, typer.Option(help="Data folder of the demonstration.")] = Path(".demo"),
    port: int = 8440,
    octet: int = 44,
    speed: Annotated[
        float, typer.Option(help="How much faster than the clock the lab runs.")
    ] = DEMO_SPEED,
    more_hosts: Annotated[int, typer.Option(help="Further hosts in the bay “outfield”.")] = 0,
    mib: Annotated[int, typer.Option(help="Size of the package's content.")] = 24,
) -> None:
    """Start the server with the lab and the demonstration estate."""
    data = data.resolve()
    data.mkdir(parents=True, exist_ok=True, mode=0o700)
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind(("127.0.0.1", port))
        except OSError as error:
            raise InputError(f"port {port} is taken", hint="Choose another with --port.") from error
    (data / "dial.yaml").write_text(_dial(octet))
    url = f"http://127.0.0.1:{port}"
    from nimble_stone.store.folder import held

    with held(data, url):
        _demo(data, url, port, octet, speed, more_hosts, mib)


def _demo(
    data: Path, url: str, port: int, octet: int, speed: float, more_hosts: int, mib: int
) -> None:
    from nimble_stone.lab.scenario import demo as scene
    from nimble_stone.lab.scenario import medium

    medium.write(data / "inspection.iso")
    made = _new_key(data, only_if_none=False)
    assert made is not None
    write_profile(data, url, made.token)
    typer.echo("Starting the lab (simulated hosts) and the server …")
    # The server catches the signal while it serves and raises it once more at its end; by then
    # there is nothing left to interrupt.
    signal.signal(signal.SIGTERM, lambda *_: None)
    lab = subprocess.Popen(
        [
            sys.executable,
            "-m",
            "nimble_stone.cli.main",
            "lab",
            "serve",
            "--folder",
            str(data / "lab"),
            "--octet",
            str(octet),
            "--speed",
            str(speed),
            "--more-hosts",
            str(more_hosts),
        ]
    )

    async def run() -> None:
        import uvicorn

        from nimble_stone.server import connections
        from nimble_stone.server.app import create_app

        server = uvicorn.Server(
            uvicorn.Config(
                create_app(data, pace=1 / speed, inbox=data / "inbox", reachable_at=url),
                host="127.0.0.1",
                port=port,
                timeout_graceful_shutdown=2,
                **connections.options(),
            )
        )
        serving = asyncio.create_task(server.serve())
        try:
            while not server.started and not serving.done():
                await asyncio.sleep(0.05)
            client = Client(url, token=made.token)
            await asyncio.to_thread(seeding.fill, client, data, scene.plan(more_hosts, octet), mib)
            typer.echo(
                f"\n  Open   {url}\n  Key    {made.key}\n\n  One plan is ready to run: Plans →"
                " Western gauges → Check and run.\n  From another terminal:"
                f" NIMBLE_STONE_DATA={data} {Path(sys.argv[0])} plan show western\n  Ctrl+C ends"
                " it; `make demo` starts it again as it was.\n"
            )
            # what follows takes a minute and is seen as it goes on
            living = asyncio.create_task(
                asyncio.to_thread(seeding.bring_to_life, client, scene.plan(more_hosts, octet))
            )
            await serving
            living.cancel()
        finally:
            server.should_exit = True
            with contextlib.suppress(asyncio.CancelledError):
                await serving

    try:
        asyncio.run(run())
    except KeyboardInterrupt:
        pass
    finally:
        lab.terminate()
        lab.wait(10)


@contextlib.contextmanager
def lab_processes(
    folder: Path, data: Path, answers: Path | None = None
) -> Iterator[tuple[LabPlan, Client]]:
    """A lab and a server of its own on free ports, faster than the clock; both end with the
    block. `answers`: a file of what the lab's VMs answer.
    """
    from nimble_stone.lab.scenario import demo as scene

    octet = 160 + 2 * (os.getpid() % 40)
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    (data / "dial.yaml").write_text(_dial(octet))
    log = (folder / "log").open("ab")
    told = ["--answers", str(answers.resolve())] if answers else []
    at = ["--folder", str(folder / "lab"), "--octet", str(octet), "--speed", "200"]
    lab = _begun(["lab", "serve", *at, *told], log.fileno())
    server = _begun(
        ["serve", "--data", str(data), "--port", str(port), "--pace", "0.02"], log.fileno()
    )
    try:
        seeding.await_lab(folder / "lab" / "control.json")
        seeding.await_answer(f"http://127.0.0.1:{port}/api/health", "the server")
        yield (
            scene.plan(0, octet),
            Client(
                f"http://127.0.0.1:{port}",
                token=json.loads((data / "client.json").read_text())["token"],
            ),
        )
    finally:
        for process in (server, lab):
            process.terminate()
            process.join(20)
            if process.is_alive():
                process.kill()
        log.close()


def _begun(words: list[str], log: int) -> BaseProcess:
    """One more command, in a process that is forked from this one: what is imported here already
    need not be imported again.
    """
    sys.stdout.flush()
    sys.stderr.flush()
    process = get_context("fork").Process(target=_command, args=(words, log))
    process.start()
    return process


def _command(words: list[str], log: int) -> None:
    """What it prints goes to a file."""
    from nimble_stone.cli.entry import main

    for stream in (1, 2):
        os.dup2(log, stream)
    sys.argv = ["nimble-stone", *words]
    main()


def _dial(octet: int) -> str:
    return (
        f"nimble-stone: dial/1\nmapped:\n  - {{planned: 10.44.0.0/16, real: 127.{octet}.0.0/16}}\n"
        f"  - {{planned: 10.45.0.0/16, real: 127.{octet + 1}.0.0/16}}\nlow_ports: 20000\n"
    )
