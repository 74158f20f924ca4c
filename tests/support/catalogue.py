"""The catalogues of errors and findings, read from the code itself: every code, what it says, what
to do. `python -m tests.support.catalogue` writes docs/errors.md and docs/findings.md.
"""

from __future__ import annotations

import ast
from dataclasses import dataclass, field
from pathlib import Path

ROOT = Path(__file__).parents[2]
SOURCE = ROOT / "src" / "nimble_stone"
_ANSWERS = {
    "FormatError": "422",
    "InputError": "422",
    "NotFound": "404",
    "Conflict": "409",
    "Denied": "401",
    "Busy": "429",
    "StoreError": "507",
}


@dataclass
class Entry:
    """A code with all that is said under it."""

    kinds: set[str] = field(default_factory=set)
    said: list[str] = field(default_factory=list)
    remedies: list[str] = field(default_factory=list)


def text_of(node: ast.expr | None) -> str:
    """A text as it is written, with … where a value comes in; '' where it is none."""
    if isinstance(node, ast.Constant) and isinstance(node.value, str):
        return node.value
    if isinstance(node, ast.JoinedStr):
        return "".join(
            part.value if isinstance(part, ast.Constant) else "…"  # type: ignore[misc]
            for part in node.values
        )
    if isinstance(node, ast.BinOp) and isinstance(node.op, ast.Add):
        return text_of(node.left) + (text_of(node.right) or "…")
    if isinstance(node, ast.IfExp):
        return text_of(node.body) or text_of(node.orelse)
    return ""


def _add(entry: Entry, said: str, remedy: str) -> None:
    if said and said not in entry.said:
        entry.said.append(said)
    if remedy and remedy not in entry.remedies:
        entry.remedies.append(remedy)


def _name(call: ast.Call) -> str:
    return call.func.id if isinstance(call.func, ast.Name) else getattr(call.func, "attr", "")


def _finding(entry: Entry, given: dict[str, ast.expr]) -> None:
    entry.kinds.add(text_of(given.get("severity")) or "…")
    remedy = given.get("remedy")
    label: ast.expr | None = None
    if isinstance(remedy, ast.Call):
        named = {word.arg: word.value for word in remedy.keywords}
        label = named.get("label") or (remedy.args[0] if remedy.args else None)
    _add(entry, text_of(given.get("message")), text_of(label))


def _error(entry: Entry, call: ast.Call, given: dict[str, ast.expr]) -> None:
    name = _name(call)
    entry.kinds.add(f"{name}, {_ANSWERS[name]}" if name in _ANSWERS else name)
    _add(entry, text_of(call.args[0] if call.args else None), text_of(given.get("hint")))


def read() -> tuple[dict[str, Entry], dict[str, Entry]]:
    """Errors and findings by code."""
    errors: dict[str, Entry] = {}
    findings: dict[str, Entry] = {}
    for path in sorted(SOURCE.rglob("*.py")):
        if "lab" in path.relative_to(SOURCE).parts:
            continue
        for node in ast.walk(ast.parse(path.read_text())):
            if not isinstance(node, ast.Call):
                continue
            given = {word.arg: word.value for word in node.keywords if word.arg}
            code = text_of(given.get("code"))
            if not code or "…" in code:
                continue
            if _name(node) == "Finding":
                _finding(findings.setdefault(code, Entry()), given)
            elif _name(node)[:1].isupper():
                _error(errors.setdefault(code, Entry()), node, given)
    return errors, findings


def page(title: str, intro: str, kind: str, entries: dict[str, Entry]) -> str:
    """A catalogue as Markdown."""
    lines = [f"# {title}", "", intro, "", f"| code | {kind} | says | what to do |"]
    lines += ["| --- | --- | --- | --- |"]
    for code, entry in sorted(entries.items()):
        cells = (
            f"`{code}`",
            ", ".join(sorted(entry.kinds)),
            "<br>".join(entry.said),
            "<br>".join(entry.remedies) or "",
        )
        lines.append("| " + " | ".join(_cell(cell) for cell in cells) + " |")
    return "\n".join(lines) + "\n"


def _cell(text: str) -> str:
    return " ".join(text.replace("|", "\\|").split())


def pages() -> dict[str, str]:
    """File name in docs → its text."""
    errors, findings = read()
    return {
        "errors.md": page(
            "Errors",
            "Every error has a stable code. The API answers a problem document (RFC 9457) with it;"
            " on the command line it is in the JSON of `--json`. … is a placeholder for a value."
            " Generated from the code by `make openapi`.",
            "kind, status",
            errors,
        ),
        "findings.md": page(
            "Findings",
            "Findings of plan checks. A blocker stops a rollout, a caution needs a look, a note is"
            " information. … is a placeholder for a value. Rules about hosts are in"
            " [host-rules](host-rules.md). Generated from the code by `make openapi`.",
            "severity",
            findings,
        ),
    }


if __name__ == "__main__":
    for name, text in pages().items():
        (ROOT / "docs" / name).write_text(text)
