"""Kits on their page: read, changed with faults shown while typing, kept; typed text stays."""

from __future__ import annotations

from playwright.sync_api import Page, expect

from nimble_stone.cli.client import Client
from tests.support.processes import ServerProcess


def test_a_kit_is_changed_with_its_faults_in_sight(
    page: Page, server: ServerProcess, client: Client
) -> None:
    page.goto(f"{server.url}/kits")
    page.get_by_role("link", name="Tidebook").click()
    expect(page.get_by_role("heading", name="Tidebook")).to_be_visible()
    expect(page.get_by_role("img", name="Order:")).to_be_visible()
    page.get_by_role("button", name="Edit text").click()
    text = page.get_by_label("Text of the kit")
    whole = text.input_value()
    text.fill(whole.replace("title: Tidebook", "title: Tidebook\ntitel: Log", 1))
    fault = page.get_by_role("button", name="titel")
    expect(fault).to_contain_text("did you mean “title”")
    keep = page.get_by_role("button", name="Save as own kit")
    expect(keep).to_be_disabled()
    # a fault leads to its place
    fault.click()
    start = text.evaluate("area => area.value.slice(area.selectionStart).slice(0, 5)")
    assert start == "titel"
    # what is typed stays over a reload
    page.reload()
    page.get_by_role("button", name="Edit text").click()
    expect(page.get_by_label("Text of the kit")).to_have_value(
        whole.replace("title: Tidebook", "title: Tidebook\ntitel: Log", 1)
    )
    page.get_by_label("Text of the kit").fill(
        whole.replace("title: Tidebook", "title: Ebb and flow", 1)
    )
    page.get_by_role("button", name="Save as own kit").click()
    expect(page.get_by_text("Own kit of this server.")).to_be_visible()
    expect(page.get_by_role("heading", name="Ebb and flow")).to_be_visible()
    assert client.call("GET", "/api/kits/tidebook")["own"]
    # the text that was replaced is a version, and can be used again
    page.get_by_role("button", name="Versions").click()
    page.get_by_role("row").last.get_by_role("button").click()
    expect(page.get_by_label("Difference")).to_contain_text("+title: Ebb and flow")
    page.get_by_role("button", name="Put into editor").click()
    expect(page.get_by_label("Text of the kit")).to_have_value(whole)
    expect(page.get_by_role("button", name="Save kit")).to_be_enabled()
    page.get_by_role("button", name="Discard changes").click()
    page.get_by_role("button", name="Delete kit").click()
    page.get_by_role("button", name="Delete tidebook").click()
    expect(page.get_by_role("link", name="Tidebook")).to_be_visible()
    assert not client.call("GET", "/api/kits/tidebook")["own"]
