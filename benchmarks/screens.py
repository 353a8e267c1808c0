"""Screens in a real browser, on the demo: until each can be used, until a press is answered; and the chart alone, with
eight lines of 20,000 points.
"""

from __future__ import annotations

import functools
import os
import re
import shutil
import subprocess
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from http.server import SimpleHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from server.instance.instance import ROOT

from .browser import chromium, demo, signed_in
from .instance import say

if TYPE_CHECKING:
    from playwright.sync_api import Page, Route

ROUNDS = 8
MARKS = 2_000


@contextmanager
def chart_page() -> Iterator[str]:
    """The chart alone, built and served."""
    out = Path(tempfile.mkdtemp(prefix="oculum-chart-"))
    command = ["npm", "exec", "--silent", "--", "vite", "build", "bench", "--config", "vite.config.ts", "--base", "./"]
    subprocess.run([*command, "--outDir", str(out), "--emptyOutDir"], cwd=ROOT / "web", check=True, capture_output=True)

    class Quiet(SimpleHTTPRequestHandler):
        def log_message(self, format: str, *args: Any) -> None: ...

    server = ThreadingHTTPServer(("127.0.0.1", 0), functools.partial(Quiet, directory=str(out)))
    threading.Thread(target=server.serve_forever, daemon=True).start()
    try:
        yield f"http://127.0.0.1:{server.server_address[1]}/index.html"
    finally:
        server.shutdown()
        shutil.rmtree(out, ignore_errors=True)


def map_frames(page: Page, address: str) -> dict[str, float]:
    """Frames of the map while it is dragged, ms: with 2,000 devices around the demo's, as a whole and from near by."""
    rng = np.random.default_rng(2)

    def many(route: Route) -> None:
        answer = route.fetch()
        body = answer.json()
        own = body["devices"]
        body["devices"] = [
            {
                **own[k % len(own)],
                "name": f"mark-{k}",
                "latitude": own[k % len(own)]["latitude"] + rng.normal(0, 0.05),
                "longitude": own[k % len(own)]["longitude"] + rng.normal(0, 0.05),
            }
            for k in range(MARKS)
        ]
        route.fulfill(response=answer, json=body)

    page.route(re.compile(r"/api/v1/map(\?|$)"), many)
    page.goto(f"{address}/places")
    page.get_by_text(f"{MARKS:,} devices on the map").wait_for()
    page.wait_for_load_state("networkidle")
    box = page.locator("[aria-label=Map]").bounding_box()
    assert box is not None
    x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
    told: dict[str, float] = {}
    for name, closer in (("whole", 0), ("near", 1)):
        for _ in range(closer):
            page.get_by_role("button", name="nearer").click()
            page.wait_for_function("!document.querySelector('.leaflet-zoom-anim')")
        page.evaluate(
            "window.frames_ = []; window.going_ = true; let last = performance.now();"
            " const next = (now) => { frames_.push(now - last); last = now; if (going_) requestAnimationFrame(next); };"
            " requestAnimationFrame(next)"
        )
        page.mouse.move(x, y)
        page.mouse.down()
        for step in range(60):
            page.mouse.move(x + 4 * (step if step < 30 else 60 - step), y + step)
        page.mouse.up()
        found = page.evaluate("(window.going_ = false, window.frames_)")[1:]
        told[f"map_2000_{name}_frame_ms_p50"] = float(np.percentile(found, 50))
        told[f"map_2000_{name}_frame_ms_p95"] = float(np.percentile(found, 95))
    page.unroute_all()
    return told


def measure(seconds: float) -> dict[str, Any]:
    """Figures in milliseconds. `seconds` is not used: each screen is opened some times."""

    def named(role: Any, name: str) -> Callable[[Page], Any]:
        return lambda page: page.get_by_role(role, name=name).first

    def pressed(role: Any, name: str) -> Callable[[Page], None]:
        return lambda page: page.get_by_role(role, name=name).first.click()

    def chosen(label: str, value: str) -> Callable[[Page], None]:
        def choose(page: Page) -> None:
            page.get_by_label(label, exact=True).first.select_option(value)

        return choose

    # path, what shows that it can be used, what is pressed, what shows that it is answered
    screens: dict[str, tuple[str, Callable[[Page], Any], Callable[[Page], None], Callable[[Page], Any]]] = {
        "watch": (
            "/watch?span=604800",
            lambda p: p.get_by_role("region", name="Fades").get_by_role("link").first,
            chosen("Group", "gateway"),
            named("button", "Skerry gateway"),
        ),
        "health": ("/watch/health", named("table", "Health"), pressed("button", "Complete"), named("table", "Health")),
        "devices": (
            "/devices",
            lambda p: p.get_by_role("grid", name="Devices").get_by_role("row").nth(20),
            chosen("Type", "tide_gauge"),
            lambda p: p.get_by_text(re.compile(r"^\d in service")).first,
        ),
        "device": (
            "/devices/buoy-12",
            lambda p: p.get_by_role("img", name=re.compile("values from")).first,
            lambda p: p.get_by_role("button", name="Turbidity").first.click(),
            lambda p: p.get_by_role("img", name=re.compile("values from")).first,
        ),
        "curves": (
            "/watch/curves?line=buoy-12:oxygen&line=buoy-13:oxygen&span=604800",
            lambda p: p.get_by_role("img", name=re.compile("values from")).first,
            pressed("button", "difference"),
            lambda p: p.get_by_role("img", name=re.compile("−")).first,
        ),
        "alarms": (
            "/alarms?each=1&show=all&span=604800",
            lambda p: p.get_by_role("grid").get_by_role("row").nth(3),
            lambda p: p.get_by_role("grid").get_by_role("row").nth(2).click(),
            lambda p: p.get_by_role("grid").get_by_role("row").nth(2),
        ),
        "arrivals": (
            "/arrivals",
            lambda p: p.get_by_role("list", name="Arrivals").get_by_role("listitem").nth(5),
            lambda p: p.get_by_role("list", name="Arrivals").get_by_role("listitem").nth(4).click(),
            lambda p: p.get_by_role("region", name="One arrival"),
        ),
        "places": ("/places", lambda p: p.locator("canvas").first, lambda p: None, lambda p: p.locator("canvas").first),
        "decoder": (
            "/decoders/1",
            lambda p: p.locator(".cm-content").first,
            lambda p: p.locator(".cm-line").nth(3).click(),
            lambda p: p.locator(".cm-content").first,
        ),
    }
    told: dict[str, float] = {}
    os.environ.setdefault("OCULUM_DEMO_DAYS", "15")
    with chromium() as browser:
        with chart_page() as address:
            say("the chart alone")
            page = browser.new_page(viewport={"width": 1280, "height": 800})
            page.goto(address)
            page.wait_for_function("window.measured", timeout=120_000)
            found = page.evaluate("window.measured")
            told["chart_8x20000_ms"] = found["first"]
            told["live_step_ms"] = float(np.median(found["steps"]))
            told["live_step_p95_ms"] = float(np.percentile(found["steps"], 95))
            page.close()
        say("loading the demo")
        with demo() as (address, passwords):
            page = signed_in(browser, address, "ines", passwords["ines"])
            for name, (where, ready, press, answered) in screens.items():
                say(name)
                times: dict[str, list[float]] = {"ready": [], "click": []}
                for turn in range(ROUNDS + 1):  # the first one does not count
                    began = time.perf_counter()
                    page.goto(address + where)
                    ready(page).wait_for()
                    middle = time.perf_counter()
                    page.wait_for_load_state("networkidle")
                    pushed = time.perf_counter()
                    press(page)
                    answered(page).wait_for()
                    end = time.perf_counter()
                    if turn:
                        times["ready"].append((middle - began) * 1000)
                        times["click"].append((end - pushed) * 1000)
                for what, found in times.items():
                    told[f"{name}_{what}_ms_p50"] = float(np.percentile(found, 50))
                    told[f"{name}_{what}_ms_p95"] = float(np.percentile(found, 95))
            say("the map with 2,000 marks")
            told |= map_frames(page, address)
    return {"figures": told, "ratios": {}}
