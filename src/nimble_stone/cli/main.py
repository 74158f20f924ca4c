"""Commands. Exit codes: 0 fine, 1 findings or failures, 2 wrong usage or unreadable input."""

from __future__ import annotations

import json
import time
from pathlib import Path
from typing import Annotated, Any

import typer

from nimble_stone.cli import (
    access,
    backup,
    certificates,
    deployments,
    disks,
    keyring,
    kits,
    machines,
    plans,
    serving,
)
from nimble_stone.cli import lab as lab_commands
from nimble_stone.cli.client import Client
from nimble_stone.cli.entry import guarded
from nimble_stone.cli.inspecting import package_inspect, package_lines
from nimble_stone.cli.say import (
    FINE,
    FOUND,
    Json,
    answer,
    findings,
    moment,
    say,
    sentence,
    table,
    text_of,
)
from nimble_stone.core.errors import InputError, NotFound
from nimble_stone.core.run_words import EVENTS
from nimble_stone.core.units import count_text, size_text, time_text

app = typer.Typer(
    help="Deploy virtual appliances and clusters on hypervisor hosts.",
    no_args_is_help=True,
    add_completion=False,
    pretty_exceptions_enable=False,
)
package_app = typer.Typer(help="Import, list and inspect packages.", no_args_is_help=True)
run_app = typer.Typer(
    help="Runs: start, watch, hold, resume, retry, roll back.", no_args_is_help=True
)
trust_app = typer.Typer(help="Trusted publishers.", no_args_is_help=True)
for name, sub in (
    ("package", package_app),
    ("estate", machines.app),
    ("plan", plans.app),
    ("kit", kits.app),
    ("run", run_app),
    ("deployment", deployments.app),
    ("secret", keyring.app),
    ("lab", lab_commands.app),
    ("access", access.app),
    ("disk", disks.app),
    ("certificate", certificates.app),
    ("trust", trust_app),
):
    app.add_typer(sub, name=name)
package_app.command("inspect")(package_inspect)
serving.add_commands(app)
TRANSCRIPT_PAGE = 500
backup.add_commands(app)


@package_app.command("add")
def package_add(
    source: Annotated[
        list[str],
        typer.Argument(
            help=(
                "A file (a descriptor brings its files along), several files of one package, or a"
                " URL."
            )
        ),
    ],
    sha256: Annotated[str, typer.Option(help="For a URL: the digest it must have.")] = "",
    as_json: Json = False,
) -> None:
    """Import a package. An interrupted upload resumes where it stopped, also when the command is
    run again.
    """
    client = Client()
    teller = disks.Progress("sending")
    if len(source) == 1 and source[0].startswith(("http://", "https://")):
        row = client.call("POST", "/api/take-ins", {"url": source[0], "sha256": sha256})
        while row["state"] in ("receiving", "verifying"):
            teller.word, teller.total = (
                ("fetching" if row["state"] == "receiving" else "verifying"),
                row["total"],
            )
            teller.at(row["done"])
            time.sleep(0.2)
            row = client.call("GET", f"/api/take-ins/{row['id']}")
        if row["state"] != "done":
            raise InputError(row["message"] or "it was stopped", code=row["code"], hint=row["hint"])
        found = client.call("GET", f"/api/packages/{row['package']}")
    else:
        paths = [Path(name) for name in source]
        for path in paths:
            if not path.is_file():
                raise NotFound(f"there is no file {path}")
        if len(paths) == 1:
            from nimble_stone.packages.files import opened

            with opened(paths[0]) as given:
                paths = [paths[0].parent / g.name for g in given]

        def seen(sent: int, total: int) -> None:
            teller.total = total
            teller.at(sent)

        found = client.upload(paths, seen)
    teller.end()
    answer(
        found,
        as_json,
        f"{found['product']} {found['version']} imported: {found['sha256'][:12]}",
        *package_lines(found),
    )


@package_app.command("list")
def package_list(as_json: Json = False) -> None:
    """All packages."""
    found = Client().call("GET", "/api/packages")
    answer(
        found,
        as_json,
        *(
            table(
                [
                    [
                        p["sha256"][:12],
                        p["kind"],
                        f"{p['product']} {p['version']}",
                        p["channel"] or "-",
                        size_text(p["size"]),
                        p["file_name"],
                    ]
                    for p in found
                ]
            )
            or ["No packages. Import one: nimble-stone package add FILE"]
        ),
    )


@package_app.command("take-ins", hidden=True)  # its name before
@package_app.command("imports")
def package_take_ins(as_json: Json = False) -> None:
    """Running imports, and how earlier ones ended."""
    found = Client().call("GET", "/api/take-ins")
    answer(
        found,
        as_json,
        *(
            table(
                [
                    [
                        t["id"],
                        t["source"],
                        t["state"],
                        t["name"],
                        (
                            f"{size_text(t['done'])} of {size_text(t['total'])}"
                            if t["state"] in ("receiving", "verifying")
                            else t["message"][:100]
                        ),
                    ]
                    for t in found
                ]
            )
            or ["No imports yet."]
        ),
    )


@package_app.command("stop")
def package_stop(take_in: str) -> None:
    """Stop an import; nothing of it is saved. Or remove an ended import from the list."""
    Client().call("DELETE", f"/api/take-ins/{take_in}")
    say("stopped; nothing was saved")


@package_app.command("compare")
def package_compare(old: str, new: str, as_json: Json = False) -> None:
    """Differences between two packages: files, or packages of the server. Exit code 1 when they
    differ.
    """
    if Path(old).is_file() and Path(new).is_file():
        from nimble_stone.cli import tools

        changes = tools.compare_files(Path(old), Path(new))
    else:
        changes = Client().call("GET", "/api/packages/compare", params={"old": old, "new": new})[
            "changes"
        ]
    answer(
        changes,
        as_json,
        *(
            [
                f"{c['group']:9} {c['kind']:7} {c['what']}: {c['before'] or '-'} →"
                f" {c['after'] or '-'}"
                for c in changes
            ]
            or ["No relevant changes."]
        ),
    )
    raise typer.Exit(FOUND if changes else FINE)


@package_app.command("label")
def package_label(
    package: str,
    channel: Annotated[str, typer.Option(help="Such as stable or candidate.")] = "",
    note: Annotated[str, typer.Option(help="A note for the team.")] = "",
    product: Annotated[str, typer.Option(help="Name of a disk image, ISO or kernel.")] = "",
    version: Annotated[str, typer.Option(help="Its version.")] = "",
    as_json: Json = False,
) -> None:
    """Set the team's channel and note; name a file that has no descriptor."""
    body = {"channel": channel, "note": note, "product": product, "version": version}
    found = Client().call("PATCH", f"/api/packages/{package}", body)
    answer(
        found, as_json, f"{found['product']} {found['version']}: {found['channel'] or 'no channel'}"
    )


@package_app.command("accept")
def package_accept(
    package: str, by: Annotated[str, typer.Option(help="Who accepts.")], as_json: Json = False
) -> None:
    """Accept the licence text in a person's name; name and time are recorded."""
    found = Client().call("POST", f"/api/packages/{package}/accept", {"by": by})
    answer(
        found,
        as_json,
        f"licence of {found['product']} {found['version']} accepted by"
        f" {found['accepted'][-1]['by']}",
    )


@package_app.command("remove")
def package_remove(package: str) -> None:
    """Remove a package that no plan, run or copy needs."""
    Client().call("DELETE", f"/api/packages/{package}")
    say("removed")


@package_app.command("copies")
def package_copies(
    clear: Annotated[
        str, typer.Option(help="Delete the unused cached images of this package.")
    ] = "",
    as_json: Json = False,
) -> None:
    """Cached images on datastores; with --clear, delete unused ones."""
    client = Client()
    if clear:
        done = client.call("DELETE", f"/api/packages/{clear}/copies")
        answer(done, as_json, f"{done['cleared']} copies cleared", *done["kept"])
        return
    found = client.call("GET", "/api/copies")
    answer(
        found,
        as_json,
        *(
            table(
                [
                    [
                        c["datastore"],
                        c["host"],
                        c["name"],
                        size_text(c["size"]),
                        ", ".join(c["used_by"]) or "unused",
                    ]
                    for c in found
                ]
            )
            or ["No cached images."]
        ),
    )


@trust_app.command("list")
def trust_list(as_json: Json = False) -> None:
    """Trusted publishers."""
    found = Client().call("GET", "/api/trust")
    answer(
        found,
        as_json,
        *(
            table([[t["fingerprint"][:23] + "…", t["subject"]] for t in found])
            or ["No trusted publishers. Add one: nimble-stone trust add FILE"]
        ),
    )


@trust_app.command("add")
def trust_add(file: Path, as_json: Json = False) -> None:
    """Trust the certificates of a PEM file. Compare the fingerprint with the publisher's first."""
    found = Client().call("POST", "/api/trust", {"pem": text_of(file)})
    answer(found, as_json, f"{count_text(len(found), 'certificate')} trusted")


@trust_app.command("remove")
def trust_remove(fingerprint: str) -> None:
    """Stop trusting a certificate."""
    Client().call("DELETE", f"/api/trust/{fingerprint}")
    say("no longer trusted")


@run_app.command("start")
def run_start(
    plan: str,
    watch: Annotated[bool, typer.Option("--watch", help="Follow the run.")] = False,
    again: Annotated[
        list[str] | None,
        typer.Option("--again", help="Deployed node to make again, such as lead-1."),
    ] = None,
    remove: Annotated[
        list[str] | None,
        typer.Option("--remove", help="Deployed node that the run may remove, with its disks."),
    ] = None,
    stage: Annotated[
        str, typer.Option(help="Of what is deployed: the stage of the setup to run again alone.")
    ] = "",
    lost: Annotated[
        list[str] | None,
        typer.Option(help="Host that is lost for good: its nodes are made again elsewhere."),
    ] = None,
    as_json: Json = False,
) -> None:
    """Check a plan against the live hosts and start it. Where it is deployed, nodes are added and
    removed as the plan says (see `plan changes`).
    """
    client = Client()
    wanted = {"again": again or [], "remove": remove or [], "stage": stage, "lost": lost or []}
    found = client.patient(f"/api/plans/{plan}/run", wanted)
    if not found["run"]:
        answer(found, as_json, "Not started: the plan has blockers.", *findings(found["plan"]))
        raise typer.Exit(FOUND)
    answer(
        {"run": found["run"]},
        as_json,
        f"run {found['run']} started: {found['plan']['sentence']['below']}",
    )
    if watch:
        _watch(client, found["run"], as_json)


@run_app.command("watch")
def run_watch(run: str, as_json: Json = False) -> None:
    """Follow a run until it ends or needs attention."""
    _watch(Client(), run, as_json)


def _watch(client: Client, run: str, as_json: bool) -> None:
    seen = client.call("GET", f"/api/runs/{run}")
    labels = {
        step["key"]: f"{step['node'] or step['host']:14} {step['label']}" for step in seen["steps"]
    }
    began = {}
    if seen["state"] in ("running", "proving", "undoing"):
        for event in client.events(run):
            payload, step = event["payload"], event["step"]
            if as_json:
                say(json.dumps(event))
            elif step:
                if event["kind"] == "begun":
                    began[step] = event["at"]
                elif event["kind"] in (
                    "done",
                    "failed",
                    "skipped",
                    "undone",
                    "try-again",
                    "undo-failed",
                    "lost-contact",
                    "contact-again",
                    "wait-extended",
                    "wait-end-asked",
                ):
                    took = (
                        f" ({time_text(event['at'] - began[step])})"
                        if step in began and event["kind"] in ("done", "failed")
                        else ""
                    )
                    say(
                        f"{labels.get(step, step)}: {EVENTS[event['kind']]}{took}"
                        f" {payload.get('message', '')}".rstrip()
                    )
                    if event["kind"] == "failed" and payload.get("hint"):
                        say(f"  {payload['hint']}")
            else:
                say(f"run: {EVENTS.get(event['kind'], event['kind'])}")
            if (
                not step
                and payload.get("state") in ("done", "unproved", "undone", "trouble", "held")
                and client.call("GET", f"/api/runs/{run}")["state"] == payload["state"]
            ):
                break
    end = client.call("GET", f"/api/runs/{run}")
    if not as_json:
        say(f"{end['id']}  {end['plan']}  {end['words']['line']}")
        say(sentence(end["sentence"]))
    raise typer.Exit(FINE if end["state"] in ("done", "undone", "running", "held") else FOUND)


@run_app.command("list")
def run_list(as_json: Json = False) -> None:
    """All runs, newest first."""
    found = Client().call("GET", "/api/runs")
    answer(
        found,
        as_json,
        *(
            table(
                [
                    [r["id"], r["plan"], r["words"]["short"] + ":", r["words"]["sentence"]]
                    for r in found
                ]
            )
            or ["There was no run yet."]
        ),
    )


def _request(name: str, help_text: str, *, hidden: bool = False) -> None:
    request = "undo" if name == "rollback" else name  # as the API calls it

    @run_app.command(name, help=help_text, hidden=hidden)
    def command(run: str, as_json: Json = False) -> None:
        client = Client()
        if run.startswith("g"):  # a run that prepares hosts
            found = client.call("POST", f"/api/groundwork/{run}/{request}", {})
            answer(found, as_json, f"{found['id']}: {found['sentence']}")
            return
        found = client.call("POST", f"/api/runs/{run}/{request}", {})
        answer(found, as_json, sentence(found["sentence"]))


for _name, _help in (
    ("hold", "Start no new steps until resumed."),
    ("resume", "Resume after a hold."),
    ("retry", "Try failed steps again."),
    ("rollback", "Roll back: delete everything this run created; nothing else is changed."),
):
    _request(_name, _help)
_request("undo", "The name before of rollback.", hidden=True)


@run_app.command("extend")
def run_extend(
    run: str,
    step: str,
    minutes: Annotated[float, typer.Option(help="Minutes to add.")] = 10.0,
    as_json: Json = False,
) -> None:
    """Give a waiting step more time."""
    found = Client().call(
        "POST", f"/api/runs/{run}/extend", {"steps": [step], "seconds": minutes * 60}
    )
    answer(found, as_json, sentence(found["sentence"]))


@run_app.command("end-wait")
def run_end_wait(run: str, step: str, as_json: Json = False) -> None:
    """End a wait: the step fails, and can be retried or skipped."""
    found = Client().call("POST", f"/api/runs/{run}/end-wait", {"steps": [step]})
    answer(found, as_json, sentence(found["sentence"]))


@run_app.command("show")
def run_show(run: str, as_json: Json = False) -> None:
    """State of a run, step by step. Exit code 1 when it needs attention."""
    found = Client().call("GET", f"/api/runs/{run}")
    rows = [["step", "state", "attempts", "took", ""]]
    for step in found["steps"]:
        took = (
            time_text(step["ended_at"] - step["started_at"])
            if step["ended_at"] and step["started_at"]
            else "-"
        )
        said = step["undo_message"] if step["undo_failed"] else step["message"]
        rows.append(
            [
                step["key"],
                step["state"],
                str(step["attempt"]),
                took,
                " ".join(filter(None, (said, step["hint"], step["queued"]))),
            ]
        )
    answer(found, as_json, sentence(found["sentence"]), *table(rows))
    raise typer.Exit(FOUND if found["state"] in ("trouble", "unproved") else FINE)


@run_app.command("transcript")
def run_transcript(
    run: str,
    step: Annotated[
        str, typer.Argument(help="A step's key, as `run show` lists them; all steps without it.")
    ] = "",
    search: Annotated[
        str, typer.Option(help="Only entries whose command or answer contains this.")
    ] = "",
    as_json: Json = False,
) -> None:
    """Commands and answers of a run, secrets blanked. Repeated polls with the same answer are one
    entry.
    """
    client, found, after = Client(), [], 0
    while True:
        page = client.call(
            "GET",
            f"/api/runs/{run}/transcript",
            params={"step": step, "after": after, "search": search},
        )
        found += page
        if len(page) < TRANSCRIPT_PAGE:
            break
        after = page[-1]["id"]
    lines = []
    for entry in found:
        times = (
            f" ({entry['times']} times, last {_clock(entry['last_at'])})"
            if entry["times"] > 1
            else ""
        )
        lines.append(
            f"{_clock(entry['at'])} {entry['step']} {entry['target']}$ {entry['command']}{times}"
        )
        lines += [f"    {line}" for line in entry["answer"].splitlines()]
        lines += [f"    (status {entry['status']})"] if entry["status"] else []
    answer(found, as_json, *(lines or ["No commands sent."]))


def _clock(at: float) -> str:
    return time.strftime("%H:%M:%S", time.localtime(at))


@run_app.command("console")
def run_console(run: str, node: str, as_json: Json = False) -> None:
    """The end of a node's serial console."""
    found = Client().call("GET", f"/api/runs/{run}/console", params={"node": node})
    answer(
        found, as_json, found["text"] or found["trouble"] or "Nothing on the serial console yet."
    )


@run_app.command("skip")
def run_skip(
    run: str,
    step: str,
    reason: Annotated[str, typer.Option(help="Reason; saved in the journal.")],
    as_json: Json = False,
) -> None:
    """Skip a failed step; while its run is rolled back, leave as it is what it made."""
    found = Client().call("POST", f"/api/runs/{run}/skip", {"steps": [step], "reason": reason})
    answer(found, as_json, sentence(found["sentence"]))


@run_app.command("take-kit")
def run_take_kit(
    run: str,
    yes: Annotated[bool, typer.Option("--yes", help="Do it; without, it is only shown.")] = False,
    as_json: Json = False,
) -> None:
    """Let a run that waits take over the corrected kit. Exit code 1 when it cannot."""
    client = Client()
    found = client.call("GET", f"/api/runs/{run}/kit")
    if not found["parts"]:
        answer(found, as_json, f"The kit is as it was when run {run} began.")
        return
    lines = [f"Corrected in the kit: {', '.join(found['parts'])}."]
    lines += [f"In the way: {one}" for one in found["refused"]]
    if yes and not found["refused"]:
        client.call("POST", f"/api/runs/{run}/kit", {})
        lines.append(f"Taken over. Continue: run retry {run}")
    elif not found["refused"]:
        lines.append("Take it over: add --yes")
    answer(found, as_json, *lines)
    if found["refused"]:
        raise typer.Exit(FOUND)


@app.command()
def limits(
    overall: Annotated[int, typer.Option(help="Most working steps at once, over all runs.")] = 0,
    host: Annotated[int, typer.Option(help="Most working steps at once on one host.")] = 0,
    datastore: Annotated[
        int, typer.Option(help="Most working steps at once on one datastore.")
    ] = 0,
    as_json: Json = False,
) -> None:
    """Show or set how many steps run at once, over all runs and host preparation."""
    client = Client()
    found = client.call("GET", "/api/limits")
    if overall or host or datastore:
        body = {
            "overall": overall or found["overall"],
            "per_host": host or found["per_host"],
            "per_datastore": datastore or found["per_datastore"],
        }
        found = client.call("PUT", "/api/limits", body)
    answer(
        found,
        as_json,
        f"At most {found['overall']} steps at once, {found['per_host']} on one host,"
        f" {found['per_datastore']} on one datastore.",
        *(
            f"run {one['run']}: {one['working']} working, {one['queued']} queued"
            for one in found["shares"]
        ),
    )


def _compared(rounds: dict[str, Any], names: dict[str, str]) -> list[str]:
    """What is otherwise than in the round before."""
    before = f"the checks of {moment(rounds['before'])} UTC"
    if not rounds["changed"]:
        return [f"Nothing changed since {before}."]
    return [
        f"Changed since {before}:",
        *(
            f"  {names.get(one['node'], one['node'] or 'cluster')}, {one['label']}:"
            f" {one['was_outcome']} → {one['now_outcome']}: {one['was'] or '-'} → {one['now']}"
            for one in rounds["changed"]
        ),
    ]


@app.command()
def acceptance(
    run: str,
    again: Annotated[
        bool, typer.Option("--again", help="Run the acceptance checks again.")
    ] = False,
    junit: Annotated[Path | None, typer.Option(help="Write JUnit XML to this file.")] = None,
    html: Annotated[Path | None, typer.Option(help="Write the report to this file.")] = None,
    as_json: Json = False,
) -> None:
    """Acceptance results of a run."""
    client = Client()
    found = (
        client.long(f"/api/runs/{run}/prove", {})
        if again
        else client.call("GET", f"/api/runs/{run}")
    )
    for path, kind in ((junit, "xml"), (html, "html")):
        if path:
            path.write_text(client.text(f"/api/runs/{run}/acceptance.{kind}"), encoding="utf-8")
    names = {n["id"]: n["name"] for n in found["nodes"]}
    rows = [
        [
            names.get(p["node"], "cluster"),
            p["label"],
            "passed" if p["passed"] else "FAILED",
            p["expected"],
            p["found"],
        ]
        for p in found["proofs"]
    ]
    rounds = client.call("GET", f"/api/runs/{run}/acceptance") if found["proofs"] else None
    answer(
        {"proofs": found["proofs"], "proved_at": found["proved_at"], "rounds": rounds},
        as_json,
        sentence(found["proof_sentence"]),
        *table(rows),
        *(_compared(rounds, names) if rounds and rounds["before"] else ()),
    )
    if not found["proofs"] or not all(p["passed"] for p in found["proofs"]):
        raise typer.Exit(FOUND)


def main() -> None:
    """Run a command with everything loaded."""
    guarded(app)


if __name__ == "__main__":
    main()
