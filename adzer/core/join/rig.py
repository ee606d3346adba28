"""What two round lenses are, from where both see: each one's centre, radius and bend, how far apart near things stand, the seam.

``measure.match`` says how they stand with lenses that are believed; here they are doubted, too. What both lenses have in common
(all centres moved alike, all angles stretched alike far from the overlap) cannot be seen where they meet, so the lenses stay as near
to what they were taken for as what is seen allows.
"""

from __future__ import annotations

import json
import re
from collections.abc import Sequence
from dataclasses import dataclass, replace

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..cards import RigCard, RigLens, own_folder, paths
from ..errors import AdzerError
from ..light.curves import Curve
from ..light.samples import Samples
from ..look.alike import placed
from ..media.formats import Plane
from ..space.sphere import Array, Lens, Round, angles, rotation, turning
from . import measure
from .measure import Light, Matched
from .met import Along
from .selfcalibration import Law
from .settings import JoinSettings

LONG, HIGH = 12.0, 3.6  # degrees that a piece is wide round the axis, and high
EVERY = 6.0
ALIKE = 0.8
LEAST = 24  # pieces
DOUBTED = 1.5  # degrees of doubt from which on nothing was measured
LOW = 0.05  # of an upright direction, from which on up nothing is of the ground
ABOUT = 1.8  # degrees round about which a piece is looked for, where it was found to stand
USUAL = (0.001, 0.001, 0.003, 0.01)  # by which lenses are off what they are taken for: centre and radius, in shares of the radius, and k1
GUESSED = (0.001, 0.001, 0.02, 0.003)  # where nobody knows how far they see
SOLVED = (0.0005, 0.0005, 0.0005, 0.0005)  # where the camera turned, and told what they are
FINE = 0.02  # degrees by which the sharpest pieces are found off
NEAR = 0.02  # degrees from which on a thing stands apart
VARIANTS = ("", "in a case", "under water", "with other glass before it")  # in which a camera's lenses are other ones
ACROSS = (186.0, 192.0, 198.0, 204.0, 210.0, 216.0, 222.0)  # degrees that lenses are tried with


class Error(msgspec.Struct, frozen=True):
    """What the two lenses still disagree on where they see the same: ``height`` degrees towards the first from halfway."""

    height: float
    degrees: float
    pixels: float
    pieces: int


class Near(msgspec.Struct, frozen=True):
    """A piece of what both see, ``turned`` degrees round the first's axis from straight up to the right, ``apart`` degrees along the
    axis in the two: the distance between the lenses over its own. ``frame``: of those looked at."""

    turned: float
    apart: float
    frame: int


class Rigged(msgspec.Struct, frozen=True):
    """``matched``: as it was before the lenses were doubted; the rest is after. ``ground``: degrees that even ground
    straight below stands apart, 0 if none is seen. ``along``: None, if the way on which they meet was not looked at. ``law``: what turning
    told of the whole of each lens; None: nothing."""

    matched: Matched
    turn: tuple[float, float, float]
    light: Light
    error: float
    lenses: tuple[RigLens, RigLens]
    errors: tuple[Error, ...]
    near: tuple[Near, ...]
    ground: float
    along: Along | None = None
    law: Law | None = None

    @property
    def saw(self) -> str:
        worst = max(self.errors, key=lambda e: e.degrees)
        fitted = f"{self.matched.saw} Fitted, the lenses agree to {worst.degrees:.3f}° ({worst.pixels:.1f} px) where they agree least."
        return f"{fitted} {self.law.saw}" if self.law is not None else fitted


def answers(found: Rigged) -> dict[str, object]:
    """As ``JoinSettings`` takes them."""
    plain = msgspec.to_builtins(found.lenses)
    whole = found.law.error if found.law is not None else None
    held: dict[str, object] = {"turn": list(found.turn), "error": found.error, "whole": whole, "lenses": plain, **_light(found.light)}
    return held | {"met": msgspec.to_builtins(found.along.met) if found.along is not None else []}


def _light(held: Light | RigCard) -> dict[str, object]:
    return {"gain": list(held.gain), "black": list(held.black), "falls": held.falls}


def by_card(card: RigCard, name: str | None = None) -> dict[str, object]:
    """The same of a card, which knows nothing of a shot's seam."""
    lenses = msgspec.to_builtins(card.lenses)
    made = {"turn": list(card.turn), "error": card.error, "whole": card.whole, "lenses": lenses, "rig": name, **_light(card)}
    return made | ({"base": card.base} if card.base is not None else {})


def card_of(found: Rigged | JoinSettings, title: str, variant: str = "", base: float | None = None, readout: float | None = None) -> RigCard:
    """What is known of the lenses of a camera, ``readout`` as of ``RigCard``. AdzerError if nothing is."""
    light = found.light if isinstance(found, Rigged) else found
    base = base or (None if isinstance(found, Rigged) else found.base)
    if found.lenses is None or found.error is None:
        raise AdzerError("These lenses were not measured; there is nothing to keep. Measure them first.")
    whole = found.whole if isinstance(found, JoinSettings) else found.law.error if found.law is not None else None
    return RigCard(
        title, found.lenses, found.turn, light.gain, found.error, light.black, light.falls, base, variant=variant, readout=readout, whole=whole
    )


def keep(card: RigCard) -> str:
    """Writes it among a person's own cards, under a name that is free, which it gives back."""
    words = f"{card.title} {card.variant}".lower()
    stem = re.sub(r"[^a-z0-9]+", "-", words).strip("-") or "rig"
    folder = own_folder() / "rigs"
    taken = set(paths("rigs"))
    name = next(n for n in (stem, *(f"{stem}-{i}" for i in range(2, 1000))) if n not in taken)
    try:
        folder.mkdir(parents=True, exist_ok=True)
        with (folder / f"{name}.toml").open("x", encoding="utf-8") as file:
            file.write(text(card))
    except OSError as error:
        raise AdzerError(f"{folder / name}.toml cannot be written ({error.strerror}).") from None
    return name


def text(card: RigCard) -> str:
    """A rig card's file."""

    def numbers(values: Sequence[float]) -> str:
        return "[" + ", ".join(f"{v:.6g}" for v in values) + "]"

    def quoted(words: str) -> str:
        return json.dumps(words, ensure_ascii=False)  # a basic string of TOML is one of JSON

    lines = [f"title = {quoted(card.title)}", f"turn = {numbers(card.turn)}", f"gain = {numbers(card.gain)}"]
    lines += [f"variant = {quoted(card.variant)}"] if card.variant else []
    lines += [f"black = {numbers(card.black)}", f"falls = {card.falls:g}", f"error = {card.error:.4g}"]
    lines += [f"whole = {card.whole:.4g}"] if card.whole is not None else []
    lines += [f"base = {card.base:g}"] if card.base is not None else []
    lines += [f"readout = {card.readout:g}"] if card.readout is not None else []
    for lens in card.lenses:
        lines += ["", "[[lenses]]", *(f"{k} = {getattr(lens, k):.6f}" for k in ("x", "y", "radius", "across"))]
        lines += [f"bend = {numbers(lens.bend)}"] if lens.bend else []
    return "\n".join(lines) + "\n"


def seeing(frames: Sequence[tuple[Plane, ...]], samples: Samples, lens: Round, corner: tuple[int, int], curve: Curve | None) -> Round:
    """The lenses as far as they must see so that what both see lies where both say. AdzerError as ``measure.match``, if no angle
    does that."""

    def at(across: float) -> tuple[Round, Matched | None]:
        made = replace(lens, lenses=tuple(replace(v, across=across) for v in lens.lenses))
        try:
            return made, measure.match(frames, samples, made, corner, curve)
        except AdzerError:
            return made, None

    tried = {a: m for a in ACROSS if (m := at(a)[1]) is not None}
    if not tried:
        raise AdzerError(
            f"Nothing was found that both lenses see, whether they see {ACROSS[0]:.0f}° or {ACROSS[-1]:.0f}°. Say with --across how far they do, "
            "or take a shot with more to see at its sides."
        )
    best = max(tried, key=lambda a: tried[a].pieces / (1 + abs(tried[a].along)))
    for sign in (1.0, -1.0):  # angles as large again as all lie off, over the half turn that two lenses share
        nearer = best * (1 + sign * tried[best].along / 180)
        made, found = at(nearer)
        if found is not None and abs(found.along) <= 0.5 * abs(tried[best].along):
            return made
    return at(best)[0]


@dataclass(frozen=True)
class _Points:
    """Recorded places (n, 2) of the same thing in each lens, of which ``frame``; ``off`` (n, 2): degrees by which the second may be
    off along the axis and across, by how sharp the thing is and how alike the two."""

    first: Array
    second: Array
    frame: Array
    off: Array


def calibrate(
    frames: Sequence[tuple[Plane, ...]], samples: Samples, lens: Round, corner: tuple[int, int], curve: Curve | None,
    usual: tuple[float, ...] = USUAL,
) -> Rigged:
    """As ``measure.match``, whose errors it raises; ``usual``: how far the lenses may be off what they are taken for."""
    matched = measure.match(frames[:2], samples, lens, corner, curve)  # from which the rest begins
    held, turn = lens, rotation(*matched.turn)
    for _ in range(2):  # pieces are cut out along the lenses as they are known by then
        points = _points(frames, samples, held, corner, turn)
        if len(points.first) < LEAST:
            raise AdzerError(
                f"Where both lenses see there is too little to measure them by: {len(points.first)} sharp pieces were found again. Take a shot "
                "with more to see at its sides, or let the lenses only be matched (adzer lenses)."
            )
        held, turn, rest, far, error, ground = _fitted(points, lens, turn, usual)
    if error > DOUBTED:
        raise AdzerError(
            f"What the two lenses show where both see does not go together: directions disagree by {error:.1f}°. Are they the front and the "
            "rear lens, of one moment?"
        )
    round_, height, along, across = rest
    density = held.density
    errors = []
    for low, high in ((-90.0, -1.5), (-1.5, 1.5), (1.5, 90.0)):
        mine = far & (height >= low) & (height < high)
        if mine.sum() >= 3:
            off = float(np.sqrt(np.median(along[mine] ** 2 + across[mine] ** 2)))
            errors.append(Error(round(float(height[mine].mean()), 1), round(off, 4), round(float(np.radians(off) * density), 2), int(mine.sum())))
    near = tuple(
        Near(round(float(r), 1), round(float(max(-a, 0.0)), 3), int(n))
        for r, a, n, s in zip(round_, along, points.frame, across, strict=True) if abs(s) < 0.3
    )  # fmt: skip
    light = measure.light_of(frames, samples, held, corner, turn, curve)
    high = lens.size[1]
    heading, tilt, roll = (round(float(v), 4) for v in angles(turn))
    lenses = tuple(
        RigLens(_share(v.x / high), _share(v.y / high), _share(v.radius / high), v.across, tuple(_share(k) for k in v.bend))
        for v in held.lenses
    )
    return Rigged(
        matched, (heading, tilt, roll), light, round(error, 4), (lenses[0], lenses[1]), tuple(errors), near, ground,
    )  # fmt: skip


def _share(v: float) -> float:
    return round(float(v), 6)


def _points(frames: Sequence[tuple[Plane, ...]], samples: Samples, lens: Round, corner: tuple[int, int], turn: Array) -> _Points:
    """Pieces of the overlap in three rows, each found again in the other lens."""
    half = min(v.across for v in lens.lenses) / 2 - 90 - measure.RIM
    step = float(np.clip(np.degrees(1 / lens.density), 0.05, 0.5))
    about = min(ABOUT, half / 3)
    high = min(HIGH, 2 * (half - about) / 3)
    places = np.arange(-half, half + 1e-9, step)
    band = measure.band(lens, np.arange(0, 360, step), places)
    columns, long, tall, reach = band.shape[1], round(LONG / step), round(high / step), round(about / step)
    first, second, numbers, off = [], [], [], []
    one, two = (Round(lens.size, (v,)) for v in lens.lenses)
    for number, planes in enumerate(frames):
        here, there = (measure.luma(measure.seen(planes, samples, lens, n, corner, band @ t.T)) for n, t in enumerate((np.eye(3), turn)))
        for middle in (-(half - about) * 2 / 3, 0.0, (half - about) * 2 / 3):
            top = round((middle + half) / step - tall / 2)
            if top - reach < 0 or top + tall + reach > band.shape[0]:
                continue
            for start in np.arange(0, 360 - 1e-9, EVERY):
                left = round(start / step)
                piece = here[top : top + tall][:, np.arange(left, left + long) % columns]
                wide = there[top - reach : top + tall + reach][:, np.arange(left - reach, left + long + reach) % columns]
                at = placed(piece, wide, ALIKE)
                if at is None:
                    continue
                r, c = (int(round(v)) for v in at)
                alike = float(np.corrcoef(piece.ravel(), wide[r : r + tall, c : c + long].ravel())[0, 1])
                grain = float(piece.std()) * np.sqrt(max(1 - alike**2, 1e-3)) * 3 / np.sqrt(piece.size)  # three samples hang together
                off.append([step * grain / max(float(np.diff(piece, axis=a).std()), 1e-6) for a in (0, 1)])
                row, column = top + (tall - 1) / 2, left + (long - 1) / 2
                a = measure.direction(lens, np.array(column * step), np.array(row * step - half))
                b = measure.direction(lens, np.array((column + at[1] - reach) * step), np.array((row + at[0] - reach) * step - half))
                first.append(one.place(a[None])[0])
                second.append(two.place((b @ turn.T)[None])[0])
                numbers.append(number)
    return _Points(np.array(first), np.array(second), np.array(numbers), np.array(off))


def _moved(lens: Lens, v: Array, usual: tuple[float, ...]) -> Lens:
    """``v``: centre x and y, radius, bend, each in what they are ``usual``ly off."""
    dx, dy, grown, k = v * np.array(usual)
    bend = lens.bend or (0.0,)
    return replace(lens, x=lens.x + dx * lens.radius, y=lens.y + dy * lens.radius, radius=lens.radius * (1 + grown), bend=(bend[0] + k, *bend[1:]))


def _fitted(
    points: _Points, taken: Round, turn: Array, usual: tuple[float, ...]
) -> tuple[Round, Array, tuple[Array, ...], NDArray[np.bool_], float, float]:
    """(lenses, turn, (round, height, along, across) of each piece in degrees, which are far, degrees by which directions may not
    agree where both see, 95 %).

    ``along`` is what the second's place lies farther along the axis than the first's: what is near lies off that way, and only so.
    """
    from scipy.optimize import least_squares

    axis, up = taken.lenses[0].axes[:, 1], taken.lenses[0].axes[:, 2]
    right = taken.lenses[0].axes[:, 0]
    start = turn

    def lenses(v: Array) -> tuple[Lens, ...]:
        return tuple(_moved(lens, v[3 + 4 * n : 7 + 4 * n], usual) for n, lens in enumerate(taken.lenses))

    def rest(v: Array) -> tuple[Array, Array, Array, Array]:
        one, two = lenses(v)
        a = Round(taken.size, (one,)).direction(points.first)
        b = Round(taken.size, (two,)).direction(points.second) @ (start @ turning(v[:3]))
        middle = a + b
        middle = middle / np.linalg.norm(middle, axis=-1, keepdims=True)
        round_ = np.cross(axis, middle)
        round_ = round_ / np.maximum(np.linalg.norm(round_, axis=-1, keepdims=True), 1e-9)
        off = np.degrees(a - b)
        turned, height = np.degrees(np.arctan2(middle @ right, middle @ up)) % 360, np.degrees(np.arcsin(middle @ axis))
        return turned, height, (off * axis).sum(-1), (off * round_).sum(-1)

    upright = np.cos(np.radians(rest(np.zeros(12))[0]))
    below, fine = np.maximum(-upright, 0.0), np.hypot(points.off, FINE)
    level = upright > LOW

    def weighed(v: Array, scale: float) -> Array:
        """Ground that is even stands apart as far as it lies below; what stands apart more is near, the other way nothing can."""
        _, _, along, across = rest(v)
        along = along + abs(v[-1]) * below

        def tamed(off: Array, reach: Array | float, fine: Array) -> Array:
            return np.asarray(np.sign(off) * np.sqrt(np.log1p((off / reach) ** 2)) * reach / fine)

        apart = tamed(along, scale, fine[:, 0])
        return np.concatenate([apart, tamed(across, scale, fine[:, 1]), v[3:-1] * np.sqrt(max(len(along), 1) / 40)])

    x = np.append(np.zeros(11), 0.1)
    for scale in (0.6, 0.3, 0.15, 0.08):
        x = least_squares(weighed, x, args=(scale,)).x
    found = rest(x)
    off = np.hypot(found[2] + abs(x[-1]) * below, found[3])
    good = off < max(3 * float(np.median(off)), 0.06)
    jac = least_squares(lambda v: weighed(v, 0.08), x, max_nfev=1).jac
    spread = max(1.0, float(np.sqrt(np.mean((off[good] / fine[good].mean(axis=1)) ** 2))))
    tangled = len(set(points.frame.tolist())) * LONG / EVERY  # pieces lie over each other, frames are alike
    moves = least_squares(lambda v: np.concatenate(rest(v)[2:]), x, max_nfev=1).jac[: 2 * len(off)]
    doubt = np.einsum("ij,jk,ik->i", moves, np.linalg.pinv(jac.T @ jac), moves) * spread**2 * tangled
    error = 2 * float(np.sqrt(np.median(doubt[: len(off)] + doubt[len(off) :])))
    return Round(taken.size, lenses(x)), start @ turning(x[:3]), found, good & level, error, round(float(abs(x[-1])), 3)
