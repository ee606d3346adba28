"""What the two pictures of a pair of eyes say: how they lie against each other, how deep the scene is, which eye is the left one.

Points are found by their surroundings (Lowe 2004) and placed to a fraction of a pixel (Lucas and Kanade 1981); what lies between the two
in height is no depth, and is fitted. Which eye is left is seen at the edges of near things: an edge belongs to what covers, so it lies
aside in the other eye as much as that does, and not as what is covered. What covers is nearer, and lies farther right to the left eye.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..errors import AdzerError
from ..light.curves import Curve
from ..look.alike import vertex
from ..space.sphere import Array
from .align import Align, bent, in_pixels

Picture = NDArray[np.uint8]

WIDE, SEARCHED, MATCHED = 1920, 960, 960  # columns in which points are placed, looked for, and everything is matched
EYES = "eyes"  # under which what was measured of a recording is kept
VIEW = 90.0  # degrees across of the straight view ahead by which eyes of spheres and round lenses are measured
LEAST = 30  # points
ARROWS = 80  # at most about
DRIFTS, STAYS = 0.03, 0.0006  # half widths that eyes may come to lie higher over a take; and that are no change
TALL, ASIDE = 0.12, 0.16  # of half the width: how much higher, and farther aside, a thing may lie in the other eye
FLAT = 0.1  # per cent of the width that depth must differ by, for anybody to say which eye is which
EDGE = 1.5  # pixels of ``MATCHED`` by which depth must jump, for an edge to be looked at
AROUND = 5  # of the same, from an edge to what lies on its sides
LOWER = 1.5  # log odds that lower is nearer
BESIDE = slice(30, 70)  # columns from an edge on, in which the other eye still sees what the edge cuts
SPECK = 300  # pixels that must lie at nearly one depth, to be believed
STEEP = 6.0  # levels of 255 a pixel, from which on something is an edge
SURE = 0.98


class Depth(msgspec.Struct, frozen=True):
    """Per cent of the width by which the right eye holds things farther right than the left one (less than 0: before the screen), as
    recorded and brought in line: the 2nd and 98th of a hundred parts of the picture. ``least`` and ``most``: over all moments. ``jumps``: seconds
    at which another shot begins, and what lies in the middle just before and then."""

    near: float
    far: float
    least: float
    most: float
    over: tuple[tuple[float, float, float], ...]  # seconds, near, far
    edges: tuple[tuple[float, float, float], ...] = ()  # seconds, the nearest that the left and the right edge cut
    jumps: tuple[tuple[float, float, float], ...] = ()


class Which(msgspec.Struct, frozen=True):
    """``left``: ``first`` or ``second``, None: it cannot be told. ``edges`` that say so, and ``against``; ``confidence`` 0.5 … 1."""

    left: str | None
    confidence: float
    edges: int
    against: int
    saw: str


class Seen(msgspec.Struct, frozen=True):
    """``before``: pixels of 1920 across that things lay too high or low (95 %); ``points`` it rests on. ``colours`` as of
    ``JoinSettings``, None: they are alike, or too dark to compare; ``differ``: per cent of the signal, before and after; ``over``: seconds,
    and how they lie then, if that changes; ``arrows``: of some things, their place in shares of the first eye's picture, and pixels of 1920 by
    which the second holds them lower, before and after."""

    align: Align
    before: float
    points: int
    which: Which
    depth: Depth
    colours: tuple[float, ...] | None
    differ: tuple[float, float]
    over: tuple[tuple[float, Align], ...] = ()
    arrows: tuple[tuple[float, float, float, float], ...] = ()

    @property
    def saw(self) -> str:
        a = self.align
        lie = f"The second eye lies {a.shift:+.2f} % lower, {a.roll:+.2f}° rolled and {a.size:+.2f} % larger"
        rest = f"{self.before:.1f} pixels of 1920 too high or low before, {a.rest or 0:.1f} after"
        return f"{lie}: {rest}, by {self.points} points.".replace("-", "−")


def answers(found: Seen) -> dict[str, object]:
    """As ``JoinSettings`` takes them."""
    over = msgspec.to_builtins(found.over)
    return {"align": msgspec.to_builtins(found.align), "aligns": over, "colours": list(found.colours) if found.colours else None}


@dataclass(frozen=True)
class Shown:
    """A moment of both eyes: the signal (rows, columns, 3) of each, and seconds from the first frame."""

    first: Array
    second: Array
    time: float


def measure(moments: Sequence[Shown], aspect: float, curve: Curve | None, cuts: Sequence[tuple[Shown, Shown]] = ()) -> Seen:
    """AdzerError if the two have too little in common. ``aspect``: of their pixels, width over height; ``cuts``: the last moment of a shot and
    the first of the next."""
    grey = [(_grey(m.first), _grey(m.second)) for m in moments]
    found = [_points(a, b, aspect) for a, b in grey]
    first, second = (np.concatenate([f[i] for f in found]) for i in (0, 1))
    if len(first) < LEAST:
        raise AdzerError(
            f"The two pictures have too little in common: {len(first)} points were found in both. Are they of one moment, and is there "
            "anything to see?"
        )
    terms, kept = _fitted(first, second)
    each = np.repeat(np.arange(len(moments)), [len(f[0]) for f in found])
    over = _over(_heights(first, second) - _basis(first, second) @ terms, _basis(first, second), each, kept, len(moments))
    known = [i for i in range(len(moments)) if over is not None and np.isfinite(over[i]).all()]
    if over is not None:  # what changes is no noise: what is left is judged with it taken off
        over = np.stack([np.interp(np.arange(len(moments)), known, over[known, i]) for i in range(5)], axis=1)
        off = _heights(first, second) - (_basis(first, second) * (terms + over[each])).sum(axis=1)
        kept = np.abs(off) < max(4 * float(np.median(np.abs(off))), 0.0005)
    mine = np.zeros((len(moments), 5)) if over is None else over
    after = (_heights(first, second) - (_basis(first, second) * (terms + mine[each])).sum(axis=1))[kept]
    half = WIDE / 2
    rest = float(np.quantile(np.abs(after), 0.95) * half)
    before = float(np.quantile(np.abs(_heights(first[kept], second[kept])), 0.95) * half)
    align = Align.of(terms, rest)
    dense = [_matched(_straight(a, b, terms + more, aspect)) for (a, b), more in zip(grey, mine, strict=True)]
    which = _which(dense, rest)
    left = "second" if which.left == "second" else "first"
    depth = _depth(dense, [m.time for m in moments], left)
    if cuts:
        depth = msgspec.structs.replace(depth, jumps=_jumps(cuts, terms, aspect, left))
    colours, differ = _colours(moments, found, terms, curve)
    lies = () if over is None else tuple((round(m.time, 3), Align.of(terms + o)) for m, o in zip(moments, over, strict=True))
    high = moments[0].first.shape[0] / (moments[0].first.shape[1] * aspect)  # over the width
    places, heights = first[kept], _heights(first, second)[kept] * half
    arrows = tuple(
        (round((u + 1) / 2, 4), round(v / 2 / high + 0.5, 4), round(float(b), 2), round(float(a * half), 2))
        for (u, v), b, a in list(zip(places.tolist(), heights, after, strict=True))[:: max(1, len(after) // ARROWS)]
    )
    return Seen(align, round(before, 3), int(kept.sum()), which, depth, colours, differ, lies, arrows)


def _grey(rgb: Array) -> Picture:
    return np.asarray(np.clip(rgb @ np.array([0.2126, 0.7152, 0.0722]) * 255 + 0.5, 0, 255), np.uint8)


def _resized(picture: Picture, wide: int) -> Picture:
    import cv2

    h, w = picture.shape
    return picture if w <= wide else np.asarray(cv2.resize(picture, (wide, max(1, round(h * wide / w))), interpolation=cv2.INTER_AREA), np.uint8)


def _places(pixels: Array, size: tuple[int, int], aspect: float) -> Array:
    """Half widths from the middle, of pixels whose own middles are whole numbers."""
    w, h = size
    return np.stack([(2 * pixels[:, 0] + 1) / w - 1, ((2 * pixels[:, 1] + 1) - h) / (w * aspect)], axis=1)


def _points(a: Picture, b: Picture, aspect: float) -> tuple[Array, Array]:
    """Places (n, 2) of the same things in both, in half widths."""
    import cv2

    none = np.zeros((0, 2))
    low = [_resized(p, SEARCHED) for p in (a, b)]
    sift = cv2.SIFT_create(nfeatures=3000, contrastThreshold=0.02)  # type: ignore[attr-defined]
    (ka, da), (kb, db) = (sift.detectAndCompute(p, None) for p in low)
    if da is None or db is None or len(ka) < LEAST or len(kb) < LEAST:
        return none, none
    pairs = [m[0] for m in cv2.BFMatcher(cv2.NORM_L2).knnMatch(da, db, k=2) if len(m) == 2 and m[0].distance < 0.8 * m[1].distance]
    back = {m.queryIdx: m.trainIdx for m in cv2.BFMatcher(cv2.NORM_L2).match(db, da)}
    pairs = [m for m in pairs if back.get(m.trainIdx) == m.queryIdx]
    if len(pairs) < LEAST:
        return none, none
    at = [np.array([k[i].pt for i in n], np.float32) for k, n in ((ka, [m.queryIdx for m in pairs]), (kb, [m.trainIdx for m in pairs]))]
    fine = [_resized(p, WIDE) for p in (a, b)]
    scale = fine[0].shape[1] / low[0].shape[1]
    at = [np.asarray((p + 0.5) * scale - 0.5, np.float32) for p in at]
    options: dict[str, Any] = {"winSize": (19, 19), "maxLevel": 1, "flags": cv2.OPTFLOW_USE_INITIAL_FLOW}
    there, found, _ = cv2.calcOpticalFlowPyrLK(fine[0], fine[1], at[0], at[1].copy(), **options)
    again, came, _ = cv2.calcOpticalFlowPyrLK(fine[1], fine[0], there, at[0].copy(), **options)
    good = (found.ravel() == 1) & (came.ravel() == 1) & (np.linalg.norm(again - at[0], axis=1) < 0.3)
    size = (fine[0].shape[1], fine[0].shape[0])
    first, second = (_places(p[good].astype(np.float64), size, aspect) for p in (at[0], there))
    near = (np.abs(second[:, 1] - first[:, 1]) < TALL) & (np.abs(second[:, 0] - first[:, 0]) < ASIDE)
    return first[near], second[near]


def _heights(first: Array, second: Array) -> Array:
    return np.asarray(second[:, 1] - first[:, 1])


def _basis(first: Array, second: Array) -> Array:
    """(n, 5) of what lies between the two, see ``align``."""
    u, v = ((first + second) / 2).T
    return np.stack([np.ones_like(u), u, v, u * v, v * v], axis=1)


def _fitted(first: Array, second: Array) -> tuple[Array, NDArray[np.bool_]]:
    """The terms, and which points agree: from a wide tolerance to a narrow one, the surest terms first."""
    dv, basis = _heights(first, second), _basis(first, second)
    terms = np.zeros(5)
    shifts = np.histogram(dv, bins=np.arange(-TALL, TALL + 1e-9, 0.01))
    terms[0] = shifts[1][int(shifts[0].argmax())] + 0.005
    for scale, count in ((0.03, 1), (0.02, 3), (0.01, 3), (0.004, 5), (0.002, 5), (0.001, 5), (0.001, 5)):
        for _ in range(4):
            off = dv - basis @ terms
            weight = 1 / (1 + (off / scale) ** 2) ** 2
            ridge = 1e-6 * len(dv) * np.diag([0.0, 0.0, 0.0, 1.0, 1.0])[:count, :count]
            part = basis[:, :count]
            rest = dv - basis[:, count:] @ terms[count:]
            terms[:count] = np.linalg.solve(part.T @ (part * weight[:, None]) + ridge, part.T @ (weight * rest))
    off = np.abs(dv - basis @ terms)
    return terms, off < max(4 * float(np.median(off)), 0.0005)


def _over(off: Array, basis: Array, each: NDArray[np.int64], kept: NDArray[np.bool_], count: int) -> Array | None:
    """(moments, 5) by which shift, roll and size of each differ from those of all, NaN where there is too little; None: they do not, surely."""
    own, sure = np.full((count, 5), np.nan), False
    near = np.abs(off) < DRIFTS
    for n in range(count):
        mine = (each == n) & near
        if mine.sum() < LEAST:
            continue
        part, told = basis[mine, :3], np.zeros(3)
        for _ in range(6):
            rest = off[mine] - part @ told
            weight = 1 / (1 + (rest / 0.001) ** 2) ** 2 if _ else 1 / (1 + (rest / 0.004) ** 2) ** 2
            told = np.linalg.solve(part.T @ (part * weight[:, None]) + 1e-9 * np.eye(3), part.T @ (weight * off[mine]))
        rest = off[mine] - part @ told
        good = np.abs(rest) < 0.003
        doubt = float(np.std(rest[good])) * np.sqrt(np.diag(np.linalg.inv(part[good].T @ part[good] + 1e-9 * np.eye(3))) * 4)
        own[n] = [*told, 0.0, 0.0]
        sure = sure or bool((np.abs(told) > np.maximum(4 * doubt, STAYS)).any())
    return own if sure else None


def _straight(a: Picture, b: Picture, terms: Array, aspect: float) -> tuple[Picture, Picture]:
    """Both brought in line, ``MATCHED`` columns wide, with square pixels no matter how they were recorded."""
    import cv2

    made = []
    for picture, share in ((a, -0.5), (b, 0.5)):
        h, w = picture.shape
        size = (MATCHED, max(2, round(MATCHED * h / (w * aspect))))
        small = np.asarray(cv2.resize(picture, size, interpolation=cv2.INTER_AREA if w > MATCHED else cv2.INTER_LINEAR), np.uint8)
        shift = np.array([[1, 0, 0.5], [0, 1, 0.5], [0, 0, 1.0]])  # whole numbers are the middles of pixels to the one, edges to the other
        matrix = np.linalg.inv(shift) @ in_pixels(bent(terms, share), size, 1.0) @ shift
        how = cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP
        made.append(np.asarray(cv2.warpPerspective(small, matrix, size, flags=how, borderMode=cv2.BORDER_REPLICATE), np.uint8))
    return made[0], made[1]


@dataclass(frozen=True)
class _Dense:
    """Both pictures in line, and by how many pixels each thing lies farther left in the other; NaN: the other does not show it."""

    pictures: tuple[Picture, Picture]
    shifts: tuple[Array, Array]

    @property
    def other(self) -> _Dense:
        """The same seen from the second."""
        return _Dense(self.pictures[::-1], self.shifts[::-1])


def _matched(pictures: tuple[Picture, Picture]) -> _Dense:
    """Every pixel's place in the other eye (Hirschmüller 2008), checked there and back."""
    import cv2

    most = round(ASIDE * MATCHED / 2 / 16) * 16
    matcher = cv2.StereoSGBM_create(  # type: ignore[attr-defined]
        minDisparity=-most, numDisparities=2 * most, blockSize=5, P1=8 * 25, P2=32 * 25, disp12MaxDiff=-1, uniquenessRatio=3,
        speckleWindowSize=0, mode=cv2.STEREO_SGBM_MODE_SGBM_3WAY,
    )  # fmt: skip

    def one(a: Picture, b: Picture) -> Array:
        pad = ((0, 0), (most, most))
        found = matcher.compute(np.pad(a, pad, mode="edge"), np.pad(b, pad, mode="edge")).astype(np.float64) / 16
        return np.asarray(found[:, most:-most])

    there, back = one(*pictures), one(pictures[1], pictures[0])
    return _Dense(pictures, (_checked(there, back), _checked(back, there)))


def _checked(there: Array, back: Array) -> Array:
    rows, columns = there.shape
    x = np.arange(columns)[None] - there
    inside = (x >= 0) & (x <= columns - 1)
    n = np.clip(np.round(x), 0, columns - 1).astype(int)
    agree = np.abs(there + np.take_along_axis(back, n, axis=1)) <= 1.0
    import cv2

    kept = np.where(inside & agree, np.round(there * 16), -32768).astype(np.int16)
    cv2.filterSpeckles(kept, -32768, SPECK, 16)  # where nothing is to be seen, patches of chance
    return np.where(kept > -32768, kept / 16.0, np.nan)


def _which(dense: Sequence[_Dense], rest: float) -> Which:
    """By what covers what."""
    known = [d.shifts[0][np.isfinite(d.shifts[0])] for d in dense]
    spread = max((float(np.quantile(s, 0.98) - np.quantile(s, 0.02)) for s in known if len(s)), default=0.0)
    if spread / MATCHED * 100 < FLAT:
        return Which(None, 0.5, 0, 0, "Everything lies at one depth, or both pictures are the same: nothing tells one eye from the other.")
    votes = np.concatenate([sign * _edges(each) for d in dense for each, sign in ((d, 1.0), (d.other, -1.0))])
    good, bad = int((votes > 0).sum()), int((votes < 0).sum())
    # Rows that lie above each other see one edge, twice: eight are taken for one witness.
    told = float(votes.sum()) * 3 / np.sqrt(8 * max(float((votes**2).sum()), 1e-9)) + float(np.mean([_lower(d) for d in dense]))
    sure = float(1 / (1 + np.exp(-min(abs(told), 30.0))))
    ground = f"{good + bad} edges between near and far were looked at"
    if not len(votes) or sure < SURE:
        return Which(None, round(sure, 3), good, bad, f"{ground}, and do not agree.")
    left = "first" if told > 0 else "second"
    mine, others = (good, bad) if told > 0 else (bad, good)
    return Which(left, round(min(sure, 0.999), 3), mine, others, f"{ground}: at {mine} of them what covers lies farther right to the {left}.")


def _lower(d: _Dense) -> float:
    """Log odds that the first is the left eye's, for what lies lower in the world is mostly nearer: never much."""
    shifts = d.shifts[0]
    rows = np.array([np.median(r[np.isfinite(r)]) if np.isfinite(r).sum() > 20 else np.nan for r in shifts[shifts.shape[0] // 2 :]])
    at = np.flatnonzero(np.isfinite(rows))
    if len(at) < 20:
        return 0.0
    rise = float(np.polyfit(at, rows[at], 1)[0]) * len(rows)
    return float(np.clip(rise, -1.0, 1.0)) * LOWER


def _edges(d: _Dense) -> Array:
    """Votes −1 … 1 that the first is the left eye's picture: one for each row and edge between two depths. Where the edge itself lies in
    the other says which of the two it belongs to, and that is the nearer."""
    slopes = [np.gradient(p.astype(np.float64), axis=1) for p in d.pictures]
    slopes = [(np.roll(g, 1, 0) + g + np.roll(g, -1, 0)) / 3 for g in slopes]
    shifts, (rows, columns) = d.shifts[0], d.shifts[0].shape
    jumps = np.zeros_like(shifts)
    jumps[:, AROUND:-AROUND] = shifts[:, 2 * AROUND :] - shifts[:, : -2 * AROUND]
    jumps[:, AROUND:-AROUND][:, :] = np.where(np.isfinite(jumps[:, AROUND:-AROUND]), jumps[:, AROUND:-AROUND], 0.0)
    votes = []
    for row in range(2, rows - 2, 3):
        far = np.abs(jumps[row]) >= EDGE
        for a, b in np.flatnonzero(np.diff(np.concatenate([[0], far.astype(np.int8), [0]]))).reshape(-1, 2).tolist():
            if b - a > 4 * AROUND or a < 2 * AROUND or b > columns - 2 * AROUND:
                continue
            low, high = sorted((float(shifts[row, a - 1 - AROUND // 2]), float(shifts[row, min(b + AROUND // 2, columns - 1)])))
            at = a + int(np.abs(slopes[0][row, a:b]).argmax())
            if not (high - low >= EDGE and abs(slopes[0][row, at]) > STEEP):
                continue
            found = _lies(slopes[0][row, at - 3 : at + 4], slopes[1][row], at, low - 2, high + 2)
            if found is not None:
                votes.append(float(np.clip((2 * found - low - high) / (high - low), -1.0, 1.0)))
    return np.array(votes)


def _lies(piece: Array, line: Array, at: int, low: float, high: float) -> float | None:
    """By how many pixels a piece about ``at`` lies farther left in another line, between two shifts; None: nowhere surely."""
    tried = np.arange(int(np.floor(low)), int(np.ceil(high)) + 1)
    starts = at - 3 - tried
    if starts.min() < 0 or starts.max() + 7 > len(line):
        return None
    off = ((line[starts[:, None] + np.arange(7)] - piece) ** 2).sum(axis=1)
    n = int(off.argmin())
    if not 0 < n < len(tried) - 1 or off[n] > 0.25 * float((piece**2).sum()):
        return None
    return float(tried[n] + vertex(-off[n - 1], -off[n], -off[n + 1]))


def _depth(dense: Sequence[_Dense], times: Sequence[float], left: str) -> Depth:
    """Of the first picture if that is the left eye's."""
    over, edges = [], []
    for d, time in zip(dense, times, strict=True):
        whole, parallax = _parallax(d, left)
        if len(parallax) > 200:
            edges.append((round(time, 3), _cut(whole[:, BESIDE]), _cut(whole[:, ::-1][:, BESIDE])))
            over.append((round(time, 3), round(float(np.quantile(parallax, 0.02)), 4), round(float(np.quantile(parallax, 0.98)), 4)))
    if not over:
        return Depth(0.0, 0.0, 0.0, 0.0, ())
    near, far = (np.array([o[i] for o in over]) for i in (1, 2))
    return Depth(float(np.median(near)), float(np.median(far)), float(near.min()), float(far.max()), tuple(over), tuple(edges))


def _parallax(dense: _Dense, left: str) -> tuple[Array, Array]:
    """Per cent of the width of each place, and of those that are known."""
    whole = -dense.shifts[0] / MATCHED * 100 * (1 if left == "first" else -1)
    return whole, whole[np.isfinite(whole)]


def _jumps(cuts: Sequence[tuple[Shown, Shown]], terms: Array, aspect: float, left: str) -> tuple[tuple[float, float, float], ...]:
    made = []
    for both in cuts:
        known = [_parallax(_matched(_straight(_grey(m.first), _grey(m.second), terms, aspect)), left)[1] for m in both]
        if min(len(k) for k in known) > 200:
            before, after = (round(float(np.median(k)), 4) for k in known)
            made.append((round(both[1].time, 3), before, after))
    return tuple(made)


def _cut(beside: Array) -> float:
    """The nearest that fills a twelfth of the height of what lies beside an edge, per cent; 0 where nothing is known."""
    known = np.isfinite(beside).sum(axis=1) > beside.shape[1] // 2
    rows = np.nanmedian(beside[known], axis=1) if known.any() else np.zeros(0)
    return round(float(np.sort(rows)[len(beside) // 12]), 4) if len(rows) > len(beside) // 12 else 0.0


def depth_at(shown: Shown, terms: Array, aspect: float, x: float, y: float, first: str) -> float:
    """Per cent of the width by which a thing lies farther right to the right eye, in line; ``x``, ``y``: shares of the first eye's width
    and height. AdzerError if the other eye does not show it surely."""
    grey = _grey(shown.first), _grey(shown.second)
    dense = _matched(_straight(*grey, terms, aspect))
    h, w = dense.shifts[0].shape
    around = dense.shifts[0][max(int(y * h) - 4, 0) : int(y * h) + 5, max(int(x * w) - 4, 0) : int(x * w) + 5]
    if np.isfinite(around).mean() < 0.5:
        raise AdzerError("What was marked is not surely found in the other eye's picture. Mark something with edges, away from the sides.")
    apart = _closer(dense.pictures, (x * w, y * h), float(np.nanmedian(around)))
    return apart / MATCHED * 100 * (-1 if first == "left" else 1)


def _closer(pictures: tuple[Picture, Picture], at: tuple[float, float], apart: float) -> float:
    """``apart`` to parts of a pixel, by what lies around; as it is where that leads elsewhere."""
    import cv2

    start = np.array([[at]], np.float32)
    there = start - np.array([apart, 0], np.float32)
    options: dict[str, Any] = {"winSize": (41, 41), "maxLevel": 0, "flags": cv2.OPTFLOW_USE_INITIAL_FLOW}
    found, sure, _ = cv2.calcOpticalFlowPyrLK(*pictures, start, there, **options)
    away = float(start[0, 0, 0] - found[0, 0, 0])
    return away if sure[0, 0] and abs(away - apart) < 4 else apart


# From both eyes' light to that of a picture for red and cyan glasses, each colour as near as the glasses let it be (Dubois 2001, A projection
# method to generate anaglyph stereo images, least squares for common displays).
LEFT = np.array([[0.437, 0.449, 0.164], [-0.062, -0.062, -0.024], [-0.048, -0.050, -0.017]])
RIGHT = np.array([[-0.011, -0.032, -0.007], [0.377, 0.761, 0.009], [-0.026, -0.093, 1.234]])


def looked(
    shown: Shown, terms: Array, aspect: float, first: str, pin: float, how: str, curve: Curve | None, wide: int
) -> tuple[Picture, ...]:
    """See ``run.matching.both_looked``."""
    import cv2

    made = []
    for rgb, share, which in ((shown.first, -0.5, first), (shown.second, 0.5, "right" if first == "left" else "left")):
        h, w = rgb.shape[:2]
        size = (min(wide, w), max(2, round(min(wide, w) * h / (w * aspect))))
        small = cv2.resize(rgb.astype(np.float32), size, interpolation=cv2.INTER_AREA)
        matrix = in_pixels(bent(terms, share, pin / 100 * (-1 if which == "right" else 1)), size, 1.0)
        flat = cv2.warpPerspective(small, matrix, size, flags=cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP)
        made.append((which, np.asarray(np.clip(flat, 0, 1), np.float64)))
    left, right = (next(p for which, p in made if which == e) for e in ("left", "right"))

    def eight(rgb: Array) -> Picture:
        return np.asarray(np.clip(rgb * 255 + 0.5, 0, 255), np.uint8)

    if how == "by turns":
        return eight(left), eight(right)
    if how == "apart":
        return (eight(0.5 + (left - right) / 2),)
    light = [v if curve is None else curve.decode(v) for v in (left, right)]
    both = np.clip(light[0] @ LEFT.T + light[1] @ RIGHT.T, 0, 1)
    return (eight(both if curve is None else curve.encode(both)),)


def _colours(
    moments: Sequence[Shown], found: Sequence[tuple[Array, Array]], terms: Array, curve: Curve | None
) -> tuple[tuple[float, ...] | None, tuple[float, float]]:
    """A matrix on the second's light, and by how much of the signal the two differ, before and after it."""
    import cv2

    both: list[list[Array]] = [[], []]
    for m, (first, second) in zip(moments, found, strict=True):
        keep = np.abs(_heights(first, second) - _basis(first, second) @ terms) < 0.004
        for n, (rgb, at) in enumerate(((m.first, first[keep]), (m.second, second[keep]))):
            h, w = rgb.shape[:2]
            soft = cv2.GaussianBlur(rgb.astype(np.float32), (0, 0), max(1.0, w / 400))
            x = ((at[:, 0] + 1) * w / 2).astype(int).clip(0, w - 1)
            y = (at[:, 1] * w / 2 + h / 2).astype(int).clip(0, h - 1)
            both[n].append(soft[y, x].astype(np.float64))
    one, two = (np.concatenate(b) for b in both)
    usable = np.all((one > 0.05) & (one < 0.9) & (two > 0.05) & (two < 0.9), axis=1)
    if usable.sum() < LEAST:
        return None, (0.0, 0.0)
    one, two = one[usable], two[usable]
    lights = [v if curve is None else np.maximum(curve.decode(v), 1e-4) for v in (one, two)]
    made = _matrix(*lights)
    after = lights[1] @ made.T
    after = after if curve is None else curve.encode(np.maximum(after, 0))
    differ = tuple(round(float(np.median(np.abs(v - one)) * 100), 3) for v in (two, after))
    if differ[1] > 0.8 * differ[0] or differ[0] < 0.3:
        return None, (differ[0], differ[0])
    return tuple(round(float(v), 5) for v in made.ravel()), (differ[0], differ[1])


def _matrix(first: Array, second: Array) -> Array:
    """3×3 that takes the second's light to the first's, as near to gains alone as they allow."""
    gains = np.median(first / second, axis=0)
    weight = 1 / (first.mean(axis=1) + 0.02)
    made = np.diag(gains)
    for _ in range(8):
        off = (first - second @ made.T) * weight[:, None]
        size = np.linalg.norm(off, axis=1)
        w = weight**2 / (1 + (size / max(2 * float(np.median(size)), 1e-6)) ** 2)
        normal = second.T @ (second * w[:, None])
        ridge = 0.02 * np.trace(normal) / 3 * np.eye(3)
        made = np.linalg.solve(normal + ridge, second.T @ (first * w[:, None]) + ridge @ np.diag(gains)).T
    return np.asarray(made)
