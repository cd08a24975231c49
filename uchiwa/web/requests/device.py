"""A device in a few words, as its browser names itself, for the list of devices that a person is signed in on."""

from __future__ import annotations

_BROWSERS = (("edg/", "Edge"), ("opr/", "Opera"), ("firefox/", "Firefox"), ("fxios/", "Firefox"), ("crios/", "Chrome"),
             ("chromium/", "Chromium"), ("chrome/", "Chrome"), ("safari/", "Safari"))  # fmt: skip
_SYSTEMS = (("android", "Android"), ("iphone", "an iPhone"), ("ipad", "an iPad"), ("windows", "Windows"), ("mac os", "a Mac"),
            ("cros", "a Chromebook"), ("linux", "Linux"))  # fmt: skip


def device_words(agent: str) -> str:
    """Browser and system of a User-Agent header (RFC 9110, section 10.1.5), as far as it tells them."""
    lowered = agent[:400].lower()
    browser = next((name for mark, name in _BROWSERS if mark in lowered), "A browser")
    system = next((name for mark, name in _SYSTEMS if mark in lowered), "")
    return f"{browser} on {system}" if system else browser
