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
CARETAKERS = {
    # name: who looks after it, when somebody is there
    "merle-reach": ("Maud Varn, channel 12", "07:00 to 15:00 at low water"),
    "gull-bank": ("Maud Varn, channel 12", "with the boat, Tuesdays and Fridays"),
    "skerry": ("Jory Teal, channel 14", "on calm days only"),
    "quay": ("quay office, channel 9", "06:00 to 22:00"),
}
GATEWAYS = [
    ("gw-merle", "Merle gateway", "merle-reach"),
    ("gw-gull", "Gull gateway", "gull-bank"),
    ("gw-skerry", "Skerry gateway", "skerry"),
    ("gw-lower", "Lower gateway", "lower-reach"),
]
BUOYS_BEHIND = {"gw-merle": 27, "gw-gull": 29, "gw-skerry": 22, "gw-lower": 12}
BOATS = [
    "merrel",
    "tern",
    "ondine",
    "wherry",
    "dunlin",
    "petrel",
    "sanderling",
    "halyard",
    "bittern",
    "curlew",
    "knot",
    "whimbrel",
]
PEOPLE = [
    ("ines", "Ines Amarel", "admin"),
    ("jory", "Jory Teal", "engineer"),
    ("maud", "Maud Varn", "operator"),
    ("odo", "Odo Fell", "viewer"),
]

TYPES = [
    # key, title, cadence in s, is a gateway, setpoints
    (
        "raft_buoy",
        "Raft buoy",
        600,
        False,
        [("oxygen_min", "mg/L", 5.0), ("turbidity_max", "{NTU}", 12.0), ("battery_min", "V", 3.3)],
    ),
    ("work_boat", "Work boat", 300, False, [("engine_temperature_max", "Cel", 96.0)]),
    ("shore_gateway", "Shore gateway", 300, True, []),
    ("crate_logger", "Crate logger", 21600, False, [("crate_temperature_max", "Cel", 10.0)]),
    ("tide_gauge", "Tide gauge", 360, False, []),
    ("weather_mast", "Weather mast", 600, False, [("wind_max", "m/s", 17.0)]),
    ("purification_tank", "Purification tank", 300, False, [("uv_min", "W/m2", 165.0)]),
]
# Fields that come with messages of other types: the gateways tell how well they hear each buoy.
FIELDS = {"raft_buoy": [("rssi", "dB{mW}"), ("snr", "dB")]}
DECODERS = {
    "raft_buoy": "raft_buoy.ocu",
    "work_boat": "work_boat.ocu",
    "shore_gateway": "shore_gateway.ocu",
    "crate_logger": "sheets/crate_logger.ocu",
    "tide_gauge": "sheets/tide_gauge.ocu",
    "weather_mast": "sheets/weather_mast.ocu",
    "purification_tank": "sheets/purification_tank.ocu",
}
CONDITIONS = [
    "oxygen_low.ocu",
    "turbidity_high.ocu",
    "battery_low.ocu",
    "mooring_drags.ocu",
    "engine_hot.ocu",
    "crate_warm.ocu",
    "wind_strong.ocu",
    "lamp_weak.ocu",
    "rain_heavy.ocu",
    "closed_area.ocu",
    "raft_adrift.ocu",
    "buoy_silent.ocu",
    "gateway_silent.ocu",
    "oxygen_falls.ocu",
    "site_starves.ocu",
    "battery_fades.ocu",
    "clock_wrong.ocu",
    "oxygen_by_day.ocu",
]
# In the order in which readings pass them.
ROUTES = [
    "no_fix.ocu",
    "salinity_by_sample.ocu",
    "drift_is_no_speed.ocu",
    "wind_chill.ocu",
    "rain_closes.ocu",
    "wind_to_harbour.ocu",
    "water_of_sites.ocu",
    "tanks_that_move.ocu",
    "cold_chain.ocu",
    "old_fleet.ocu",
]
SAMPLES = "device, offset [g/kg] !, taken_by\nbuoy-03,0.12,Maud\nbuoy-11,-0.08,Maud\nbuoy-27,0.21,Jory\n"
FENCES = {
    "closed harvest area": {
        "type": "Polygon",
        "coordinates": [
            [[-42.665, 37.420], [-42.646, 37.420], [-42.646, 37.438], [-42.665, 37.438], [-42.665, 37.420]]
        ],
    },
}
UPDATED = [f"buoy-{n}" for n in range(40, 49)]
SLOWED = ["boat-dunlin", "boat-petrel"]  # their firmware 7 holds messages back, longer and longer
GAUGES = [("quay", "Quay"), ("merle", "Merle"), ("gull", "Gull"), ("skerry", "Skerry"), ("lower", "Lower")]
MASTS = [("quay", "Quay", "metric"), ("skerry", "Skerry", "knots"), ("merle", "Merle", "comma")]


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
    units = [
        Unit(name, title, "shore_gateway", site, None, *places[site], {"role": "gateway"})
        for name, title, site in GATEWAYS
    ]
    number = 0
    for gateway, _, site in GATEWAYS:
        lat, lon = places[site]
        for k in range(BUOYS_BEHIND[gateway]):
            number += 1
            row, column = divmod(k, 6)
            stage = ("spat", "growing", "growing", "market")[k % 4]
            units.append(
                Unit(
                    f"buoy-{number:02d}",
                    f"Buoy {number:02d}",
                    "raft_buoy",
                    site,
                    gateway,
                    round(lat + 0.0012 * row, 6),
                    round(lon + 0.0016 * column, 6),
                    {"stage": stage, "row": str(row + 1), "firmware": "2" if f"buoy-{number:02d}" in UPDATED else "1"},
                )
            )
    for k, name in enumerate(BOATS):
        units.append(
            Unit(
                f"boat-{name}",
                f"Boat {name.title()}",
                "work_boat",
                "quay",
                None,
                round(37.4290 + 0.0002 * k, 6),
                -42.6193,
                {"crew": "north" if k % 2 else "south", "firmware": "7" if f"boat-{name}" in SLOWED else "6"},
            )
        )
    site_of = {"quay": "quay", "merle": "merle-reach", "gull": "gull-bank", "skerry": "skerry", "lower": "lower-reach"}
    for name, title in GAUGES:
        lat, lon = places[site_of[name]]
        units.append(
            Unit(
                f"tide-{name}",
                f"{title} tide gauge",
                "tide_gauge",
                site_of[name],
                None,
                round(lat - 0.0008, 6),
                round(lon - 0.001, 6),
                {},
            )
        )
    for name, title, style in MASTS:
        lat, lon = places[site_of[name]]
        units.append(
            Unit(
                f"mast-{name}",
                f"{title} mast",
                "weather_mast",
                site_of[name],
                None,
                round(lat + 0.0006, 6),
                round(lon - 0.0015, 6),
                {"units": style},
            )
        )
    for k in range(6):
        units.append(
            Unit(
                f"tank-{k + 1}",
                f"Tank {'ABCDEF'[k]}",
                "purification_tank",
                "quay",
                None,
                37.4294,
                round(-42.6198 + 0.0001 * k, 6),
                {"hall": "north" if k < 3 else "south"},
            )
        )
    for k in range(60):
        site = ("quay", "merle-reach", "gull-bank", "lower-reach")[k % 4]
        units.append(
            Unit(
                f"crate-5ca7e0{0x101 + k:06x}",
                f"Crate {k + 1:02d}",
                "crate_logger",
                site,
                None,
                *places[site],
                {"load": ("mussel", "oyster")[k % 2]},
            )
        )
    return units
