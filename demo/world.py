"""The invented world of the demo: the Sandrel Sound growers, their sites, devices, people."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

EXAMPLES = Path(__file__).resolve().parent.parent / "examples"
ZONE = "Etc/GMT+2"  # UTC-2 all year: the sound lies in empty ocean

SITES = [
    # name, title, parent, latitude, longitude
    ("sandrel-sound", "Sandrel Sound", None, 37.42, -42.62),
    ("merle-reach", "Merle Reach", "sandrel-sound", 37.4312, -42.6420),
    ("gull-bank", "Gull Bank", "sandrel-sound", 37.4185, -42.6051),
    ("skerry", "Outer Skerry", "sandrel-sound", 37.3977, -42.5812),
    ("lower-reach", "Lower Reach", "sandrel-sound", 37.4051, -42.6377),
    ("quay", "Landing Quay", "sandrel-sound", 37.4290, -42.6193),
]
GATEWAYS = [("gw-merle", "Merle gateway", "merle-reach"), ("gw-gull", "Gull gateway", "gull-bank"), ("gw-skerry", "Skerry gateway", "skerry"), ("gw-lower", "Lower gateway", "lower-reach")]
BUOYS_BEHIND = {"gw-merle": 27, "gw-gull": 29, "gw-skerry": 22, "gw-lower": 12}
BOATS = ["merrel", "tern", "ondine", "wherry", "dunlin", "petrel", "sanderling", "halyard", "bittern", "curlew", "knot", "whimbrel"]
PEOPLE = [("ines", "Ines Amarel", "admin"), ("jory", "Jory Teal", "engineer"), ("maud", "Maud Varn", "operator"), ("odo", "Odo Fell", "viewer")]

TYPES = [
    # key, title, cadence in s, is a gateway, setpoints
    ("raft_buoy", "Raft buoy", 600, False, [("oxygen_min", "mg/L", 5.0), ("turbidity_max", "{NTU}", 12.0), ("battery_min", "V", 3.3)]),
    ("work_boat", "Work boat", 300, False, [("engine_temperature_max", "Cel", 96.0)]),
    ("shore_gateway", "Shore gateway", 300, True, []),
]
DECODERS = {"raft_buoy": "raft_buoy.ocu", "work_boat": "work_boat.ocu", "shore_gateway": "shore_gateway.ocu"}
CONDITIONS = ["oxygen_low.ocu", "turbidity_high.ocu", "battery_low.ocu", "mooring_drags.ocu", "engine_hot.ocu"]


@dataclass(frozen=True)
class Unit:
    """A device of the demo fleet."""

    name: str
    title: str
    type: str
    site: str
    gateway: str | None
    latitude: float
    longitude: float
    labels: dict[str, str]


def fleet() -> list[Unit]:
    """All devices, the same on every call."""
    places = {name: (lat, lon) for name, _, _, lat, lon in SITES}
    units = [Unit(name, title, "shore_gateway", site, None, *places[site], {"role": "gateway"}) for name, title, site in GATEWAYS]
    number = 0
    for gateway, _, site in GATEWAYS:
        lat, lon = places[site]
        for k in range(BUOYS_BEHIND[gateway]):
            number += 1
            row, column = divmod(k, 6)
            stage = ("spat", "growing", "growing", "market")[k % 4]
            units.append(
                Unit(f"buoy-{number:02d}", f"Buoy {number:02d}", "raft_buoy", site, gateway, round(lat + 0.0012 * row, 6), round(lon + 0.0016 * column, 6), {"stage": stage, "row": str(row + 1)})
            )
    for k, name in enumerate(BOATS):
        units.append(Unit(f"boat-{name}", f"Boat {name.title()}", "work_boat", "quay", None, round(37.4290 + 0.0002 * k, 6), -42.6193, {"crew": "north" if k % 2 else "south"}))
    return units
