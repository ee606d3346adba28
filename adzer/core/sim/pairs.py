"""Two simulated cameras that record one moment: two round lenses back to back, or two eyes, held and exposed as if by hand."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path

import numpy as np

from . import camera as cameras
from .camera import Camera, Pose
from .cameras import eyes as eye_cameras
from .cameras import lens_pair


@dataclass(frozen=True)
class Held:
    """How the second stands against the first. ``apart``: metres between them; degrees of ``heading``, ``tilt`` and ``roll``; per cent
    ``larger`` pictures; brighter by ``stops``; it begins ``late`` seconds later. Of lenses: ``falls`` of both and ``veil`` of the second, as of
    ``optics.RoundLens``."""

    apart: float = 0.0
    heading: float = 0.0
    tilt: float = 0.0
    roll: float = 0.0
    larger: float = 0.0
    stops: float = 0.0
    late: float = 0.0
    falls: float = 0.0
    veil: float = 0.0


def _placed(pose: Callable[[float], Pose], aside: tuple[float, float], held: Held, share: float, late: float, time: float) -> Pose:
    """A pose moved by ``aside`` (right, ahead; metres) and turned by a ``share`` of how the second stands."""
    at = pose(time + late)
    place = np.array(at.place) + at.rotation()[:, :2] @ np.array(aside)
    return replace(
        at, place=tuple(place.tolist()), heading=at.heading + share * held.heading, tilt=at.tilt + share * held.tilt, roll=at.roll + share * held.roll
    )


def _made(camera: Camera, aside: tuple[float, float], held: Held, share: float, second: bool) -> Camera:
    pose = partial(_placed, camera.pose, aside, held, share, held.late if second else 0.0)
    recorder = replace(camera.recorder, exposure=camera.recorder.exposure + (held.stops if second else 0.0))
    return replace(camera, pose=pose, recorder=recorder, sound=False, timecode=None)


def lenses(held: Held, side: int | None = None) -> tuple[Camera, Camera]:
    """Front and rear; ``apart`` is how far the rear one stands behind. ``side``: pixels of each picture."""
    first: Camera = lens_pair.CAMERA
    second: Camera = lens_pair.REAR
    if side is not None:
        first, second = first.sized((side, side)), second.sized((side, side))
    if held.falls or held.veil:
        first, second = replace(first, falls=held.falls), replace(second, falls=held.falls, veil=held.veil)  # type: ignore[call-arg]
    return _made(first, (0.0, 0.0), held, 0.0, False), _made(second, (0.0, -held.apart), held, 1.0, True)


def eyes(held: Held, raster: tuple[int, int] | None = None) -> tuple[Camera, Camera]:
    """Left and right, half of everything done to each."""
    made = []
    for share, second in ((-0.5, False), (0.5, True)):
        lens = eye_cameras.LENS if raster is None else eye_cameras.LENS.sized(raster)
        half = float(np.tan(np.radians(lens.field_of_view / 2))) / (1 + share * held.larger / 100)
        lens = replace(lens, field_of_view=2 * float(np.degrees(np.arctan(half))))
        made.append(_made(lens, (share * held.apart, 0.0), held, share, second))
    return made[0], made[1]


def shoot(pair: tuple[Camera, Camera], frames: int, files: tuple[Path, Path], samples: int = 2) -> tuple[Path, Path]:
    """Both to files, the truth of each beside it; noise differs."""
    for n, (camera, file) in enumerate(zip(pair, files, strict=True)):
        cameras.shoot(camera, frames, file, samples, seed=1 + n)
    return files
