"""Kits: list, validate, explain, and try one against the lab. What they need is loaded when they
run.
"""

from __future__ import annotations

import secrets
import sys
import tempfile
import time
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any
from urllib.parse import quote

import typer

from nimble_stone.cli import seeding
from nimble_stone.cli.client import Client
from nimble_stone.cli.kit_trial import on_answers
from nimble_stone.cli.say import FINE, FOUND, Json, answer, say, table, text_of
from nimble_stone.core.errors import InputError
from nimble_stone.core.units import count_text, time_text

if TYPE_CHECKING:
    from nimble_stone.core.kit.model import Kit
    from nimble_stone.engine.trial import Tried
    from nimble_stone.lab.guests.answers import Answers

MOST_LINES = 20
"""Lines of an answer that are shown."""
app = typer.Typer(help="Kits: list, validate, explain, try.", no_args_is_help=True)
Which = Annotated[str, typer.Argument(help="A kit file, or the id of a shipped kit.")]


@app.command("list")
def kit_list(as_json: Json = False) -> None:
    """All shipped kits."""
    from nimble_stone.app.kits import load_kits

    kits = load_kits()
    rows = [
        [kit.id, kit.accepts.product, ", ".join(role.label for role in kit.roles), kit.summary]
        for kit in kits.values()
    ]
    answer(
        [{"id": row[0], "product": row[1], "roles": row[2], "summary": row[3]} for row in rows],
        as_json,
        *table([["kit", "product", "roles", ""], *rows]),
    )


@app.command("validate")
def kit_validate(file: Path, as_json: Json = False) -> None:
    """Validate a kit file; every fault with its line. Exit code 1 when it is not valid."""
    from nimble_stone.app.kits import read_kit
    from nimble_stone.core import yaml_text

    try:
        kit = read_kit(text_of(file), str(file))
    except yaml_text.Faults as error:
        answer(
            {
                "kit": "",
                "faults": [{"place": place, "message": message} for place, message in error.faults],
            },
            as_json,
            *(f"{place or file}: {message}" for place, message in error.faults),
        )
        raise typer.Exit(FOUND) from None
    answer(
        {"kit": kit.id, "faults": []},
        as_json,
        f"{kit.title} is valid: {count_text(len(kit.roles), 'role')},"
        f" {count_text(len(kit.questions), 'question')},"
        f" {count_text(len(kit.acceptance), 'acceptance check')}.",
    )


@app.command("new")
def kit_new(
    package: Annotated[Path, typer.Option("--from", help="A package file.")],
) -> None:
    """Write a commented kit from what a package asks and offers, to the standard output."""
    from nimble_stone.cli import offline
    from nimble_stone.core.kit import beginning

    typer.echo(beginning.text_of(offline.view_of(package)), nl=False)


@app.command("explain")
def kit_explain(kit: Which, as_json: Json = False) -> None:
    """Describe a kit: roles, sizing, settings, networks, cluster setup, acceptance."""
    from nimble_stone.core.kit.words import explain

    found = _kit(kit)
    lines = explain(found)
    answer({"kit": found.id, "lines": lines}, as_json, *lines)


@app.command("versions")
def kit_versions(
    kit: Annotated[str, typer.Argument(help="A kit's id.")],
    show: Annotated[int, typer.Option(help="Print the text of this version.")] = 0,
    as_json: Json = False,
) -> None:
    """Earlier texts of a kit of the server, the newest first."""
    client = Client()
    if show:
        found = client.call("GET", f"/api/kits/{quote(kit, safe='')}/versions/{show}")
        answer(found, as_json, *found["text"].splitlines())
        return
    view = client.call("GET", f"/api/kits/{quote(kit, safe='')}/versions")
    rows = [
        [
            str(one["number"]),
            f"{time_text(view['now'] - one['at'])} ago",
            f"+{one['added']} −{one['removed']}",
            "now" if one["current"] else "",
        ]
        for one in view["versions"]
    ]
    none = [f"Kit {kit} has no versions yet: they are kept when it is saved."]
    answer(view, as_json, *(table([["version", "seen", "lines", ""], *rows]) if rows else none))


@app.command("try")
def kit_try(
    kit: Which,
    package: Annotated[
        list[Path] | None, typer.Option(help="Its packages; default: the lab's.")
    ] = None,
    bay: Annotated[str, typer.Option(help="Bay of the lab.")] = "kelda-main",
    count: Annotated[list[str] | None, typer.Option(help="ROLE=NUMBER")] = None,
    value: Annotated[list[str] | None, typer.Option(help="COLUMN=VALUE")] = None,
    answers: Annotated[
        Path | None,
        typer.Option(help="A file of what the product's nodes answer: see the docs of kits."),
    ] = None,
    node: Annotated[
        str, typer.Option(help="Instead: the address of a real node, whose calls are shown.")
    ] = "",
    role: Annotated[str, typer.Option(help="With --node: its role; default: the first.")] = "",
    changes: Annotated[
        bool, typer.Option("--changes", help="With --node: send also what changes the node.")
    ] = False,
    as_json: Json = False,
) -> None:
    """Test a kit: deploy it in a temporary lab, check it, delete it; or send its calls to one real
    node, one after the other. Exit code 1 when a step, check or call fails.
    """
    if node:
        _call_by_call(_kit(kit), node, role, dict(_pairs(value)), changes, as_json)
        return
    text = text_of(Path(kit)) if Path(kit).is_file() else ""
    found = _kit(kit)
    _not_bare(found)
    with tempfile.TemporaryDirectory(prefix="nimble-stone-try-") as folder:
        packages, told = package or [], dict(_pairs(value))
        if answers is not None:
            trial = on_answers(found, _answers(answers), Path(folder))
            found, text, packages = trial.kit, trial.text, [trial.package]
            told = {**trial.told, **told}
        outcome = _tried(
            Path(folder),
            found,
            text,
            packages,
            bay,
            dict(_pairs(count)),
            told,
            answers=answers,
            quiet=as_json,
        )
    failed = [one for one in outcome["proofs"] if not one["passed"]]
    answer(
        outcome,
        as_json,
        *(
            f"failed: {one['key']} {one['message']}"
            for one in outcome["steps"]
            if one["state"] == "failed"
        ),
        *(
            f"failed: {one['label']} {one['node']}: {one['found']} instead of {one['expected']}"
            for one in failed
        ),
        f"{found.title}: {outcome['state']}, {len(outcome['proofs']) - len(failed)} of"
        f" {len(outcome['proofs'])} acceptance checks passed, {outcome['seconds']:.0f} s.",
    )
    raise typer.Exit(FINE if outcome["state"] == "done" else FOUND)


def _call_by_call(
    kit: Kit, node: str, role: str, values: dict[str, str], changes: bool, as_json: bool
) -> None:
    """Each call with its question, its answer and what is taken from it."""
    from nimble_stone.cli import kit_calls

    secret = kit_calls.secrets_of(kit)
    plain = {name: text for name, text in values.items() if name not in secret}
    sheet = kit_calls.sheet_of(kit, node, role, plain)
    given = {
        name: values.get(name) or _typed(name)
        for name in secret
        if name in values or name == kit.admin_password
    }

    def tell(one: Tried) -> None:
        if not as_json:
            say("\n".join(_shown(one)))

    found = kit_calls.run(sheet, given, changes=changes, tell=tell)
    wrong = [one for one in found if one["wrong"]]
    skipped = [one for one in found if one["skipped"]]
    answer(
        {"calls": found},
        as_json,
        f"{count_text(len(found) - len(skipped), 'call')} sent, {len(wrong)} not as the kit wants,"
        f" {len(skipped)} not sent.",
    )
    raise typer.Exit(FOUND if wrong else FINE)


def _typed(name: str) -> str:
    """A secret that is typed. Raises InputError where nobody can."""
    if not sys.stdin.isatty():
        raise InputError(
            f"the kit needs “{name}”, and there is no terminal to ask for it",
            hint=f"Give the secret with --value {name}=…",
        )
    return str(typer.prompt(name, hide_input=True, err=True))


def _shown(one: Tried) -> list[str]:
    """A call as people read it."""
    if one.skipped:
        return [one.what, f"  not sent: {one.skipped}", ""]
    lines = [one.what, *(f"  > {line}" for line in one.asked.splitlines())]
    body = one.answered.splitlines()
    lines += [f"  < {one.status}", *(f"  < {line[:200]}" for line in body[:MOST_LINES])]
    if len(body) > MOST_LINES:
        lines.append(f"  < … {len(body) - MOST_LINES} further lines")
    lines += [f"  took {what} = {value}" for what, value in one.taken.items()]
    return [*lines, f"  WRONG: {one.wrong}" if one.wrong else "  as the kit wants it", ""]


def _answers(answers: Path) -> Answers:
    """Raises Faults or FormatError, each fault with its line."""
    from nimble_stone.core import yaml_text
    from nimble_stone.lab.guests.answers import Answers

    return yaml_text.read(text_of(answers), Answers, f"answers file {answers}")


def _not_bare(kit: Kit) -> None:
    """Raises InputError for a kit whose nodes cannot be on the hosts that a trial has."""
    bare = next((role for role in kit.roles if role.lives_on == "machines"), None)
    if bare is not None:
        raise InputError(
            f"{bare.label} nodes of {kit.title} live on bare machines; a kit is tried on simulated"
            " hosts",
            hint="Copy it into the data folder of `nimble-stone demo`, which has bare machines.",
        )


def _pairs(items: list[str] | None) -> list[tuple[str, str]]:
    return [(name, rest) for item in items or [] for name, _, rest in [item.partition("=")]]


def _kit(which: str) -> Kit:
    from nimble_stone.app.kits import load_kits, read_kit

    if Path(which).is_file():
        return read_kit(text_of(Path(which)), which)
    kits = load_kits()
    if which not in kits:
        raise InputError(
            f"there is neither a file nor a kit “{which}”; kits are {', '.join(sorted(kits))}"
        )
    return kits[which]


@dataclass(frozen=True)
class _Package:
    """A package of the lab, and the product that it is to be."""

    file: Path
    product: str


def _made(folder: Path, kit: Kit, product: str) -> _Package:
    """A package of the lab for a product. Raises InputError for one that the lab has not."""
    from nimble_stone.lab.scenario import appliance, products, shoal

    known = next((one for one in products.ALL.values() if one.title == product), None)
    file = folder / f"package-{len(list(folder.glob('package-*')))}"
    if any(_takes_images(kit, role.id, product) for role in kit.roles):
        file = file.with_suffix(".img")
        file.write_bytes(shoal.image())
    elif known is not None:
        file = file.with_suffix(".ova")
        file.write_bytes(products.ova(known, mib=1))
    elif product == "Gauge Collector":
        file = file.with_suffix(".ova")
        file.write_bytes(appliance.ova(mib=1))
    else:
        raise InputError(
            f"the lab has no product “{product}”",
            hint=(
                "Name its package with --package; the lab's VMs answer as the lab's products do."
            ),
        )
    return _Package(file, product)


def _takes_images(kit: Kit, role: str, product: str) -> bool:
    """Whether nodes of a role are made from disk images of that product."""
    from nimble_stone.core.plan.packages import IMAGES, accepts_of, formats_of

    return IMAGES[0] in formats_of(kit, role) and accepts_of(kit, role).product == product


def _named(client: Client, package: _Package) -> dict[str, Any]:
    """Import a package; one that says no product gets the kit's."""
    found: dict[str, Any] = client.upload(package.file, lambda *_: None)
    if found["product"] == package.product:
        return found
    versions = {"product": package.product, "version": "1.0"}
    return dict(client.call("PATCH", f"/api/packages/{found['sha256']}", versions))


def _tried(
    folder: Path,
    kit: Kit,
    text: str,
    packages: list[Path],
    bay: str,
    counts: dict[str, str],
    values: dict[str, str],
    *,
    answers: Path | None,
    quiet: bool,
) -> dict[str, Any]:
    from nimble_stone.cli.serving import lab_processes
    from nimble_stone.lab.scenario import demo

    began = time.monotonic()
    data = folder / "data"
    (data / "kits").mkdir(parents=True, mode=0o700)
    if text:
        (data / "kits" / "tried.yaml").write_text(text)
    wanted = {kit.accepts.product, *(one.accepts.product for one in kit.roles if one.accepts)}
    made = [] if packages else [_made(folder, kit, product) for product in sorted(wanted)]
    with lab_processes(folder, data, answers) as (lab, client):
        client.call("PUT", f"/api/secrets/{demo.CREDENTIAL}", {"value": demo.PASSWORD})
        client.call("POST", "/api/estate", demo.estate_file(lab).model_dump(mode="json"))
        client.call("POST", "/api/estate/read", {})
        taken = [client.upload(package, lambda *_: None) for package in packages]
        taken += [_named(client, one) for one in made]
        plan = _plan(
            client, kit, [(one["product"], one["version"]) for one in taken], bay, counts, values
        )
        if kit.systems:
            plan = seeding.confirm_systems(client, plan["id"])
        if blockers := [f["message"] for f in plan["findings"] if f["severity"] == "blocker"]:
            raise InputError(
                f"the plan has blockers: {'; '.join(blockers[:4])}",
                hint="Give values with --value and counts with --count.",
            )
        started = client.call("POST", f"/api/plans/{plan['id']}/run")
        if not started["run"]:
            raise InputError(
                "the run was refused: "
                + "; ".join(
                    f["message"] for f in started["plan"]["findings"] if f["severity"] == "blocker"
                )
            )
        run: dict[str, Any] = {"state": "running"}
        told: set[str] = set()
        while run["state"] in ("running", "proving", "held"):
            time.sleep(0.1)
            run = client.call("GET", f"/api/runs/{started['run']}")
            if run["state"] == "held":
                # a stage holds for a person: nobody looks at a trial
                client.call("POST", f"/api/runs/{started['run']}/resume", {})
            for step in run["steps"]:
                if step["state"] == "done" and step["key"] not in told and not quiet:
                    told.add(step["key"])
                    say(f"  {step['label']} {step['node']}".rstrip())
    return {
        "state": run["state"],
        "seconds": time.monotonic() - began,
        "proofs": run["proofs"],
        "steps": [
            {"key": s["key"], "state": s["state"], "message": s["message"]} for s in run["steps"]
        ],
    }


def _plan(
    client: Client,
    kit: Kit,
    taken: list[tuple[str, str]],
    bay: str,
    counts: dict[str, str],
    values: dict[str, str],
) -> dict[str, Any]:
    """A plan of the kit's usual numbers on the lab: pools and networks of the bay, secrets made by
    their rules.
    """
    from nimble_stone.core.estate import Estate
    from nimble_stone.core.plan.beginning import beginning
    from nimble_stone.core.plan.many import Base, plans_of
    from nimble_stone.core.plan.packages import takes
    from nimble_stone.core.secrets_rule import made_by

    estate = Estate.model_validate(client.call("GET", "/api/estate/facts"))
    header = ["name", *(f"count.{role}" for role in counts)]
    fits = {
        role: next(
            (
                f"{product} {version}"
                for product, version in taken
                if takes(accepts, product, version)
            ),
            "",
        )
        for role, accepts in (
            ("", kit.accepts),
            *((role.id, role.accepts) for role in kit.roles if role.accepts),
        )
    }
    secret = {question.id for question in kit.questions if question.secret}
    plain = {name: text for name, text in values.items() if name not in secret}
    base = Base(kit.id, fits.pop(""), bay, (), plain, {kit.id: fits})
    drawn = plans_of(
        [header, ["tried", *counts.values()]],
        base,
        {kit.id: kit},
        lambda kit, bay: beginning(kit, bay, estate),
    )[0]
    if drawn.faults:
        raise InputError("; ".join(drawn.faults))
    plan = client.call("POST", "/api/plans", {"text": drawn.text})
    for column in plan["columns"]:
        if column["kind"] == "secret" and (column["required"] or column["id"] in values):
            rule = next(
                (question.rule for question in kit.questions if question.id == column["id"]), None
            )
            plan = client.call(
                "POST",
                "/api/plans/tried/secret",
                {
                    "version": plan["version"],
                    "column": column["id"],
                    "value": values.get(column["id"]) or made_by(rule, secrets.choice),
                },
            )
    if plan["licence_text"]:
        plan = client.call(
            "POST", "/api/plans/tried/licence", {"version": plan["version"], "by": "the trial"}
        )
    return dict(plan)
