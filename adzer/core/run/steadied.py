"""What a way of steadying makes of a shot, as it is drawn: its way before and after, how fast it shakes, what it spends; what was followed."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..look import motion
from ..look.passes import Rows
from ..look.sampling import cell
from ..media.decode import opened
from ..media.probe import FileFacts
from ..plan import Panel
from ..read.seen import Seen
from ..read.step import turn_of, upright_raster
from ..route import Route, walk
from ..space.looks import RoundLook, SphereLook
from ..space.sphere import angles, direction, rotation
from ..steady import lamp, solve, standing
from ..steady.slow import slow
from ..steady.step import lens_of, pane_of
from .analysing import motion_of, turns_of
from .steadying import answers, as_it_shows, recorded_curve, upright_path

Array = NDArray[np.float64]
SLOWEST = 0.1  # Hz: what is slower is where it goes
CELLS = 12, 7  # across and down, of which each is said to count or not


@dataclass(frozen=True)
class Drawn:
    """``way`` (frames, 2): right and down in recorded pixels, or of a sphere heading and tilt in degrees; ``laid``: the same as delivered, None where
    it is left as it was held. ``hz``: middles of thirds of octaves; ``shakes`` and ``left``: rms in each, before and after. ``spent`` (frames):
    budget that each frame needs, or takes where it eases, None where nothing is spent; ``needed``: the budget with which it would all be done,
    None where any will do. ``lit`` (frames): stops by which its light lies over that of the first frame, and ``evened``: as delivered, None
    where it is left as it is; ``flickers``: stops rms of it that would go."""

    way: Array
    laid: Array | None
    hz: Array
    shakes: Array
    left: Array | None
    spent: Array | None
    needed: float | None = None
    lit: Array | None = None
    evened: Array | None = None
    flickers: float = 0.0


def drawn(rows: Rows, facts: FileFacts, route: Route, seen: Seen | None = None) -> Drawn:
    """Reckoned, of how the picture moved as it was measured; what ``trying.compared`` says was followed again."""
    walked, rate, s = walk(route, facts, seen), float(facts.rate or 25), route.steady
    held, needed, lit, evened, flickers = s.method != "off", None, None, None, 0.0
    if lens_of(walked["steady"].before, walked.draft) is not None:
        stands, spent = standing.stands(rows), None
        moves = solve.unpacked(s.moves, facts.frames, (1, 1)) if held else None
        laid = None if moves is None else stands @ standing.matrices(moves)
        way, shakes = (_headings(v, s.lean) for v in (stands, laid)), [None if v is None else _off(v, rate) for v in (stands, laid)]
        before, after = way
    else:
        turn = turn_of(facts, route.read)
        path, pane = upright_path(rows, turn, s.aspect), pane_of(s, facts, turn)
        moves = solve.unpacked(s.moves, facts.frames, pane.size) if held else None
        before, after = path[:, :2], None if moves is None else path[:, :2] - moves[:, :2]
        shakes = [before, after]
        spent = None if moves is None else 1 - solve.windows(moves, s.budget) if s.eases else solve.spent(moves, pane)
        needed = solve.needed(path, pane, s.method, rate, s.roll, s.cut) if s.method in ("hold", "drift") else None
        curve = recorded_curve(facts, route, seen)
        lit, flickers = lamp.stops(rows, curve), lamp.flickers(rows, curve, rate, s.cut)
        more = lamp.unpacked(s.light, facts.frames) if s.evens else None
        evened = None if more is None else lit + more
    assert before is not None and shakes[0] is not None
    hz = thirds(rate)
    left = None if shakes[1] is None else in_thirds(shakes[1], rate, hz)
    return Drawn(before, after, hz, in_thirds(shakes[0], rate, hz), left, spent, needed, lit, evened, flickers)


def solved(rows: Rows, facts: FileFacts, route: Route, seen: Seen | None = None) -> tuple[dict[str, object], bytes]:
    """Steady's answers, as ``steadying.answers`` has them, with what nobody has said as the footage shows it; and the trace that it leaves,
    (frames, 3) as of ``measure.trace``."""
    found = answers(rows, facts, as_it_shows(rows, facts, route, seen), seen)
    route = route.with_("steady", **found)
    if lens_of((walked := walk(route, facts, seen))["steady"].before, walked.draft) is None:
        size = upright_raster(facts, route.read)
        moves = solve.unpacked(route.steady.moves, facts.frames, size)
        lies = upright_path(rows, turn_of(facts, route.read), route.steady.aspect) - (0.0 if moves is None else moves)
        off = lies[:, :3] - slow(lies[:, :3], float(facts.rate or 25))
    else:
        moves = solve.unpacked(route.steady.moves, facts.frames, (1, 1))
        laid = standing.stands(rows) if moves is None else standing.stands(rows) @ standing.matrices(moves)
        off = standing.trace(laid, float(facts.rate or 25))
    return found, off.astype("<f4").tobytes()


def _headings(stands: Array | None, lean: tuple[float, float]) -> Array | None:
    if stands is None:
        return None
    heading, tilt, _ = angles(rotation(0.0, *lean).T @ stands)
    return np.stack([np.unwrap(heading, period=360), tilt], axis=1)


def _off(stands: Array, rate: float) -> Array:
    return standing.between(standing.calm(stands, rate, SLOWEST), stands)


def thirds(rate: float) -> Array:
    """Hz, from a quarter up to half the rate.

    >>> thirds(25.0).round(2).tolist()[:4], float(thirds(25.0)[-1].round(1))
    ([0.25, 0.31, 0.4, 0.5], 10.1)
    """
    return np.asarray(0.25 * 2 ** (np.arange(int(3 * np.log2(rate / 2 / 0.25 / 2 ** (1 / 6))) + 1) / 3))


def in_thirds(values: Array, rate: float, hz: Array) -> Array:
    """(bands) rms of a path (frames, n) within a sixth of an octave of each of ``hz``. The ends are faded out, and what is slow leaks a little into
    what is next to it where there are only a few of its swings."""
    n, fade = len(values), np.hanning(len(values) + 2)[1:-1, None]
    steady = np.polynomial.polynomial.polyfit(np.arange(n), values, min(1, n - 1))
    flat = (values - np.polynomial.polynomial.polyval(np.arange(n), steady).T) * fade
    power = (np.abs(np.fft.rfft(flat, 8 * n, axis=0)) ** 2).sum(axis=1) * 2 / (8 * n * (fade**2).sum())
    at = np.fft.rfftfreq(8 * n, 1 / rate)
    return np.sqrt(np.array([power[(at >= f / 2 ** (1 / 6)) & (at < f * 2 ** (1 / 6))].sum() for f in hz]))


def held_lines(panel: Panel, time: float) -> list[Array]:
    """(n, 2) recorded places of the delivered picture's edge, of all but whole spheres; of a sphere also of what is level."""
    found = []
    (w, h), n = panel.size, 24
    along, zero = np.linspace(0, 1, n), np.zeros(n)
    if not isinstance(panel.look, SphereLook):
        x = np.concatenate([along, zero + 1, 1 - along, zero]) * w
        y = np.concatenate([zero, along, zero + 1, 1 - along]) * h
        found.append(panel.recorded(x, y, time))
    if isinstance(panel.look, RoundLook):
        level = direction(np.linspace(-180, 180, 181), np.zeros(181)) @ panel.look.standing(time).T
        patch = panel.patches[0]
        found.append(patch.lens.place(patch.held(level, time)) + np.array(panel.region[:2], np.float64))
    return found


@dataclass(frozen=True)
class Followed:
    """``strokes`` (n, 4): from and to, in shares of the upright recorded picture; ``still`` (n,): which stand still in the world; ``excluded``
    (n, 4): left, top, width, height of parts of the picture in which most go their own way."""

    strokes: Array
    still: NDArray[np.bool_]
    excluded: Array


def followed(facts: FileFacts, route: Route, seen: Seen | None, frame: int) -> Followed:
    """What was followed from the frame before to this one. UnreadableError if it cannot be decoded."""
    walked, turn = walk(route, facts, seen), turn_of(facts, route.read)
    frame = max(1, min(frame, facts.frames - 1))
    with opened(facts.sources, facts.fingerprint) as reader:
        two = list(reader.frames(frame - 1, frame + 1))
    w, h = facts.raster
    if lens_of(walked["steady"].before, walked.draft) is not None:
        kind = turns_of(facts, route, seen)
        a, b, still = kind.strokes(*(kind.prepared(f) for f in two))
        (w, h), turn = upright_raster(facts, route.read), 0  # as it stands already
    else:
        flat, side = motion_of(facts, route), cell(w, motion.WIDE)
        before, now = (flat.prepared(f).picture for f in two)
        found = motion.strokes(before, now, flat.within)
        if found is None:
            return Followed(np.zeros((0, 4)), np.zeros(0, bool), np.zeros((0, 4)))
        a, b, still = found.a * side + (w / 2, h / 2), found.b * side + (w / 2, h / 2), found.agreed
    at = np.concatenate([a / (w, h), b / (w, h)], axis=1)
    for _ in range(turn // 90):  # a quarter clockwise: what was on the left is above
        at = np.stack([1 - at[:, 1], at[:, 0], 1 - at[:, 3], at[:, 2]], axis=1)
    return Followed(at, still, _excluded(at[:, :2], still))


def _excluded(at: Array, still: NDArray[np.bool_]) -> Array:
    across, down = CELLS
    n = np.clip(at * CELLS, 0, np.array(CELLS) - 1).astype(int) @ (1, across)
    all_, own = np.bincount(n, minlength=across * down), np.bincount(n[~still], minlength=across * down)
    cells = np.flatnonzero((own >= 2) & (own * 2 > all_))
    return np.stack([cells % across / across, cells // across / down, np.full(len(cells), 1 / across), np.full(len(cells), 1 / down)], axis=1)
