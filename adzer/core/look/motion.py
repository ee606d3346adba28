"""How a recorded picture moves from frame to frame: one shift, turn and size for what stands still in the world.

Corners are followed to the next frame and back again (Lucas and Kanade 1981, in pyramids); those that come back to where they
began vote for one similarity (Fischler and Bolles 1981, RANSAC), so that what moves by itself does not count while more stands still.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, ClassVar, cast

import numpy as np
from numpy.typing import NDArray

from ..light.samples import Samples
from ..media.decode import Frame
from .passes import Rows
from .sampling import cell, small

WIDE = 640  # columns that are looked at
CORNERS, LEAST = 400, 12
TILES = 6, 4  # parts across and down, each with as many corners as another
WEAKEST = 5e-4  # of the strongest corner's strength, below which one is no corner
AROUND = (21, 21)  # pixels about a corner that are looked for
BACK = 0.5  # pixels off, there and back, from which on a corner is not believed
ALIKE = 0.7  # of what is looked for, below which it does not look like itself
FOCAL_TOLD = 0.1  # of itself, the standard error from which on a focal length is not told
TOLD = 0.06  # frames, the standard error from which on a readout is not told
GOES_WITH = -0.4  # correlation of ranks of sharpness and speed, above which one does not hang on the other
AGREES = 0.7  # pixels from the common motion within which a corner votes for it
X, Y, ROLL, SIZE, SURE, SKEW, STRETCH, BENDS, OVER, SHARP, LEVEL, RISE = range(12)
FARTHER, FIRM = slice(12, 16), 16
FAR = 12  # frames
STANDS = 0.02, 0.5, 1.0  # of its width, degrees and per cent within which a picture lies as it did FAR frames before
LIT = 40, 24  # cells across and down whose light is compared
SAME = 0.8  # correlation of their light, below which two pictures show other things
SHOWS, UNEVEN = (12.0, 236.0), 6.0  # codes of eight bits that are neither black nor white; by which a change of light may differ from cell to cell

FIRST = (0.0, 0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 0.0)  # of a first frame

Picture = NDArray[np.uint8]
Box = tuple[float, float, float, float]


@dataclass(frozen=True)
class Small:
    """Frame ``number`` as it is looked at, in eight bits; ``side``: recorded pixels a side of each of its pixels."""

    number: int
    picture: Picture
    side: int = 1


@dataclass(frozen=True)
class Motion:
    """An analysis (``passes.Pass``). A row says how the picture lies against the one before: ``x``, ``y``: recorded pixels by which
    its middle moved right and down; ``roll``: degrees clockwise; ``size``: per cent larger; ``sure``: share of corners that agree,
    0 where it is not known (then the rest is 0, too); ``skew``: pixels to the right by pixel down, and ``stretch``: by which it is larger
    down than across, as of rows that are read out one after another while it moves; ``bends`` over ``over``: by how much more, per pixel
    squared and pixel that the middle moves, what lies off it does, as where a camera is turned; ``sharp``: how much neighbouring pixels
    differ, in codes of eight bits; ``level``: signal of the picture before, 0 where nothing is known of it, and ``rise``: by how much more it is
    now, there. Roll and size are what lies along a row says, as one was read out at once. And of every ``FAR``-th frame, where the picture lies
    much as it did that many frames before, ``fx``, ``fy``, ``froll``, ``fsize``: how it lies against that one, which what moves slowly by itself,
    as a hand or a sail does, cannot pull at; ``firm``: share of corners that agree, 0 where that is not known."""

    samples: Samples
    within: Box | None = None  # left, top, width, height in shares of the recorded picture: only what lies there is taken to stand still
    name: ClassVar[str] = "motion"
    version: ClassVar[int] = 5
    reach: ClassVar[tuple[int, int]] = (FAR, 0)
    columns: ClassVar[tuple[str, ...]] = (
        "x", "y", "roll", "size", "sure", "skew", "stretch", "bends", "over", "sharp", "level", "rise", "fx", "fy", "froll", "fsize", "firm",
    )  # fmt: skip

    def prepared(self, frame: Frame) -> Small:
        seen = small(frame, self.samples, WIDE)
        return Small(frame.number, np.clip(seen * 255.0 + 0.5, 0, 255).astype(np.uint8), cell(frame.raster[0], WIDE))

    def row(self, window: Sequence[Small], middle: int) -> Sequence[float]:
        now, unknown = window[middle], (0.0,) * 5
        if not middle:
            return (*FIRST, sharp(now.picture), 0.0, 0.0, *unknown)
        before = window[middle - 1].picture
        found = moved(before, now.picture, now.side, self.within)
        light = lit(before, now.picture, (round(found[X] / now.side), round(found[Y] / now.side)))
        far = self._far(window[middle - FAR], now) if now.number % FAR == 0 and middle >= FAR else unknown
        return (*found, sharp(now.picture), *light, *far)

    def _far(self, before: Small, now: Small) -> tuple[float, ...]:
        found = moved(before.picture, now.picture, now.side, self.within)
        width = now.side * now.picture.shape[1]
        off = np.hypot(found[X], found[Y]) / width, abs(found[ROLL]), abs(found[SIZE])
        return found[: SURE + 1] if all(o <= most for o, most in zip(off, STANDS, strict=True)) else (0.0,) * 5


def sharp(picture: Picture) -> float:
    """Mean difference of neighbours, both ways."""
    values = picture.astype(np.int16)
    return float(np.abs(np.diff(values, axis=0)).mean() + np.abs(np.diff(values, axis=1)).mean())


def lit(before: Picture, now: Picture, gone: tuple[int, int]) -> tuple[float, float]:
    """Signal of a picture, and by how much more it is in the next, which moved right and down by ``gone`` pixels; of the middle of what is neither
    black nor white. Nothing, where not all of that changed alike."""
    import cv2

    (h, w), (dx, dy) = before.shape, gone
    if abs(dx) > w // 2 or abs(dy) > h // 2:
        return 0.0, 0.0
    alike = before[max(-dy, 0) : h - max(dy, 0), max(-dx, 0) : w - max(dx, 0)], now[max(dy, 0) : h + min(dy, 0), max(dx, 0) : w + min(dx, 0)]
    a, b = (cv2.resize(np.ascontiguousarray(p, np.float32), LIT, interpolation=cv2.INTER_AREA) for p in alike)
    low, high = SHOWS
    shows = (np.minimum(a, b) > low) & (np.maximum(a, b) < high)
    if shows.sum() < 0.1 * a.size:
        return 0.0, 0.0
    level, more = a[shows], (b - a)[shows]
    same = float(np.corrcoef(level, b[shows])[0, 1]) if np.ptp(level) > 1 and np.ptp(b[shows]) > 1 else 1.0
    quarter = np.quantile(level, [0.25, 0.75])
    amid = (level >= quarter[0]) & (level <= quarter[1])
    level, more = level[amid], more[amid]
    middle, rise = float(np.median(level)), float(np.median(more))
    # What is brightened in light rises otherwise where it is lighter.
    if same < SAME or np.median(np.abs(more - rise)) > UNEVEN + 0.3 * abs(rise):
        return 0.0, 0.0
    return middle / 255, rise / 255


def blurs(rows: Rows) -> float | None:
    """By what share the frames that move fastest are less sharp than those that hardly do: what an open shutter draws out stays so, however still
    a picture is held. None where sharpness does not go with speed."""
    speed = np.hypot(*through(path(rows)[:, :2], np.arange(len(rows)), 1).T) if len(rows) > 3 else np.zeros(0)
    known = np.flatnonzero(rows[:, SURE] > 0)
    if len(known) < 24 or not rows[:, SHARP].any():
        return None
    from scipy.ndimage import median_filter
    from scipy.stats import spearmanr

    # Against the second or so about each: what the scene itself does is slower than a shake.
    own = rows[:, SHARP].astype(np.float64)
    kept = own / np.maximum(median_filter(own, 25, mode="nearest"), 1e-6)
    fast = known[speed[known] >= np.quantile(speed[known], 0.85)]
    still = known[speed[known] <= np.quantile(speed[known], 0.3)]
    alike = spearmanr(speed[known], kept[known]).statistic
    fallen = 1 - float(np.median(kept[fast]) / max(float(np.median(kept[still])), 1e-6))
    return fallen if alike < GOES_WITH and fallen > 0.03 else None


@dataclass(frozen=True)
class Strokes:
    """Corners that were followed from one picture to the next: ``a`` and ``b`` (n, 2) pixels from its middle, of ``of`` that were looked for. Those
    in ``agreed`` (n,) stand still in the world, of which are the rest, as of ``Motion``: ``shift`` (2,), ``turn`` and ``grown``, ``bends``: both of
    them, ``leans``: skew and stretch."""

    a: NDArray[np.float64]
    b: NDArray[np.float64]
    of: int
    agreed: NDArray[np.bool_]
    shift: NDArray[np.float64]
    turn: float
    grown: float
    bends: tuple[float, float]
    leans: tuple[float, float]


def moved(before: Picture, now: Picture, side: int = 1, within: Box | None = None) -> tuple[float, ...]:
    """A row of ``Motion`` from one picture to the next; ``side``: recorded pixels a side of each of theirs."""
    found = strokes(before, now, within)
    # Of all corners that were looked for: where most of the picture is gone, as at a cut, few agree however well.
    share = 0.0 if found is None else float(found.agreed.sum()) / found.of
    if found is None or share <= 0.2:
        return (0.0,) * len(FIRST)
    (x, y), (bends, over) = (float(v) for v in found.shift * side), found.bends
    return x, y, float(np.degrees(found.turn)), 100 * found.grown, share, *found.leans, bends, over * side**2


def strokes(before: Picture, now: Picture, within: Box | None = None) -> Strokes | None:
    """None: too few corners, or too few that agree."""
    import cv2  # here, as it loads slowly and the window opens without it

    corners = _corners(before)
    if within is not None:
        at, low = corners[:, 0] / before.shape[::-1], np.array(within[:2])
        corners = np.ascontiguousarray(corners[((at >= low) & (at <= low + within[2:])).all(axis=1)])
    if len(corners) < LEAST:
        return None
    there, found, _ = cv2.calcOpticalFlowPyrLK(before, now, corners, np.empty_like(corners), winSize=AROUND, maxLevel=4)
    back, again, _ = cv2.calcOpticalFlowPyrLK(now, before, there, np.empty_like(corners), winSize=AROUND, maxLevel=4)
    off = np.linalg.norm((back - corners).reshape(-1, 2), axis=1)
    good = (found.ravel() == 1) & (again.ravel() == 1) & (off < BACK)
    if good.sum() < LEAST:
        return None
    middle = np.array([before.shape[1] - 1, before.shape[0] - 1]) / 2
    a, b = (np.ascontiguousarray(p.reshape(-1, 2)[good] - middle, np.float64) for p in (corners, there))
    cv2.setRNGSeed(1)
    matrix, agreed = cv2.estimateAffinePartial2D(a, b, method=cv2.RANSAC, ransacReprojThreshold=AGREES, maxIters=2000, refineIters=20)
    if matrix is None or agreed is None or agreed.sum() < LEAST:
        return None
    cv2.setRNGSeed(1)
    rows, rows_agreed = cv2.estimateAffine2D(a, b, method=cv2.RANSAC, ransacReprojThreshold=AGREES, maxIters=2000, refineIters=20)
    skew = stretch = 0.0
    if rows is not None and rows_agreed is not None and rows_agreed.sum() >= 2 * LEAST:
        skew, stretch = float(rows[0, 1] + rows[1, 0]), float(rows[1, 1] - rows[0, 0])
        if rows_agreed.sum() > 1.1 * agreed.sum():  # rows lean so much that one turn and size do not tell of all the picture
            agreed = rows_agreed
    return _bent(a, b, agreed.ravel() == 1, len(corners), (skew, stretch))


def _bent(
    a: NDArray[np.float64], b: NDArray[np.float64], agreed: NDArray[np.bool_], of: int, leans: tuple[float, float]
) -> Strokes:
    """The same with what a turned camera adds: off its middle a picture moves by more, to second order. So corners count at the edges of a wide
    lens's picture, too, and ``shift`` is what the very middle does."""
    x, y = a.T / WIDE
    one, no = np.ones_like(x), np.zeros_like(x)
    across = np.stack([one, no, x * x, x * y, x, no, y, no], axis=1)
    down = np.stack([no, one, x * y, y * y, no, x, no, y], axis=1)
    d = b - a
    fit = np.zeros(across.shape[1])

    def fitted(which: NDArray[np.bool_]) -> NDArray[np.float64]:
        both = np.concatenate([across[which], down[which]])
        return np.asarray(np.linalg.lstsq(both, np.concatenate([d[which, 0], d[which, 1]]), rcond=None)[0])

    for _ in range(6):
        fit = fitted(agreed)
        now = np.hypot(d[:, 0] - across @ fit, d[:, 1] - down @ fit) < AGREES
        if now.sum() < LEAST or (now == agreed).all():
            break
        agreed = now
    # What the middle does and what more the edges do err together, and so do corners that lie close: of the dark fields of a chessboard the one is
    # held against the other of the light ones.
    dark = (np.floor(x * 2 * TILES[0]) + np.floor(y * 2 * TILES[0])) % 2 == 0
    halves = [agreed & dark, agreed & ~dark]
    one, other = (fitted(h) if h.sum() >= LEAST else np.zeros(len(fit)) for h in halves)
    bends = float(one[:2] @ other[2:4] + other[:2] @ one[2:4]) / WIDE**2, 2 * float(one[:2] @ other[:2])
    return Strokes(a, b, of, agreed, fit[:2], float(fit[5]) / WIDE, float(fit[4]) / WIDE, bends, leans)


def carried(
    first: Picture, now: Picture, box: tuple[float, float, float, float], guess: tuple[float, float], grown: NDArray[np.float64]
) -> tuple[tuple[float, float], NDArray[np.float64]] | None:
    """Pixels right and down by which the middle of what lies in a ``box`` (left, top, width, height) of one picture lies elsewhere in another, to
    parts of a pixel, and what became of it about that (2, 2); ``guess`` and ``grown`` to begin with (Evangelidis and Psarakis 2008). None if it does
    not look alike there."""
    import cv2

    x, y, w, h = (int(v) for v in box)
    x, y = max(x, 0), max(y, 0)
    thing = first[y : y + h, x : x + w]
    middle, whole = np.array([thing.shape[1] - 1, thing.shape[0] - 1]) / 2, cast(Any, None)
    for way, linear in ((cv2.MOTION_AFFINE, grown), (cv2.MOTION_TRANSLATION, grown)):
        at = np.array([x, y]) + middle + guess - linear @ middle
        warp: Any = np.column_stack([linear, at]).astype(np.float32)
        try:
            alike, warp = cv2.findTransformECC(thing, now, warp, way, (3, 60, 1e-5), whole, 1)
        except cv2.error:
            continue
        found = np.asarray(warp, np.float64)
        dx, dy = found[:, :2] @ middle + found[:, 2] - middle - (x, y)
        far = np.hypot(dx - guess[0], dy - guess[1])
        if alike > ALIKE and far < max(w, h) / 4 and 0.25 < np.linalg.det(found[:, :2]) < 4:
            return (float(dx), float(dy)), found[:, :2]
    return None


def _corners(picture: Picture) -> NDArray[np.float32]:
    """(n, 1, 2) of each part of the picture its own best ones, so that no bright title or near thing has them all."""
    import cv2

    strength = cv2.cornerMinEigenVal(picture, 3)
    h, w = picture.shape
    apart, least = max(4, w // 60), WEAKEST * float(strength.max())
    found = []
    for y in range(TILES[1]):
        for x in range(TILES[0]):
            top, left = y * h // TILES[1], x * w // TILES[0]
            part = picture[top : (y + 1) * h // TILES[1], left : (x + 1) * w // TILES[0]]
            best = cv2.goodFeaturesToTrack(part, CORNERS // (TILES[0] * TILES[1]), 0.05, apart)
            if best is not None:
                at = best.reshape(-1, 2) + (left, top)
                found.append(at[strength[at[:, 1].astype(int), at[:, 0].astype(int)] > least])
    return np.concatenate([np.zeros((0, 2)), *found])[:, None].astype(np.float32)


def readout(rows: Rows, high: int) -> tuple[float, float] | None:
    """From the first row read out to the last, in frames, and its standard error; None where nothing gathers speed enough to tell.

    What moves by v pixels a frame is recorded leaning by v times that over its height; from frame to frame the lean changes as the speed does
    (to first order; Meingast, Geyer and Sastry 2005). ``high``: recorded pixels down the picture.
    """
    if (both := _leaning(rows, rows, high)) is None:
        return None
    return read_out(*both)


def read_out(faster: NDArray[np.float64], leans: NDArray[np.float64]) -> tuple[float, float] | None:
    """The same of by how much speed grew a frame, and what leans by that, pair by pair."""
    found, error = slope(faster, leans)
    return (found, error) if error < TOLD else None


def wobble(rows: Rows, again: Rows, high: int) -> float | None:
    """Recorded pixels rms by which the upper and lower edge of a picture that was looked at ``again``, steadied, lean from frame to frame as the
    recorded one's speed changed; None where too little is known."""
    if (both := _leaning(rows, again, high)) is None:
        return None
    found, _ = slope(*both)
    return float(abs(found) * np.sqrt(2 * (both[0] ** 2).mean()) * high / 2)


def _leaning(rows: Rows, again: Rows, high: int) -> tuple[NDArray[np.float64], NDArray[np.float64]] | None:
    """By how much the speed changes, in its height a frame, and how much what was looked at ``again`` leans more, both ways of each frame."""
    known = (rows[:, SURE] > 0) & (again[:, SURE] > 0)
    pairs = np.flatnonzero(known[1:-1] & known[2:] & known[:-2]) + 1 if len(rows) > 3 else np.zeros(0, int)
    if len(pairs) < 12:
        return None
    speed = through(path(rows)[:, :2], np.arange(len(rows)), 1)
    return ((speed[pairs] - speed[pairs - 1]) / high).ravel(), again[pairs][:, [SKEW, STRETCH]].astype(np.float64).ravel()


DEGREE = 7  # of a course through frames: a cubic one would say of a shake of 8 Hz, at 25 frames a second, that it is a seventh slower


def through(values: NDArray[np.float64], at: NDArray[np.integer | np.floating], slope: int = 0) -> NDArray[np.float64]:
    """(n, …) of (frames, …) values as they are ``at`` (n,) frames and parts of frames, the course between them as smooth as can be; with
    ``slope`` 1 by how much they grow a frame there."""
    from scipy.interpolate import make_interp_spline  # here, as it loads slowly and the window opens without it

    degree = min(DEGREE, (len(values) - 2) // 2 * 2 + 1)
    return np.asarray(make_interp_spline(np.arange(len(values)), values, k=degree)(at, slope))


def focal(rows: Rows) -> tuple[float, float] | None:
    """Recorded pixels from the lens to its picture, and by what share they may be off; None where the picture moves too little to tell. What a turned
    camera sees off its middle moves by 1 + (r/f)² of what the middle does."""
    known = rows[:, SURE] > 0.3
    bends, over = rows[known][:, [BENDS, OVER]].astype(np.float64).T
    if len(over) < 12 or over.sum() <= 0:
        return None
    weight = np.ones(len(over))
    for _ in range(20):
        found = float((weight * bends).sum() / max(float((weight * over).sum()), 1e-12))
        off = (bends - found * over) / np.sqrt(np.abs(over) + 1.0)
        scale = max(1.4826 * float(np.median(np.abs(off))), 1e-15)
        weight = 1 / (1 + (off / (2.5 * scale)) ** 2)
    error = float(np.sqrt((weight**2 * (bends - found * over) ** 2).sum())) / max(float((weight * over).sum()), 1e-12)
    return (found**-0.5, error / found / 2) if found > 0 and error / found / 2 < FOCAL_TOLD else None


def slope(x: NDArray[np.float64], y: NDArray[np.float64]) -> tuple[float, float]:
    """By what y grows with x from nothing on, most of both believed, and its standard error."""
    found, scale, weight = 0.0, 1.0, np.ones(len(x))
    for _ in range(20):
        found = float((weight * x * y).sum() / max((weight * x * x).sum(), 1e-18))
        off = y - found * x
        scale = max(1.4826 * float(np.median(np.abs(off))), 1e-12)
        weight = 1 / (1 + (off / (2.5 * scale)) ** 2)
    return found, scale / max(float(np.sqrt((weight * x * x).sum())), 1e-12)


def enlarged(rows: Rows, times: float) -> Rows:
    """The rows of a picture as of one that is so many times as wide and high."""
    made = np.array(rows)
    made[:, [X, Y, FARTHER.start + X, FARTHER.start + Y]] *= times
    made[:, OVER] *= times**2
    return made


def widened(rows: Rows, aspect: float) -> Rows:
    """The rows of a picture, whose pixels are ``aspect`` times as wide as high, with its way to the side in heights of them."""
    made = np.array(rows)
    made[:, [X, FARTHER.start + X]] *= aspect
    return made


def squared(rows: Rows, aspect: float) -> Rows:
    """The rows of a picture whose pixels are ``aspect`` times as wide as high, with roll, size and what leans as square ones would have it; its
    middle still moves by recorded pixels."""
    if aspect == 1:
        return rows
    made, turn = np.array(rows), np.radians(rows[:, ROLL])
    made[:, [ROLL, FARTHER.start + ROLL]] /= aspect
    made[:, SKEW] = aspect * (rows[:, SKEW] - turn) + turn / aspect
    return made


def path(rows: Rows) -> NDArray[np.float64]:
    """(frames, 4) how the picture lies against the first: ``x``, ``y``, ``roll``, ``size`` summed up. Over frames whose motion is
    not known it goes on as before and after; where a picture is wholly another, it stays. What is known of a frame against an earlier one holds:
    what the steps between come to otherwise is shared out among them."""
    steps = np.array(rows[:, :SURE], np.float64)
    unknown = rows[:, SURE] <= 0
    if unknown.any() and not unknown.all():
        at = np.arange(len(steps))
        near = np.abs(at[unknown][:, None] - at[~unknown][None]).min(axis=1)
        for c in range(SURE):
            steps[unknown, c] = np.where(near <= 2, np.interp(at[unknown], at[~unknown], steps[~unknown, c]), 0.0)
    for n in np.flatnonzero((rows[:, FIRM:] > 0).any(axis=1)):
        between = slice(n - FAR + 1, n + 1)
        steps[between] += (rows[n, FARTHER] - steps[between].sum(axis=0)) / FAR
    return np.asarray(np.cumsum(steps, axis=0))
