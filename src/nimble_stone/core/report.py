"""The acceptance as documents: JUnit XML (the common `testsuites` form) and a self-contained HTML
page.
"""

from __future__ import annotations

from collections.abc import Mapping
from html import escape

from lxml import etree

from nimble_stone.core.acceptance import Verdict, totals
from nimble_stone.core.acceptance.compared import outcome_of


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


def _xml(text: str) -> str:
    """Without the characters XML 1.0 cannot carry: answers come from machines we do not control."""
    return "".join(
        c if c in "\t\n\r" or 0x20 <= ord(c) <= 0xD7FF or 0xE000 <= ord(c) <= 0xFFFD else "�"
        for c in text
    )


WIDE, HIGH = 180, 32
"""Of a drawn series, in pixels."""


def _drawn(verdict: Verdict) -> str:
    """A series as a line from its first to its last value, over its median; '' for other checks."""
    chart = verdict.chart
    if chart is None or len(chart.values) < 2:
        return ""
    top = max(*chart.values, chart.most or 0.0) or 1.0
    across = WIDE / (len(chart.values) - 1)

    def height(value: float) -> float:
        return HIGH - 2 - (HIGH - 4) * max(0.0, value) / top

    points = " ".join(f"{n * across:.1f},{height(one):.1f}" for n, one in enumerate(chart.values))
    middle = f"{height(chart.median):.1f}"
    words = escape(f"{len(chart.values)} values, the highest {max(chart.values):g} {chart.unit}")
    return (
        f'<svg role=img aria-label="{words}" width={WIDE} height={HIGH}'
        f' viewBox="0 0 {WIDE} {HIGH}"><line x1=0 x2={WIDE} y1={middle} y2={middle} />'
        f'<polyline points="{points}" /></svg>'
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
svg{display:block;margin-top:.3rem;fill:none;stroke:#1f6b58;stroke-width:1.5}
svg line{stroke:#a79f8f;stroke-width:1;stroke-dasharray:3 3}
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
                    f" class=mono>{escape(verdict.found)}{_drawn(verdict)}"
                    f"<td>{outcome_of(verdict)}<td"
                    f" class=mono>{escape(verdict.how)}</tr>"
                )
        parts.append("</table>")
    return "".join(parts)
