"""Payloads after the data sheets for what the decoders' own encoder does not write: histories, lists, blocks, text."""

from __future__ import annotations

import base64
import json
import struct
from datetime import UTC, datetime
from fractions import Fraction
from typing import Any

import cbor2
import numpy as np

from oculum.batches import PRESENT
from oculum.decoding.checksums import check
from oculum.decoding.encode import encode
from oculum.decoding.numbers import PAD
from oculum.language.decoders.plan import DecoderPlan

from .signals import DAY_US, HOUR_US, MAKERS, Story, buoy, curve, heard_by, noise, own, phase_of
from .world import Unit, fleet

SAMPLES = 6
CRATE_STEP_S = 900
BURST_US = 6 * HOUR_US
COMPASS = ["N", "NNE", "NE", "ENE", "E", "ESE", "SE", "SSE", "S", "SSW", "SW", "WSW", "W", "WNW", "NW", "NNW"]


def iso(us: int) -> str:
    return datetime.fromtimestamp(us / 1e6, UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")


def _sums(name: str, data: list[bytes]) -> list[int]:
    """The check of each."""
    lengths = np.array([len(d) for d in data], np.int64)
    flat = np.frombuffer(b"".join(data) + bytes(PAD), np.uint8)
    return [int(v) for v in check(name, flat, np.cumsum(lengths) - lengths, lengths, ())] if data else []


def buoy_2(story: Story, unit: Unit, times: np.ndarray) -> list[bytes]:
    """Sheet 02: the longer message of firmware 2, with a clock of its own and the strain of the last hour."""
    columns, _ = buoy(story, unit, times)
    strains = np.stack(
        [buoy(story, unit, times - k * 600_000_000)[0]["mooring_strain"].values for k in range(SAMPLES)], axis=1
    )
    deep = columns["water_temperature"].values - 0.5 - 0.3 * np.abs(curve(story, unit, "deep", times, 0.5))
    chlorophyll = (
        1.9 + 0.8 * curve(story, unit, "chlorophyll", times, 2.0) + 0.05 * noise(story.seed, unit, "chlorophyll", times)
    )
    clock = (times + story.drift(unit, times)) // 1_000_000 - 946_684_800
    charging = np.sin(2 * np.pi * ((times % DAY_US) / DAY_US - 0.29 - 2 / 24)) > 0
    out = []
    for i in range(len(times)):
        there = lambda name, i=i: columns[name].state[i] == PRESENT  # noqa: E731
        value = lambda name, i=i: float(columns[name].values[i])  # noqa: E731
        oxygen = round(value("oxygen") * 100) if there("oxygen") else 0xFFF
        lat, lon = columns["fix"].values[i]
        body = struct.pack(
            ">BIhhHHBBBiiBHB",
            0x20 | int(value("mode")),
            int(clock[i]),
            round(value("water_temperature") * 100),
            round(float(deep[i]) * 100),
            round(value("salinity") * 1000),
            oxygen << 4 | round(value("turbidity") * 10) >> 8,
            round(value("turbidity") * 10) & 0xFF,
            round((value("battery") - 2) * 100),
            int(charging[i]) << 7 | 2 << 5 | 11,
            round(lat * 1e7),
            round(lon * 1e7),
            5,
            round(float(chlorophyll[i]) * 100),
            SAMPLES,
        ) + struct.pack(f">{SAMPLES}H", *(int(round(s / 2)) for s in strains[i]))
        out.append(body)
    return [body + struct.pack(">H", crc) for body, crc in zip(out, _sums("crc16_ibm3740", out), strict=True)]


def gateway(story: Story, unit: Unit, times: np.ndarray) -> list[bytes]:
    """Sheet 08, without the frames' own messages: those the box passes on one by one."""
    seed = story.seed
    season = (times - story.ago(30)) / (30 * DAY_US)
    load = np.clip(0.22 + 0.09 * noise(seed, unit, "cpu", times), 0, 1)
    used = np.clip(
        0.52 + (0.26 * season if unit.name == "gw-gull" else 0.02) + 0.015 * noise(seed, unit, "mem", times), 0, 0.99
    )
    frames = heard_by(story, unit, times)
    strength = {
        u.name: (-92 + 9 * own(seed, u, "rssi"), round(5 + 4 * own(seed, u, "snr"), 2))
        for u in fleet()
        if u.gateway == unit.name
    }
    out = []
    for i, at in enumerate(times.tolist()):
        listed = [
            {
                "dev": other.name,
                "kind": "ondel",
                "rx": moment // 1000,
                "rssi": round(strength[other.name][0] + 3 * stray),
                "snr": strength[other.name][1],
            }
            for other, moment, stray in frames[i]
        ]
        document = {
            "gw": unit.name,
            "layout": 4,
            "sent": iso(at - 400_000),
            "up": (at - story.ago(30)) // 1_000_000,
            "cpu": {"load": round(float(load[i]), 3), "temp": round(44 + 20 * float(load[i]), 1)},
            "mem": {"used": int(used[i] * 1_073_741_824), "total": 1_073_741_824},
            "frames": listed,
        }
        out.append(json.dumps(document, separators=(",", ":")).encode())
    return out


def tide_gauge(story: Story, unit: Unit, times: np.ndarray) -> list[bytes]:
    """Sheet 05: a SenML pack in JSON; every tenth has the waves of the last second, one a day the firmware."""
    seed = story.seed
    level = (
        1.9
        + 1.25 * np.sin(2 * np.pi * times / (12.42 * HOUR_US) + 0.2 * own(seed, unit, "tide"))
        + 0.18 * story.during(times, 9.4, 8.6)
        + 0.01 * noise(seed, unit, "level", times)
    )
    temperature = 14.2 + 1.9 * (times - story.ago(30)) / (30 * DAY_US) + 0.4 * curve(story, unit, "temp", times, 1.0)
    battery = 12.6 + 0.3 * np.sin(2 * np.pi * (times % DAY_US) / DAY_US) + 0.05 * own(seed, unit, "battery")
    height = 0.12 + 0.9 * story.during(times, 9.4, 8.6)
    out = []
    for i, at in enumerate(times.tolist()):
        tick = at // 360_000_000
        pack: list[dict[str, Any]] = [
            {
                "bn": f"{unit.name}/",
                "bt": round((at - 2_000_000) / 1e6, 3),
                "n": "level",
                "u": "m",
                "v": round(float(level[i]), 3),
            },
            {"n": "temp", "u": "Cel", "v": round(float(temperature[i]), 2)},
            {"n": "batt", "u": "V", "v": round(float(battery[i]), 2)},
            {"n": "ok", "vb": True},
        ]
        if tick % 240 == 0:
            pack.append({"n": "fw", "vs": "4.1.0"})
        if tick % 10 == 0:
            waves = noise(seed, unit, "waves", np.array([at + k * 1_000_000 for k in range(4)])) * height[i] * 1000
            pack.append(
                {
                    "n": "waves",
                    "vd": base64.urlsafe_b64encode(struct.pack(">4h", *(round(float(w)) for w in waves)))
                    .decode()
                    .rstrip("="),
                }
            )
        out.append(json.dumps(pack, separators=(",", ":")).encode())
    return out


def weather_mast(story: Story, unit: Unit, times: np.ndarray) -> list[bytes]:
    """Sheet 06: a line of text, each mast set to units of its own."""
    seed = story.seed
    storm = story.during(times, 9.4, 8.6)
    season = (times - story.ago(30)) / (30 * DAY_US)
    light = np.sin(2 * np.pi * ((times % DAY_US) / DAY_US - 0.29 - 2 / 24))
    wind = np.clip(
        5.5
        + 2.5 * curve(story, unit, "wind", times, 1.7)
        + 1.2 * light
        + 15 * storm
        + 0.8 * noise(seed, unit, "wind", times),
        0,
        40,
    )
    gust = wind * (1.35 + 0.15 * np.abs(noise(seed, unit, "gust", times)))
    direction = (
        240 + 55 * curve(story, unit, "direction", times, 2.3) + 8 * noise(seed, unit, "direction", times)
    ) % 360
    air = (
        13.0
        + 3.0 * season
        + 3.4 * light
        - 5 * np.exp(-(((times - story.ago(9.0)) / (0.6 * DAY_US)) ** 2))  # the storm's air, below 10 at night
        + 0.8 * curve(story, unit, "air", times, 3.1)
        + 0.2 * noise(seed, unit, "air", times)
    )
    pressure = (
        1016
        + 6 * curve(story, unit, "pressure", times, 4.2)
        - 18 * np.exp(-(((times - story.ago(9.0)) / (0.6 * DAY_US)) ** 2))
        + 0.1 * noise(seed, unit, "pressure", times)
    )
    rain = story.rain(unit, times)
    humidity = np.clip(72 - 9 * light + 20 * (rain > 0) + 3 * noise(seed, unit, "humidity", times), 20, 100)
    style = unit.labels["units"]
    speed, of_speed = {"metric": ("m/s", 1.0), "knots": ("kn", 3600 / 1852), "comma": ("km/h", 3.6)}[style]
    out = []
    for i, at in enumerate(times.tolist()):
        knots = style == "knots"
        items = [
            f"WS {wind[i] * of_speed:.1f} {speed}" if wind[i] > 0.3 else "WS CALM",
            f"WG {gust[i] * of_speed:.1f} {speed}",
            f"WD {COMPASS[int((direction[i] + 11.25) / 22.5) % 16]}"
            if style == "comma"
            else f"WD {direction[i]:.0f} deg",
            f"TA {air[i] * 1.8 + 32:.1f} F" if knots else f"TA {air[i]:.1f} C",
            f"PR {pressure[i] / 33.86389:.3f} inHg" if knots else f"PR {pressure[i]:.1f} hPa",
            f"RN {rain[i]:.1f} mm",
            f"RH {humidity[i]:.0f} %",
            f"BV {12.5 + 0.2 * light[i]:.1f} V",
            "HT N",
        ]
        if style == "comma":
            items = [item.replace(".", ",") for item in items]
        out.append((f"VM9;2;{unit.name};{iso(at - 1_000_000)};" + ";".join(items) + ";").encode())
    return [line + b"~%04X\r\n" % check for line, check in zip(out, _sums("fletcher16", out), strict=True)]


def purification_tank(story: Story, unit: Unit, times: np.ndarray) -> list[bytes]:
    """Sheet 07: registers 100 to 123 as the poller reads them. A cycle of 42 h: fill, circulate, drain, idle."""
    seed = story.seed
    number = int(unit.name.split("-")[1])
    cycle = 42 * HOUR_US
    begun = (times - number * 7 * HOUR_US) % cycle
    start = times - begun
    hours = begun / HOUR_US
    phase = np.select([hours < 0.7, hours < 38.7, hours < 39.3], [1, 2, 3], 0)
    running = phase == 2
    level = np.select(
        [phase == 1, phase == 2, phase == 3], [100 * hours / 0.7, 97.0, 97 * (39.3 - hours) / 0.6], 2.0
    ) + 0.2 * noise(seed, unit, "level", times)
    flow = np.where(running, 45 + 1.5 * noise(seed, unit, "flow", times), 0.0)
    worn = 27 * ((times - story.ago(30)) / (30 * DAY_US)) if number == 4 else 6.0
    intensity = np.where(running, 190 - worn + 2.0 * noise(seed, unit, "uv", times), 0.0)
    turbidity = np.clip(1.9 * np.exp(-hours / 9) + 0.15 + 0.02 * noise(seed, unit, "turbid", times), 0.01, 60) * 100
    temperature = (
        12.0
        + 0.6 * np.sin(2 * np.pi * (times % DAY_US) / DAY_US)
        + 0.3 * own(seed, unit, "temp")
        + 0.05 * noise(seed, unit, "temp", times)
    )
    days = (times - story.ago(30)) / DAY_US
    block = np.zeros(len(times), BLOCK)
    block["head"] = 0x0201
    block["state"] = running * 1 | running * 2 | (phase == 1) * 4 | phase << 8
    block["flow"], block["level"], block["temperature"] = (
        np.round(flow * 10),
        np.round(level * 10),
        np.round(temperature * 10),
    )
    block["total"] = (900_000 + 100_000 * number + 58_600 * days).astype(np.int64)
    block["uv"], block["uv_setpoint"] = (
        _low_first(intensity.astype(">f4")),
        _low_first(np.full(len(times), 180.5, ">f4")),
    )
    block["lamp"] = _low_first(((4000 + 700 * number + 21.7 * days) * 10).astype(">u4"))
    block["name"] = f"TANK-{'ABCDEF'[number - 1]}".ljust(8).encode()
    block["mantissa"], block["exponent"], block["salinity"] = (
        np.round(turbidity),
        -2,
        round(3360 + 20 * own(seed, unit, "salt")),
    )
    block["start"], block["flow_setpoint"] = np.where(phase > 0, start // 1_000_000, 0), 450
    words = np.frombuffer(block.tobytes(), ">u2").reshape(len(times), -1)
    block["sum"] = words[:, :-1].sum(axis=1) & 0xFFFF
    return [row.tobytes() for row in block]


BLOCK = np.dtype(
    [
        ("head", ">u2"),
        ("state", ">u2"),
        ("flow", ">u2"),
        ("total", ">u4"),
        ("uv", "V4"),
        ("lamp", "V4"),
        ("level", ">i2"),
        ("temperature", ">i2"),
        ("name", "S8"),
        ("mantissa", ">u2"),
        ("exponent", ">i2"),
        ("salinity", ">u2"),
        ("start", ">u4"),
        ("flow_setpoint", ">u2"),
        ("uv_setpoint", "V4"),
        ("sum", ">u2"),
    ]
)


def _low_first(values: np.ndarray) -> np.ndarray:
    """Big-endian values of four bytes with their low word first."""
    return np.ascontiguousarray(values.view(">u2").reshape(-1, 2)[:, ::-1]).view("V4").reshape(-1)


def crate_logger(story: Story, unit: Unit, times: np.ndarray) -> list[bytes]:
    """Sheet 04: a burst in CBOR with a temperature every 15 min since the one before, shocks and lid events."""
    seed = story.seed
    step, phase = CRATE_STEP_S * 1_000_000, phase_of(story, unit)
    out = []
    for at in times.tolist():
        due = (at - phase) // BURST_US * BURST_US + phase
        last = due // step * step
        first = (due - BURST_US) // step * step + step
        samples = np.arange(first, last + 1, step)
        warm = story.warmed(unit, samples)
        temperature = (
            5.2
            + 0.7 * own(seed, unit, "temp")
            + 0.5 * curve(story, unit, "temp", samples, 0.9)
            + 0.15 * noise(seed, unit, "temp", samples)
            + warm
        )
        present = noise(seed, unit, "sample", samples) < 0.995
        shocks = [
            (int(t - first) // 1_000_000 + 211, round(2 + 3 * abs(n), 2))
            for t, n in zip(samples.tolist(), noise(seed, unit, "shock", samples).tolist(), strict=True)
            if n > 0.97
        ]
        opened = [
            int(t - first) // 1_000_000 + 60
            for t, n in zip(samples.tolist(), noise(seed, unit, "lid", samples).tolist(), strict=True)
            if n > 0.975
        ]
        block: dict[int, Any] = {
            0: 1,
            1: bytes.fromhex(unit.name.removeprefix("crate-")),
            2: cbor2.CBORTag(1, first // 1_000_000),
            3: CRATE_STEP_S,
            4: [round(t * 10) if ok else None for t, ok in zip(temperature.tolist(), present.tolist(), strict=True)],
        }
        if shocks:
            block[5] = [list(s) for s in shocks]
        if opened:
            block[6] = [event for o in opened for event in ([o, True], [o + 45, False])]
        season = Fraction(at - story.ago(30), 30 * DAY_US)
        block[7] = cbor2.CBORTag(4, [-3, int(3640 - 90 * float(season) + 30 * own(seed, unit, "battery"))])
        out.append(cbor2.dumps(block))
    return out


BUILDERS = {
    "shore_gateway": gateway,
    "tide_gauge": tide_gauge,
    "weather_mast": weather_mast,
    "purification_tank": purification_tank,
    "crate_logger": crate_logger,
}


def payloads(story: Story, unit: Unit, plan: DecoderPlan, times: np.ndarray) -> list[bytes]:
    """The payloads of a device: built by the decoder's own text where that can write them, else after the sheet."""
    if unit.type in BUILDERS:
        return BUILDERS[unit.type](story, unit, times)
    after = times >= (story.updated(unit) or np.iinfo(np.int64).max)
    columns, reasons = MAKERS[unit.type](story, unit, times[~after])
    return encode(plan, columns, reasons, int((~after).sum())) + (
        buoy_2(story, unit, times[after]) if after.any() else []
    )
