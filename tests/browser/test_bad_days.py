"""A server that falls silent, a session that ends, a clipboard that holds nothing: what was typed
is there, and the page says how things are.
"""

from __future__ import annotations

import pytest
from playwright.sync_api import Page, expect

from nimble_stone.cli.client import Client
from tests.browser.test_page import cell
from tests.support.processes import ServerProcess, wait_for

pytestmark = pytest.mark.usefixtures("client")


ADDRESS = 4


def address_of(client: Client, node: str) -> str:
    """The address that a node of “western” has at the server."""
    found = next(
        one for one in client.call("GET", "/api/plans/western")["nodes"] if one["name"] == node
    )
    return str(found["cells"]["address"]["value"])


def type_address(page: Page, node: str, value: str) -> None:
    """Type over a node's address in the sheet."""
    cell(page, node, ADDRESS).click()
    page.keyboard.type(value)
    page.keyboard.press("Enter")


def test_a_silent_server_is_said_to_be_silent_and_gets_what_was_typed_when_it_is_back(
    page: Page, server: ServerProcess, client: Client
) -> None:
    page.goto(f"{server.url}/plans/western")
    expect(page.get_by_role("grid")).to_be_visible()
    server.kill()
    banner = page.get_by_role("alert").filter(has_text="No connection to the server since")
    expect(banner).to_be_visible()
    type_address(page, "western-lead", "10.44.20.61")
    expect(cell(page, "western-lead", ADDRESS)).to_have_text("10.44.20.61")
    expect(cell(page, "western-lead", ADDRESS)).to_have_attribute("title", "typed, not sent yet")
    server.start()
    expect(banner).to_have_count(0)
    wait_for(
        lambda: address_of(server.client(), "western-lead") == "10.44.20.61",
        30,
        "the edit to arrive",
    )


def test_a_session_that_ends_asks_for_the_key_where_one_is_and_goes_on(
    page: Page, server: ServerProcess
) -> None:
    page.goto(f"{server.url}/plans/western")
    expect(page.get_by_role("grid")).to_be_visible()
    server.client().call("DELETE", "/api/access/sessions")
    type_address(page, "western-lead", "10.44.20.62")
    dialog = page.get_by_role("dialog", name="Sign in again")
    dialog.get_by_label("Access key").fill("not-the-key")
    dialog.get_by_role("button", name="Sign in").click()
    expect(dialog.get_by_role("alert")).to_contain_text("Wrong access key")
    dialog.get_by_label("Access key").fill(server.key)
    dialog.get_by_role("button", name="Sign in").click()
    expect(dialog).to_have_count(0)
    wait_for(
        lambda: address_of(server.client(), "western-lead") == "10.44.20.62",
        30,
        "the edit to arrive",
    )
    assert "/plans/western" in page.url


def test_a_session_that_ends_takes_no_cell_away_from_who_types(
    page: Page, server: ServerProcess
) -> None:
    page.goto(f"{server.url}/plans/western")
    expect(page.get_by_role("grid")).to_be_visible()
    server.client().call("DELETE", "/api/access/sessions")
    cell(page, "western-lead", ADDRESS).click()
    # what it would bring is asked meanwhile; the answer is that the session has ended
    page.keyboard.type("10.44.2")
    dialog = page.get_by_role("dialog", name="Sign in again")
    dialog.get_by_label("Access key").fill(server.key)
    dialog.get_by_role("button", name="Sign in").click()
    expect(dialog).to_have_count(0)
    assert address_of(server.client(), "western-lead") != "10.44.2"
    page.keyboard.type("0.63")
    page.keyboard.press("Enter")
    wait_for(
        lambda: address_of(server.client(), "western-lead") == "10.44.20.63",
        30,
        "the edit to arrive",
    )


def test_an_empty_clipboard_blanks_nothing_and_a_list_of_hosts_outlives_a_reload(
    page: Page, server: ServerProcess
) -> None:
    page.goto(f"{server.url}/estate")
    page.get_by_role("button", name="Add …").click()
    page.get_by_label("Names or addresses").fill("[ness-two]\nknot 10.45.1.18\n")
    page.reload()
    page.get_by_role("button", name="Add …").click()
    expect(page.get_by_label("Names or addresses")).to_have_value("[ness-two]\nknot 10.45.1.18\n")
    page.get_by_label("Names or addresses").fill("")
    page.goto(f"{server.url}/plans/western")
    before = address_of(server.client(), "western-lead")
    cell(page, "western-lead", ADDRESS).click()
    page.evaluate("navigator.clipboard.writeText('')")
    page.keyboard.press("Control+v")
    expect(page.get_by_text("The clipboard holds no text.")).to_be_visible()
    assert address_of(server.client(), "western-lead") == before
