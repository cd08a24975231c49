"""A passkey in Chromium, with the authenticator that its developers' protocol offers."""

from __future__ import annotations

import pytest
from playwright.sync_api import expect

from tests.browser.conftest import EMAIL, PASSWORD

pytestmark = pytest.mark.browser


def test_a_person_makes_a_passkey_and_signs_in_with_it(browser, served, scene):
    context = browser.new_context(base_url=served.replace("127.0.0.1", "localhost"))
    page = context.new_page()
    device = context.new_cdp_session(page)
    device.send("WebAuthn.enable")
    device.send(
        "WebAuthn.addVirtualAuthenticator",
        {
            "options": {
                "protocol": "ctap2", "transport": "internal", "hasResidentKey": True, "hasUserVerification": True,
                "isUserVerified": True, "automaticPresenceSimulation": True,
            }
        },
    )  # fmt: skip
    page.goto("/sign-in")
    page.get_by_label("E-mail").fill(EMAIL)
    page.get_by_label("Password").fill(PASSWORD)
    page.keyboard.press("Enter")
    page.wait_for_url("**/")
    page.goto("/account")
    page.get_by_role("link", name="Make one").click()
    page.get_by_label("What you call it").fill("pocket")
    page.get_by_label("Your password").fill("not the right one")
    page.get_by_role("button", name="Make it").click()
    expect(page.get_by_role("alert")).to_contain_text("not your password")
    page.get_by_label("Your password").fill(PASSWORD)
    page.get_by_role("button", name="Make it").click()
    expect(page.get_by_role("row", name="pocket")).to_contain_text("never")
    context.clear_cookies()
    page.goto("/sign-in")
    page.get_by_role("button", name="Sign in with a passkey").click()
    page.wait_for_url("**/")
    page.goto("/account/passkeys")
    expect(page.get_by_role("row", name="pocket")).to_contain_text("ago")
    context.close()
