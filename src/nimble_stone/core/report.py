"""The acceptance as documents: JUnit XML (the common `testsuites` form) and a self-contained HTML
page.
"""

from __future__ import annotations

from collections.abc import Mapping
from html import escape

from lxml import etree

from nimble_stone.core.acceptance import Verdict, totals


def junit(name: str, at: str, verdicts: list[Verdict], names: Mapping[str, str]) -> bytes:
    """One test suite per node and one for the cluster; `names` maps node ids to names, `at` is an
    ISO 8601 instant.
    """
    count = totals(verdicts)
    root = etree.Element(
        "testsuites",
        name=name,
        tests=str(len(verdicts)),
        failures=str(count["failed"]),
        errors=str(count["open"]),
    )
    for node in dict.fromkeys(verdict.node for verdict in verdicts):
        own = [verdict for verdict in verdicts if verdict.node == node]
        suite = etree.SubElement(
            root,
            "testsuite",
            name=names.get(node, node) if node else "cluster",
            tests=str(len(own)),
            failures=str(sum(not v.passed and v.checked for v in own)),
            errors=str(sum(not v.checked for v in own)),
            skipped="0",
            timestamp=at,
        )
        for verdict in own:
            case = etree.SubElement(
                suite, "testcase", classname=suite.get("name") or "", name=verdict.label
            )
            if not verdict.passed:
                failure = etree.SubElement(
                    case,
                    "failure" if verdict.checked else "error",
                    type="acceptance",
                    message=_xml(f"expected {verdict.expected}, found {verdict.found}"),
                )
                failure.text = _xml(
                    f"expected: {verdict.expected}\nfound: {verdict.found}\nby: {verdict.how}"
                )
            etree.SubElement(case, "system-out").text = _xml(f"{verdict.found} (by {verdict.how})")
    return bytes(etree.tostring(root, xml_declaration=True, encoding="UTF-8", pretty_print=True))


def result_of(verdict: Verdict) -> str:
    """A result in a word."""
    if verdict.passed:
        return "passed"
    return "failed" if verdict.checked else "not checked"


def _xml(text: str) -> str:
    """Without the characters XML 1.0 cannot carry: answers come from machines we do not control."""
    return "".join(
        c if c in "\t\n\r" or 0x20 <= ord(c) <= 0xD7FF or 0xE000 <= ord(c) <= 0xFFFD else "�"
        for c in text
    )


_STYLE = """body{font:15px/1.5 "Source Sans 3",system-ui,sans-serif;
background:#f5f1e9;color:#211e1a;
margin:2.5rem auto;max-width:70rem;padding:0 1.5rem}
h1{font-size:1.6rem;margin:0}
p{margin:.3rem 0 1.5rem;color:#5d564b}
table{border-collapse:collapse;width:100%}
th,td{text-align:left;vertical-align:top;
padding:.35rem .8rem .35rem 0;border-bottom:1px solid #d9d1c1}
th{font-weight:600}
td.mono{font-family:"JetBrains Mono",ui-monospace,monospace;font-size:.86rem}
tr.bad td{background:#f6e3da}
h2{font-size:1.1rem;margin:2rem 0 .4rem}
@media print{body{background:#fff}}"""


def html(
    title: str, sentence: str, at: str, verdicts: list[Verdict], names: Mapping[str, str]
) -> str:
    """A page that needs nothing but itself. All text from outside is escaped."""
    parts = [
        (
            "<!doctype html><html lang=en><meta"
            f" charset=utf-8><title>{escape(title)}</title><style>{_STYLE}</style>"
        ),
        f"<h1>{escape(title)}</h1><p>{escape(sentence)} Checked at {escape(at)}.</p>",
    ]
    for node in dict.fromkeys(verdict.node for verdict in verdicts):
        parts.append(f"<h2>{escape(names.get(node, node) if node else 'Cluster')}</h2>")
        parts.append("<table><tr><th>Check<th>Expected<th>Found<th>Result<th>Method</tr>")
        for verdict in verdicts:
            if verdict.node == node:
                parts.append(
                    f"<tr class={'good' if verdict.passed else 'bad'}>"
                    f"<td>{escape(verdict.label)}<td"
                    f" class=mono>{escape(verdict.expected)}<td"
                    f" class=mono>{escape(verdict.found)}<td>{result_of(verdict)}<td"
                    f" class=mono>{escape(verdict.how)}</tr>"
                )
        parts.append("</table>")
    return "".join(parts)
