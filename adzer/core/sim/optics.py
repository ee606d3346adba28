"""Cameras that are not one flat lens: whole and half spheres, round lenses, and pairs of eyes packed in one picture."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

import numpy as np

from .camera import Array, Camera


@dataclass(frozen=True)
class Sphere(Camera):
    """An equirectangular recorder: ``field_of_view`` degrees of heading across (360 or 180), 180 of tilt down.

    ``aside``: metres by which an eye stands to the right of each ray's own direction, so that all headings have depth.
    """

    aside: float = 0.0

    def rays(self, x: Array, y: Array, time: float) -> tuple[Array, Array]:
        pose = self.pose(time)
        heading = np.radians((x / self.raster[0] - 0.5) * self.field_of_view)
        tilt = np.radians((0.5 - y / self.raster[1]) * 180)
        local = np.stack([np.sin(heading) * np.cos(tilt), np.cos(heading) * np.cos(tilt), np.sin(tilt)], axis=-1)
        place = np.array(pose.place)
        if self.aside:
            right = np.stack([np.cos(heading), -np.sin(heading), np.zeros_like(heading)], axis=-1)
            return place + self.aside * right @ pose.rotation().T, local @ pose.rotation().T
        return place, local @ pose.rotation().T

    def project(self, points: Array, time: float) -> Array:
        pose = self.pose(time)
        local = (np.asarray(points) - np.array(pose.place)) @ pose.rotation()
        local /= np.linalg.norm(local, axis=-1, keepdims=True)
        heading = np.degrees(np.arctan2(local[:, 0], local[:, 1]))
        tilt = np.degrees(np.arcsin(np.clip(local[:, 2], -1, 1)))
        x = (heading / self.field_of_view + 0.5) * self.raster[0]
        return np.stack([x, (0.5 - tilt / 180) * self.raster[1]], axis=-1)


@dataclass(frozen=True)
class Disc:
    """One round lens in the picture: centre and radius as shares of the picture's height, and where it faces."""

    x: float = 0.5
    y: float = 0.5
    radius: float = 0.48
    facing: float = 0.0


@dataclass(frozen=True)
class RoundLens(Camera):
    """Equidistant lenses (radius grows with the angle from the axis), each a disc of ``field_of_view`` degrees across.

    falls    share of the light that is lost at the rim, as the fourth power of the radius; ``veil``: light that strays over all of it
    """

    discs: tuple[Disc, ...] = field(default=(Disc(),))
    falls: float = 0.0
    veil: float = 0.0

    def _local(self, x: Array, y: Array) -> tuple[Array, Array]:
        """Directions before the pose, and which of them some lens sees."""
        h = self.raster[1]
        out, lit = np.zeros((len(x), 3)), np.zeros(len(x), bool)
        out[:, 1] = 1
        for disc in self.discs:
            u, v = (x / h - disc.x) / disc.radius, (disc.y - y / h) / disc.radius
            r = np.hypot(u, v)
            inside = r < 1
            angle = np.radians(r * self.field_of_view / 2)
            k = np.where(r > 1e-9, np.sin(angle) / np.maximum(r, 1e-9), 0)
            turn = np.radians(disc.facing)
            side, ahead = u * k, np.cos(angle)
            ray = np.stack(
                [side * np.cos(turn) + ahead * np.sin(turn), ahead * np.cos(turn) - side * np.sin(turn), v * k], axis=-1
            )
            out[inside] = ray[inside]
            lit |= inside
        return out, lit

    def rays(self, x: Array, y: Array, time: float) -> tuple[Array, Array]:
        pose = self.pose(time)
        return np.array(pose.place), self._local(x, y)[0] @ pose.rotation().T

    def project(self, points: Array, time: float) -> Array:
        """World points (n, 3) → the place in the lens that sees each nearest to its axis."""
        pose, h = self.pose(time), self.raster[1]
        local = (np.asarray(points) - np.array(pose.place)) @ pose.rotation()
        local /= np.linalg.norm(local, axis=-1, keepdims=True)
        best, out = np.full(len(local), np.inf), np.zeros((len(local), 2))
        for disc in self.discs:
            turn = np.radians(disc.facing)
            side = local[:, 0] * np.cos(turn) - local[:, 1] * np.sin(turn)
            ahead = local[:, 0] * np.sin(turn) + local[:, 1] * np.cos(turn)
            angle = np.arccos(np.clip(ahead, -1, 1))
            r = (
                angle
                / np.radians(self.field_of_view / 2)
                * disc.radius
                / np.maximum(np.hypot(side, local[:, 2]), 1e-12)
            )
            place = np.stack([disc.x + side * r, disc.y - local[:, 2] * r], axis=-1) * h
            nearer = angle < best
            out[nearer], best[nearer] = place[nearer], angle[nearer]
        return out

    def light(self, time: float, samples: int = 2) -> Array:
        w, h = self.raster
        x, y = np.meshgrid(np.arange(w) + 0.5, np.arange(h) + 0.5)
        lit = self._local(x.ravel(), y.ravel())[1].reshape(h, w)
        r = np.min([np.hypot(x / h - d.x, y / h - d.y) / d.radius for d in self.discs], axis=0)
        left = 1 - self.falls * np.clip(r, 0, 1) ** 4
        return np.asarray((super().light(time, samples) * left[..., None] + self.veil) * lit[..., None])


@dataclass(frozen=True)
class Eyes(Camera):
    """Two eyes ``spacing`` metres apart, packed into one picture. ``lens`` sees for each, at its own full raster."""

    lens: Camera | None = None
    spacing: float = 0.065
    packing: str = "side by side"
    half: bool = False
    first: str = "left"

    def eye(self, which: str, raster: tuple[int, int] | None = None) -> Camera:
        """The camera of one eye, moved sideways."""
        assert self.lens is not None
        lens, side = self.lens, -0.5 if which == "left" else 0.5
        pose = lens.pose
        if isinstance(lens, Sphere) and lens.field_of_view > 180:
            return replace(lens, aside=side * self.spacing, raster=raster or lens.raster)

        def moved(time: float):  # type: ignore[no-untyped-def]
            at = pose(time)
            place = np.array(at.place) + at.rotation()[:, 0] * side * self.spacing
            return replace(at, place=tuple(place.tolist()))

        return replace(lens, pose=moved, raster=raster or lens.raster)

    def _sizes(self) -> tuple[tuple[int, int], str]:
        """One eye's raster in the picture, and which eye is second."""
        w, h = self.raster
        size = (w // 2, h) if self.packing == "side by side" else (w, h // 2)
        return size, "right" if self.first == "left" else "left"

    def rays(self, x: Array, y: Array, time: float) -> tuple[Array, Array]:
        (w, h), second = self._sizes()
        later = x >= w if self.packing == "side by side" else y >= h
        origins, rays = np.empty((len(x), 3)), np.empty((len(x), 3))
        for which, mine in ((self.first, ~later), (second, later)):
            origin, ray = self.eye(which, (w, h)).rays(x[mine] % w, y[mine] % h, time)
            origins[mine], rays[mine] = origin, ray
        return origins, rays

    def project(self, points: Array, time: float) -> Array:
        """World points (n, 3) → places in the first eye's half."""
        return self.eye(self.first, self._sizes()[0]).project(points, time)

    def light(self, time: float, samples: int = 2) -> Array:
        size, second = self._sizes()
        both = [self.eye(which, size).light(time, samples) for which in (self.first, second)]
        return np.concatenate(both, axis=1 if self.packing == "side by side" else 0)


def eyes(name: str, lens: Camera, packing: str = "side by side", half: bool = False, first: str = "left",
         spacing: float = 0.065) -> Eyes:  # fmt: skip
    """A packed pair that records as ``lens`` does. Half packing squeezes each eye into half of its raster."""
    w, h = lens.raster
    beside = packing == "side by side"
    full = (2 * w, h) if beside else (w, 2 * h)
    aspect = lens.squeeze if not half else lens.squeeze * (2 if beside else 1) / (1 if beside else 2)
    inner = replace(lens, squeeze=aspect) if type(lens) is Camera else lens
    return Eyes(
        name=name, raster=(w, h) if half else full, rate=lens.rate, recorder=lens.recorder, container=lens.container,
        field_of_view=lens.field_of_view, pose=lens.pose, timecode=lens.timecode, sound=lens.sound, lens=inner,
        spacing=spacing, packing=packing, half=half, first=first,
    )  # fmt: skip
