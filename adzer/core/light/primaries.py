"""Primaries, white points, chromatic adaptation and the Y′CbCr matrices: all 3×3 matrices, float64."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

Matrix = NDArray[np.float64]
XY = tuple[float, float]

D65: XY = (0.3127, 0.3290)


@dataclass(frozen=True)
class Primaries:
    """CIE 1931 xy of red, green, blue and white."""

    name: str
    red: XY
    green: XY
    blue: XY
    white: XY


def xy_to_xyz(xy: XY) -> Matrix:
    """XYZ with Y = 1.

    >>> xy_to_xyz(D65).round(4).tolist()
    [0.9505, 1.0, 1.0891]
    """
    x, y = xy
    return np.array([x / y, 1.0, (1 - x - y) / y])


def rgb_to_xyz(p: Primaries) -> Matrix:
    """Normalised primary matrix (SMPTE RP 177, clause 3.3): white (1,1,1) has Y = 1.

    >>> bt709 = Primaries("BT.709", (0.64, 0.33), (0.30, 0.60), (0.15, 0.06), D65)
    >>> rgb_to_xyz(bt709)[1].round(4).tolist()
    [0.2126, 0.7152, 0.0722]
    """
    columns: Matrix = np.stack([xy_to_xyz(c) for c in (p.red, p.green, p.blue)], axis=1)
    result: Matrix = columns * np.linalg.solve(columns, xy_to_xyz(p.white))
    return result


CONES = {
    # CIE 159:2004 (CAT02); Bradford as in ICC.1:2010, annex E.
    "cat02": np.array([[0.7328, 0.4296, -0.1624], [-0.7036, 1.6975, 0.0061], [0.0030, 0.0136, 0.9834]]),
    "bradford": np.array([[0.8951, 0.2664, -0.1614], [-0.7502, 1.7135, 0.0367], [0.0389, -0.0685, 1.0296]]),
}


def adaptation(source: XY, target: XY, method: str = "cat02") -> Matrix:
    """XYZ → XYZ so that a white at ``source`` becomes a white at ``target`` (von Kries in cone space).

    >>> (adaptation(D65, (1 / 3, 1 / 3)) @ xy_to_xyz(D65)).round(6).tolist()
    [1.0, 1.0, 1.0]
    """
    cones = CONES[method]
    gain = (cones @ xy_to_xyz(target)) / (cones @ xy_to_xyz(source))
    result: Matrix = np.linalg.solve(cones, gain[:, None] * cones)
    return result


def rgb_to_rgb(source: Primaries, target: Primaries, method: str = "cat02", balance: Matrix | None = None) -> Matrix:
    """Linear RGB of ``source`` to linear RGB of ``target``; ``balance`` (XYZ → XYZ) acts between, before the white."""
    to_xyz = rgb_to_xyz(source)
    if balance is not None:
        to_xyz = balance @ to_xyz
    if source.white != target.white:
        to_xyz = adaptation(source.white, target.white, method) @ to_xyz
    result: Matrix = np.linalg.solve(rgb_to_xyz(target), to_xyz).astype(np.float64)
    return result


def daylight(kelvin: float, tint: float = 0.0) -> XY:
    """xy of a light: CIE daylight locus at 4000 K and above (CIE 15:2018, 4.1.2), Planckian below, blended 3500–4000.

    ``tint`` moves it along the line of equal temperature, in units of 0.001 Duv (CIE 1960); positive is greener light.
    Valid 1700–25 000 K and ±50.

    >>> [round(v, 3) for v in daylight(6504)]
    [0.313, 0.329]
    """
    t = min(max(kelvin, 1700.0), 25000.0)
    if t <= 7000:
        dx = -4.6070e9 / t**3 + 2.9678e6 / t**2 + 0.09911e3 / t + 0.244063
    else:
        dx = -2.0064e9 / t**3 + 1.9018e6 / t**2 + 0.24748e3 / t + 0.237040
    day = _to_uv((dx, -3.000 * dx * dx + 2.870 * dx - 0.275))
    glow = _planck_uv(t)
    share = min(max((t - 3500.0) / 500.0, 0.0), 1.0)
    u, v = (1 - share) * glow[0] + share * day[0], (1 - share) * glow[1] + share * day[1]
    if tint:
        a, b = _planck_uv(t * 0.999), _planck_uv(t * 1.001)
        tangent = np.array([b[0] - a[0], b[1] - a[1]])
        normal = np.array([tangent[1], -tangent[0]]) / np.hypot(*tangent)
        normal = normal if normal[1] > 0 else -normal
        u, v = u + normal[0] * tint * 1e-3, v + normal[1] * tint * 1e-3
    return 3 * u / (2 * u - 8 * v + 4), 2 * v / (2 * u - 8 * v + 4)


def _to_uv(xy: XY) -> XY:
    x, y = xy
    return 4 * x / (-2 * x + 12 * y + 3), 6 * y / (-2 * x + 12 * y + 3)


def _planck_uv(t: float) -> XY:
    """Krystek's rational approximation of the Planckian locus in CIE 1960 uv, 1000–15 000 K (Color Res. Appl. 10, 1985)."""
    u = (0.860117757 + 1.54118254e-4 * t + 1.28641212e-7 * t * t) / (1 + 8.42420235e-4 * t + 7.08145163e-7 * t * t)
    v = (0.317398726 + 4.22806245e-5 * t + 4.20481691e-8 * t * t) / (1 - 2.89741816e-5 * t + 1.61456053e-7 * t * t)
    return u, v


# --- Y′CbCr -------------------------------------------------------------------------------------------------------
LUMA = {
    "bt709": (0.2126, 0.0722),  # BT.709-6, item 3.2
    "bt2020": (0.2627, 0.0593),  # BT.2020-2, table 4
    "bt601": (0.299, 0.114),  # BT.601-7, 2.5.1
}


@lru_cache(maxsize=32)
def _to_ycbcr(matrix: str) -> tuple[tuple[float, ...], ...]:
    kr, kb = LUMA[matrix]
    kg = 1 - kr - kb
    y = np.array([kr, kg, kb])
    rows = np.stack([y, (np.array([0, 0, 1.0]) - y) / (2 * (1 - kb)), (np.array([1.0, 0, 0]) - y) / (2 * (1 - kr))])
    return tuple(map(tuple, rows.tolist()))


def rgb_to_ycbcr(matrix: str) -> Matrix:
    """R′G′B′ (0–1) → Y′ (0–1), Cb, Cr (±0.5); ``rgb`` is the identity.

    >>> rgb_to_ycbcr("bt709")[0].round(4).tolist()
    [0.2126, 0.7152, 0.0722]
    """
    return np.eye(3) if matrix == "rgb" else np.array(_to_ycbcr(matrix))


def code_scale(bits: int, limited: bool, matrix: str) -> tuple[Matrix, Matrix]:
    """Scale and offset per plane so that ``code = scale·value + offset`` (BT.709-6, item 3.4; H.273, 8.3).

    Values: Y′ and R′G′B′ 0–1, Cb and Cr ±0.5. Full-range chroma is centred on 2ⁿ⁻¹.

    >>> code_scale(10, True, "bt709")[1].tolist()
    [64.0, 512.0, 512.0]
    """
    top = float(2**bits - 1)
    unit = float(2 ** (bits - 8))
    if matrix == "rgb":
        pair = (219 * unit, 16 * unit) if limited else (top, 0.0)
        return np.full(3, pair[0]), np.full(3, pair[1])
    if limited:
        return np.array([219.0, 224.0, 224.0]) * unit, np.array([16.0, 128.0, 128.0]) * unit
    return np.full(3, top), np.array([0.0, 128.0 * unit, 128.0 * unit])
