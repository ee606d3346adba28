"""How a picture that shook is to be moved so that it does not, within what may be spent of it: nothing bare can ever enter.

A *path* says how the recorded picture lies against the first, frame by frame: pixels right and down, degrees clockwise, per cent larger
(``look.motion.path``). *Moves* are a path less the one that is wanted: where a steady picture's middle lies in the recorded one.
"""

from __future__ import annotations

import base64
import zlib

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


def share_inside(moves: Array, size: Size, kept: float, focal: float | None = None) -> Array:
    """(frames) 0 … 1, how much of each frame's moves may be made so that a window ``kept`` as large stays in the picture."""
    low, high = np.zeros(len(moves)), np.ones(len(moves))
    good = inside(moves, size, kept, focal)
    for _ in range(22):
        middle = (low + high) / 2
        fits = inside(moves * middle[:, None], size, kept, focal)
        low, high = np.where(fits, middle, low), np.where(fits, high, middle)
    return np.where(good, 1.0, low)


def inside(moves: Array, size: Size, kept: float | Array, focal: float | None = None) -> NDArray[np.bool_]:
    """(frames) does the window stay in the recorded picture?"""
    corners = np.array(size) * np.array([[0, 0], [1, 0], [1, 1], [0, 1]])
    m = matrices(moves, size, kept, focal)
    at = np.einsum("nij,kj->nki", m[:, :, :2], corners) + m[:, None, :, 2]
    ahead = at[..., 2] > 1e-3  # of a view that is turned so far that a corner lies behind it, nothing is inside
    places = at[..., :2] / np.where(ahead, at[..., 2], 1.0)[..., None]
    return np.asarray((ahead & ((places >= -1e-9) & (places <= np.array(size) + 1e-9)).all(axis=2)).all(axis=1))


def matrices(moves: Array, size: Size, kept: float | Array, focal: float | None = None) -> Array:
    """(frames, 3, 3) of places of the steady picture (its window enlarged to the whole) → recorded ones. ``focal``: pixels from the lens to its
    picture, which is turned; None: nobody knows, and it is shifted."""
    middle = np.array(size) / 2
    turn, grown = np.radians(moves[:, 2]), np.exp(moves[:, 3] / 100) * kept
    c, s = grown * np.cos(turn), grown * np.sin(turn)
    made = np.zeros((len(moves), 3, 3))
    made[:, 0, 0], made[:, 0, 1], made[:, 1, 0], made[:, 1, 1], made[:, 2, 2] = c, -s, s, c, 1.0
    made[:, :2, 2] = -np.stack([c * middle[0] - s * middle[1], s * middle[0] + c * middle[1]], axis=1)
    if focal is None:
        made[:, :2, 2] += middle + moves[:, :2]
        return made
    # About the middle, turned as the camera was: its right, down and ahead.
    lens, x, y = np.diag([1 / focal, 1 / focal, 1.0]), moves[:, 0], moves[:, 1]
    turned = turning(np.stack([-y, x, np.zeros_like(x)], axis=1) / focal)
    back = np.array([[focal, 0, middle[0]], [0, focal, middle[1]], [0, 0, 1.0]])
    made = back @ turned @ lens @ made
    return np.asarray(made / made[:, 2:, 2:])


def solved(
    path: Array, size: Size, rate: float, method: str, budget: float, roll: bool = True, cut: float = 0.5, focal: float | None = None
) -> Array:
    """(frames, 4) moves of a method, all of them inside the budget."""
    path, kept = np.array(path, np.float64), 1 - budget
    if method == "off" or len(path) < 2 or budget <= 0:
        return np.zeros_like(path)
    if method == "hold":
        wanted = np.broadcast_to((path.max(axis=0) + path.min(axis=0)) / 2, path.shape)
    elif method == "drift":
        wanted = slow(path, rate, cut)
    else:
        wanted = _evenly(path, size, kept, roll, focal)
    moves = path - wanted
    if not roll:
        moves[:, 2] = 0.0
    inner = min(1.0, kept + 0.1 / min(size))  # a twentieth of a pixel is left for the rounding of what is kept
    return moves * _calm(share_inside(moves, size, inner, focal), max(2, round(rate / 2)))[:, None]


def locked(places: Array, path: Array, at: int, size: Size, rate: float, budget: float, roll: bool = True) -> Array:
    """(frames, 4) moves with which a thing that lies at ``places`` (frames, 2) keeps the place of frame ``at``; not a number where it was not
    seen: there it goes as the picture does."""
    frames = np.arange(len(path))
    seen = _believed(places - path[:, :2])
    own = np.stack([np.interp(frames, frames[seen], (places - path[:, :2])[seen, c]) for c in (0, 1)], axis=1) + path[:, :2]
    middle = np.array(size) / 2
    moves = np.zeros_like(path)
    if roll:
        moves[:, 2] = path[:, 2] - path[at, 2]
    turn = np.radians(moves[:, 2])
    x, y = own[at] - middle
    moves[:, :2] = own - middle - np.stack([np.cos(turn) * x - np.sin(turn) * y, np.sin(turn) * x + np.cos(turn) * y], axis=1)
    inner = min(1.0, 1 - budget + 0.1 / min(size))
    return moves * _calm(share_inside(moves, size, inner), max(2, round(rate / 2)))[:, None]


def _believed(own: Array) -> NDArray[np.bool_]:
    """(frames) which places to believe: seen, and no single ones that lie elsewhere than those just before and after."""
    from scipy.ndimage import median_filter

    seen = np.isfinite(own[:, 0])
    near = own[seen] - median_filter(own[seen], (5, 1), mode="nearest")
    off = np.hypot(near[:, 0], near[:, 1])
    seen[np.flatnonzero(seen)[off > 0.5 + 4 * 1.4826 * np.median(off)]] = False
    return seen


def needed(
    path: Array, size: Size, method: str, rate: float, roll: bool = True, cut: float = 0.5, focal: float | None = None
) -> float:
    """The budget with which a method is held to the full; above 0.5 it cannot be."""
    wanted = slow(path, rate, cut) if method == "drift" else np.broadcast_to((path.max(axis=0) + path.min(axis=0)) / 2, path.shape)
    moves = path - wanted
    if not roll:
        moves = moves * [1, 1, 0, 1]
    return float(spent(moves, size, focal).max(initial=0.0))


def spent(moves: Array, size: Size, focal: float | None = None) -> Array:
    """(frames) the least budget within which each frame's moves can be made, at most 0.9."""
    low, high = np.zeros(len(moves)), np.full(len(moves), 0.9)
    for _ in range(20):
        middle = (low + high) / 2
        fits = inside(moves, size, 1 - middle, focal)
        low, high = np.where(fits, low, middle), np.where(fits, middle, high)
    return high


def _calm(share: Array, reach: int) -> Array:
    """Never above ``share``, and smooth: the least about each frame, then a mean of those with weights that fade."""
    from scipy.ndimage import minimum_filter1d

    least = minimum_filter1d(share, 2 * reach + 1, mode="nearest")
    weights = np.hanning(2 * reach + 3)[1:-1]
    padded = np.concatenate([np.full(reach, least[0]), least, np.full(reach, least[-1])])
    return np.minimum(np.convolve(padded, weights / weights.sum(), "valid"), share)


def _evenly(path: Array, size: Size, kept: float, roll: bool, focal: float | None) -> Array:
    """The way made of still, even and evenly faster parts that stays within the budget: a linear programme, of long shots piece by piece."""
    wanted = np.array(path)
    start = 0
    while start < len(path):
        stop = min(start + LONGEST, len(path))
        fixed = wanted[start : start + 3] if start else None
        wanted[start:stop] = _programme(path[start:stop], size, kept, roll, fixed, focal)
        if stop == len(path):
            break
        start = stop - JOINED
    return wanted


def _programme(path: Array, size: Size, kept: float, roll: bool, fixed: Array | None, focal: float | None) -> Array:
    """One piece. Corners are taken to first order; what that leaves out, ``solved`` takes back."""
    from scipy.optimize import linprog
    from scipy.sparse import block_array, csr_array, diags_array, eye_array, kron

    n, (w, h) = len(path), size
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
        turn, grow, bent = np.radians(unit[2]), unit[3] / 100, 0.0 if focal is None else focal**-2
        both = x * y * bent
        for axis, across in ((0, (1 + x * x * bent, both, -turn * y, grow * x)), (1, (both, 1 + y * y * bent, turn * x, grow * y))):
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


def held(moves: Array, size: Size, kept: float, times: Array, by_row: bool = False, focal: float | None = None) -> Turning:
    """As a patch has it. ``by_row``: between frames, too, and before the first and after the last, where nothing bare enters by that."""
    if by_row and len(moves) > 3:
        ends = np.stack([2 * moves[0] - moves[1], 2 * moves[-1] - moves[-2]])
        ends = np.where(inside(ends, size, kept, focal)[:, None], ends, moves[[0, -1]])
        moves = np.concatenate([ends[:1], moves, ends[1:]])
        times = np.concatenate([2 * times[:1] - times[1:2], times, 2 * times[-1:] - times[-2:-1]])
        at = np.arange(BETWEEN * (len(times) - 1) + 1) / BETWEEN
        n = np.arange(len(times))
        straight = np.stack([np.interp(at, n, moves[:, c]) for c in range(4)], axis=1)
        bent = through(moves, at)
        moves, times = np.where(inside(bent, size, kept, focal)[:, None], bent, straight), np.interp(at, n, times)
    return Turning(np.asarray(times, np.float64), matrices(moves, size, kept, focal))
