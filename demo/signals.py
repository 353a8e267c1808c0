"""What the demo fleet measures: seeded curves with the story in them.

Every value is a function of seed, device and time alone, so that history and the living fleet join
without a seam, and the same seed gives the same payloads byte for byte.
"""

from __future__ import annotations

import time
import zlib

import numpy as np

from oculum.batches import FIRST_REASON, Column
from oculum.language.decoders import check_decoder
from oculum.language.decoders.plan import DecoderPlan

from .world import DECODERS, EXAMPLES, SLOWED, UPDATED, Unit, fleet

SEED = 640
DAY_US = 86_400_000_000
HOUR_US = 3_600_000_000
SAG_SITES = ("merle-reach", "lower-reach")
WARM_CRATE = "crate-5ca7e0000112"


def now_us() -> int:
    return time.time_ns() // 1000


def plan_of(type_key: str) -> DecoderPlan:
    plan, problems = check_decoder((EXAMPLES / DECODERS[type_key]).read_text())
    if plan is None:
        raise ValueError(problems[0].message)
    return plan


def noise(seed: int, unit: Unit, what: str, times: np.ndarray) -> np.ndarray:
    """Numbers in [-1, 1), one a moment: a hash of seed, device, quantity and time."""
    key = np.uint64(zlib.crc32(f"{seed}/{unit.name}/{what}".encode()))
    x: np.ndarray = times.astype(np.uint64) // np.uint64(1_000_000) + np.array([key]) * np.uint64(0x9E3779B97F4A7C15)
    x ^= x >> np.uint64(30)
    x *= np.uint64(0xBF58476D1CE4E5B9)
    x ^= x >> np.uint64(27)
    x *= np.uint64(0x94D049BB133111EB)
    x ^= x >> np.uint64(31)
    return (x >> np.uint64(11)).astype(float) / 2.0**52 - 1.0


def own(seed: int, unit: Unit, what: str) -> float:
    """A constant of the device in [-1, 1)."""
    return float(noise(seed, unit, what, np.array([0], np.int64))[0])


def curve(story: Story, unit: Unit, what: str, times: np.ndarray, days: float) -> np.ndarray:
    """A slow curve in [-1, 1]: two waves of about `days` with phases of the device's own."""
    turn = 2 * np.pi * times / (days * DAY_US)
    found: np.ndarray = 0.6 * np.sin(turn + 3 * own(story.seed, unit, what)) + 0.4 * np.sin(
        1.73 * turn + 3 * own(story.seed, unit, what + "'")
    )
    return found


class Story:
    """When things happen, counted back from the end of history."""

    def __init__(self, end_us: int, seed: int) -> None:
        self.end, self.seed = end_us, seed

    def ago(self, days: float) -> int:
        return self.end - int(days * DAY_US)

    def during(self, times: np.ndarray, start_days: float, end_days: float) -> np.ndarray:
        return (times >= self.ago(start_days)) & (times < self.ago(end_days))

    def updated(self, unit: Unit) -> int | None:
        """When a buoy got firmware 2: nine of them, one after the other."""
        return self.ago(2.2) + UPDATED.index(unit.name) * 25 * 60_000_000 if unit.name in UPDATED else None

    def drift(self, unit: Unit, times: np.ndarray) -> np.ndarray:
        """By how many microseconds a buoy's clock is ahead: two of those with a clock drift."""
        rate = {"buoy-44": 55e6, "buoy-47": -70e6}.get(unit.name, 0.0)
        return (np.clip(times - (self.updated(unit) or self.end), 0, 4 * DAY_US) / DAY_US * rate).astype(np.int64)

    def held_back(self, unit: Unit, times: np.ndarray) -> np.ndarray:
        """For how many microseconds a boat keeps a message before it sends it: two with another firmware."""
        grown = np.clip((times - self.ago(9)) / (9 * DAY_US), 0, 1.2) if unit.name in SLOWED else np.zeros(len(times))
        held: np.ndarray = (170e6 * grown * (1 + 0.4 * curve(self, unit, "held", times, 0.6))).astype(np.int64)
        return held

    def warmed(self, unit: Unit, times: np.ndarray) -> np.ndarray:
        """By how many degrees a crate was too warm: one stood on the quay for half a day."""
        stood = self.during(times, 4.3, 3.9) if unit.name == WARM_CRATE else np.zeros(len(times), bool)
        return np.where(stood, 9.5 * np.sin(np.pi * np.clip((times - self.ago(4.3)) / (0.4 * DAY_US), 0, 1)), 0.0)

    def rain(self, unit: Unit, times: np.ndarray) -> np.ndarray:
        """Millimetres of the ten minutes before: the storm, a day of heavy rain, a shower now and then."""
        heavy = 0.34 * self.during(times, 5.2, 4.3) + 0.2 * self.during(times, 9.4, 8.6)
        shower = 0.5 * (curve(self, unit, "shower", times, 0.8) > 0.93)
        fallen: np.ndarray = np.clip((heavy + shower) * (1 + 0.8 * noise(self.seed, unit, "rain", times)), 0, None)
        return fallen

    def heard(self, unit: Unit, times: np.ndarray) -> np.ndarray:
        """False while the Skerry gateway was down, for it and all behind it."""
        down = self.during(times, 3.6, 3.35)
        return ~down if unit.gateway == "gw-skerry" or unit.name == "gw-skerry" else np.ones(len(times), bool)


def buoy(story: Story, unit: Unit, times: np.ndarray) -> tuple[dict[str, Column], list[str]]:
    """Columns of a raft buoy's readings at `times` (int64 µs)."""
    seed, count = story.seed, len(times)
    day = (times % DAY_US) / DAY_US
    light = np.sin(2 * np.pi * (day - 0.29 - 2 / 24))
    tide = np.sin(2 * np.pi * times / (12.42 * 3600e6) + own(seed, unit, "tide"))
    season = (times - story.ago(30)) / (30 * DAY_US)
    storm = story.during(times, 9.4, 8.6)
    ones = np.ones(count, np.int16)

    temperature = (
        14.5
        + 2.0 * season
        + 0.9 * light
        + 0.3 * own(seed, unit, "temp")
        + 0.15 * tide
        + 0.06 * noise(seed, unit, "temp", times)
    )
    salinity = 33.6 + 0.5 * tide + 0.2 * own(seed, unit, "salt") - 0.9 * storm + 0.03 * noise(seed, unit, "salt", times)
    oxygen = (
        8.2
        + 0.7 * light
        - 0.25 * (temperature - 15.0)
        + 0.2 * own(seed, unit, "oxygen")
        + 0.08 * noise(seed, unit, "oxygen", times)
    )
    if unit.site in SAG_SITES:
        for night in (2, 1, 0):
            centre = story.ago(night) - (story.end % DAY_US) + int(5.6 / 24 * DAY_US)
            distance = (times - centre) / (0.085 * DAY_US)
            depth = 3.6 + 0.5 * own(seed, unit, f"sag{night}") if unit.site == "merle-reach" else 2.6
            oxygen -= depth * np.exp(-(distance**2))
    oxygen = np.clip(oxygen, 0.3, 20)
    turbidity = 3.0 + 1.2 * np.abs(tide) + 0.6 * noise(seed, unit, "turbid", times) + 6.0 * storm
    if unit.name == "buoy-12":
        turbidity = turbidity + story.during(times, 2.0, -400) * (8.5 + 2.2 * noise(seed, unit, "chatter", times))
    turbidity = np.clip(turbidity, 0.2, 380)
    fade = {"buoy-07": 0.85, "buoy-33": 0.7, "buoy-58": 0.62}.get(unit.name, 0.08)
    battery = (
        4.02
        - fade * season
        + 0.06 * light
        + 0.05 * own(seed, unit, "battery")
        + 0.01 * noise(seed, unit, "battery", times)
    )
    lat, lon = np.full(count, unit.latitude), np.full(count, unit.longitude)
    drag = (
        np.clip((times - story.ago(9.2)) / (0.35 * DAY_US), 0, 1) * (times < story.ago(7.5))
        if unit.name == "buoy-31"
        else np.zeros(count)
    )
    lat = lat + 4e-5 * noise(seed, unit, "lat", times) + 0.0011 * drag
    lon = lon + 5e-5 * noise(seed, unit, "lon", times) + 0.0014 * drag
    restarted = noise(seed, unit, "restart", times) > 0.9996
    lat, lon = np.where(restarted, 0.0, lat), np.where(restarted, 0.0, lon)
    strain = (
        2100
        + 400 * np.abs(tide)
        + 300 * own(seed, unit, "strain")
        + 120 * noise(seed, unit, "strain", times)
        + 5200 * storm * (0.7 + 0.3 * noise(seed, unit, "gust", times))
    )
    slack = (drag > 0.1) & (drag < 1) & (noise(seed, unit, "slack", times) > -0.9)
    strain = np.where(slack, 260.0, strain)

    fault = noise(seed, unit, "fault", times) > 0.9990
    reasons = ["sensor fault"]
    columns = {
        "version": Column(np.ones(count), ones),
        "mode": Column(np.where(storm, 1.0, 0.0), ones),
        "water_temperature": Column(temperature, ones),
        "salinity": Column(salinity, ones),
        "oxygen": Column(oxygen, np.where(fault, FIRST_REASON, 1).astype(np.int16)),
        "turbidity": Column(turbidity, ones),
        "battery": Column(np.clip(battery, 2.0, 4.5), ones),
        "fix": Column(np.stack([lat, lon], axis=1), ones),
        "mooring_slack": Column(slack.astype(float), ones),
        "mooring_overload": Column((strain > 7900).astype(float), ones),
        "mooring_strain": Column(np.clip(strain, 0, 80000), ones),
    }
    return columns, reasons


def under_way(story: Story, unit: Unit, times: np.ndarray) -> np.ndarray:
    """Whether a boat is out: working hours of the sound, shifted a little by boat and day."""
    hour = ((times - 2 * 3_600_000_000) % DAY_US) / 3_600_000_000
    shift = 0.8 * own(story.seed, unit, "start")
    morning = (hour > 7.2 + shift) & (hour < 9.4 + shift)
    return morning | ((hour > 13.3 + shift) & (hour < 15.1 + shift))


def boat(story: Story, unit: Unit, times: np.ndarray) -> tuple[dict[str, Column], list[str]]:
    """Columns of a work boat's readings."""
    seed, count = story.seed, len(times)
    out = under_way(story, unit, times)
    ones = np.ones(count, np.int16)
    hour = ((times - 2 * 3_600_000_000) % DAY_US) / 3_600_000_000
    along = np.clip(np.where(hour < 12, hour - 7.2, hour - 13.3) / 2.0, 0, 1)
    loop = 2 * np.pi * along
    reach = 0.011 + 0.004 * own(seed, unit, "reach")
    lat = unit.latitude - 0.006 * np.sin(loop) * out + 2e-6 * noise(seed, unit, "lat", times)
    lon = unit.longitude - reach * (1 - np.cos(loop)) * out + 2e-6 * noise(seed, unit, "lon", times)
    speed = np.where(out, 6.2 + 1.5 * np.sin(3 * loop) + 0.4 * noise(seed, unit, "speed", times), 0.0)
    hot = story.during(times, 5.7, 5.4) & out if unit.name == "boat-tern" else np.zeros(count, bool)
    coolant = np.where(
        out,
        176 + 4 * np.sin(loop) + 1.2 * noise(seed, unit, "cool", times) + 34 * hot,
        70 + 3 * noise(seed, unit, "cool", times),
    )
    silent = np.where(out, 1, FIRST_REASON).astype(np.int16)
    state = np.where(out, "under_way", "moored").astype(object)
    hours = 1200 + 300 * own(seed, unit, "hours") + (times - story.ago(30)) / DAY_US * 3.9
    reasons = ["engine bus silent"]
    columns = {
        "layout": Column(np.full(count, 3.0), ones),
        "sent": Column(times - 250_000 - story.held_back(unit, times), ones),
        "state": Column(state, ones),
        "fix": Column(np.round(np.stack([lat, lon], axis=1), 6), ones),
        "position_accuracy": Column(np.round(3 + 2 * np.abs(noise(seed, unit, "acc", times)), 1), ones),
        "speed": Column(np.round(np.clip(speed, 0, 12), 2), ones),
        "course": Column(np.round((np.degrees(loop) + 270) % 360, 1), np.where(out, 1, 0).astype(np.int16)),
        "fuel_flow": Column(np.round(np.where(out, 12 + speed + noise(seed, unit, "fuel", times), 0.0), 1), ones),
        "engine_on": Column(out.astype(float), ones),
        "engine_speed": Column(np.round(1400 + 60 * noise(seed, unit, "rpm", times)), silent),
        "engine_temperature": Column((np.round(coolant, 1) - 32) * 5 / 9, silent),
        "oil_pressure": Column(np.round(3.1 + 0.2 * noise(seed, unit, "oil", times), 2), silent),
        "engine_hours": Column(np.round(hours, 1), ones),
    }
    return columns, reasons


MAKERS = {"raft_buoy": buoy, "work_boat": boat}
CADENCE_US = {
    "work_boat": 20_000_000,
    "raft_buoy": 600_000_000,
    "shore_gateway": 300_000_000,
    "tide_gauge": 360_000_000,
    "weather_mast": 600_000_000,
    "purification_tank": 15_000_000,
    "crate_logger": 6 * HOUR_US,
}
# Each 15 s would be a million messages of history for six tanks: before the last day, every 20th is kept, and 300 s are
# the cadence.
HEARD_US = 300_000_000
DENSE_US, THINNED = DAY_US, 20


def phase_of(story: Story, unit: Unit) -> int:
    """Where in its cadence a device sends, in microseconds."""
    return int((own(story.seed, unit, "phase") + 1) / 2 * CADENCE_US[unit.type])


def sending_times(story: Story, unit: Unit, start: int, end: int) -> np.ndarray:
    """When a device sends in [start, end): on its cadence, with a phase and jitter of its own."""
    base = CADENCE_US[unit.type]
    phase = phase_of(story, unit)
    first = -(-(start - phase) // base)
    ticks = np.arange(first, -(-(end - phase) // base), dtype=np.int64)
    times = ticks * base + phase
    if unit.type == "work_boat":
        times = times[under_way(story, unit, times) | (ticks % 15 == 0)]
    if unit.type == "purification_tank":
        times = times[(times >= story.end - DENSE_US) | (ticks % THINNED == 0)]
    spread = {"work_boat": 400_000, "purification_tank": 60_000, "crate_logger": 900_000_000}.get(unit.type, 4_000_000)
    jitter = noise(story.seed, unit, "jitter", times)
    times = times + ((np.abs(jitter) if unit.type == "crate_logger" else jitter) * spread).astype(np.int64)
    if unit.type == "raft_buoy":
        times = times[noise(story.seed, unit, "lost", times) < 0.99]
    times = times[story.heard(unit, times)]
    return np.sort(times[(times >= start) & (times < end)])


def heard_by(story: Story, gateway: Unit, times: np.ndarray) -> list[list[tuple[Unit, int, float]]]:
    """For each message of a gateway: what it tells of others, with the moment and a stray number in [-1, 1).

    Every seventh message lists what was heard in the five minutes before; not more, so that the demo loads quickly.
    """
    found: list[list[tuple[Unit, int, float]]] = [[] for _ in times]
    lists = times // HEARD_US % 7 == 0
    if not lists.any():
        return found
    for unit in fleet():
        if unit.gateway == gateway.name:
            sent = sending_times(story, unit, int(times[0]) - HEARD_US, int(times[-1]))
            places = np.searchsorted(times, sent).tolist()
            for moment, place, stray in zip(
                sent.tolist(), places, noise(story.seed, unit, "heard", sent).tolist(), strict=True
            ):
                if lists[place] and times[place] - moment <= HEARD_US:
                    found[place].append((unit, moment + 300_000, stray))
    return found


def topic_of(unit: Unit) -> str:
    """Where a device's messages are published, by itself or by the gateway it talks through."""
    return f"up/{unit.gateway}/for/{unit.name}" if unit.gateway else f"up/{unit.name}"


def headers_of(unit: Unit) -> dict[str, str] | None:
    """What a sender tells beside its messages: the poller of the tanks, which registers it has read."""
    return {"unit": unit.name.split("-")[1], "start": "100"} if unit.type == "purification_tank" else None
