"""What a round lens does to angles, from points that are followed while the camera turns or travels (self-calibration).

Two lenses that meet show only their rims to each other. While the camera turns, each point crosses a lens, and all of them turn by one
angle: lens law, centre and every turn are solved together (bundle adjustment of directions; Triggs et al. 2000). What is near moves
along the line of travel as well, by as much as nobody knows: only what is square to that line counts of it (Longuet-Higgins and
Prazdny 1980). The law is a polynomial of the angle (Kannala and Brandt 2006), near which the published laws lie.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..look import turns
from ..space.sphere import Array, Lens, Round, turned_about, turning

if TYPE_CHECKING:
    from scipy.sparse import csr_matrix

TERMS = 3  # of the polynomial, beside the first
USUAL = (0.0005, 0.0005, 0.05, 0.1, 0.05, 0.02)  # centre x and y as shares of the radius; ln of the focal length; k1, k2, k3: how far they lie off
ALIKE = 12.0  # times as near as that two lenses of one camera are to each other
PIXELS = 0.25  # by which a followed point is usually off, of a view's
PAIRS, SOON, LONGEST = 16, 0.3, 2.0  # of frames, and seconds that they lie apart at first and at most
HOPED = 5  # pairs without a turn, after which no more are tried
SOME, MOST = 4.0, 14.0  # degrees of a turn between two frames, that say much and can still be followed
ROUNDS = 2
DOUBTED = 2.0  # degrees, from which on nothing was solved
TURNED = 12.0  # degrees of turns, all together, from which on a lens can be solved
LEAST = 200  # points in each lens
STEPS, STEP = 12, 1e-5  # of the solver, and by which unknowns are moved to see what that does
FLOOR = 0.1  # degrees that following itself may be off by, however much is followed
TANGLED = 1.6  # times as far off as points that had nothing to do with each other would leave it
STAYS = 0.6  # share of a pair's points that must go nowhere for the camera to have turned only
MARGIN = 5.0  # degrees inside the rim: the rim stands still, whatever the camera does


class AngleError(msgspec.Struct, frozen=True):
    """How far a direction at ``angle`` degrees from a lens's axis may be off, in degrees (95 %)."""

    angle: float
    degrees: float


class Law(msgspec.Struct, frozen=True):
    """What was solved of the lenses: ``error``: degrees by which directions may be off over the whole of each (95 %), ``by_angle`` the same
    from the axis to the rim; ``points`` followed, through so many degrees; ``nearest``: the published law that lies nearest to the first, and
    ``nearest_off``: degrees by which it lies off at most."""

    error: float
    by_angle: tuple[AngleError, ...]
    points: int
    turned: float
    nearest: str
    nearest_off: float

    @property
    def saw(self) -> str:
        return f"Every direction in the lenses is known to ±{self.error:.2f}°; their law is nearly {self.nearest}."


@dataclass(frozen=True)
class Tracks:
    """``first`` and ``second`` (n, 2): recorded places of the same thing in two frames; ``pair`` (n,) of which frames, ``lens`` (n,) in which.
    ``turn`` (pairs, 3): about how what is recorded turned, as a vector in radians; ``line`` (pairs, 3): about where the camera travelled."""

    first: Array
    second: Array
    pair: NDArray[np.int64]
    lens: NDArray[np.int64]
    turn: Array
    line: Array


def published(name: str, angle: Array) -> Array:
    """r / f of ``angle`` in radians from the axis, by a published law (Miyamoto 1964); orthographic: to a right angle."""
    laws = {
        "equidistant": lambda a: a,
        "equisolid": lambda a: 2 * np.sin(a / 2),
        "stereographic": lambda a: 2 * np.tan(a / 2),
        "orthographic": lambda a: np.sin(np.minimum(a, np.pi / 2)),
    }
    return np.asarray(laws[name](angle))


LAWS = ("equidistant", "equisolid", "stereographic", "orthographic")


def bend_of(law: str, across: float) -> tuple[float, ...]:
    """The polynomial of ``Lens`` that draws as a published law does, for a lens that sees ``across`` degrees.

    >>> bend_of("equidistant", 200.0)
    (0.0, 0.0, 0.0)
    """
    angle = np.linspace(0.02, np.radians(min(across, 178.0) / 2), 256)
    by = np.stack([angle ** (2 * n + 3) for n in range(TERMS)], axis=-1)
    found = np.linalg.lstsq(by, published(law, angle) - angle, rcond=None)[0]
    return tuple(round(float(v), 6) + 0.0 for v in found)


def law_of(bend: tuple[float, ...], across: float) -> str | None:
    """The published law whose ``bend_of`` it is; None of none or of another.

    >>> law_of(bend_of("equisolid", 190.0), 190.0)
    'equisolid'
    """
    return next((law for law in LAWS if bend == bend_of(law, across)), None)


def chosen(
    picture: Callable[[int], turns.Picture], length: int, rate: float, analysis: turns.Turns, count: int = PAIRS
) -> list[tuple[turns.Picture, turns.Picture]]:
    """Pairs of frames all over a take of ``length`` between which the camera turned by some degrees; where it does not, as far apart as
    ``LONGEST`` seconds."""
    made, gap, turned = [], max(1, round(SOON * rate)), 0.0
    for tried, start in enumerate(sorted({int((moment + 0.5) * length / (count + 1)) for moment in range(count)})):
        if tried == HOPED and turned < SOME:
            return []  # on a tripod, or of a vehicle that fills the picture
        one, best = picture(start), None
        for _ in range(4):
            end = min(start + gap, length - 1)
            if end <= start:
                break
            other = picture(end)
            far = analysis.turned(analysis.looked(0, one), analysis.looked(1, other))
            best = (one, other, far) if far is not None else best
            if far is None or far > MOST:
                gap = max(1, gap // 2)
            elif far < SOME and gap < LONGEST * rate:
                gap *= 2
            else:
                break
        if best is not None:
            made.append(best[:2])
            turned += best[2]
    return made


def tracks(pairs: Iterable[tuple[turns.Picture, turns.Picture]], analysis: turns.Turns, lens: Round) -> Tracks:
    """Points of each pair of frames, as ``Turns.picture`` makes them, that are followed from the first to the second within one lens."""
    first, second, pair, which, lines = [], [], [], [], []
    turned: list[Array] = []
    for one, other in pairs:
        found = analysis.followed(analysis.looked(0, one), analysis.looked(1, other))
        if found is None:
            continue
        a, b, turn, along = found
        axes = np.stack([v.axes[:, 1] for v in lens.lenses])
        mine = (a @ axes.T).argmax(axis=1)
        stays = mine == (b @ axes.T).argmax(axis=1)
        inside = np.minimum(lens.margin(a), lens.margin(b)) > MARGIN
        kept = stays & inside
        first.append(lens.place(a[kept]))
        second.append(lens.place(b[kept]))
        which.append(mine[kept])
        pair.append(np.full(kept.sum(), len(turned)))
        turned.append(turned_about(turn))
        lines.append(turn @ along if along.any() else np.array([0.0, 1.0, 0.0]))
    if not turned:
        return Tracks(np.zeros((0, 2)), np.zeros((0, 2)), np.zeros(0, np.int64), np.zeros(0, np.int64), np.zeros((0, 3)), np.zeros((0, 3)))
    return Tracks(np.concatenate(first), np.concatenate(second), np.concatenate(pair), np.concatenate(which), np.array(turned), np.array(lines))


def enough(found: Tracks, lenses: int) -> bool:
    """Did the camera turn far enough, with enough to follow in each lens?"""
    far = float(np.degrees(np.linalg.norm(found.turn, axis=1)).sum())
    return far >= TURNED and all((found.lens == n).sum() >= LEAST for n in range(lenses))


def by_turning(pairs: Sequence[tuple[turns.Picture, turns.Picture]], analysis: turns.Turns, turn: Array) -> tuple[Round, Law] | None:
    """The lenses that ``analysis`` looks through, solved; None if the camera hardly turned, or what was solved is too unsure. ``turn``: how the
    second stands (see ``JoinSettings.turn``)."""
    if not isinstance(taken := analysis.lens, Round):
        return None
    found = None
    for _ in range(ROUNDS):
        followed = tracks(pairs, analysis, analysis.lens)  # type: ignore[arg-type]
        if not enough(followed, len(taken.lenses)):
            return None
        found = solved(followed, analysis.lens, turn)  # type: ignore[arg-type]
        # What was followed through other lenses is followed again through these; the discs still say where their centres lie.
        centred = tuple(replace(v, x=t.x, y=t.y) for v, t in zip(found[0].lenses, taken.lenses, strict=True))
        analysis = replace(analysis, lens=Round(taken.size, centred))
    return found if found is not None and found[1].error < DOUBTED else None


class _Solver:
    """The unknowns: of each lens centre, focal length and bends, in what they are ``USUAL``ly off; of each pair the turn and the line of
    travel. ``stand``: how each lens's directions stand in the camera's."""

    def __init__(self, found: Tracks, taken: Round, stand: Sequence[Array]) -> None:
        self.found, self.taken, self.stand = found, taken, stand
        self.each = 3 + TERMS
        self.lenses, self.pairs = len(taken.lenses), len(found.turn)
        self.laws = self.each * self.lenses
        self.poses = self.laws + 3 * self.pairs  # where the lines of travel begin, one for each lens: a turn moves two lenses two ways
        self.line = found.pair * self.lenses + found.lens
        self.start = np.concatenate([np.zeros(self.laws), found.turn.ravel(), np.repeat(found.line, self.lenses, axis=0).ravel()])
        self.stays = np.ones(len(found.pair))  # 1 of points of pairs between which the camera turned and hardly travelled
        self.table = np.radians(np.linspace(0, 130, 2048))

    def law(self, v: Array, n: int) -> tuple[float, float, float, Array]:
        """(x, y, focal length in pixels a radian, bends) of lens ``n``."""
        lens = self.taken.lenses[n]
        mine = v[n * self.each : (n + 1) * self.each] * np.array(USUAL[: self.each])
        bend = np.zeros(TERMS)
        bend[: len(lens.bend)] = lens.bend[:TERMS]
        return lens.x + mine[0] * lens.radius, lens.y + mine[1] * lens.radius, lens.radius / lens.rim * float(np.exp(mine[2])), bend + mine[3:]

    def grown(self, bend: Array, angle: Array) -> Array:
        return np.asarray(angle * (1 + sum(k * angle ** (2 * i + 2) for i, k in enumerate(bend))))

    def directions(self, v: Array, place: Array, which: NDArray[np.int64]) -> Array:
        out = np.empty((len(place), 3))
        for n in range(self.lenses):
            x, y, focal, bend = self.law(v, n)
            rising = np.maximum.accumulate(self.grown(bend, self.table) + 1e-9 * np.arange(len(self.table)))
            across, up = place[:, 0] - x, y - place[:, 1]
            r = np.hypot(across, up)
            angle = np.interp(r / focal, rising, self.table)
            side = np.sin(angle) / np.maximum(r, 1e-9)
            local = np.stack([across * side, np.cos(angle), up * side], axis=-1) @ self.taken.lenses[n].axes.T @ self.stand[n]
            out = np.where((which == n)[:, None], local, out)
        return out

    def places(self, v: Array, d: Array, which: NDArray[np.int64]) -> Array:
        """Inverse of ``directions``."""
        out = np.empty((len(d), 2))
        for n in range(self.lenses):
            x, y, focal, bend = self.law(v, n)
            local = d @ self.stand[n].T @ self.taken.lenses[n].axes
            side = np.hypot(local[:, 0], local[:, 2])
            r = focal * self.grown(bend, np.arctan2(side, local[:, 1])) / np.maximum(side, 1e-9)
            out = np.where((which == n)[:, None], np.stack([x + local[:, 0] * r, y - local[:, 2] * r], axis=-1), out)
        return out

    def rest(self, v: Array) -> tuple[Array, Array]:
        """Pixels by which the second place lies off the first one, turned: square to the line of travel, and along it."""
        f = self.found
        turn = turning(v[self.laws : self.poses].reshape(-1, 3))
        turned = np.einsum("nij,nj->ni", turn[f.pair], self.directions(v, f.first, f.lens))
        expected = self.places(v, turned, f.lens)
        line = v[self.poses :].reshape(-1, 3)[self.line]
        onwards = line - (line * turned).sum(-1, keepdims=True) * turned
        onwards = onwards / np.maximum(np.linalg.norm(onwards, axis=-1, keepdims=True), 1e-9)
        along = self.places(v, turned + 1e-4 * onwards, f.lens) - expected
        along = along / np.maximum(np.linalg.norm(along, axis=-1, keepdims=True), 1e-12)
        off = f.second - expected
        return off[:, 0] * along[:, 1] - off[:, 1] * along[:, 0], (off * along).sum(-1)

    def weighed(self, v: Array, fine: float, tamed: float) -> Array:
        """Of each point what is square to its line, and what is along it, (2n,), as much as it may count."""
        across, along = self.rest(v)
        tame = np.sign(across) * tamed * np.sqrt(np.log1p((across / tamed) ** 2))
        near = along / np.sqrt(1 + (along / tamed) ** 2)  # what is near goes as far as it likes along the line (Geman and McClure 1987)
        return np.concatenate([tame, self.stays * near]) / fine

    def jacobian(self, v: Array, fine: float, tamed: float) -> tuple[Array, csr_matrix]:
        """``weighed``, and its derivatives; each point hangs on its own lens, turn and line only, so that few differences tell all."""
        from scipy.sparse import csr_matrix

        base = self.weighed(v, fine, tamed)
        n = len(self.found.pair)
        groups = [self.found.lens * self.each + i for i in range(self.each)]
        groups += [self.laws + 3 * self.found.pair + i for i in range(3)] + [self.poses + 3 * self.line + i for i in range(3)]
        columns, values = [], []
        for column in groups:
            moved = v.copy()
            moved[np.unique(column)] += STEP
            values.append((self.weighed(moved, fine, tamed) - base) / STEP)
            columns.append(np.concatenate([column, column]))
        rows = np.tile(np.arange(2 * n), len(groups))
        return base, csr_matrix((np.concatenate(values), (rows, np.concatenate(columns))), shape=(2 * n, len(v)))

    def prior(self, v: Array) -> Array:
        """How strongly each unknown is held to what it began as: lenses to what they are usually like, the rest to nothing."""
        return np.where(np.arange(len(v)) < self.laws, 1.0, 1e-6)

    def likeness(self) -> Array:
        """(unknowns, unknowns): how strongly two lenses of a camera are held to one law, whatever their centres are."""
        made = np.zeros((len(self.start), len(self.start)))
        if self.lenses == 2:
            for i in range(2, self.each):
                made[np.ix_([i, self.each + i], [i, self.each + i])] = np.array([[1, -1], [-1, 1]]) * ALIKE**2
        return made

    def bettered(self, v: Array, fine: float, tamed: float, steps: int) -> Array:
        """The unknowns after some steps of Levenberg and Marquardt (1963)."""
        damped, held = 1e-3, np.diag(self.prior(v)) + self.likeness()

        def cost(x: Array) -> float:
            return float((self.weighed(x, fine, tamed) ** 2).sum() + x @ held @ x)

        now = cost(v)
        for _ in range(steps):
            rest, jac = self.jacobian(v, fine, tamed)
            square = (jac.T @ jac).toarray() + held
            pull = jac.T @ rest + held @ v
            before = now
            for _ in range(6):
                moved = v - np.linalg.solve(square + damped * np.diag(np.diag(square)), pull)
                lines = moved[self.poses :].reshape(-1, 3)
                lines /= np.maximum(np.linalg.norm(lines, axis=1, keepdims=True), 1e-9)
                if (then := cost(moved)) < now:
                    v, now, damped = moved, then, max(damped / 5, 1e-9)
                    break
                damped *= 5
            if before - now < 1e-5 * before:
                break
        return v


def solved(found: Tracks, taken: Round, turn: Array) -> tuple[Round, Law]:
    """The lenses as what was followed says, and how sure that is; ``turn``: how the second stands (see ``JoinSettings.turn``)."""
    stand = [np.eye(3), turn][: len(taken.lenses)]
    solver = _Solver(found, taken, stand)
    x, degree = solver.start, taken.density * np.radians(1.0)  # pixels
    fine = PIXELS * 105.0 / turns.SIDE * degree
    for tamed in (1.5 * degree, 0.5 * degree, 0.2 * degree, 0.1 * degree):
        x = solver.bettered(x, fine, tamed, STEPS)
        across, along = solver.rest(x)
        solver.stays = _staying(found, along, 4 * fine)
        fine = max(1.48 * float(np.median(np.abs(across))), 0.002 * degree)
    tamed = max(3 * fine, 0.03 * degree)
    x = solver.bettered(x, fine, tamed, STEPS)
    _, jac = solver.jacobian(x, fine, tamed)
    doubt = np.linalg.pinv((jac.T @ jac).toarray() + np.diag(solver.prior(x)) + solver.likeness())[: solver.laws, : solver.laws]
    lenses, by_angle = [], []
    for n, lens in enumerate(taken.lenses):
        x_, y_, focal, bend = solver.law(x, n)
        rising = solver.grown(bend, solver.table)
        top = int(np.argmax(np.diff(rising) <= 0)) or len(rising) - 1
        wide = 2 * float(np.degrees(np.interp(lens.radius / focal, rising[: top + 1], solver.table[: top + 1])))
        lenses.append(replace(lens, x=x_, y=y_, across=wide, bend=tuple(float(k) for k in bend)))
        by_angle.append(_errors(solver, x, n, doubt, wide))
    worst = np.max(by_angle, axis=0)
    angles = np.linspace(0, max(v.across for v in lenses) / 2, len(worst))
    name, off = nearest(lenses[0])
    far = float(np.degrees(np.linalg.norm(found.turn, axis=1)).sum())
    law = Law(
        round(float(np.quantile(worst, 0.95)), 4),
        tuple(AngleError(round(float(a), 1), round(float(e), 4)) for a, e in zip(angles, worst, strict=True)),
        len(found.pair), round(far, 1), name, off,
    )  # fmt: skip
    return Round(taken.size, tuple(lenses)), law


def _staying(found: Tracks, along: Array, within: float) -> Array:
    """1 of points of each pair whose points mostly go nowhere along the line of travel, else 0: there near and far cannot be told apart."""
    calm = np.abs(along) < within
    shares = np.bincount(found.pair, calm, len(found.turn)) / np.maximum(np.bincount(found.pair, minlength=len(found.turn)), 1)
    return (shares > STAYS)[found.pair].astype(np.float64)


def _errors(solver: _Solver, v: Array, n: int, doubt: Array, across: float, count: int = 13) -> Array:
    """Degrees (95 %) at ``count`` angles from the axis of a lens to its rim."""
    lens, angles = solver.taken.lenses[n], np.radians(np.linspace(0, across / 2, count))
    _, _, focal, bend = solver.law(v, n)
    r = focal * solver.grown(bend, angles)
    place = np.stack([lens.x + r, np.full(count, lens.y)], axis=-1)
    which = np.full(count, n)
    base, out = solver.directions(v, place, which), []
    columns = range(n * solver.each, (n + 1) * solver.each)
    for i in columns:
        step = np.zeros_like(v)
        step[i] = 1e-4
        out.append((solver.directions(v + step, place, which) - base) / 1e-4)
    moved = np.stack(out, axis=-1)
    mine = doubt[np.ix_(list(columns), list(columns))]
    variance = np.einsum("nci,ij,ncj->n", moved, mine, moved)
    return np.asarray(np.hypot(2 * TANGLED * np.degrees(np.sqrt(variance)), FLOOR))


def nearest(lens: Lens) -> tuple[str, float]:
    """The published law that draws most nearly as a lens does, at its best focal length, and the degrees that it lies off at most."""
    angle = np.radians(np.linspace(1, min(lens.across / 2, 89.0), 64))
    r = lens.grown(angle) / lens.rim * lens.radius
    tried = {}
    for name in LAWS:
        shape = published(name, angle)
        focal = float((shape * r).sum() / (shape**2).sum())
        rising = published(name, np.radians(np.linspace(0, 90, 2048)))
        back = np.interp(r / focal, rising, np.linspace(0, 90, 2048))
        tried[name] = float(np.abs(back - np.degrees(angle)).max())
    name = min(tried, key=lambda k: tried[k])
    return name, round(tried[name], 3)
