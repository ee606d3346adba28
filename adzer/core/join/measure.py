"""What the overlap of two round lenses says: how the second stands against the first, and how much brighter it records.

The band in which both see is unrolled from each, as if they stood exactly back to back. Pieces of one are found in the other by
their likeness; a rotation explains where they lie, but for what nearness moves along the lenses' axis.
"""

from __future__ import annotations

from collections.abc import Sequence

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..errors import AdzerError
from ..light.curves import Curve
from ..light.samples import Samples
from ..look.alike import placed
from ..look.sampling import signal_at
from ..media.formats import Plane
from ..space.meeting import Fall
from ..space.sphere import Array, Round, angles, turning

PIECE, EVERY = 20.0, 7.5  # degrees of the band's way round that a piece is long, and from piece to piece
RIM = 1.5  # degrees at the rim that are left out
ALIKE = 0.75  # correlation from which a piece counts as found
LEAST = 8  # pieces
NOT_QUITE_FAR = 0.15  # degrees that what lies level with the camera may be nearer than far (measured, 3 cm between the lenses)


class Matched(msgspec.Struct, frozen=True):
    """``turn`` and ``gain`` as of ``JoinSettings``; ``error``: of the turn, degrees (95 %); ``pieces`` found of ``looked``; ``along``:
    degrees by which all lie off along the axis, 0 if they do not; ``left``: by which those that agree do not quite, rms.
    ``compared``: places whose light both recorded neither too dark nor too bright; 0: ``gain`` is not known, and left as 1."""

    turn: tuple[float, float, float]
    gain: tuple[float, float, float]
    error: float
    pieces: int
    looked: int
    along: float
    left: float
    compared: int

    @property
    def saw(self) -> str:
        return (
            f"{self.pieces} of {self.looked} pieces of the overlap were found in the other lens, and agree to {self.left:.2f}°"
            + ("" if self.compared else "; what they recorded is too dark or too bright to compare their light")
            + (f"; all lie {self.along:+.2f}° off, as if the lenses saw more or less than was said" if self.along else "")
        ).replace("-", "−") + "."


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
            f"Lenses that see {min(v.across for v in lens.lenses):.0f}° each hardly overlap. If they see more, say how far first."
        )
    step = float(np.clip(np.degrees(1 / lens.density), 0.08, 0.5))
    round_, high = np.arange(0, 360, step), np.arange(-half, half + 1e-9, step)
    around = band(lens, round_, high)
    turn = np.eye(3)
    for _ in range(2):  # once more from where it was found to stand: pieces that hardly lie apart are found best
        found = []
        for planes in frames:
            one, other = (luma(seen(planes, samples, lens, n, corner, around @ t.T)) for n, t in enumerate((np.eye(3), turn)))
            found += _pieces(one, other, step, half)
        places = np.array([f for f in found if f is not None])  # degrees round and high: in the first, in the second
        if len(places) < LEAST:
            raise AdzerError(
                f"Where both lenses see there is too little to match them by: {len(places)} of {len(found)} pieces were found again. Take "
                "a shot with more to see at its sides."
            )
        here, there = (direction(lens, places[:, i], places[:, i + 1]) for i in (0, 2))
        more, along, error, left = _turned(here, there, *lens.lenses[0].axes.T[1:])
        turn = turn @ more
    light = light_of(frames, samples, lens, corner, turn, curve)
    error = float(np.hypot(2.2 * error * np.sqrt(PIECE / EVERY * len(frames)), NOT_QUITE_FAR))  # pieces lie over each other, frames are alike
    heading, tilt, roll = (round(float(v), 3) for v in angles(turn))
    return Matched(
        (heading, tilt, roll), light.gain, round(error, 3), len(places), len(found), round(along, 3), round(left, 3),
        light.compared,
    )  # fmt: skip


def direction(lens: Round, turned: Array, high: Array) -> Array:
    """Of degrees round the first lens's axis, and up from the plane that is square to it towards that lens."""
    right, ahead, up = lens.lenses[0].axes.T
    t, h = np.radians(turned)[..., None], np.radians(high)[..., None]
    return np.asarray(np.cos(h) * (np.cos(t) * up + np.sin(t) * right) + np.sin(h) * ahead)


def band(lens: Round, round_: Array, high: Array) -> Array:
    """(rows, columns, 3) directions of the overlap."""
    turned, up = np.meshgrid(round_, high)
    return direction(lens, turned, up)


def seen(planes: tuple[Plane, ...], samples: Samples, lens: Round, which: int, corner: tuple[int, int], d: Array) -> Array:
    """R′G′B′ signal (…, 3) that one of the lenses recorded of directions."""
    return signal_at(planes, samples, Round(lens.size, (lens.lenses[which],)).place(d) + np.array(corner, dtype=np.float64))


def luma(rgb: NDArray[np.floating | np.unsignedinteger]) -> Array:
    return np.asarray(rgb @ np.array([0.2126, 0.7152, 0.0722]))


def _pieces(one: Array, other: Array, step: float, half: float) -> list[tuple[float, float, float, float] | None]:
    """Where pieces of the first band lie in the second: (round, high) of both, degrees; None where it is not sure."""
    search = min(5.0, half / 2)
    rows, long, reach = one.shape[0], round(PIECE / step), round(search / step)
    most = one.shape[1]
    made: list[tuple[float, float, float, float] | None] = []
    for start in np.arange(0, 360 - 1e-9, EVERY):
        first = round(start / step)
        columns = np.arange(first, first + long) % most
        piece = one[reach : rows - reach][:, columns]
        wide = other[:, np.arange(first - reach, first + long + reach) % most]
        at = placed(piece, wide, ALIKE)
        middle = start + long * step / 2 - step / 2
        made.append(None if at is None else (middle, 0.0, middle + (at[1] - reach) * step, (at[0] - reach) * step))
    return made


FAR = (1.2, 0.6, 0.3, 0.15)  # degrees from which on a piece is taken for near, less and less
BELOW = -0.15  # of an upright direction, from which on down a piece may be of the ground


def _turned(here: Array, there: Array, axis: Array, up: Array) -> tuple[Array, float, float, float]:
    """(matrix, along, error, rest): the rotation that takes directions to others, and by how many degrees all lie off along
    ``axis``, if they do: then the lenses see more or less than was said.

    What is near lies off along the axis, too. The ground is, on one side only, which is just as if the lens leant: so of pieces
    below only what lies off sideways counts; of the others those that agree, from a wide tolerance to a narrow one.
    """
    plain, shifted = (_agreed(here, there, axis, up, shifts) for shifts in (False, True))
    return shifted if shifted[3] < 0.6 * plain[3] else plain


def _agreed(here: Array, there: Array, axis: Array, up: Array, shifts: bool) -> tuple[Array, float, float, float]:
    from scipy.optimize import least_squares

    far = here @ up > BELOW

    def off(v: Array) -> Array:
        """Degrees (n, 3) that a turn, and a shift, leave."""
        moved = here @ turning(v[:3]).T + (v[3] if shifts else 0.0) * axis
        rest = there - moved / np.linalg.norm(moved, axis=1, keepdims=True)
        rest = rest - np.where(far, 0.0, rest @ axis)[:, None] * axis
        return np.asarray(np.degrees(rest))

    def weighed(v: Array, scale: float) -> Array:
        rest = off(v)
        length = np.linalg.norm(rest, axis=1, keepdims=True)
        return np.asarray((rest * (scale * np.sqrt(np.log1p((length / scale) ** 2)) / np.maximum(length, 1e-9))).ravel())

    x = np.zeros(4 if shifts else 3)
    for scale in FAR:
        x = least_squares(weighed, x, args=(scale,)).x
    rest = off(x)
    length = np.linalg.norm(rest, axis=1)
    good = length < max(3 * float(np.median(length)), 0.06)
    jac = least_squares(lambda v: off(v)[good].ravel(), x, max_nfev=1).jac  # degrees per radian
    count = 2 * (good & far).sum() + (good & ~far).sum() - len(x)
    spread = float(np.sqrt((length[good & far] ** 2).sum() / max(2 * (good & far).sum() - len(x), 1)))  # of one coordinate
    error = 2 * spread * float(np.sqrt(np.trace(np.linalg.pinv(jac.T @ jac)[:3, :3]))) if count > 0 else np.pi
    left = float(np.sqrt((length[good] ** 2).mean()))
    return turning(x[:3]), float(np.degrees(x[3])) if shifts else 0.0, float(np.degrees(error)), left


class Light(msgspec.Struct, frozen=True):
    """How two lenses' light differs: the first's is ``gain`` times the second's (red, green, blue) and ``black`` more; both fall off to the
    rim as ``space.meeting.Fall`` has it, by ``falls``. ``compared``: places; 0: nothing is known."""

    gain: tuple[float, float, float] = (1.0, 1.0, 1.0)
    black: tuple[float, float, float] = (0.0, 0.0, 0.0)
    falls: float = 0.0
    compared: int = 0


DARK = 0.01  # of light, from which on falling off is told
MOST_BLACK, FALLEN = 0.1, (-2.0, 4.0)  # as far as anybody believes it
SEEN_BLACK, SEEN_FALL = 0.0008, 0.03  # of light, and of its logarithm at the rim, from which on it is believed


def light_of(
    frames: Sequence[tuple[Plane, ...]], samples: Samples, lens: Round, corner: tuple[int, int], turn: Array, curve: Curve | None
) -> Light:
    """By what both see all over the overlap. What is near lies elsewhere in the two: medians do not mind."""
    half = min(v.across for v in lens.lenses) / 2 - 90 - RIM
    heights = np.linspace(-half, half, 17)
    d = band(lens, np.arange(0, 360, 0.5), heights)
    first, second, rows = [], [], []
    for planes in frames:
        both = [seen(planes, samples, lens, n, corner, d @ t.T) for n, t in enumerate((np.eye(3), turn))]
        usable = np.all([(v > 0.0) & (v < 0.6) for v in both], axis=(0, 3))
        one, two = (v[usable] if curve is None else curve.decode(v[usable]) for v in both)
        first.append(one)
        second.append(two)
        rows.append(np.nonzero(usable)[0])
    one, two, row = np.concatenate(first), np.concatenate(second), np.concatenate(rows)
    bright = (one.min(axis=-1) > DARK) & (two.min(axis=-1) > DARK)
    if bright.sum() < 50:
        return Light()
    falling, other = (np.log(Fall.of(v, 1.0).undone(d[:, 0])) for v in lens.lenses)
    slope = falling - other
    gain, black, falls = np.ones(3), np.zeros(3), 0.0
    for _ in range(3):
        log = np.log(np.maximum(one[bright] - black, 1e-4) / np.maximum(two[bright], 1e-4))  # of which black is a little, but not all
        at, counts = [], []
        for n in range(len(heights)):
            mine = row[bright] == n
            if mine.sum() >= 30:
                at.append((n, *np.median(log[mine], axis=0)))
                counts.append(float(np.sqrt(mine.sum())))
        if len(at) < 8:
            break
        falls = _falls(np.array(at), -slope, np.array(counts))
        undone = one * np.exp(falls * slope[row, None])
        gain, black = (np.array(v) for v in zip(*(_lifted(undone[:, c], two[:, c]) for c in range(3)), strict=True))
    red, green, blue = (round(float(v), 4) for v in gain)
    r, g, b = (round(float(v), 5) for v in np.clip(black, -MOST_BLACK, MOST_BLACK))
    return Light((red, green, blue), (r, g, b), round(float(np.clip(falls, *FALLEN)), 3), int(bright.sum()))


def _lifted(one: Array, two: Array) -> tuple[float, float]:
    """(gain, black) with which the second light becomes the first: by medians of what is equally bright in both together, so that what
    stands elsewhere in one of them pulls neither way. Black is 0 where it is not sure."""
    together = np.sqrt(np.maximum(one, 1e-6) * np.maximum(two, 1e-6))
    edges = np.quantile(together, np.linspace(0.02, 0.98, 25))
    kind = np.digitize(together, edges)
    at = np.array([(np.median(one[kind == n]), np.median(two[kind == n])) for n in range(1, 25) if (kind == n).sum() >= 20])
    if len(at) < 6:
        return float(np.median(one / np.maximum(two, 1e-6))), 0.0
    weights = 1 / (0.02 * at.mean(axis=1) + 0.0005)
    design = np.column_stack([at[:, 1], np.ones(len(at))]) * weights[:, None]
    (gain, black), *_ = np.linalg.lstsq(design, at[:, 0] * weights, rcond=None)
    rest = float(np.sqrt(((design @ [gain, black] - at[:, 0] * weights) ** 2).sum() / (len(at) - 2)))
    doubt = rest * float(np.sqrt(np.linalg.pinv(design.T @ design)[1, 1]))
    if abs(black) > max(SEEN_BLACK, 3 * doubt):
        return float(gain), float(black)
    return float((at[:, 0] * at[:, 1] * weights**2).sum() / (at[:, 1] ** 2 * weights**2).sum()), 0.0


def _falls(at: Array, slope: Array, weights: Array) -> float:
    """The common slope of three channels' medians (n, 4; the row first) along ``slope``; 0 where it is not sure."""
    rows, logs = at[:, 0].astype(int), at[:, 1:]
    x = slope[rows]
    x = x - np.average(x, weights=weights)
    logs = logs - np.average(logs, axis=0, weights=weights)
    each = (weights[:, None] * x[:, None] * logs).sum(axis=0) / (weights * x * x).sum()
    much = float(np.median(each))
    rest = logs - each * x[:, None]
    doubt = float(np.sqrt((weights[:, None] * rest**2).sum() / weights.sum() / (3 * len(x) - 6) / np.average(x * x, weights=weights)))
    return much if abs(much) > max(SEEN_FALL, 3 * doubt) else 0.0
