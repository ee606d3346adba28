"""How a recording of directions turns from frame to frame, and which way it travels.

Six overlapping square views of the sphere are looked at as flat pictures. Corners are followed to the next frame and back again, and one
rotation is voted for (Fischler and Bolles 1981; Kabsch 1976), so that what moves by itself does not count. Where what is near passes by, only
what of each corner's way is square to the line of travel counts: that part does not hang on how far it is (Longuet-Higgins and Prazdny 1980).
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from ..light.samples import Samples
from ..media.decode import Frame
from ..space.sphere import Array, Directions, Equirect, Round, rotation, turned_about, turning
from . import upright
from .motion import read_out, through
from .passes import Rows
from .sampling import cell, small

WIDE = 1024  # columns of the sphere that are looked at
SIDE, REACH = 256, 1.3  # pixels of a view's side, and half of it on its plane: 105° across
VIEWS = ((0, 0), (90, 0), (180, 0), (270, 0), (0, 90), (0, -90))  # heading and tilt
CORNERS, LEAST = 60, 20  # of each view at most, of all together at least
AROUND = (17, 17)
BACK = 0.4  # pixels of a view that a corner may be off, there and back
COARSE, AGREES = np.radians(0.7), np.radians(0.12)  # from the common turn, within which a corner votes for it
ANEW = np.radians(2.0)  # a turn from which on it is looked at again through it: views bend what goes far
STILL, TURNS, OTHER = np.radians(0.1), np.radians(0.15), 0.12  # what stands still may be a vehicle: the world turns more, of such a share
GUESSES, BEHIND = 40, 0.15  # of where it travels; corners that are nearer to that than so much say nothing
NEARER = 0.35  # share of corners off the common turn, from which on something near is passing
FAR = 8  # frames
SPREAD = 0.1  # of the picture's height, rms, that corners must lie apart to tell how rows differ
LEANS = 1.05  # times as many corners that must agree for rows to be taken as turned each by itself
PASSES = 0.5  # of the corners that near things passing by explain, by much looser a rule, that rows turned each by itself must
TURN, ALONG, SURE, FARTHER, FIRM, UP, PLUMB, LEAN = slice(0, 3), slice(3, 6), 6, slice(7, 10), 10, slice(11, 14), 14, slice(15, 18)

Picture = NDArray[np.uint8]


@dataclass
class Seen:
    """A frame, small, and its views; ``step``: how what is recorded turned since the frame before, once that was found."""

    number: int
    picture: Picture
    views: NDArray[np.uint8]
    step: Found | None = None


@dataclass(frozen=True)
class Found:
    """``turn`` of what is recorded, ``along``: where the camera travels, ``share`` of the corners that agree, 0 if it is not known; ``lean``:
    radians about each axis by which what the last row recorded turned more than what the first did."""

    turn: Array
    along: Array
    share: float
    lean: Array


NOTHING = Found(np.eye(3), np.zeros(3), 0.0, np.zeros(3))


@dataclass(frozen=True)
class Turns:
    """An analysis (``passes.Pass``). A row says how the camera turned since the frame before: ``x``, ``y``, ``z``: the axis in its own
    right, forward and up, its length in degrees; ``along``: where it travels in the same axes, 0 where nothing says so; ``sure``: share of
    corners that agree, 0 where it is not known. And of every ``FAR``-th frame ``far``: the same since that many frames before, which what
    drifts, as clouds do, cannot pull at; ``firm``: 0 of all others, or where it is not known; and ``up``: where the world's up lies in the
    camera's own axes, ``plumb``: how sure that is. ``lx``, ``ly``, ``lz``: degrees by which a camera with round lenses turned more between the last
    row of a frame and that of the next than between the first ones, as of rows that are read out one after another while it turns."""

    samples: Samples
    lens: Directions
    region: tuple[int, int, int, int]
    turn: int = 0  # degrees clockwise by which recorded pictures are turned to stand as the lens is said to see
    name: ClassVar[str] = "turns"
    version: ClassVar[int] = 2
    reach: ClassVar[tuple[int, int]] = (FAR, 0)
    columns: ClassVar[tuple[str, ...]] = (
        "x", "y", "z", "ax", "ay", "az", "sure", "fx", "fy", "fz", "firm", "ux", "uy", "uz", "plumb", "lx", "ly", "lz",
    )  # fmt: skip

    def prepared(self, frame: Frame) -> Seen:
        return self.looked(frame.number, self.picture(frame))

    def picture(self, frame: Frame) -> Picture:
        """What the lenses see of a frame, upright and small."""
        wide = WIDE * frame.raster[0] // self.region[2]
        side = cell(frame.raster[0], wide)
        x, y, w, h = (v // side for v in self.region)
        seen = np.rot90(small(frame, self.samples, wide), -self.turn // 90)[y : y + h, x : x + w]
        return np.ascontiguousarray(np.clip(seen * 255.0 + 0.5, 0, 255).astype(np.uint8))

    def looked(self, number: int, picture: Picture) -> Seen:
        return Seen(number, picture, self._views(picture, np.eye(3)))

    def light_of(self, seen: Seen) -> Callable[[Array], Array]:
        """Of directions (…, 3) in a frame, as a logarithm of its codes."""
        import cv2

        light = np.log(np.maximum(seen.picture.astype(np.float32), 4.0))
        h, w = light.shape

        def at(d: Array) -> Array:
            x, y = np.moveaxis(self.lens.place(d) * (w / self.region[2], h / self.region[3]) - 0.5, -1, 0).astype(np.float32)
            return np.asarray(cv2.remap(light, np.ascontiguousarray(x), np.ascontiguousarray(y), cv2.INTER_LINEAR, borderMode=self._edge), np.float64)

        return at

    @property
    def _edge(self) -> int:
        import cv2

        return cv2.BORDER_WRAP if isinstance(self.lens, Equirect) and self.lens.whole else cv2.BORDER_REPLICATE

    def _views(self, picture: Picture, turn: Array) -> NDArray[np.uint8]:
        """(views, SIDE, SIDE) of what lies where ``turn`` says of each view's directions."""
        import cv2  # here, as it loads slowly and the window opens without it

        still = bool((turn == np.eye(3)).all())
        maps = _maps(self.lens, self.region[2:], picture.shape) if still else _mapped(self.lens, self.region[2:], picture.shape, turn)
        return np.stack([cv2.remap(picture, m[..., 0], m[..., 1], cv2.INTER_LINEAR, borderMode=self._edge) for m in maps])

    def row(self, window: Sequence[Seen], middle: int) -> Sequence[float]:
        now = window[middle]
        up = self._up(now) if now.number % FAR == 0 else (0.0,) * 4
        if middle == 0:
            return (0.0,) * 6 + (1.0,) + (0.0,) * 4 + up + (0.0,) * 3
        found, far = self._step(window[middle - 1], now), NOTHING
        if now.number % FAR == 0 and middle >= FAR:
            turn = np.eye(3)
            for one, other in zip(window[middle - FAR : middle], window[middle - FAR + 1 : middle + 1], strict=True):
                turn = self._step(one, other).turn @ turn
            far = self._between(window[middle - FAR], now, turn)
        return (*_axis(found.turn), *found.along, found.share, *_axis(far.turn), far.share, *up, *-np.degrees(found.lean))

    def strokes(self, before: Seen, now: Seen) -> tuple[Array, Array, NDArray[np.bool_]]:
        """(n, 2) places in the recorded picture of corners in a frame, where the same lie in the next, and which stand still in the world."""
        a, b, _ = self._followed(before.views, now.views, [_corners(v) for v in before.views], np.eye(3))
        still = np.linalg.norm(a @ self._step(before, now).turn.T - b, axis=1) < COARSE
        return self.lens.place(a) + self.region[:2], self.lens.place(b) + self.region[:2], still

    def turned(self, before: Seen, now: Seen) -> float | None:
        """About how many degrees what is recorded turned; None if too few corners go together."""
        a, b, _ = self._followed(before.views, now.views, [_corners(v) for v in before.views], np.eye(3))
        found = voted(a, b, COARSE)
        return None if found is None else float(np.degrees(np.linalg.norm(turned_about(found[0]))))

    def followed(self, before: Seen, now: Seen) -> tuple[Array, Array, Array, Array] | None:
        """(n, 3) directions of corners in a frame and in a later one; about how what is recorded turned, and where the camera travels, which
        may say nothing. None if too few go together."""
        corners = [_corners(v) for v in before.views]
        a, b, _ = self._followed(before.views, now.views, corners, np.eye(3))
        found = voted(a, b, COARSE)
        if found is None:
            return None
        if np.linalg.norm(turned_about(found[0])) > ANEW:
            a, b, _ = self._followed(before.views, self._views(now.picture, found[0]), corners, found[0])
        turn, along, _ = _travelled(a, b, found[0])
        return a, b, turn, along

    def _up(self, seen: Seen) -> tuple[float, float, float, float]:
        half = isinstance(self.lens, Equirect) and not self.lens.whole  # of which no circle goes all the way round
        level = (None if half else upright.horizon(self.light_of(seen))) or upright.uprights(seen.views, _axes(), _grid())
        return (0.0,) * 4 if level is None else (float(level.up[0]), float(level.up[1]), float(level.up[2]), level.sure)

    def _step(self, before: Seen, now: Seen) -> Found:
        if now.step is None:
            now.step = self._between(before, now)
        return now.step

    def _between(self, before: Seen, now: Seen, turn: Array | None = None) -> Found:
        """``turn``: about as it is; None: little is between them."""
        corners = [_corners(v) for v in before.views]
        about = turn
        if about is None:
            a, b, many = self._followed(before.views, now.views, corners, np.eye(3))
            found = voted(a, b, COARSE)
            if found is None:
                return NOTHING
            about = found[0]
        if turn is not None or np.linalg.norm(turned_about(about)) > ANEW:
            a, b, many = self._followed(before.views, self._views(now.picture, about), corners, about)
            near = np.linalg.norm(a @ about.T - b, axis=1) < COARSE  # what it is about is known now, and no vehicle is mistaken for it
            if near.sum() < LEAST:
                return NOTHING
            about = turned_to(a[near], b[near])
        lean = np.zeros(3)
        if isinstance(self.lens, Round):
            about, lean, b = self._leaning(a, b, about)
        settled_, along, agreed = settled(a, b, about)
        share = agreed / max(many, 1)
        return Found(settled_, along, share, lean) if share > 0.1 else NOTHING

    def _leaning(self, a: Array, b: Array, turn: Array) -> tuple[Array, Array, Array]:
        """About the turn in the middle row, by how much the last row turned more than the first, and ``b`` (n, 3) as it would lie had all rows been
        read out at once; where that explains no more corners than one turn does, as it was. Nothing is known of it where near things pass by."""
        across, down = ((self.lens.place(a) + self.lens.place(b)) / 2 / self.region[2:] - 0.5).T
        rows = {0: down, 90: -across, 180: -down, 270: across}[self.turn]
        found = turn
        lean, agreed = np.zeros(3), np.linalg.norm(a @ turn.T - b, axis=1) < COARSE
        for within in (*[COARSE] * 6, *np.geomspace(COARSE, AGREES, 6)):
            if agreed.sum() < LEAST or rows[agreed].std() < SPREAD:
                return turn, np.zeros(3), b
            at = a @ found.T
            # What lies at p and turns by e goes e × p, which is −[p]× e.
            by = np.concatenate([-_crosses(at[agreed]), -rows[agreed][:, None, None] * _crosses(at[agreed])], axis=2).reshape(-1, 6)
            moved = np.linalg.lstsq(by, (_undone(b, rows, lean) - at)[agreed].ravel(), rcond=None)[0]
            found, lean = turning(moved[:3]) @ found, lean + moved[3:]
            left = np.linalg.norm(a @ found.T - _undone(b, rows, lean), axis=1)
            agreed = left < within
        _, along, many = settled(a, b, turn)
        explained = (left < 0.7 * AGREES).sum()
        if along.any() and explained < PASSES * many:  # something near passes by, which may lean, too
            return turn, np.zeros(3), b
        if not along.any() and explained < LEANS * many:
            return turn, lean, b
        return found, lean, _undone(b, rows, lean)

    def _followed(
        self, before: NDArray[np.uint8], now: NDArray[np.uint8], corners: list[NDArray[np.float32]], turn: Array
    ) -> tuple[Array, Array, int]:
        """(n, 3) directions in the frame before and in this, and of how many; ``turn``: through which ``now`` was looked at."""
        import cv2

        a, b, many = [np.zeros((0, 3))], [np.zeros((0, 3))], 0
        for n, at in enumerate(corners):
            if not len(at):
                continue
            there, found, _ = cv2.calcOpticalFlowPyrLK(before[n], now[n], at, np.empty_like(at), winSize=AROUND, maxLevel=4)
            back, again, _ = cv2.calcOpticalFlowPyrLK(now[n], before[n], there, np.empty_like(at), winSize=AROUND, maxLevel=4)
            off = np.linalg.norm((back - at).reshape(-1, 2), axis=1)
            good = (found.ravel() == 1) & (again.ravel() == 1) & (off < BACK)
            one, other = _directions(n, at.reshape(-1, 2)), _directions(n, there.reshape(-1, 2)) @ turn.T
            # What no lens saw has no corners; views overlap, and each corner is one view's own.
            mine = (np.abs(one @ _axes()[n]).argmax(axis=1) == 1) & (self.lens.margin(one) > 2) & (self.lens.margin(other) > 2)
            many += int(mine.sum())
            a.append(one[good & mine])
            b.append(other[good & mine])
        return np.concatenate(a), np.concatenate(b), many


def _crosses(p: Array) -> Array:
    """(n, 3, 3) of p (n, 3): what makes p × of a vector."""
    x, y, z = p.T
    zero = np.zeros_like(x)
    return np.stack([zero, -z, y, z, zero, -x, -y, x, zero], axis=1).reshape(-1, 3, 3)


def _undone(b: Array, rows: Array, lean: Array) -> Array:
    """(n, 3) turned back by a part of ``lean`` that goes with the row."""
    return np.einsum("nij,nj->ni", turning(-rows[:, None] * lean), b)


def _axis(turn: Array) -> Array:
    """Degrees by which the camera turned where what is recorded turned by ``turn``: the other way."""
    return np.asarray(-np.degrees(turned_about(turn)))


@lru_cache(maxsize=1)
def _axes() -> Array:
    return np.stack([rotation(h, t) for h, t in VIEWS])


@lru_cache(maxsize=1)
def _grid() -> NDArray[np.float32]:
    """(views, SIDE, SIDE, 3) directions of every pixel of the views."""
    at = ((np.arange(SIDE) + 0.5) / SIDE * 2 - 1) * REACH
    x, y = np.meshgrid(at, -at)
    return np.stack([np.stack([x, np.ones_like(x), y], axis=-1) @ turn.T for turn in _axes()]).astype(np.float32)


def _directions(view: int, at: NDArray[np.integer | np.floating]) -> Array:
    """Unit (n, 3) of places (n, 2) in a view, 0 the middle of its first pixel."""
    x, y = ((at.astype(np.float64) + 0.5) / SIDE * 2 - 1).T * REACH
    d = np.stack([x, np.ones_like(x), -y], axis=-1)
    return np.asarray(d / np.linalg.norm(d, axis=-1, keepdims=True) @ _axes()[view].T)


def _mapped(lens: Directions, size: tuple[int, ...], shape: tuple[int, ...], turn: Array) -> NDArray[np.float32]:
    """(views, SIDE, SIDE, 2) places in a picture of ``shape`` of directions turned by ``turn``."""
    scale = np.array([shape[1] / size[0], shape[0] / size[1]])
    seen: Any = _grid() @ turn.T.astype(np.float32)  # single precision is enough to look, and sooner done
    return np.ascontiguousarray(lens.place(seen) * scale - 0.5, np.float32)


@lru_cache(maxsize=4)
def _maps(lens: Directions, size: tuple[int, ...], shape: tuple[int, ...]) -> NDArray[np.float32]:
    return _mapped(lens, size, shape, np.eye(3))


def _corners(view: Picture) -> NDArray[np.float32]:
    """(n, 1, 2) of the better ones all over a view."""
    import cv2

    found = cv2.goodFeaturesToTrack(view, CORNERS, 0.02, SIDE / 22)
    if found is None or float(view.max()) - float(view.min()) < 8:
        return np.zeros((0, 1, 2), np.float32)
    return found.astype(np.float32)


def turned_to(a: Array, b: Array) -> Array:
    """The rotation (3, 3) that brings directions ``a`` (n, 3) nearest to ``b`` (Kabsch 1976)."""
    u, _, vt = np.linalg.svd(b.T @ a)
    return np.asarray(u @ np.diag([1.0, 1.0, np.linalg.det(u @ vt)]) @ vt)


def voted(a: Array, b: Array, within: float) -> tuple[Array, NDArray[np.bool_]] | None:
    """The rotation that most pairs of directions agree on, within radians, and which; None if too few do.

    Where what agrees stands still in the picture, and enough of the rest turns as one, that is the world, and what stands still a vehicle.
    """
    best = _most(a, b, within)
    if best is None or np.linalg.norm(turned_about(best[0])) > STILL:
        return best
    rest = ~best[1]
    if rest.sum() < max(LEAST, OTHER * len(a)):
        return best
    world = _most(a[rest], b[rest], within)
    if world is None or world[1].sum() < max(LEAST, OTHER * len(a)) or np.linalg.norm(turned_about(world[0])) < TURNS:
        return best
    return world[0], np.linalg.norm(a @ world[0].T - b, axis=1) < within


def _most(a: Array, b: Array, within: float) -> tuple[Array, NDArray[np.bool_]] | None:
    if len(a) < LEAST:
        return None
    rng = np.random.default_rng(1)
    one, two = rng.integers(0, len(a), (2, 160))
    keep = np.linalg.norm(np.cross(a[one], a[two]), axis=1) > 0.2
    one, two = one[keep], two[keep]

    def frames(d: Array) -> Array:
        first = d[one] + d[two]
        first = first / np.linalg.norm(first, axis=1, keepdims=True)
        third = np.cross(d[one], d[two])
        third = third / np.maximum(np.linalg.norm(third, axis=1, keepdims=True), 1e-12)
        return np.stack([first, np.cross(third, first), third], axis=-1)

    turns = frames(b) @ np.swapaxes(frames(a), 1, 2)
    off = a @ np.swapaxes(turns, 1, 2) - b
    if not len(off):
        return None
    votes = ((off * off).sum(axis=2) < within * within).sum(axis=1)
    turn = turns[int(votes.argmax())]
    agreed = np.linalg.norm(a @ turn.T - b, axis=1) < within
    for _ in range(3):
        if agreed.sum() < LEAST:
            return None
        turn = turned_to(a[agreed], b[agreed])
        agreed = np.linalg.norm(a @ turn.T - b, axis=1) < within
    return turn, agreed


def settled(a: Array, b: Array, turn: Array) -> tuple[Array, Array, int]:
    """The rotation from ``a`` to ``b`` to the last, the direction of travel (0 where nothing tells it), and how many pairs agree."""
    for within in (2 * AGREES, AGREES, AGREES, 0.7 * AGREES):
        agreed = np.linalg.norm(a @ turn.T - b, axis=1) < within
        if agreed.sum() < LEAST:
            break
        turn = turned_to(a[agreed], b[agreed])
    near = np.linalg.norm(b @ turn - a, axis=1) < 0.7 * AGREES
    if near.mean() > 1 - NEARER:
        return turn, np.zeros(3), int(near.sum())
    passed, along, agreed_ = _travelled(a, b, turn)
    # Of corners at random a line would have many more than a place has: it must explain half of what a turn alone does not.
    if agreed_ - near.sum() < (len(a) - near.sum()) / 2:
        return turn, np.zeros(3), int(near.sum())
    return passed, along, agreed_


def _travelled(a: Array, b: Array, turn: Array) -> tuple[Array, Array, int]:
    """The same where near things pass: each corner's way goes along its great circle through where the camera travels to. Two corners
    that go far say where that would be; each such guess is bettered together with the turn, and the one that most agree with stays."""
    off = b @ turn - a
    far = np.argsort(-np.linalg.norm(off, axis=1))[: max(12, len(a) // 2)]
    rng = np.random.default_rng(1)
    circles = np.cross(a, off)
    along = np.cross(circles[rng.choice(far, GUESSES)], circles[rng.choice(far, GUESSES)])
    along = along[np.linalg.norm(along, axis=1) > 1e-12]
    if not len(along):
        return turn, np.zeros(3), 0
    along = along / np.linalg.norm(along, axis=1, keepdims=True)
    turns = np.broadcast_to(turn, (len(along), 3, 3))
    for wide in (6.0, 4.0, 3.0, 2.0, 1.5):
        turns, along = _bettered(a, b, turns, along, wide * AGREES / 2)
    best = _agreed(a, b, turns, along)[0].argsort()[-3:]
    turns, along = turns[best], along[best]
    for _ in range(10):
        turns, along = _bettered(a, b, turns, along, AGREES / 2)
    score, many, back = _agreed(a, b, turns, along)
    n = int(score.argmax())
    return turns[n], along[n] * (-1 if back[n] else 1), int(many[n])


def _cross(a: Array, b: Array) -> Array:
    """As ``np.cross``, sooner done for many."""
    x, y, z = a[..., 0], a[..., 1], a[..., 2]
    u, v, w = b[..., 0], b[..., 1], b[..., 2]
    return np.stack([y * w - z * v, z * u - x * w, x * v - y * u], axis=-1)


def _lies(a: Array, b: Array, turns: Array, along: Array) -> tuple[Array, Array, Array, Array]:
    """Of guesses (k): what each corner (n) still goes, (k, n, 3), by how much of it square to its circle, (k, n), the unit vectors that
    are, and how far each corner is from where the camera goes to or comes from, 0 … 1."""
    off = b @ turns - a
    square = _cross(along[:, None], a)
    far = np.sqrt((square * square).sum(axis=-1))
    square = square / np.maximum(far, 1e-9)[..., None]
    return off, (square * off).sum(axis=-1), square, far


def _bettered(a: Array, b: Array, turns: Array, along: Array, scale: float) -> tuple[Array, Array]:
    """One step (Gauss and Newton) of the turns and the directions of travel together, corners weighed by how far they are off (Geman and
    McClure 1987)."""
    off, error, square, far = _lies(a, b, turns, along)
    weight = (far > BEHIND) / (1 + (error / scale) ** 2) ** 2
    aside = np.cross(along, np.where(np.abs(along[:, :1]) < 0.6, [1.0, 0.0, 0.0], [0.0, 1.0, 0.0]))
    aside = aside / np.linalg.norm(aside, axis=1, keepdims=True)
    sides = np.stack([aside, np.cross(along, aside)], axis=1)
    moved = _cross(a, off) / np.maximum(far, BEHIND)[..., None] @ np.swapaxes(sides, 1, 2)
    by = np.concatenate([_cross(a, square), -moved], axis=-1)
    weighed = np.swapaxes(by * weight[..., None], 1, 2)
    move = np.linalg.solve(weighed @ by + 1e-7 * np.eye(5), weighed @ error[..., None])[..., 0]
    along = along + np.einsum("ks,ksi->ki", np.clip(move[:, 3:], -0.3, 0.3), sides)
    return turns @ turning(np.clip(move[:, :3], -0.05, 0.05)), along / np.linalg.norm(along, axis=1, keepdims=True)


def _agreed(a: Array, b: Array, turns: Array, along: Array) -> tuple[Array, NDArray[np.int64], NDArray[np.bool_]]:
    """How well corners agree with guesses (k), how many do, and is it travelled the other way?"""
    off, error, _, far = _lies(a, b, turns, along)
    weight = (far > BEHIND) / (1 + (error / AGREES) ** 2) ** 2
    onwards = (off * along[:, None]).sum(axis=-1) - (off * a).sum(axis=-1) * (a @ along.T).T  # what is passed goes the other way
    return weight.sum(axis=1), (np.abs(error) < AGREES).sum(axis=1), (onwards * weight).sum(axis=1) > 0


def steps(rows: Rows) -> Array:
    """(frames, 3) degrees by which the camera turned from frame to frame; over frames that are not known as before and after."""
    made, unknown = np.array(rows[:, TURN], np.float64), rows[:, SURE] <= 0
    if unknown.any() and not unknown.all():
        at = np.arange(len(made))
        near = np.abs(at[unknown][:, None] - at[~unknown][None]).min(axis=1)
        for c in range(3):
            made[unknown, c] = np.where(near <= 2, np.interp(at[unknown], at[~unknown], made[~unknown, c]), 0.0)
    return made


def readout(rows: Rows) -> tuple[float, float] | None:
    """From the first row read out to the last, in frames, and its standard error; None where it gathers too little speed to tell, or was seen through
    no round lens: the last row turned by as much more as the camera turned faster meanwhile."""
    known = rows[:, SURE] > 0
    pairs = np.flatnonzero(known[1:-1] & known[2:] & known[:-2] & rows[1:-1, LEAN].any(axis=1)) + 1 if len(rows) > 3 else np.zeros(0, int)
    if len(pairs) < 12:
        return None
    speed = through(np.cumsum(steps(rows), axis=0), np.arange(len(rows)), 1)
    return read_out((speed[pairs] - speed[pairs - 1]).ravel(), rows[pairs, LEAN].astype(np.float64).ravel())


def stood(rows: Rows) -> Array:
    """(frames, 3, 3) how the camera stands against its first frame: its axes in those of the first. What is known since longer
    ago is shared out among the frames between."""
    turns = turning(np.radians(steps(rows)))
    for n in range(FAR, len(rows), FAR):
        if rows[n, FIRM] <= 0:
            continue
        between = turns[n - FAR + 1 : n + 1]
        walked = np.linalg.multi_dot(list(between))
        left = turned_about(walked.T @ turning(np.radians(rows[n, FARTHER].astype(np.float64))))
        if np.linalg.norm(left) > FAR * AGREES:
            continue
        after = np.eye(3)
        for k in range(FAR - 1, -1, -1):  # the same small turn of the last frame's, seen from each
            between[k] = between[k] @ turning(after @ left / FAR)
            after = turns[n - FAR + 1 + k] @ after
    made = np.empty((len(turns), 3, 3))
    now = np.eye(3)
    for n, step in enumerate(turns):
        now = now @ step
        made[n] = now
    return made
