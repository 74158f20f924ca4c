"""The texts that people read, found in the sources: where each stands, and what it says.

Not a parser of the page: what stands between tags, in attributes that are read out, and in string
literals with a blank is taken for a text. Too much is better here than too little.
"""

from __future__ import annotations

import ast
import re
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

ROOT = Path(__file__).parents[2]
_ATTRIBUTE = re.compile(r'\b(?:title|label|placeholder|aria-label|alt)="([^"]+)"')
_LITERAL = re.compile(r"'([^'\n]{2,})'|`([^`\n]{2,})`")
_SQL = re.compile(r"(SELECT|INSERT|UPDATE|DELETE|CREATE) ")
_TAGS = re.compile(r">([^<>]*)<")


@dataclass(frozen=True)
class Text:
    """A text and the line it stands in."""

    file: str
    line: int
    words: str


def of_python(path: Path) -> Iterator[Text]:
    """String literals of a module; filled-in parts become an ellipsis. Of its docstrings those of
    commands, which are their help.
    """
    tree = ast.parse(path.read_text())
    passed: set[int] = set()
    for node in ast.walk(tree):
        if isinstance(node, ast.FunctionDef) and _is_command(node):
            help_text = ast.get_docstring(node) or ""
            yield Text(_name(path), node.lineno, " ".join(help_text.split()))
    for node in ast.walk(tree):
        if isinstance(node, ast.Expr) and isinstance(node.value, ast.Constant):
            passed.add(id(node.value))
        if isinstance(node, ast.JoinedStr):
            parts = [v.value if isinstance(v, ast.Constant) else "…" for v in node.values]
            passed |= {id(value) for value in node.values}
            yield Text(_name(path), node.lineno, " ".join("".join(map(str, parts)).split()))
    for node in ast.walk(tree):
        if isinstance(node, ast.Constant) and id(node) not in passed:
            words = node.value
            if (
                isinstance(words, str)
                and re.search(r"[a-z] [\w“]", words)
                and not _SQL.match(words)
            ):
                yield Text(_name(path), node.lineno, " ".join(words.split()))


def _is_command(function: ast.FunctionDef) -> bool:
    calls = (d.func for d in function.decorator_list if isinstance(d, ast.Call))
    return any(isinstance(f, ast.Attribute) and f.attr in ("command", "callback") for f in calls)


def of_page(path: Path) -> Iterator[Text]:
    """Texts of a component or script of the page."""
    whole = path.read_text()
    # without what nobody reads: styles, comments
    for unread in (r"<style.*?</style>", r"<!--.*?-->", r"/\*.*?\*/", r"(?m)^\s*//.*$"):
        whole = re.sub(unread, lambda found: "\n" * found[0].count("\n"), whole, flags=re.S)
    begins = whole.find("</script>")
    markup = whole[begins:] if begins >= 0 else ""
    for match in _TAGS.finditer(re.sub(r"\{[^{}]*\}", "…", markup)):
        words = " ".join(match[1].split())
        if re.search(r"[A-Za-z]{2} [\w“]", words) and not re.search(r"=>|[{};]", words):
            yield Text(_name(path), 0, words)
    for match in (*_ATTRIBUTE.finditer(markup), *_LITERAL.finditer(whole)):
        words = match[1] or match[2]
        if " " in words:
            yield Text(_name(path), whole.count("\n", 0, match.start()) + 1, words)


def of_kit(path: Path) -> Iterator[Text]:
    """Lines of a kit that have a text."""
    for number, line in enumerate(path.read_text().splitlines(), 1):
        if re.search(r"\b(label|purpose|summary|title|help|note|carries):", line):
            yield Text(_name(path), number, line.partition("#")[0])


def every_text() -> Iterator[Text]:
    """All of them, the lab's own left out: it speaks as others do."""
    for path in sorted((ROOT / "web/src").rglob("*")):
        if path.suffix in (".svelte", ".ts") and not re.search(r"\.(gen|test)\.", path.name):
            yield from of_page(path)
    for path in sorted((ROOT / "src/nimble_stone").rglob("*.py")):
        if "lab" not in path.parts:
            yield from of_python(path)
    for path in sorted((ROOT / "src/nimble_stone/kits").glob("*.yaml")):
        yield from of_kit(path)


def _name(path: Path) -> str:
    return str(path.relative_to(ROOT))


if __name__ == "__main__":
    for text in every_text():
        print(f"{text.file}:{text.line}: {text.words}")
