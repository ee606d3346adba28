"""From a camera's own colours to light, by the DNG specification's chapter 6 (mapping camera colour space to CIE XYZ).

Camera values are linear, 0 black to 1 full, (…, 3) red, green, blue. A *neutral* is what a camera says of white, its largest value 1.
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from ..light.primaries import XY, Matrix, adaptation, daylight, xy_to_xyz
from ..media.sensor import Sensor, Three

Array = NDArray[np.float64]
D50: XY = (0.3457, 0.3585)
KELVIN, TINT = (2000.0, 20_000.0), (-50.0, 50.0)  # of lights that can be said


def _mixed(sensor: Sensor, kelvin: float, of: str) -> Matrix | None:
    """A calibration's matrix at a light between the two, mixed by 1/T; the nearer one beyond them."""
    found = [(c.kelvin, getattr(c, of)) for c in sensor.lights]
    if not found or any(m is None for _, m in found):
        return None
    if len(found) == 1:
        return np.array(found[0][1])
    (warm, first), (cold, second) = found[0], found[-1]
    if warm == cold:
        return np.array(first)
    share = np.clip((1 / kelvin - 1 / cold) / (1 / warm - 1 / cold), 0.0, 1.0)
    return np.asarray(share * np.array(first) + (1 - share) * np.array(second))


def _own(sensor: Sensor, kelvin: float) -> Matrix:
    """What this body does to its kind's colours: AnalogBalance times CameraCalibration."""
    own = _mixed(sensor, kelvin, "own")
    return np.asarray(np.diag(sensor.analog) @ (np.eye(3) if own is None else own))


def to_camera(sensor: Sensor, kelvin: float) -> Matrix | None:
    """XYZ → camera (3, 3) under a light; None if the file has no matrix."""
    colour = _mixed(sensor, kelvin, "colour")
    return None if colour is None else _own(sensor, kelvin) @ colour


def neutral_of(sensor: Sensor, xy: XY) -> Three:
    """What the camera says of a white of that chromaticity, its largest value 1; (1, 1, 1) without a matrix."""
    matrix = to_camera(sensor, correlated(xy)[0])
    if matrix is None:
        return (1.0, 1.0, 1.0)
    seen = np.maximum(matrix @ xy_to_xyz(xy), 1e-4)
    r, g, b = (seen / seen.max()).tolist()
    return r, g, b


@lru_cache(maxsize=256)
def white_of(sensor: Sensor, neutral: Three) -> XY:
    """CIE xy of a neutral: found by turns, as the matrix depends on the light (the specification's own way). D50 without a matrix."""
    xy = D50
    for n in range(30):
        matrix = to_camera(sensor, correlated(xy)[0])
        if matrix is None:
            return D50
        x, y, z = np.linalg.solve(matrix, np.array(neutral))
        total = max(x + y + z, 1e-6)
        new = (float(np.clip(x / total, 0.15, 0.7)), float(np.clip(y / total, 0.15, 0.7)))
        if abs(new[0] - xy[0]) + abs(new[1] - xy[1]) < 1e-7:
            return new
        xy = new if n < 10 else ((xy[0] + new[0]) / 2, (xy[1] + new[1]) / 2)  # what swings is brought halfway
    return xy


@lru_cache(maxsize=1024)
def correlated(xy: XY) -> tuple[float, float]:
    """Kelvin and tint (0.001 Duv, greener is positive) of a chromaticity: what ``light.primaries.daylight`` is the way back from. Held to
    ``KELVIN`` and ``TINT``."""
    u, v = _uv(xy)
    mireds = np.linspace(1e6 / KELVIN[1], 1e6 / KELVIN[0], 46)
    for _ in range(4):  # ever finer about the nearest
        away = [float(np.hypot(*np.subtract(_uv(daylight(1e6 / m)), (u, v)))) for m in mireds]
        best, step = float(mireds[int(np.argmin(away))]), float(mireds[1] - mireds[0])
        mireds = np.clip(np.linspace(best - step, best + step, 21), 1e6 / KELVIN[1], 1e6 / KELVIN[0])
    kelvin = 1e6 / best
    on, green = np.array(_uv(daylight(kelvin))), np.array(_uv(daylight(kelvin, 10.0)))
    normal = (green - on) / np.hypot(*(green - on))
    tint = float(np.clip((np.array([u, v]) - on) @ normal * 1e3, *TINT))
    for _ in range(3):  # a light aside of the line lies not straight over its nearest place on it, but nearly
        off = np.subtract((u, v), _uv(daylight(kelvin, tint)))
        here, there = np.array(_uv(daylight(kelvin))), np.array(_uv(daylight(kelvin * 1.01)))
        along = (there - here) / max(float(np.hypot(*(there - here))), 1e-9)
        kelvin = float(np.clip(kelvin * (1 + 0.01 * (off @ along) / max(float(np.hypot(*(there - here))), 1e-9)), *KELVIN))
        tint = float(np.clip(tint + off @ normal * 1e3, *TINT))
    return kelvin, tint


def _uv(xy: XY) -> tuple[float, float]:
    x, y = xy
    below = -2 * x + 12 * y + 3
    return 4 * x / below, 6 * y / below


def to_xyz(sensor: Sensor, neutral: Three) -> Matrix:
    """Balanced camera values (each divided by the neutral's) → XYZ under D50, in which white is D50's (Y 1). Without a matrix the camera's
    own colours are taken as those of BT.709."""
    xy = white_of(sensor, neutral)
    kelvin = correlated(xy)[0]
    colour, forward = to_camera(sensor, kelvin), _mixed(sensor, kelvin, "forward")
    balance = np.diag(neutral)
    if colour is None:
        from ..light.names import primaries
        from ..light.primaries import rgb_to_xyz

        return np.asarray(adaptation((0.3127, 0.3290), D50, "bradford") @ rgb_to_xyz(primaries("bt709")))
    if forward is not None:
        own = np.linalg.inv(_own(sensor, kelvin))
        return np.asarray(forward @ np.diag(1 / (own @ np.array(neutral))) @ own @ balance)
    made = adaptation(xy, D50, "bradford") @ np.linalg.inv(colour) @ balance
    return np.asarray(made / (made @ np.ones(3))[1])  # so that white has Y 1, whatever the matrix's size is
