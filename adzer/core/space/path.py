"""A view of the sphere over time: keyframes, how the view goes from one to the next, and what is wrong with them.

Times are seconds of the recording from its first frame. ``docs/keyframes.md`` describes the same as JSON.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Sequence
from fractions import Fraction
from functools import lru_cache
from typing import TYPE_CHECKING, Annotated, Any, Literal, Protocol, TypeVar

import msgspec
import numpy as np
from msgspec import Meta
from numpy.typing import NDArray

from .. import records
from ..errors import AdzerError
from .sphere import PROJECTIONS, Array, angles, rotation, turned_about, turned_by, turning

if TYPE_CHECKING:
    from scipy.interpolate import PchipInterpolator
    from scipy.spatial.transform import RotationSpline

Share = Annotated[float, Meta(ge=0.0, le=1.0)]
Made = TypeVar("Made")
NARROWEST = 1.0


class Sides(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Adjustable easing: the share of the way's time spent gathering speed, and losing it again."""

    start: Share = 0.4
    end: Share = 0.4


class Key(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Where the view is at ``t`` seconds: degrees; ``fov`` horizontal. ``ease`` says how it goes on from here.

    hold: stays, then cuts to the next key; linear: even speed; ease: gathers speed and loses it; through: one smooth
    curve through this key and the next without a stop.
    """

    t: float = 0.0
    heading: float = 0.0
    tilt: float = 0.0
    roll: float = 0.0
    fov: float = 90.0
    ease: Literal["hold", "linear", "ease", "through"] | Sides = "ease"


class ViewPath(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """``amount``: of the compromise projection, 0 straight – 1. ``shape``: width over height that ``fov`` is meant for; a
    narrower delivery keeps the height, a wider one the width. None: whatever is delivered."""

    projection: Literal["straight", "conformal", "compromise", "equidistant", "planet"] = "straight"
    keys: tuple[Key, ...] = (Key(),)
    amount: Share = 1.0
    shape: Fraction | None = None

    @property
    def still(self) -> bool:
        first = self.keys[0]
        return all(
            (k.heading, k.tilt, k.roll, k.fov) == (first.heading, first.tilt, first.roll, first.fov) for k in self.keys
        )


def trouble(path: ViewPath, seconds: float | None = None) -> str | None:
    """What makes a path unusable, as a sentence; None if nothing does. ``seconds``: the shot's length."""
    if not path.keys:
        return "The view has no keyframe. Set at least one."
    widest = PROJECTIONS[path.projection].widest(path.amount)
    last = -math.inf
    for n, key in enumerate(path.keys, 1):
        values = (key.t, key.heading, key.tilt, key.roll, key.fov)
        if not all(math.isfinite(v) and abs(v) < 1e7 for v in values):
            return f"Keyframe {n} holds something that is not a usable number. Type it again."
        if late := mistimed(n, key.t, last, seconds):
            return late
        if not -90 <= key.tilt <= 90:
            return f"Keyframe {n} has a tilt of {key.tilt:g}°; it goes from −90° straight down to 90° straight up."
        if not NARROWEST <= key.fov <= widest:
            return (
                f"Keyframe {n} has a field of view of {key.fov:g}°; the {path.projection} projection shows {NARROWEST:g}° "
                f"to {widest:.0f}°." + (" Take another projection for wider views." if key.fov > widest else "")
            )
        last = key.t
    return None


def mistimed(n: int, t: float, last: float, seconds: float | None) -> str | None:
    """What is wrong with when keyframe ``n`` is, the one before it being at ``last``, in a shot of ``seconds``."""
    if t == last:
        return f"Keyframes {n - 1} and {n} are both at {t:g} s. Move or remove one."
    if t < last:
        return f"Keyframe {n} at {t:g} s comes after one at {last:g} s. Put them in the order of time."
    if t < 0 or (seconds is not None and t > seconds + 1e-6):
        return f"Keyframe {n} at {t:g} s lies outside the shot, which is {seconds or 0:.2f} s long. Move it inside."
    return None


def load(text: str | bytes, what: str) -> ViewPath:
    """A view's path from JSON as in docs/keyframes.md; an AdzerError names ``what``."""
    return load_keyed(text, what, ViewPath, trouble)


def load_keyed(text: str | bytes, what: str, kind: type[Made], trouble: Callable[[Made], str | None]) -> Made:
    """A path of any kind from JSON, refused where ``trouble`` finds some."""
    path = records.from_json(text, kind, what)
    if problem := trouble(path):
        raise AdzerError(f"{what}: {problem}")
    return path


# ---- going from key to key -----------------------------------------------------------------------------------------


def eased(s: Array, start: float, end: float) -> Array:
    """Share of the way at share ``s`` of the time: speed rises smoothly (half a cosine) over ``start``, falls over ``end``.

    >>> eased(np.array([0.0, 0.5, 1.0]), 0.4, 0.4).round(6).tolist()
    [0.0, 0.5, 1.0]
    """
    total = start + end
    if total > 1:
        start, end = start / total, end / total
    top = 1 / (1 - (start + end) / 2)  # the even speed between the ramps, so that the way is 1

    def ramp(x: Array, width: float) -> Array:
        """Way made over the first ``x`` of a rising ramp."""
        return top * (x / 2 - width / (2 * np.pi) * np.sin(np.pi * x / width)) if width > 0 else np.zeros_like(x)

    out = ramp(np.minimum(s, start), start) + top * np.clip(s - start, 0, 1 - start - end)
    late = np.clip(s - (1 - end), 0, end) if end > 0 else np.zeros_like(s)
    return np.asarray(out + (ramp(np.full_like(s, end), end) - ramp(end - late, end) if end > 0 else 0.0))


def _turns(keys: Sequence[Key]) -> Array:
    return rotation([k.heading for k in keys], [k.tilt for k in keys], [k.roll for k in keys])


def views_at(path: ViewPath, times: NDArray[np.float64] | Sequence[float]) -> tuple[Array, Array]:
    """Orientations (n, 3, 3) and fields of view (n,) in degrees at ``times``; before the first and after the last key it holds."""
    times = np.atleast_1d(np.asarray(times, dtype=np.float64))
    keys = path.keys
    turns, fovs = _turns(keys), np.array([k.fov for k in keys])
    if path.still:
        return np.broadcast_to(turns[0], (len(times), 3, 3)), np.broadcast_to(fovs[0], times.shape)
    at = np.array([k.t for k in keys])
    which = np.clip(np.searchsorted(at, times, side="right") - 1, 0, len(keys) - 1)
    out, wide = turns[which].copy(), fovs[which].copy()
    for n, mine, share in ways(keys, times):
        if isinstance(share, tuple):
            spline, fov_spline = _curve(path, *share)
            out[mine], wide[mine] = spline(times[mine]).as_matrix(), np.exp(fov_spline(times[mine]))
            continue
        out[mine] = turns[n] @ turning(share[:, None] * turned_about(turns[n].T @ turns[n + 1]))  # the shortest arc
        wide[mine] = np.exp(
            np.log(fovs[n]) + share * np.log(fovs[n + 1] / fovs[n])
        )  # a zoom of even speed looks even so
    return out, wide


Ease = Literal["hold", "linear", "ease", "through"] | Sides


class Timed(Protocol):
    """A keyframe of whatever: when it is, and how it goes on from there."""

    @property
    def t(self) -> float: ...
    @property
    def ease(self) -> Ease: ...


class Keyed(Protocol):
    """A path of keyframes, of a view or of a crop."""

    @property
    def keys(self) -> tuple[Any, ...]: ...


Path = TypeVar("Path", bound=Keyed)


def ways(keys: Sequence[Timed], times: Array) -> Iterator[tuple[int, NDArray[np.bool_], Array | tuple[int, int]]]:
    """For each key that goes on to the next: its number, which times fall there, and the shares of the way made at them; or
    the first and last key of the smooth curve that passes there. Where a key holds there is nothing to say."""
    for n, (key, after) in enumerate(zip(keys, keys[1:], strict=False)):
        mine = (times > key.t) & (times < after.t)
        if key.ease == "hold" or not mine.any():
            continue
        if key.ease == "through":
            yield n, mine, _run(keys, n)
            continue
        sides = {"linear": Sides(0.0, 0.0), "ease": Sides()}.get(key.ease) if isinstance(key.ease, str) else key.ease
        assert sides is not None
        yield n, mine, eased((times[mine] - key.t) / (after.t - key.t), sides.start, sides.end)


def _run(keys: Sequence[Timed], n: int) -> tuple[int, int]:
    """First and last key of the smooth curve that passes between keys n and n + 1."""
    lo, hi = n, n + 1
    while lo > 0 and keys[lo - 1].ease == "through":
        lo -= 1
    while hi < len(keys) - 1 and keys[hi].ease == "through":
        hi += 1
    return lo, hi


@lru_cache(maxsize=64)
def _curve(path: ViewPath, lo: int, hi: int) -> tuple[RotationSpline, PchipInterpolator]:
    """Curves through keys lo … hi: smooth in speed and its change for the orientation, without overshoot for the field."""
    from scipy.interpolate import PchipInterpolator
    from scipy.spatial.transform import Rotation, RotationSpline

    keys = path.keys[lo : hi + 1]
    at = [k.t for k in keys]
    return RotationSpline(at, Rotation.from_matrix(_turns(keys))), PchipInterpolator(at, np.log([k.fov for k in keys]))


def key_at(path: ViewPath, t: float, ease: Ease | None = None) -> Key:
    """A key that says where the view is at ``t`` anyway; it goes on as the key before it does."""
    turns, fov = views_at(path, [t])
    heading, tilt, roll = (round(float(v), 3) + 0.0 for v in angles(turns[0]))
    before = [k for k in path.keys if k.t <= t]
    return Key(t, heading, tilt, roll, round(float(fov[0]), 3), ease or (before[-1].ease if before else "ease"))


def with_key(path: Path, key: Timed, near: float = 1e-4) -> Path:
    """The path with a key set; one at the same time is replaced."""
    others = [k for k in path.keys if abs(k.t - key.t) > near]
    return _rekeyed(path, tuple(sorted([*others, key], key=lambda k: k.t)))


def without_key(path: Path, t: float, near: float = 1e-4) -> Path:
    """The path without the key at ``t``; the last one stays."""
    others = tuple(k for k in path.keys if abs(k.t - t) > near)
    return _rekeyed(path, others or path.keys)


def _rekeyed(path: Path, keys: Sequence[Timed]) -> Path:
    return msgspec.structs.replace(path, keys=keys)  # type: ignore[type-var]


def retimed(path: Path, n: int, t: float, gap: float) -> Path:
    """The path with key ``n`` at another time, kept between its neighbours by at least ``gap`` seconds."""
    keys = list(path.keys)
    low = keys[n - 1].t + gap if n else 0.0
    high = keys[n + 1].t - gap if n + 1 < len(keys) else np.inf
    keys[n] = msgspec.structs.replace(keys[n], t=round(float(min(max(t, low), max(high, low))), 4))
    return _rekeyed(path, tuple(keys))


# ---- is the move good? -----------------------------------------------------------------------------------------------

STROBES = 7.0  # seconds that a thing should take across the picture at 25 frames a second, or it is seen to jump
ILL, JOLT = 45.0, 90.0  # degrees a second, and a second squared, from which turning views make people feel ill


class Move(msgspec.Struct, frozen=True):
    """What is wrong with the move after key ``n``: the sentence, the seconds it should take, and whether that fits."""

    n: int
    text: str
    needs: float
    fits: bool


def check_moves(path: ViewPath, seconds: float, rate: float, played: float = 1.0) -> list[Move]:
    """Every move that will strobe, or turn faster or more suddenly than most people bear. ``seconds``: the shot's length;
    ``played``: how many times as fast as recorded it is shown."""
    found = []
    for n, (key, after) in enumerate(zip(path.keys, path.keys[1:], strict=False)):
        if key.ease == "hold":
            continue
        span = after.t - key.t
        times = np.linspace(key.t, after.t, max(9, min(200, round(span * rate) + 1)))
        turns, fovs = views_at(path, times)
        step = (times[1] - times[0]) / played
        speed = turned_by(turns[:-1], turns[1:]) / step
        top, jolt = float(speed.max()), float(np.abs(np.diff(speed)).max(initial=0) / step)
        across = float((fovs[:-1] / np.maximum(speed, 1e-6)).min())  # seconds for one picture width at the worst moment
        least = STROBES * 25 / max(rate, 1.0)
        why, times_longer = "", 1.0
        if top > ILL or jolt > JOLT:
            how = (
                f"turns at up to {top:.0f}° a second"
                if top > ILL
                else f"gathers or loses {jolt:.0f}° a second within a second"
            )
            why = f"it {how}, which makes people ill, in headsets above all"
            times_longer = max(top / ILL, math.sqrt(jolt / JOLT))
        elif across < least:
            why = f"a thing crosses the picture in {across:.1f} s and will be seen to jump; {least:.0f} s is calm"
            times_longer = least / across
        if why:
            needs = span * times_longer
            fits = path.keys[-1].t + needs - span <= seconds + 1e-6
            found.append(Move(n, f"The move from key {n + 1} to {n + 2}: {why}.", needs, fits))
    return found


def longer(path: Path, move: Move) -> Path:
    """The path with one move given the time that it needs; later keys wait."""
    more = move.needs - (path.keys[move.n + 1].t - path.keys[move.n].t)
    keys = [msgspec.structs.replace(k, t=round(k.t + more, 3)) if n > move.n else k for n, k in enumerate(path.keys)]
    return _rekeyed(path, tuple(keys))


def cut(path: Path, n: int) -> Path:
    """The path that stays at key ``n`` and cuts to the next instead of moving."""
    keys = list(path.keys)
    keys[n] = msgspec.structs.replace(keys[n], ease="hold")
    return _rekeyed(path, tuple(keys))


def smooth(path: ViewPath, tolerance: float = 0.5) -> ViewPath:
    """As few keys as keep within ``tolerance`` degrees of where the path goes, joined by one smooth curve; cuts stay cuts."""
    if len(path.keys) < 3:
        return path
    pieces: list[list[Key]] = [[]]
    for key in path.keys:
        pieces[-1].append(key)
        if key.ease == "hold":
            pieces.append([])
    keys: list[Key] = []
    for piece in (p for p in pieces if p):
        keys += _few(path, piece, tolerance)
    return msgspec.structs.replace(path, keys=tuple(keys))


def _few(path: ViewPath, piece: list[Key], tolerance: float) -> list[Key]:
    """The fewest keys of one piece without cuts."""
    if len(piece) < 3:
        return piece
    last = piece[-1]
    flowing = [msgspec.structs.replace(k, ease="through") for k in piece[:-1]] + [last]
    held = msgspec.structs.replace(path, keys=tuple(piece))
    times = np.linspace(piece[0].t, last.t, min(800, 12 * len(piece)))
    truth, fovs = views_at(held, times)

    def off(chosen: list[int]) -> Array:
        made, wide = views_at(msgspec.structs.replace(path, keys=tuple(flowing[n] for n in chosen)), times)
        return np.asarray(np.maximum(turned_by(truth, made), np.abs(wide - fovs)))

    return [flowing[n] for n in fewest(np.array([k.t for k in piece]), times, off, tolerance)]


def fewest(at: Array, times: Array, off: Callable[[list[int]], Array], tolerance: float) -> list[int]:
    """Which of the keys at ``at`` seconds are needed: first and last, then one by one where the way through those is off the
    most. ``off``: by how much it is at each of ``times`` with some keys chosen."""
    chosen = {0, len(at) - 1}
    while True:
        away = off(sorted(chosen))
        rest = [n for n in range(len(at)) if n not in chosen]
        if away.max() <= tolerance or not rest:
            return sorted(chosen)
        worst = times[int(away.argmax())]
        chosen.add(min(rest, key=lambda n: abs(at[n] - worst)))
