"""A camera's primaries from patches of known colour: the 3×3 from its own light to XYZ, grey staying grey."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ..errors import AdzerError, UnreadableError
from ..light.primaries import D65, XY, xy_to_xyz
from ..media import small

Array = NDArray[np.float64]
COLUMNS = ("x", "y", "width", "height", "X", "Y", "Z")
FEWEST = 6
GREYEST = 0.04  # how far red and blue may lie from green, as a share, on a patch that is to be neutral
EVENLY = 0.02  # what a patch's brightness counts beside its colour
FLATTEST = 0.02  # how much of the patches' variety must lie in the second direction of colour


@dataclass(frozen=True)
class Patch:
    """A patch of the board: its rectangle in recorded pixels, and its XYZ, a perfect white having Y = 1."""

    place: tuple[int, int, int, int]
    xyz: tuple[float, float, float]


@dataclass(frozen=True)
class Gamut:
    """CIE 1931 xy of the camera's red, green and blue; ``error``: rms of what each patch is off when it is left out of the fit,
    as a share of its Y; ``worst``: the number of the patch that fits worst, from 1."""

    red: XY
    green: XY
    blue: XY
    white: XY
    error: float
    worst: int


def read(path: Path) -> list[Patch]:
    """The patches of a CSV file with the columns x, y, width, height, X, Y, Z; UnreadableError names the line."""
    try:
        rows = list(csv.DictReader(io.StringIO(small.text(path, 1_000_000, "a list of patches"), newline="")))
    except csv.Error as error:
        raise UnreadableError(f"{path} cannot be read as patches ({error}).") from None
    made = []
    for line, row in enumerate(rows, 2):
        try:
            values = [float(row[c]) for c in COLUMNS]
        except (KeyError, TypeError, ValueError):
            values = []
        if not values or not np.isfinite(values).all() or min(values[2:4]) < 4 or values[5] <= 0:
            raise UnreadableError(
                f"{path}, line {line}: a patch has {', '.join(COLUMNS)}: a rectangle of at least 4×4 recorded pixels, and its XYZ."
            )
        x, y, w, h = (int(v) for v in values[:4])
        made.append(Patch((x, y, w, h), (values[4], values[5], values[6])))
    if len(made) < FEWEST:
        raise UnreadableError(f"{path} has {len(made)} patches; at least {FEWEST} are needed, of different colours.")
    if max(p.xyz[1] for p in made) > 2:  # written in percent
        made = [Patch(p.place, (p.xyz[0] / 100, p.xyz[1] / 100, p.xyz[2] / 100)) for p in made]
    return made


def fit(light: Array, xyz: Array, white: XY = D65) -> Gamut:
    """Primaries that turn ``light`` (n, 3), a camera's own, into ``xyz`` (n, 3) under ``white``, by least squares of each patch's
    share. AdzerError if the patches do not tell the three apart."""
    # Only what is not grey tells primaries apart: it must go both ways from grey, not along one line.
    shares = light / np.maximum(light.sum(axis=1, keepdims=True), 1e-9)
    spread = np.linalg.svd(shares - shares.mean(axis=0), compute_uv=False)
    if spread[1] / np.sqrt(len(light)) < FLATTEST:
        raise AdzerError("The patches are too much of one colour. Take a board with reds, greens and blues on it.")
    matrix = _evenly(light, xyz, white)
    off = []
    for n in range(len(light)):
        rest = np.arange(len(light)) != n
        off.append(_rest(_evenly(light[rest], xyz[rest], white), light[n], xyz[n]))
    red, green, blue = ((float(c[0] / c.sum()), float(c[1] / c.sum())) for c in matrix.T)
    return Gamut(red, green, blue, white, float(np.sqrt(np.mean(np.square(off)))), int(np.argmax(off)) + 1)


def _evenly(light: Array, xyz: Array, white: XY) -> Array:
    """The matrix by the patches' X/Y and Z/Y; their brightness counts little, as a board is never lit evenly."""
    from scipy.optimize import least_squares

    first, w = _matrix(light, xyz, white), xy_to_xyz(white)
    wanted = xyz / xyz[:, 1:2]

    def matrix(numbers: Array) -> Array:
        red, green = numbers.reshape(2, 3)
        return np.stack([red, green, w - red - green], axis=1)

    def off(numbers: Array) -> Array:
        got = light @ matrix(numbers).T
        lit = np.maximum(got[:, 1], 1e-4)
        ratio = np.log(lit / xyz[:, 1])
        return np.concatenate([(got[:, ::2] / lit[:, None] - wanted[:, ::2]).ravel(), EVENLY * (ratio - ratio.mean())])

    return matrix(least_squares(off, first[:, :2].T.ravel(), x_scale="jac").x)


def _matrix(light: Array, xyz: Array, white: XY) -> Array:
    """3×3 with M·(1, 1, 1) = white; six numbers and the brightness between board and camera are solved for."""
    w = xy_to_xyz(white)
    r, g, b = (light[:, n] for n in range(3))
    weight = 1 / xyz[:, 1]
    rows, wanted = [], []
    for c in range(3):
        row = np.zeros((len(light), 7))
        row[:, c], row[:, 3 + c], row[:, 6] = r - b, g - b, -xyz[:, c]
        rows.append(row * weight[:, None])
        wanted.append(-w[c] * b * weight)
    found = np.linalg.lstsq(np.concatenate(rows), np.concatenate(wanted), rcond=None)[0]
    red, green = found[:3], found[3:6]
    return np.stack([red, green, w - red - green], axis=1)


def _rest(matrix: Array, light: Array, xyz: Array) -> float:
    """How far a patch lies off, as a share of its Y, its brightness made the same."""
    got = matrix @ light
    return float(np.abs(got / got[1] - xyz / xyz[1]).max())


def text(made: Gamut, title: str, of: Sequence[Patch]) -> str:
    """The card as TOML."""
    quoted = title.replace("\\", "").replace('"', "'")
    pairs = "\n".join(f"{n} = [{v[0]:.5f}, {v[1]:.5f}]" for n, v in
                      (("red", made.red), ("green", made.green), ("blue", made.blue), ("white", made.white)))  # fmt: skip
    return f'title = "{quoted}"\n{pairs}\nnote = "Measured from {len(of)} patches, each {made.error:.1%} off when it is left out."\n'
