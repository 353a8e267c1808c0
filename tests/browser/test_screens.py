"""Every screen: named for screen readers, readable on both grounds, nothing cut off, light to load."""

from __future__ import annotations

from pathlib import Path

from playwright.sync_api import Browser, Page, expect

from server.instance.instance import ROOT

from .conftest import Running, sign_in

AXE = ROOT / "web" / "node_modules" / "axe-core" / "axe.min.js"
SCREENS = {
    "watch": "/watch?span=604800",
    "health": "/watch/health?by=gateway",
    "rhythm": "/watch/rhythm?group=gateway",
    "curves": "/watch/curves?line=buoy-12:oxygen&line=buoy-12:water_temperature&among=1",
    "how often": "/watch/curves?line=buoy-12:oxygen&as=often",
    "against": "/watch/curves?line=buoy-12:oxygen&line=buoy-12:water_temperature&as=against",
    "compare": "/watch/compare?type=raft_buoy&field=oxygen",
    "devices": "/devices",
    "device": "/devices/buoy-12",
    "types": "/devices/types",
    "add": "/devices/add",
    "arrivals": "/arrivals",
    "decoders": "/decoders",
    "decoder": "/decoders/1",
    "conditions": "/conditions",
    "decoder of a document": "/decoders/1?type=crate_logger",
    "condition": "/conditions/17",
    "route": "/routes/8",
    "alarms": "/alarms",
    "alarms one by one": "/alarms?each=1",
    "an alarm": "/alarms?each=1&alarm=1",
    "journal": "/alarms?show=journal",
    "quality of alarms": "/alarms?show=quality&span=2592000",
    "routes": "/routes",
    "watching arrivals": "/routes/try",
    "reference tables": "/routes/tables",
    "ways of telling": "/telling",
    "contacts": "/telling?show=contacts",
    "outlets": "/telling?show=outlets",
    "deliveries": "/telling?show=deliveries",
    "who is told": "/telling?show=who",
    "hand-overs": "/telling?show=shifts",
    "setpoints": "/devices/types/raft_buoy/setpoints",
    "places": "/places",
    "a fence": "/places?fence=1",
    "a device on the map": "/places?device=buoy-12",
    "people": "/people",
    "settings": "/settings",
    "storage": "/settings/storage",
    "sites": "/devices/sites",
    "a new site": "/devices/sites/new",
    "a device changed": "/devices/buoy-12/edit",
    "help": "/help",
    "help found": "/help?q=checksum",
    "a word explained": "/decoders/1?help=otherwise",
}


WHOLE = ("watch", "device", "alarms", "help")  # with what is around them
QUICK = "resultTypes: ['violations'], preload: false"  # nothing of what is fine, no style sheets of elsewhere
LEVELS = ["wcag2a", "wcag2aa", "wcag21aa", "wcag22aa"]


# Counts what is being fetched, in the page itself.
COUNTED = """{
  const plain = window.fetch;
  window.fetching = { now: 0, changed: 0 };
  window.fetch = async (...asked) => {
    window.fetching.now += 1;
    try { return await plain(...asked); }
    finally { window.fetching.now -= 1; window.fetching.changed = performance.now(); }
  };
}"""


def quiet(page: Page) -> None:
    """Waits until nothing is being fetched."""
    page.wait_for_load_state("networkidle", timeout=90_000)
    expect(page.get_by_text("Fetching")).to_have_count(0)


def go(page: Page, path: str) -> None:
    """As a link of the page does, and until nothing has been fetched for a while."""
    page.evaluate(
        "path => { window.fetching.changed = performance.now();"
        " history.pushState({}, '', path); dispatchEvent(new PopStateEvent('popstate')) }",
        path,
    )
    page.wait_for_function(
        "window.fetching.now === 0 && performance.now() - window.fetching.changed > 300", timeout=90_000
    )
    expect(page.get_by_text("Fetching")).to_have_count(0)


def test_screens_are_accessible_and_whole(chromium: Browser, running: Running) -> None:
    context = chromium.new_context(viewport={"width": 1280, "height": 800}, color_scheme="light", bypass_csp=True)
    context.add_init_script(COUNTED)
    page = context.new_page()
    sign_in(page, running, "ines")
    found: list[str] = []
    page.evaluate(Path(AXE).read_text())
    for name, path in SCREENS.items():
        go(page, path)
        # What is around a screen is the same on all of them.
        where = "document" if name in WHOLE else "'main'"
        violations = page.evaluate(f"axe.run({where}, {{runOnly: {LEVELS}, {QUICK}}})")["violations"]
        # The dark ground has the same parts; its colours are others.
        page.evaluate("document.documentElement.dataset.ground = 'dark'")
        dark = page.evaluate(f"axe.run({where}, {{runOnly: ['color-contrast'], {QUICK}}})")["violations"]
        page.evaluate("document.documentElement.dataset.ground = 'light'")
        for violation in [*violations, *dark]:
            targets = [
                node["target"][0] if isinstance(node["target"][0], str) else str(node["target"])
                for node in violation["nodes"][:3]
            ]
            found.append(f"{name} {violation['id']}: {violation['help']} at {targets}")
        if page.evaluate("document.documentElement.scrollWidth") > 1280:
            found.append(f"{name} is wider than the window")
    context.close()
    assert found == []


def test_a_phone_shows_and_acknowledges(chromium: Browser, running: Running, untaken: str) -> None:
    context = chromium.new_context(viewport={"width": 390, "height": 800}, has_touch=True, color_scheme="dark")
    page = context.new_page()
    sign_in(page, running, "maud")
    assert page.evaluate("document.documentElement.dataset.ground") == "dark", "as the system has it"
    for path in ("/devices", "/devices/buoy-12", "/alarms"):
        page.goto(running.address + path)
        quiet(page)
        assert page.evaluate("document.documentElement.scrollWidth") <= 390, path
    page.get_by_role("button", name="One by one").click()
    expect(page.get_by_role("button", name="Acknowledge").first).to_be_visible()
    context.close()


def test_first_load_is_under_200_kb(chromium: Browser, running: Running) -> None:
    """Transferred bytes of the sign-in and the first screen, fonts aside; the other screens come when nothing else is
    to be done.
    """
    context = chromium.new_context(viewport={"width": 1280, "height": 800})
    page = context.new_page()
    sign_in(page, running, "odo")
    page.goto(running.address + "/devices")
    quiet(page)
    size = page.evaluate(
        "performance.getEntriesByType('resource').concat(performance.getEntriesByType('navigation')).filter(e =>"
        " !/woff2?$/.test(e.name) && !e.name.includes('/api/') && e.startTime <= (performance.getEntriesByName('idle')"
        "[0]?.startTime ?? Infinity)).reduce((sum, e) => sum + (e.encodedBodySize || 0), 0)"
    )
    assert 20_000 < size < 200_000
    context.close()


def test_pages_need_no_inline_script(page: Page, running: Running) -> None:
    answer = page.request.get(running.address + "/devices")
    policy = answer.headers["content-security-policy"]
    assert (
        "script-src" not in policy
        and "default-src 'self'" in policy
        and "unsafe-inline" not in policy.replace("style-src-attr 'unsafe-inline'", "")
    )
    assert '<script type="module"' in answer.text()
