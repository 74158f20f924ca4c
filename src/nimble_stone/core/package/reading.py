"""What the descriptor's readers share: the findings being gathered, the language, the deployment
options.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field

from nimble_stone.core.package.model import Noticed, Severity
from nimble_stone.core.package.xml_tree import Element

SPACES = {
    "http://schemas.dmtf.org/ovf/envelope/1": "1",
    "http://schemas.dmtf.org/ovf/envelope/2": "2",
}
"""Namespaces of the standard, and which version each means."""
MAX_FINDINGS = 500
MAX_TEXT = 512 << 10


@dataclass
class Reading:
    """State of one descriptor being read. `texts`: message id → text in the chosen language;
    `others`: in any.
    """

    texts: Mapping[str, str] = field(default_factory=dict)
    # for messages that have no text of their own
    others: Mapping[str, str] = field(default_factory=dict)
    found: list[Noticed] = field(default_factory=list)

    def notice(
        self,
        severity: Severity,
        code: str,
        message: str,
        at: Element | None = None,
        clause: str = "",
    ) -> None:
        """Note a deviation, up to MAX_FINDINGS of them."""
        if len(self.found) < MAX_FINDINGS:
            self.found.append(
                Noticed(
                    severity,
                    code,
                    message[:1000],
                    at.where if at is not None else "",
                    f"DSP0243 {clause}" if clause else "",
                )
            )

    def say(self, element: Element | None) -> str:
        """The element's text in the chosen language (DSP0243 §10), '' for None."""
        if element is None:
            return ""
        ident = element.attribute("msgid")
        if ident is not None and ident in self.texts:
            return self.texts[ident]
        if ident is not None and not element.text and ident in self.others:
            return self.others[ident]
        if ident is not None and not element.text:
            self.notice(
                "caution",
                "ovf-string",
                f"message “{ident[:80]}” has no text in any language",
                element,
                "10",
            )
        text = element.text
        if len(text) > MAX_TEXT:
            self.notice(
                "caution",
                "ovf-text",
                f"a text of {len(text)} characters is cut to {MAX_TEXT}",
                element,
            )
        return text[:MAX_TEXT]

    def child(self, element: Element | None, name: str) -> str:
        """Text of a child in the chosen language."""
        return self.say(element.first(name)) if element is not None else ""

    def number(
        self,
        text: str | None,
        at: Element,
        what: str,
        *,
        low: int = 0,
        high: int = 1 << 62,
        severity: Severity = "blocker",
    ) -> int | None:
        """A whole number, or None with a finding. None and '' are silent."""
        if text is None or not text.strip():
            return None
        if not re.fullmatch(r"\+?\d{1,20}", text.strip()) or not low <= int(text) <= high:
            self.notice(
                severity,
                "ovf-number",
                f"{what} is “{text.strip()[:40]}”; expected a whole number from {low} to {high}",
                at,
            )
            return None
        return int(text)

    def flag(self, element: Element, name: str, default: bool = False) -> bool:
        """An xs:boolean attribute."""
        text = (element.attribute(name) or "").strip().lower()
        if text in ("true", "1"):
            return True
        if text in ("false", "0"):
            return False
        if text:
            self.notice(
                "caution",
                "ovf-boolean",
                f"{name} is “{text[:20]}”; it may be true or false",
                element,
            )
        return default
