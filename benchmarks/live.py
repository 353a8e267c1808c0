"""From publishing to the screen: sessions that follow a device each while messages come, a few of them real pages."""

from __future__ import annotations

import asyncio
import json
import os
import threading
import time
from datetime import datetime
from typing import Any

import gmqtt
import numpy as np
from websockets.asyncio.client import connect

from .browser import chromium, demo, signed_in
from .instance import say

SESSIONS, PAGES = 50, 2
DEVICES, PER_S = 100, 5.0  # 500 messages a second
SETTLE_S = 6.0
BROKER = 2  # its port, behind the one of the web
DECODER = "decoder probe for bytes, big endian\n  byte 0  count  u32\n"
LOOK = """() => {
  window.seen = [];
  let last = "";
  const look = () => {
    const row = [...document.querySelectorAll('[aria-label="Values"] [role=row]')].find((r) =>
      r.textContent.startsWith("Count"));
    const text = row?.querySelector("b")?.textContent ?? "";
    if (text !== last) window.seen.push([Number((last = text)), Date.now()]);
    requestAnimationFrame(look);
  };
  look();
}"""


class Caller:
    """The API by a signed-in page."""

    def __init__(self, page: Any, address: str) -> None:
        self.page, self.address = page, address
        self.csrf = page.request.get(address + "/api/v1/me").json()["csrf"]

    def made(self, path: str, body: dict[str, Any]) -> Any:
        answer = self.page.request.post(f"{self.address}/api/v1/{path}", headers={"X-CSRFToken": self.csrf}, data=body)
        if not answer.ok:
            raise RuntimeError(f"{path}: {answer.text()}")
        return answer.json()


class Probes:
    """Devices of a type of their own: each counts, and when it sent which number is kept (s)."""

    def __init__(self, caller: Caller) -> None:
        caller.made("types", {"key": "probe", "title": "Probe"})
        definition = caller.made("definitions", {"kind": "decoder", "name": "probe", "type": "probe", "text": DECODER})
        caller.made(f"definitions/{definition['id']}/publish", {"text": DECODER, "note": ""})
        self.keys: dict[str, str] = {}
        for number in range(DEVICES):
            name = f"probe-{number}"
            caller.made("devices", {"name": name, "title": f"Probe {number}", "type": "probe"})
            self.keys[name] = caller.made(f"devices/{name}/key", {})["key"]
        self.sent: dict[str, list[float]] = {name: [] for name in self.keys}

    async def send(self, port: int, seconds: float) -> None:
        begun = time.time()

        async def one(number: int, name: str, key: str) -> None:
            mine = gmqtt.Client(f"bench-{name}", clean_session=True)
            mine.set_auth_credentials(name, key)
            await mine.connect("127.0.0.1", port, version=gmqtt.constants.MQTTv50, keepalive=60)
            for turn in range(int(seconds * PER_S)):
                due = begun + (turn + number / DEVICES) / PER_S
                await asyncio.sleep(max(due - time.time(), 0))
                self.sent[name].append(time.time())
                mine.publish(f"up/{name}", turn.to_bytes(4, "big"), qos=1)
            await asyncio.sleep(2)
            await mine.disconnect()

        await asyncio.gather(*(one(i, name, key) for i, (name, key) in enumerate(self.keys.items())))


Seen = dict[str, list[tuple[int, float]]]  # by device which number was seen when


async def following(address: str, tokens: list[str], probes: Probes, seconds: float) -> tuple[Seen, Seen]:
    """What sessions without a page were told while all devices send: when it was taken in, and when they heard it."""
    taken: Seen = {}
    heard: Seen = {}

    async def session(name: str, token: str) -> None:
        query = f"{address.replace('http', 'ws', 1)}/live/readings/?device={name}"
        async with connect(query, additional_headers={"Authorization": f"Bearer {token}"}) as socket:
            heard[name] = []
            while True:
                frame = json.loads(await socket.recv())
                now = time.time()
                for row in frame.get("readings", []):
                    heard[name].append((int(row["values"]["count"]), now))
                    arrived = datetime.fromisoformat(row["received_at"]).timestamp()
                    taken.setdefault(name, []).append((int(row["values"]["count"]), arrived))

    names = list(probes.keys)[PAGES:SESSIONS]
    tasks = [asyncio.create_task(session(name, tokens[i % len(tokens)])) for i, name in enumerate(names)]
    port = int(address.rsplit(":", 1)[1]) + BROKER
    try:
        await probes.send(port, seconds)
        await asyncio.sleep(1)
    finally:
        for task in tasks:
            task.cancel()
    return taken, heard


def measure(seconds: float) -> dict[str, Any]:
    os.environ["OCULUM_DEMO_DAYS"] = "1"
    say("loading the demo")
    with chromium() as browser, demo() as (address, passwords):
        first = signed_in(browser, address, "ines", passwords["ines"])
        caller = Caller(first, address)
        probes = Probes(caller)
        tokens = []
        for who in ("ines", "jory"):
            own = Caller(signed_in(browser, address, who, passwords[who]), address)
            tokens.append(own.made("tokens", {"name": "bench", "role": "viewer"})["key"])
            own.page.close()
        pages: dict[str, Any] = {}
        for name in list(probes.keys)[:PAGES]:
            page = pages[name] = signed_in(browser, address, "ines", passwords["ines"]) if pages else first
            page.goto(f"{address}/devices/{name}")
            page.get_by_role("table", name="Values").wait_for()
            page.evaluate(LOOK)
        say(f"{SESSIONS} sessions, {PAGES} of them pages, {DEVICES * PER_S:g} messages a second")
        seen: list[tuple[Seen, Seen]] = []
        sending = threading.Thread(
            target=lambda: seen.append(asyncio.run(following(address, tokens, probes, seconds + SETTLE_S)))
        )
        sending.start()
        while sending.is_alive():
            first.wait_for_timeout(200)
        sending.join()
        drawn: Seen = {name: [(n, at / 1000) for n, at in page.evaluate("window.seen")] for name, page in pages.items()}
        taken, heard = seen[0]
    told: dict[str, Any] = {}
    for what, found in (("intake", taken), ("frame", heard), ("pixel", drawn)):
        delays = np.concatenate([late(probes.sent[name], numbers) for name, numbers in found.items()])
        for percent in (50, 95, 99):
            told[f"publish_to_{what}_p{percent}_ms"] = float(np.percentile(delays, percent))
    told["sent"] = sum(map(len, probes.sent.values()))
    told["lost"] = sum(
        len(set(range(min(rows)[0], len(probes.sent[name]))) - {number for number, _ in rows})
        for name, rows in heard.items()
    )
    told["doubled"] = sum(len(rows) - len({k for k, _ in rows}) for rows in heard.values())
    return {"figures": told, "ratios": {}}


def late(sent: list[float], seen: list[tuple[int, float]]) -> np.ndarray:
    """Of each number sent after a while how long it took until it, or a later one, was seen: float (n,), ms."""
    at = dict(reversed(seen))
    next_, found = np.inf, []
    for number in range(len(sent) - 1, -1, -1):
        next_ = min(next_, at.get(number, np.inf))
        if sent[number] - sent[0] > SETTLE_S:
            found.append((next_ - sent[number]) * 1000)
    return np.array(found)
