"""How a picture that shook is to be moved so that it does not, within what may be spent of it: nothing bare can ever enter.

A *path* says how the recorded picture lies against the first, frame by frame: pixels right and down, degrees clockwise, per cent larger
(``look.motion.path``). *Moves* are a path less the one that is wanted: where a steady picture's middle lies in the recorded one.
"""

from __future__ import annotations

import base64
import zlib
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..look.motion import through
from ..space.looks import Turning
from ..space.sphere import turning
from .slow import slow

Array = NDArray[np.float64]
Size = tuple[int, int]
LONGEST = 900  # frames that are solved at once; ``JOINED`` of them again with the next
JOINED = 120
SLOWLY = 0.004  # of a turn a frame: what is slower is where a way really goes
# Of standing still, of going evenly, of gathering speed evenly (Grundmann, Kwatra and Essa 2011); and of lying where the way really went, which
# decides among ways that are as good, so that a pan keeps its speed.
WEIGHTS, NEAR = (0.05, 10.0, 100.0), 0.002


@dataclass(frozen=True)
class Pane:
    """A flat recorded picture as it stands upright: its ``size`` in pixels, each ``aspect`` times as wide as high, and how far its lens is from it
    (``focal``, in heights of a pixel), by which it is turned; None: nobody knows, and it is shifted."""

    size: Size
    focal: float | None = None
    aspect: float = 1.0


def share_inside(moves: Array, pane: Pane, kept: float | Array) -> Array:
    """(frames) 0 … 1, how much of each frame's moves may be made so that a window ``kept`` as large stays in the picture."""
    low, high = np.zeros(len(moves)), np.ones(len(moves))
    good = inside(moves, pane, kept)
    for _ in range(22):
        middle = (low + high) / 2
        fits = inside(moves * middle[:, None], pane, kept)
        low, high = np.where(fits, middle, low), np.where(fits, high, middle)
    return np.where(good, 1.0, low)


def inside(moves: Array, pane: Pane, kept: float | Array) -> NDArray[np.bool_]:
    """(frames) does the window stay in the recorded picture?"""
    size = np.array(pane.size)
    corners = size * np.array([[0, 0], [1, 0], [1, 1], [0, 1]])
    m = matrices(moves, pane, kept)
    at = np.einsum("nij,kj->nki", m[:, :, :2], corners) + m[:, None, :, 2]
    ahead = at[..., 2] > 1e-3  # of a view that is turned so far that a corner lies behind it, nothing is inside
    places = at[..., :2] / np.where(ahead, at[..., 2], 1.0)[..., None]
    return np.asarray((ahead & ((places >= -1e-9) & (places <= size + 1e-9)).all(axis=2)).all(axis=1))


def matrices(moves: Array, pane: Pane, kept: float | Array) -> Array:
    """(frames, 3, 3) of places of the steady picture (its window enlarged to the whole) → recorded ones."""
    wide, middle = pane.aspect, np.array(pane.size) / 2
    turn, grown = np.radians(moves[:, 2]), np.exp(moves[:, 3] / 100) * kept
    c, s = grown * np.cos(turn), grown * np.sin(turn)
    # About the middle, in heights of a pixel.
    made = np.zeros((len(moves), 3, 3))
    made[:, 0, 0], made[:, 0, 1], made[:, 1, 0], made[:, 1, 1], made[:, 2, 2] = c, -s, s, c, 1.0
    x, y = moves[:, 0] * wide, moves[:, 1]
    if pane.focal is None:
        made[:, 0, 2], made[:, 1, 2] = x, y
    else:  # turned as the camera was: its right, down and ahead
        lens = np.diag([1 / pane.focal, 1 / pane.focal, 1.0])
        made = np.linalg.inv(lens) @ turning(np.stack([-y, x, np.zeros_like(x)], axis=1) / pane.focal) @ lens @ made
    here = np.array([[wide, 0, -middle[0] * wide], [0, 1, -middle[1]], [0, 0, 1.0]])
    made = np.linalg.inv(here) @ made @ here
    return np.asarray(made / made[:, 2:, 2:])


def solved(path: Array, pane: Pane, rate: float, method: str, budget: float, roll: bool = True, cut: float = 0.5) -> Array:
    """(frames, 4) moves of a method, all of them inside the budget."""
    path, kept = np.array(path, np.float64), 1 - budget
    if method == "off" or len(path) < 2 or budget <= 0:
        return np.zeros_like(path)
    if method == "hold":
        wanted = np.broadcast_to((path.max(axis=0) + path.min(axis=0)) / 2, path.shape)
    elif method == "drift":
        wanted = slow(path, rate, cut)
    else:
        wanted = _evenly(path, pane, kept, roll)
    moves = path - wanted
    if not roll:
        moves[:, 2] = 0.0
    return _within(moves, pane, rate, budget)


def _within(moves: Array, pane: Pane, rate: float, budget: float) -> Array:
    """As much of the moves as the budget lets be made; a twentieth of a pixel is left for the rounding of what is kept."""
    inner = min(1.0, 1 - budget + 0.1 / min(pane.size))
    return moves * _calm(share_inside(moves, pane, inner), max(2, round(rate / 2)))[:, None]


def locked(
    places: Array, path: Array, at: int, pane: Pane, rate: float, budget: float, roll: bool = True, grows: bool = False
) -> Array:
    """(frames, 4) moves with which a thing that lies at ``places`` (frames, 4: as of a path, its size as a logarithm in per cent) keeps the place of
    frame ``at``, also its turn (``roll``) and size (``grows``); not a number where it was not seen: there it goes as the picture does."""
    frames = np.arange(len(path))
    apart = places - path
    seen = _believed(apart)
    own = np.stack([np.interp(frames, frames[seen], apart[seen, c]) for c in range(4)], axis=1)
    # How the thing itself turns and grows is known less finely than how the picture does, but nothing of that is fast.
    own[:, 2:] = slow(own[:, 2:], rate)
    own += path
    middle = np.array(pane.size) / 2
    moves = np.zeros_like(path)
    if roll:
        moves[:, 2] = own[:, 2] - own[at, 2]
    if grows:  # the budget is spent where it is smallest
        moves[:, 3] = own[:, 3] - own[:, 3].min()
    turn, grown = np.radians(moves[:, 2]), np.exp((moves[:, 3] - moves[at, 3]) / 100)
    x, y = (own[at, :2] - middle) * (pane.aspect, 1.0)
    turned = np.stack([(np.cos(turn) * x - np.sin(turn) * y) / pane.aspect, np.sin(turn) * x + np.cos(turn) * y], axis=1)
    moves[:, :2] = own[:, :2] - middle - grown[:, None] * turned
    return _within(moves, pane, rate, budget)


def _believed(own: Array) -> NDArray[np.bool_]:
    """(frames) which places to believe: seen, and no single ones that lie elsewhere than those just before and after."""
    from scipy.ndimage import median_filter

    seen = np.isfinite(own[:, 0])
    near = own[seen] - median_filter(own[seen], (5, 1), mode="nearest")
    off = np.hypot(near[:, 0], near[:, 1])
    seen[np.flatnonzero(seen)[off > 0.5 + 4 * 1.4826 * np.median(off)]] = False
    return seen


EASES = 2.0  # seconds in which a window that need not be so small opens


def eased(moves: Array, pane: Pane, rate: float, budget: float) -> Array:
    """The same moves in a window that closes in, slowly, only where they need it."""
    need = np.minimum(spent(moves, pane) + 0.1 / min(pane.size), budget)
    window = _calm(1 - need, max(2, round(EASES * rate)))
    return moves + np.log(window / (1 - budget))[:, None] * [0, 0, 0, 100]


def needed(path: Array, pane: Pane, method: str, rate: float, roll: bool = True, cut: float = 0.5) -> float:
    """The budget with which a method is held to the full; above 0.5 it cannot be."""
    wanted = slow(path, rate, cut) if method == "drift" else np.broadcast_to((path.max(axis=0) + path.min(axis=0)) / 2, path.shape)
    moves = path - wanted
    if not roll:
        moves = moves * [1, 1, 0, 1]
    return float(spent(moves, pane).max(initial=0.0))


def spent(moves: Array, pane: Pane) -> Array:
    """(frames) the least budget within which each frame's moves can be made, at most 0.9."""
    low, high = np.zeros(len(moves)), np.full(len(moves), 0.9)
    for _ in range(20):
        middle = (low + high) / 2
        fits = inside(moves, pane, 1 - middle)
        low, high = np.where(fits, low, middle), np.where(fits, middle, high)
    return high


def windows(moves: Array, budget: float) -> Array:
    """(frames) how large a part of each side is left of the recorded picture."""
    return np.asarray((1 - budget) * np.exp(moves[:, 3] / 100))


def _calm(share: Array, reach: int) -> Array:
    """Never above ``share``, and smooth: the least about each frame, then a mean of those with weights that fade."""
    from scipy.ndimage import minimum_filter1d

    least = minimum_filter1d(share, 2 * reach + 1, mode="nearest")
    weights = np.hanning(2 * reach + 3)[1:-1]
    padded = np.concatenate([np.full(reach, least[0]), least, np.full(reach, least[-1])])
    return np.minimum(np.convolve(padded, weights / weights.sum(), "valid"), share)


def _evenly(path: Array, pane: Pane, kept: float, roll: bool) -> Array:
    """The way made of still, even and evenly faster parts that stays within the budget: a linear programme, of long shots piece by piece."""
    wanted = np.array(path)
    start = 0
    while start < len(path):
        stop = min(start + LONGEST, len(path))
        fixed = wanted[start : start + 3] if start else None
        wanted[start:stop] = _programme(path[start:stop], pane, kept, roll, fixed)
        if stop == len(path):
            break
        start = stop - JOINED
    return wanted


def _programme(path: Array, pane: Pane, kept: float, roll: bool, fixed: Array | None) -> Array:
    """One piece. Corners are taken to first order; what that leaves out, ``solved`` takes back."""
    from scipy.optimize import linprog
    from scipy.sparse import block_array, csr_array, diags_array, eye_array, kron

    n, (w, h), wide = len(path), pane.size, pane.aspect
    if n < 4:
        return path
    unit = np.array([1.0, 1.0, np.degrees(2 / w), 100 * 2 / w])  # a turn or a growth that moves the edge by a pixel
    steps = ((-1.0, 1.0), (1.0, -2.0, 1.0), (-1.0, 3.0, -3.0, 1.0))
    differences = [eye_array(n), *(diags_array(list(c), offsets=list(range(len(c))), shape=(n - len(c) + 1, n)) for c in steps)]
    way = (slow(path, 1.0, SLOWLY) / unit).T.ravel()
    size_ = [d.shape[0] for d in differences]
    variables, slacks = 4 * n, 4 * sum(size_)
    rows, limits = [], []
    offset = 0
    for d, many in zip(differences, size_, strict=True):
        big = kron(eye_array(4), d).tocsr()
        own = csr_array((np.ones(4 * many), (np.arange(4 * many), offset + np.arange(4 * many))), shape=(4 * many, slacks))
        rows += [[big, -own], [-big, -own]]
        limits += [way, -way] if many == n else [np.zeros(4 * many)] * 2
        offset += 4 * many
    half = np.array([w, h]) / 2
    room = half * (1 - kept) * 0.98
    for sx, sy in ((-1, -1), (1, -1), (1, 1), (-1, 1)):
        x, y = kept * half * (sx, sy)
        turn, grow, bent = np.radians(unit[2]), unit[3] / 100, 0.0 if pane.focal is None else pane.focal**-2
        right = (1 + x * x * bent * wide**2, x * y * bent, -turn * y / wide, grow * x)
        under = (x * y * bent * wide**2, 1 + y * y * bent, turn * x * wide, grow * y)
        for axis, across in ((0, right), (1, under)):
            big = kron(csr_array(np.array([across])), eye_array(n)).tocsr()
            lies = big @ (path / unit).T.ravel()
            zero = csr_array((n, slacks))
            rows += [[big, zero], [-big, zero]]  # path less wanted lies within the room, both ways
            limits += [lies + room[axis], room[axis] - lies]
    cost = np.concatenate([np.zeros(variables), *[np.full(4 * many, weight) for many, weight in zip(size_, (NEAR, *WEIGHTS), strict=True)]])
    bounds: list[tuple[float | None, float | None]] = [(None, None)] * variables + [(0, None)] * slacks
    if fixed is not None:
        for c in range(4):
            for k in range(3):
                bounds[c * n + k] = (float(fixed[k, c] / unit[c]),) * 2
    if not roll:
        for k in range(n):
            bounds[2 * n + k] = (float(path[k, 2] / unit[2]),) * 2
    made = linprog(cost, A_ub=block_array(rows).tocsr(), b_ub=np.concatenate(limits), bounds=bounds, method="highs")
    if made.x is None:
        return slow(path, 25.0)
    return np.asarray(made.x[:variables].reshape(4, n).T * unit)


def packed(moves: Array, size: Size) -> str:
    """As an answer holds them: in shares of the picture, so that they hold for its proxy, too."""
    return base64.b64encode(zlib.compress(np.asarray(moves / _shares(size), "<f4").tobytes(), 6)).decode()


def _shares(size: Size) -> Array:
    return np.array([size[0], size[1], 1.0, 1.0])


def unpacked(text: str, frames: int, size: Size) -> Array | None:
    """For a picture of that size. None if they are not of so many frames, or not whole."""
    try:
        body = zlib.decompress(base64.b64decode(text, validate=True))
    except (ValueError, zlib.error):
        return None
    if len(body) != 16 * frames:
        return None
    made = np.frombuffer(body, "<f4").reshape(-1, 4).astype(np.float64)
    return made * _shares(size) if np.isfinite(made).all() else None


BETWEEN = 4  # moments a frame at which it is known where rows belong that are read out one after another


def held(moves: Array, pane: Pane, kept: float, times: Array, readout: float = 0.0, goes: Array | None = None) -> Turning:
    """As a patch has it. Of rows read out within ``readout`` seconds between frames, too, and before the first and after the last, where nothing bare
    enters by that; and with where the steady picture ``goes`` meanwhile: (frames, 4) a second, as of a path."""
    frames, way = times, None
    if readout and goes is not None and len(moves) > 3:
        far = goes * [1, 1, 0, 0] * abs(readout) / 2
        fits = inside(moves + far, pane, kept) & inside(moves - far, pane, kept)
        way = goes[:, :2] / kept * _calm(fits.astype(np.float64), 6)[:, None]
    if readout and len(moves) > 3:
        own = times
        ends = np.stack([2 * moves[0] - moves[1], 2 * moves[-1] - moves[-2]])
        ends = np.where(inside(ends, pane, kept)[:, None], ends, moves[[0, -1]])
        moves = np.concatenate([ends[:1], moves, ends[1:]])
        times = np.concatenate([2 * times[:1] - times[1:2], times, 2 * times[-1:] - times[-2:-1]])
        at = np.arange(BETWEEN * (len(times) - 1) + 1) / BETWEEN
        n = np.arange(len(times))
        straight = np.stack([np.interp(at, n, moves[:, c]) for c in range(4)], axis=1)
        bent = through(moves, at)
        moves, times = np.where(inside(bent, pane, kept)[:, None], bent, straight), np.interp(at, n, times)
        way = None if way is None else np.stack([np.interp(times, own, way[:, c]) for c in (0, 1)], axis=1)
    return Turning(np.asarray(times, np.float64), matrices(moves, pane, kept), way, frames)


def going(path: Array, moves: Array, rate: float) -> Array:
    """(frames, 4) how fast, a second, the steady picture goes where it is meant to."""
    return through(path - moves, np.arange(len(path)), 1) * rate if len(path) > 3 else np.zeros_like(path)
