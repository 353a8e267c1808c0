"""Areas on the map and positions against them. WGS 84; edges are straight in longitude and latitude."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
import shapely

from ..language.functions import distance_m

EARTH_M = 6_371_008.8  # the mean radius
METRES_A_DEGREE = 111_194.93  # of latitude, on the mean sphere: only to find the nearest point of an edge


@dataclass(frozen=True)
class Area:
    """A fence: polygons (with holes, in several parts), or a circle. Longitudes run on past 180 where it crosses there.

    shape: in longitude and latitude; None for a circle of `radius` metres around `centre` (latitude, longitude).
    """

    shape: Any = None
    centre: tuple[float, float] = (0.0, 0.0)
    radius: float = 0.0

    @classmethod
    def circle(cls, latitude: float, longitude: float, radius: float) -> Area:
        return cls(None, (latitude, longitude), radius)

    @classmethod
    def polygons(cls, parts: list[list[list[tuple[float, float]]]]) -> Area:
        """Parts of rings of (longitude, latitude), the first ring of a part its outline, the others holes.

        Raises ValueError where a ring is none.
        """
        made = []
        for rings in parts:
            if not rings or any(len(ring) < 4 for ring in rings):
                raise ValueError("a ring has at least four points, the last as the first")
            outline = _unrolled(rings[0], rings[0][0][0])
            holes = [_unrolled(ring, outline[0][0]) for ring in rings[1:]]
            shape = shapely.Polygon(outline, holes)
            if not shape.is_valid:
                raise ValueError(f"the outline is none: {shapely.is_valid_reason(shape)}")
            made.append(shape)
        shape = shapely.union_all(made) if len(made) > 1 else made[0]
        shapely.prepare(shape)
        return cls(shape)

    def inside(self, positions: np.ndarray) -> np.ndarray:
        """bool (n,): which positions (n, 2: latitude, longitude) lie inside or on the edge."""
        if self.shape is None:
            return np.asarray(distance_m(positions[:, 0], positions[:, 1], *self.centre) <= self.radius)
        found = np.zeros(len(positions), bool)
        west, south, east, north = self.shape.bounds
        for turn in (0.0, 360.0, -360.0):
            lon, lat = positions[:, 1] + turn, positions[:, 0]
            near = np.flatnonzero((lon >= west) & (lon <= east) & (lat >= south) & (lat <= north) & ~found)
            if len(near):
                found[near] = shapely.intersects_xy(self.shape, lon[near], lat[near])
        return found

    def size_m2(self) -> float:
        """Square metres, holes left out, on the mean sphere (an error of up to half a percent)."""
        if self.shape is None:
            return float(np.pi * self.radius**2)
        size = 0.0
        for part in shapely.get_parts(self.shape):
            for k, ring in enumerate((part.exterior, *part.interiors)):
                lon, lat = np.radians(shapely.get_coordinates(ring)).T
                # Chamberlain, Duquette: Some algorithms for polygons on a sphere (2007), eq. 2.
                strips = np.diff(lon) * (2 + np.sin(lat[1:]) + np.sin(lat[:-1]))
                size += (-1 if k else 1) * abs(float(strips.sum())) / 2
        return size * EARTH_M**2

    def distance(self, positions: np.ndarray) -> np.ndarray:
        """Metres (n,) to the fence, 0 inside it."""
        if self.shape is None:
            return np.maximum(distance_m(positions[:, 0], positions[:, 1], *self.centre) - self.radius, 0.0)
        inside = self.inside(positions)
        found = np.zeros(len(positions))
        for i in np.flatnonzero(~inside).tolist():
            found[i] = min(
                self._outside(float(positions[i, 0]), float(positions[i, 1]) + t) for t in (0.0, 360.0, -360.0)
            )
        return found

    def _outside(self, lat: float, lon: float) -> float:
        """The distance to the nearest point of the edge, found where a degree east is as long as it is here."""
        squeeze = max(float(np.cos(np.radians(lat))), 1e-6)
        flat = shapely.transform(self.shape, lambda c: np.stack([c[:, 0] * squeeze, c[:, 1]], axis=1))
        nearest = shapely.get_coordinates(shapely.shortest_line(flat, shapely.Point(lon * squeeze, lat)))[0]
        return float(distance_m(lat, lon, float(nearest[1]), float(nearest[0]) / squeeze))

    def crossed(self, before: np.ndarray, after: np.ndarray) -> np.ndarray:
        """bool (n,): whether the straight way from one position to the other meets the fence."""
        found = np.zeros(len(after), bool)
        for i in range(len(after)):
            lat1, lon1 = float(before[i, 0]), float(before[i, 1])
            lat2, lon2 = float(after[i, 0]), float(after[i, 1])
            lon2 += 360.0 * round((lon1 - lon2) / 360.0)
            found[i] = self._meets(lat1, lon1, lat2, lon2)
        return found

    def _meets(self, lat1: float, lon1: float, lat2: float, lon2: float) -> bool:
        if self.shape is not None:
            way = shapely.LineString([(lon1, lat1), (lon2, lat2)])
            turns = (0.0, 360.0, -360.0)
            return any(
                bool(shapely.intersects(self.shape, shapely.transform(way, lambda c, t=t: c + [t, 0]))) for t in turns
            )
        lat0, lon0 = self.centre
        lon0 += 360.0 * round((lon1 - lon0) / 360.0)
        squeeze = max(float(np.cos(np.radians(lat0))), 1e-6)
        dx, dy = (lon2 - lon1) * squeeze, lat2 - lat1
        length = dx * dx + dy * dy
        along = ((lon0 - lon1) * squeeze * dx + (lat0 - lat1) * dy) / length if length else 0.0
        along = min(max(along, 0.0), 1.0)
        nearest = (lat1 + along * (lat2 - lat1), lon1 + along * (lon2 - lon1))
        return bool(distance_m(*nearest, lat0, lon0) <= self.radius)


def _unrolled(ring: list[tuple[float, float]], near: float) -> list[tuple[float, float]]:
    """A ring whose longitudes run on without a jump at 180, beginning near a longitude."""
    found = []
    for lon, lat in ring:
        lon += 360.0 * round((near - lon) / 360.0)
        found.append((lon, lat))
        near = lon
    return found


def area_of(feature: Mapping[str, Any]) -> Area:
    """A fence out of a GeoJSON feature (RFC 7946); a circle is a Point with `radius_m`. Raises ValueError, KeyError."""
    geometry = feature["geometry"]
    match geometry["type"]:
        case "Point":
            lon, lat = (float(c) for c in geometry["coordinates"][:2])
            radius = float(feature["properties"]["radius_m"])
            if not radius > 0:
                raise ValueError("the radius of a circle is above 0 m")
            return Area.circle(lat, lon, radius)
        case "Polygon":
            return Area.polygons([geometry["coordinates"]])
        case "MultiPolygon":
            return Area.polygons(geometry["coordinates"])
    raise ValueError(f"found a {geometry['type']}, expected a Polygon, a MultiPolygon or a Point with `radius_m`")
