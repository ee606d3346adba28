"""What the overlap of two round lenses says: how the second stands against the first, and how much brighter it records.

The band in which both see is unrolled from each, as if they stood exactly back to back. Pieces of one are found in the other by
their likeness; a rotation explains where they lie, but for what nearness moves along the lenses' axis, the same way all round.
"""

from __future__ import annotations

from collections.abc import Sequence

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..errors import AdzerError
from ..light.curves import Curve
from ..light.samples import Samples
from ..media.formats import Plane
from ..space.sphere import Array, Round, angles, turning

PIECE, EVERY = 20.0, 7.5  # degrees of the band's way round that a piece is long, and from piece to piece
RIM = 1.5  # degrees at the rim that are left out
ALIKE = 0.75  # correlation from which a piece counts as found
LEAST = 8  # pieces


class Matched(msgspec.Struct, frozen=True):
    """``turn`` and ``gain`` as of ``JoinSettings``; ``error``: of the turn, degrees (95 %); ``pieces`` found of ``looked``; ``near``:
    degrees by which nearness, or another field of view than said, moves things along the axis; ``left``: rms of what nothing explains."""

    turn: tuple[float, float, float]
    gain: tuple[float, float, float]
    error: float
    pieces: int
    looked: int
    near: float
    left: float

    @property
    def saw(self) -> str:
        return (
            f"{self.pieces} of {self.looked} pieces of the overlap were found in the other lens; {self.left:.2f}° of what they say is "
            f"left, and {self.near:+.2f}° along the axis is nearness, or another field of view."
        ).replace("-", "−")


def answers(found: Matched) -> dict[str, object]:
    """As ``JoinSettings`` takes them."""
    return {"turn": list(found.turn), "gain": list(found.gain), "error": found.error}


def match(frames: Sequence[tuple[Plane, ...]], samples: Samples, lens: Round, corner: tuple[int, int], curve: Curve | None) -> Matched:
    """Planes of a few recorded frames, upright and without padding; ``corner``: of the region that ``lens`` speaks of.

    AdzerError, with what would help, if the lenses hardly overlap or the overlap shows too little.
    """
    if len(lens.lenses) != 2:
        raise AdzerError("Two round lenses are needed to be matched; this recording shows one.")
    half = min(v.across for v in lens.lenses) / 2 - 90 - RIM
    if half < 2:
        raise AdzerError(
            f"Lenses that see {min(v.across for v in lens.lenses):.0f}° each hardly overlap. If they see more, say so first: it is asked on Shape."
        )
    step = float(np.clip(np.degrees(1 / lens.density), 0.08, 0.5))
    round_, high = np.arange(0, 360, step), np.arange(-half, half + 1e-9, step)
    band = _band(lens, round_, high)
    turn = np.eye(3)
    for _ in range(2):  # once more from where it was found to stand: pieces that hardly lie apart are found best
        found = []
        for planes in frames:
            one, other = (_luma(_seen(planes, samples, lens, n, corner, band @ t.T)) for n, t in enumerate((np.eye(3), turn)))
            found += _pieces(one, other, step, half)
        places = np.array([f for f in found if f is not None])  # degrees round and high: in the first, in the second
        if len(places) < LEAST:
            raise AdzerError(
                f"Where both lenses see there is too little to match them by: {len(places)} of {len(found)} pieces were found again. Take "
                "a shot with more to see at its sides."
            )
        here, there = (_direction(lens, places[:, i], places[:, i + 1]) for i in (0, 2))
        more, near, error, left = _turned(here, there, lens.lenses[0].axes[:, 1])
        turn = turn @ more
    ratios = [_ratios(planes, samples, lens, corner, band, turn, curve) for planes in frames]
    gain = np.median(np.concatenate(ratios), axis=0)
    error *= 1.5 * float(np.sqrt(PIECE / EVERY * len(frames)))  # measured; pieces lie over each other, and frames show much the same
    heading, tilt, roll = (round(float(v), 3) for v in angles(turn))
    red, green, blue = (round(float(v), 4) for v in gain)
    return Matched(
        (heading, tilt, roll), (red, green, blue), round(error, 3), len(places), len(found), round(near, 3), round(left, 3)
    )


def _direction(lens: Round, turned: Array, high: Array) -> Array:
    """Of degrees round the first lens's axis, and up from the plane that is square to it towards that lens."""
    right, ahead, up = lens.lenses[0].axes.T
    t, h = np.radians(turned)[..., None], np.radians(high)[..., None]
    return np.asarray(np.cos(h) * (np.cos(t) * up + np.sin(t) * right) + np.sin(h) * ahead)


def _band(lens: Round, round_: Array, high: Array) -> Array:
    """(rows, columns, 3) directions of the overlap."""
    turned, up = np.meshgrid(round_, high)
    return _direction(lens, turned, up)


def _seen(planes: tuple[Plane, ...], samples: Samples, lens: Round, which: int, corner: tuple[int, int], d: Array) -> Array:
    """R′G′B′ signal (…, 3) that one of the lenses recorded of directions."""
    from scipy.ndimage import map_coordinates

    place = Round(lens.size, (lens.lenses[which],)).place(d) + np.array(corner, dtype=np.float64)
    made = []
    for c in range(3):
        plane = planes[min(c, len(planes) - 1)]
        sx, sy = samples.format.sub if c and len(planes) > 1 else (1, 1)
        at = [place[..., 1] / sy - 0.5, place[..., 0] / sx - 0.5]
        made.append(map_coordinates(plane.astype(np.float32), at, order=1, mode="nearest"))
    matrix = samples.to_signal()
    return np.asarray(np.stack(made, axis=-1) @ matrix[:, :3].T + matrix[:, 3])


def _luma(rgb: Array) -> Array:
    return np.asarray(rgb @ np.array([0.2126, 0.7152, 0.0722]))


def _pieces(one: Array, other: Array, step: float, half: float) -> list[tuple[float, float, float, float] | None]:
    """Where pieces of the first band lie in the second: (round, high) of both, degrees; None where it is not sure."""
    search = min(5.0, half / 2)
    rows, long, reach = one.shape[0], round(PIECE / step), round(search / step)
    most = one.shape[1]
    found: list[tuple[float, float, float, float] | None] = []
    for start in np.arange(0, 360 - 1e-9, EVERY):
        first = round(start / step)
        columns = np.arange(first, first + long) % most
        piece = one[reach : rows - reach][:, columns]
        wide = other[:, np.arange(first - reach, first + long + reach) % most]
        at = _found(piece, wide)
        middle = start + long * step / 2 - step / 2
        found.append(None if at is None else (middle, 0.0, middle + (at[1] - reach) * step, (at[0] - reach) * step))
    return found


def _found(piece: Array, wide: Array) -> tuple[float, float] | None:
    """(row, column), to a fraction, at which a piece lies in a wider picture, by normalised correlation; None: nowhere surely."""
    from scipy.signal import fftconvolve

    if float(piece.std()) < 0.01:
        return None
    t = piece - piece.mean()
    ones = np.ones_like(piece)
    total, square = (fftconvolve(v, ones, mode="valid") for v in (wide, wide * wide))
    spread = np.sqrt(np.maximum(square - total**2 / t.size, 1e-9))
    score = fftconvolve(wide, t[::-1, ::-1], mode="valid") / (spread * np.linalg.norm(t))
    r, c = (int(v) for v in np.unravel_index(int(np.argmax(score)), score.shape))
    if score[r, c] < ALIKE or not (0 < r < score.shape[0] - 1 and 0 < c < score.shape[1] - 1):
        return None

    def between_(a: float, b: float, d: float) -> float:
        bend = a - 2 * b + d
        return float(np.clip(0.5 * (a - d) / bend, -0.5, 0.5)) if bend < 0 else 0.0

    return r + between_(score[r - 1, c], score[r, c], score[r + 1, c]), c + between_(score[r, c - 1], score[r, c], score[r, c + 1])


def _turned(here: Array, there: Array, axis: Array) -> tuple[Array, float, float, float]:
    """(matrix, nearness, error, rest): the rotation, with a move along ``axis``, that takes directions to others; robust."""
    from scipy.optimize import least_squares

    def off(v: Array) -> Array:
        moved = here @ turning(v[:3]).T + v[3] * axis
        return np.asarray((moved / np.linalg.norm(moved, axis=1, keepdims=True) - there).ravel())

    made = least_squares(off, np.zeros(4), loss="soft_l1", f_scale=np.radians(0.15))
    rest = off(made.x).reshape(-1, 3)
    length = np.linalg.norm(rest, axis=1)
    good = length < 4 * max(float(np.median(length)), np.radians(0.02))
    spread = float(np.sqrt((rest[good] ** 2).sum() / max(2 * good.sum() - 4, 1)))  # of one coordinate across the line of sight
    known = np.linalg.pinv(made.jac.reshape(len(here), 3, 4)[good].reshape(-1, 4).T @ made.jac.reshape(len(here), 3, 4)[good].reshape(-1, 4))
    error = 2 * spread * float(np.sqrt(np.trace(known[:3, :3])))
    return turning(made.x[:3]), float(np.degrees(made.x[3])), float(np.degrees(error)), float(np.degrees(np.sqrt((length[good] ** 2).mean())))


def _ratios(
    planes: tuple[Plane, ...], samples: Samples, lens: Round, corner: tuple[int, int], band: Array, turn: Array, curve: Curve | None
) -> NDArray[np.float64]:
    """(n, 3) how many times as bright the first lens recorded what both see, in light."""
    d = band[band.shape[0] // 4 : -(band.shape[0] // 4), ::4].reshape(-1, 3)
    both = [_seen(planes, samples, lens, 0, corner, d), _seen(planes, samples, lens, 1, corner, d @ turn.T)]
    usable = np.all([(v > 0.08) & (v < 0.6) for v in both], axis=(0, 2))
    if usable.sum() < 50:
        return np.ones((1, 3))
    first, second = (v[usable] if curve is None else np.maximum(curve.decode(v[usable]), 1e-4) for v in both)
    return np.asarray(first / second)


