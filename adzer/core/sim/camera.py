"""Simulated cameras: the world through a lens, a sensor and a recorder, with every setting known.

A kind of camera is one file in ``cameras/`` that names a ``CAMERA``; nothing here knows which there are.
"""

from __future__ import annotations

import importlib
import json
import pkgutil
from collections.abc import Callable, Iterator
from dataclasses import asdict, dataclass, field, replace
from fractions import Fraction
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter

from .. import records
from ..errors import AdzerError
from ..light import names as colour_cards
from ..light.chain import shoulder
from ..light.primaries import rgb_to_rgb
from ..light.samples import Samples, cosited
from ..media import boxes
from ..media.boxes import SphereTags
from ..media.encode import VideoSpec, VideoTags, Writer
from ..media.formats import PixelFormat
from ..run.filters import simple_reduction
from ..run.reference import resample
from . import cameras as kinds
from . import sound, world

Array = NDArray[np.float64]
INSTANTS = 16  # moments at which light is gathered while a shutter is open
ROWS = 4  # that are read out at once


@dataclass(frozen=True)
class Recorder:
    """From light on the sensor to a file. ``exposure`` in stops; ``full_well`` electrons at radiance 1 (reflectance). Its noise as the camera
    leaves it: ``smooths``, standard deviation in pixels of the Gaussian that it is smoothed by; ``mixes``, how much of the frame before's it holds
    besides its own.
    """

    bits: int
    chroma: str
    curve: str
    primaries: str
    encoder: str
    options: dict[str, str]
    tags: VideoTags
    matrix: str = "bt709"
    limited: bool = True
    siting: str = "left"
    exposure: float = 0.0
    full_well: float = 30000.0
    read_noise: float = 3.0
    smooths: float = 0.0
    mixes: float = 0.0
    rolls_off: bool = False
    gop: int = 50

    @property
    def samples(self) -> Samples:
        return Samples(PixelFormat(self.bits, self.chroma), self.matrix, self.limited, self.siting)


@dataclass(frozen=True)
class Pose:
    """Metres; degrees: heading grows to the right, tilt upwards, roll clockwise as seen."""

    place: tuple[float, float, float] = (0.0, 0.0, 1.7)
    heading: float = 0.0
    tilt: float = 0.0
    roll: float = 0.0

    def rotation(self) -> Array:
        """Columns: the camera's right, forward and up in the world."""
        h, t, r = np.radians([self.heading, self.tilt, self.roll])
        turn = np.array([[np.cos(h), np.sin(h), 0], [-np.sin(h), np.cos(h), 0], [0, 0, 1.0]])
        lift = np.array([[1.0, 0, 0], [0, np.cos(t), -np.sin(t)], [0, np.sin(t), np.cos(t)]])
        lean = np.array([[np.cos(r), 0, np.sin(r)], [0, 1.0, 0], [-np.sin(r), 0, np.cos(r)]])
        result: Array = turn @ lift @ lean
        return result


@dataclass(frozen=True)
class Camera:
    """A flat lens, squeezed or not. Other projections subclass it and replace ``rays`` and ``project``."""

    name: str
    raster: tuple[int, int]
    rate: Fraction
    recorder: Recorder
    container: str
    field_of_view: float  # degrees across, as the desqueezed picture shows it
    squeeze: Fraction = Fraction(1)
    pose: Callable[[float], Pose] = field(default=lambda _: Pose())
    time_base: Fraction | None = None
    stamps: Callable[[int], list[int]] = field(default=lambda n: list(range(n)))
    timecode: str | None = None
    sound: bool = True
    sphere: SphereTags | None = None  # written into the file, if it is an MP4
    open: float = 0.0  # seconds that its shutter is open, half of them before a frame's moment; ``readout``: from its first row to its last, likewise
    readout: float = 0.0

    def sized(self, raster: tuple[int, int]) -> Camera:
        return replace(self, raster=raster)

    @property
    def base(self) -> Fraction:
        return self.time_base or 1 / self.rate

    def _plane(self) -> tuple[float, float]:
        """Half width and half height of the picture at distance 1."""
        half = float(np.tan(np.radians(self.field_of_view / 2)))
        return half, half * self.raster[1] / (self.raster[0] * float(self.squeeze))

    def rays(self, x: Array, y: Array, time: float) -> tuple[Array, Array]:
        """Origin (3,) and unit directions (n, 3) of recorded pixel positions (0 = the picture's edge)."""
        pose = self.pose(time)
        half_w, half_h = self._plane()
        u = (2 * x / self.raster[0] - 1) * half_w
        v = (1 - 2 * y / self.raster[1]) * half_h
        local = np.stack([u, np.ones_like(u), v], axis=-1)
        local /= np.linalg.norm(local, axis=-1, keepdims=True)
        return np.array(pose.place), local @ pose.rotation().T

    def project(self, points: Array, time: float) -> Array:
        """World points (n, 3) → recorded pixel positions (n, 2)."""
        pose = self.pose(time)
        local = (np.asarray(points) - np.array(pose.place)) @ pose.rotation()
        half_w, half_h = self._plane()
        x = (local[:, 0] / local[:, 1] / half_w + 1) / 2 * self.raster[0]
        y = (1 - local[:, 2] / local[:, 1] / half_h) / 2 * self.raster[1]
        return np.stack([x, y], axis=-1)

    def light(self, time: float, samples: int = 2) -> Array:
        """Radiance (height, width, 3) in BT.709 primaries, box-filtered over each pixel from samples² rays, and over the time that its shutter is
        open."""
        if not self.open:
            return self._seen(time, samples)
        moments = time + self.open * ((np.arange(INSTANTS) + 0.5) / INSTANTS - 0.5)
        return np.asarray(np.mean([self._seen(float(t), samples) for t in moments], axis=0))

    def _seen(self, moment: float, samples: int) -> Array:
        """At one moment, or row by row about it."""
        w, h = self.raster
        out = np.empty((h, w, 3))
        step = (np.arange(samples) + 0.5) / samples
        rows = max(1, 400_000 // (w * samples * samples))
        if self.readout:
            rows = min(rows, ROWS)
        for top in range(0, h, rows):
            n = min(rows, h - top)
            time = moment + self.readout * ((top + n / 2) / h - 0.5)
            ys = (top + np.arange(n)[:, None] + step).ravel()
            xs = (np.arange(w)[:, None] + step).ravel()
            x, y = np.meshgrid(xs, ys)
            origin, directions = self.rays(x.ravel(), y.ravel(), time)
            seen, _ = world.trace(origin, np.ascontiguousarray(directions), time)
            out[top : top + n] = seen.reshape(n, samples, w, samples, 3).mean(axis=(1, 3))
        return out


def record(camera: Camera, light: Array, frame: int, seed: int = 1) -> tuple[NDArray[np.int64], ...]:
    """Light → recorded code planes: exposure, photon and read noise, primaries, curve, matrix, chroma, quantisation."""
    r = camera.recorder
    rng = np.random.default_rng([seed, frame])
    electrons = np.maximum(light, 0) * 2.0**r.exposure * r.full_well
    noise = rng.standard_normal(light.shape)
    if r.mixes:
        noise += r.mixes * np.random.default_rng([seed, frame - 1] if frame else [seed, 0, 0]).standard_normal(light.shape)
    if r.smooths:
        noise = gaussian_filter(noise, (r.smooths, r.smooths, 0.0), mode="wrap")
    electrons = electrons + noise * np.sqrt(electrons + r.read_noise**2)
    scene = electrons / r.full_well
    source, target = colour_cards.primaries("bt709"), colour_cards.primaries(r.primaries)
    scene = scene @ rgb_to_rgb(source, target).T
    if r.rolls_off:
        scene = np.clip(shoulder(scene, 8.0), 0, 1)
    curve = colour_cards.curve(r.curve, r.bits, r.limited)
    signal = curve.encode(np.minimum(scene, curve.peak * 1.05))
    form = r.samples
    matrix = form.to_codes()
    codes = signal @ matrix[:, :3].T + matrix[:, 3]
    planes = []
    for i in range(3):
        w, h = form.format.plane_size(camera.raster, i)
        if i == 0:
            plane = codes[..., 0]
        else:
            sx, sy = form.format.sub
            columns = simple_reduction(w, sx, cosited(r.siting, False), camera.raster[0])
            rows = simple_reduction(h, sy, cosited(r.siting, True), camera.raster[1])
            plane = resample(codes[..., i], columns, rows)
        planes.append(np.clip(np.floor(plane + rng.random(plane.shape)), 0, form.top).astype(np.int64))
    return tuple(planes)


def frames(
    camera: Camera, count: int, samples: int = 2, seed: int = 1
) -> Iterator[tuple[int, tuple[NDArray[np.int64], ...]]]:
    """(stamp, planes) of each recorded frame."""
    for n, stamp in enumerate(camera.stamps(count)):
        yield stamp, record(camera, camera.light(float(stamp * camera.base), samples), n, seed)


def shoot(
    camera: Camera,
    count: int,
    out: Path,
    samples: int = 2,
    seed: int = 1,
    progress: Callable[[int], None] = lambda _: None,
) -> Path:
    """Writes ``count`` frames to ``out`` and the truth beside it as ``out.json``; returns the truth's path."""
    r = camera.recorder
    spec = VideoSpec(
        encoder=r.encoder, raster=camera.raster, bits=r.bits, chroma=r.chroma, rate=camera.rate, time_base=camera.base,
        tags=r.tags, gop=r.gop, options=r.options,
    )  # fmt: skip
    with Writer(out, spec, timecode=camera.timecode, faststart=True) as writer:
        voice = sound.Voice(writer.container, camera.container) if camera.sound else None
        for n, (stamp, planes) in enumerate(frames(camera, count, samples, seed)):
            frame, target = writer.blank()
            for i, plane in enumerate(planes):
                target[i][: plane.shape[0], : plane.shape[1]] = plane
            writer.write(frame, stamp)
            if voice:
                voice.write_until(float(stamp * camera.base + 1 / camera.rate), last=n == count - 1)
            progress(n + 1)
        if voice:
            voice.close()
    if camera.sphere is not None:
        boxes.put_into_mp4(out, camera.sphere)
    truth_path = out.with_name(out.name + ".json")
    truth_path.write_text(json.dumps(truth(camera, count), indent=1))
    return truth_path


def truth(camera: Camera, count: int) -> dict[str, object]:
    """Everything known about a recording, JSON-able: settings, patch places and reflectances, the wheel's outline."""
    r = camera.recorder
    stamps = camera.stamps(count)
    time = float(stamps[0] * camera.base)
    greys = [
        (world.BOARD_X[0] + (i + 0.5) * world.PATCH, world.BOARD_Y, world.BOARD_Z[0] + world.PATCH / 2)
        for i in range(len(world.GREYS))
    ]
    turn = np.linspace(0, 2 * np.pi, 64, endpoint=False)
    rim = np.stack(
        [
            world.WHEEL_X + world.WHEEL_R * np.cos(turn),
            np.full_like(turn, world.WHEEL_Y),
            world.WHEEL_Z + world.WHEEL_R * np.sin(turn),
        ],
        axis=-1,
    )
    recorder = {k: v for k, v in asdict(r).items() if k not in ("options", "tags")}
    return {
        "camera": camera.name,
        "raster": list(camera.raster),
        "rate": str(camera.rate),
        "frames": count,
        "stamps": stamps,
        "time_base": str(camera.base),
        "squeeze": float(camera.squeeze),
        "field_of_view": camera.field_of_view,
        **({"open": camera.open, "readout": camera.readout} if camera.open or camera.readout else {}),
        "timecode": camera.timecode,
        "recorder": recorder,
        "tags": records.to_plain(r.tags),
        "grey_patches": [
            {"reflectance": g, "place": p.tolist()}
            for g, p in zip(world.GREYS, camera.project(np.array(greys), time), strict=True)
        ],
        "patch_width": float(np.diff(camera.project(np.array(greys[:2]), time)[:, 0])[0]),
        "wheel_rim": camera.project(rim, time).tolist(),
        "poses": [asdict(camera.pose(float(s * camera.base))) for s in stamps],
    }


def known() -> list[str]:
    """Names of the cameras that there are."""
    return sorted(m.name.replace("_", "-") for m in pkgutil.iter_modules(kinds.__path__))


def load(name: str) -> Camera:
    """The camera of that name. AdzerError lists the names there are."""
    if name not in known():
        raise AdzerError(f"There is no camera {name!r}. There are: {', '.join(known())}.")
    module = importlib.import_module(f"{kinds.__name__}.{name.replace('-', '_')}")
    camera: Camera = module.CAMERA
    return camera
