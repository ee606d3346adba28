"""From a recording of directions to a flat delivery: what recorded the directions, and the plane that is delivered."""

from __future__ import annotations

from dataclasses import dataclass, replace
from fractions import Fraction
from functools import partial
from typing import TYPE_CHECKING

import msgspec
import numpy as np

from ..cards import DeliveryCard
from ..look import track
from ..media.formats import SUBSAMPLING
from ..picture import Picture
from ..plan import Draft, Foot, Input, Panel, Patch, Rig
from ..space.looks import Look, SphereLook, Turning, ViewLook
from ..space.meeting import CLOSES, Away, Below, Fall, Meeting, Tone
from ..space.path import NARROWEST, Key, ViewPath, views_at
from ..space.sphere import PROJECTIONS, Array, Directions, Equirect, Lens, Round, turned_by
from .geometry import WIDE, Fitted, even, fit
from .settings import ShapeSettings

TONED = float(np.radians(24.0))  # from where two lenses meet, up to which their light is brought together
FINE, FEWEST = 1 / 3, 8.0  # of the width over which one lens passes into the other, over which its detail does; recorded pixels at least
FADE = 4.0  # degrees
FOOT_SOFT = 0.2  # of a foot's reach, over which what covers it passes into what lies round it
DOWN = np.array([[1.0, 0.0, 0.0], [0.0, 0.0, -1.0], [0.0, 1.0, 0.0]])  # what lies straight down ahead, what lies ahead up


@dataclass(frozen=True)
class Laid:
    """Directions laid flat, and how they lie in the delivered raster. ``panel``: of the recording as one picture, to reckon in;
    ``drawn``: the one that is rendered, of ``inputs`` if they are not the draft's."""

    fitted: Fitted
    panel: Panel
    lens: Directions
    drawn: Panel
    inputs: tuple[Input, ...]


@dataclass(frozen=True)
class Viewed(Laid):
    look: ViewLook


if TYPE_CHECKING:
    from ..stage import Seen


def holds_directions(picture: Picture) -> bool:
    """Can a view be taken of it?"""
    return picture.projection in ("equirectangular", "fisheye")


def followed_over(picture: Picture, settings: ShapeSettings, seen: Seen | None, rig: Rig | None) -> track.Source:
    """What a thing is followed over: a flat picture whole, or the eye that is looked at of a sphere or round lens."""
    sub = SUBSAMPLING[picture.chroma or "4:2:0"]
    if picture.turn % 180:
        sub = sub[::-1]
    if not holds_directions(picture):
        return track.over_flat(picture.raster, sub, float(picture.pixel_aspect))
    return track.Source(recording(picture, settings, seen, rig), picture.region(settings.eye), sub)


def recording(picture: Picture, settings: ShapeSettings, seen: Seen | None, rig: Rig | None = None) -> Directions:
    """What its pixels say about directions: a sphere or half of it, or round lenses as a rig or else the footage shows their discs."""
    x, y, w, h = picture.region(settings.eye)
    if rig is not None and rig.lenses:
        return Round((w, h), rig.lenses)
    if picture.projection == "equirectangular":
        return Equirect((w, h), 180.0 if picture.coverage == "180" else 360.0)
    return Round.shown((x, y, w, h), seen.discs if seen else (), settings.across, settings.bend)


def extent(path: ViewPath, shape: Fraction) -> tuple[float, float]:
    """Half width and half height on the view's plane of a delivery of ``shape``: a narrower one keeps the height of the
    shape that the field of view is meant for, a wider one its width, so that what is framed stays framed."""
    meant = path.shape or shape
    if shape <= meant:
        return float(shape / meant), float(1 / meant)
    return 1.0, float(1 / shape)


def viewed(
    picture: Picture, settings: ShapeSettings, card: DeliveryCard, seen: Seen | None = None, draft: Draft | None = None
) -> Viewed:
    """The view of ``settings`` at the largest raster that the delivery allows."""
    assert settings.view is not None
    (wanted, hold, around), largest = settings.framed(card.wanted, card.hold), card.max_raster
    shape = wanted or settings.shape or (Fraction(*largest) if card.exact else WIDE)
    w = min(Fraction(largest[0]), largest[1] * shape)
    size = (even(w), even(w / shape))
    fitted = fit(size, hold, largest, around, card.exact)
    half = extent(settings.view, Fraction(*size))
    nudge = settings.nudge(wanted)
    look = ViewLook(fitted.picture, settings.view, half, (2 * half[0] * nudge[0], -2 * half[1] * nudge[1]), settings.level, _held(draft))
    laid = _through(picture, settings, seen, draft, fitted, look)
    return Viewed(**vars(laid), look=look)


def unrolled(picture: Picture, settings: ShapeSettings, card: DeliveryCard, seen: Seen | None, draft: Draft) -> Laid:
    """The sphere that was recorded, or that two lenses saw, twice as wide as high; or half of one, square: as many pixels as were recorded, or
    as the card allows."""
    lens = recording(picture, settings, seen, draft.rig)
    across = 180 if draft.pair is not None or picture.coverage == "180" else 360
    w, h = card.max_raster
    high = int(min(np.pi * lens.density, w * 180 / across, h)) // 2 * 2
    size = (high * across // 180, high)
    fitted = Fitted(size, size, (0, 0), Fraction(1))
    if across == 180 and isinstance(lens, Round):  # what a rim that is barer than half a sphere lacks is not to begin with an edge
        lens = replace(lens, lenses=tuple(replace(v, fade=FADE if v.across < 180.0 else 0.0) for v in lens.lenses))
    return _through(picture, settings, seen, draft, fitted, SphereLook(size, float(across), settings.level, draft.held), lens)


def _held(draft: Draft | None) -> Turning | None:
    return draft.held if draft is not None else None


def _through(
    picture: Picture, settings: ShapeSettings, seen: Seen | None, draft: Draft | None, fitted: Fitted, look: Look, lens: Directions | None = None
) -> Laid:
    rig = draft.rig if draft is not None else None
    no_others: tuple[Input, ...] = ()
    lens = lens or recording(picture, settings, seen, rig)
    panel = Panel(look, (Patch(lens, picture.region(settings.eye)),), fitted.place)
    patches, inputs = panel.patches, no_others
    if draft is not None and rig is not None and isinstance(lens, Round) and len(lens.lenses) == 2:
        patches, inputs = through_two(lens, panel.region, draft)
    if draft is not None and draft.stands is not None:
        patches = tuple(replace(p, readout=draft.readout, across=draft.across, stands=draft.stands.then(p.turning)) for p in patches)
    if draft is not None and draft.foot is not None:
        patches, inputs = _covered(patches, inputs or draft.inputs, draft.foot, draft.held)
    return Laid(fitted, panel, lens, replace(panel, patches=patches), inputs)


def _covered(
    patches: tuple[Patch, ...], inputs: tuple[Input, ...], foot: Foot, held: Turning | None = None
) -> tuple[tuple[Patch, ...], tuple[Input, ...]]:
    """The same, but for what lies round straight down of the camera. ``held``: of another moment its own directions are looked at."""
    soft = foot.reach * FOOT_SOFT

    def counts(p: Patch, beyond: bool) -> Patch:
        assert isinstance(p.share, Meeting | None) and isinstance(p.fine, Meeting | None)
        return replace(p, share=Below(foot.reach, soft, p.share, beyond), fine=p.fine and Below(foot.reach, soft, p.fine, beyond))

    left = tuple(counts(p, True) for p in patches)
    if foot.still is None:
        under = tuple(
            replace(counts(p, False), input=p.input + len(inputs), turning=_since(p.turning, held, foot.moment), readout=0.0) for p in patches
        )  # fmt: skip
        return left + under, inputs + tuple(i.stopped_at(foot.moment) for i in inputs)
    w, h = foot.still.raster
    lens = Round((w, h), (Lens(w / 2, h / 2, min(w, h) / 2, float(np.degrees(2 * (foot.reach + soft)))),))
    return (*left, Patch(lens, (0, 0, w, h), len(inputs), Turning.fixed(DOWN), share=Below(foot.reach, soft))), (*inputs, foot.still)


def _since(own: Turning | None, held: Turning | None, moment: float) -> Turning | None:
    """``own``, of directions as the camera stood at one moment instead of where it stands now."""
    if held is None:
        return own
    since = held.at(np.asarray(moment)) @ np.swapaxes(held.matrices, 1, 2)
    return Turning(held.times, since, frames=held.frames).then(own)


def through_two(lens: Round, region: tuple[int, int, int, int], draft: Draft) -> tuple[tuple[Patch, ...], tuple[Input, ...]]:
    """Each of two lenses as a patch of its own, and the inputs: of two files each lens's own, which are then never laid together."""
    rig, (held, *_) = draft.rig, draft.inputs
    assert rig is not None
    axes = [one.axes[:, 1] for one in lens.lenses]
    first, second = (tuple(float(v) for v in a) for a in axes)
    meeting = Meeting(first, second, rig.blend, rig.seam)  # type: ignore[arg-type]
    soon = max(rig.blend * FINE, FEWEST / lens.density)
    fine = replace(meeting, width=soon) if soon < rig.blend else None
    own = [held.alone(n) for n in (0, 1)]
    apart = own[0] is not None
    more = rig.close and rig.close.changed(lambda v: (v - rig.apart) / 2)
    patches = []
    for n, one in enumerate(lens.lenses):
        width = held.raster[0] // 2 if apart else region[2]
        place = replace(one, x=one.x - n * width) if apart else one
        size = (width, region[3])
        facing = second if n else first
        tones = None
        if rig.tones is not None:  # each lens goes halfway
            red, green, blue = (t.changed(partial(np.multiply, 0.5 if n else -0.5)) for t in rig.tones)
            tones = (red, green, blue)
        fall = Fall.of(one, rig.falls) if rig.falls else None
        patches.append(Patch(
            Round(size, (place,)), (0, 0, *size) if apart else region, n if apart else 0, rig.turning if n else None,
            share=meeting.turned if n else meeting, fine=fine.turned if fine and n else fine, light=rig.light if n else None,
            tone=Tone(meeting, TONED, tones, fall) if tones or fall else None,
            away=Away(facing, rig.apart / 2, meeting, CLOSES, more) if rig.apart or more else None,  # type: ignore[arg-type]
        ))  # fmt: skip
    return tuple(patches), tuple(i for i in own if i is not None)


def outline(panel: Panel, time: float, steps: int = 24) -> Array:
    """(n, 3) directions in the recording along the edge of the delivered picture, clockwise from its top left."""
    w, h = panel.size
    t = np.linspace(0, 1, steps, endpoint=False)
    x = np.concatenate([t, np.ones(steps), 1 - t, np.zeros(steps)]) * w
    y = np.concatenate([np.zeros(steps), t, np.ones(steps), 1 - t]) * h
    return panel.directions(x, y, time)


def density(panel: Panel, time: float, columns: int = 17, rows: int = 11) -> Array:
    """(rows, columns) recorded pixels per delivered pixel, the geometric mean of both ways; NaN where there is no picture."""
    w, h = panel.size
    x, y = (np.arange(columns) + 0.5) / columns * w, ((np.arange(rows) + 0.5) / rows * h)[:, None]
    d = panel.directions(x, y, time)
    a = panel.lens.step(d, panel.directions(x + 0.5, y, time) - panel.directions(x - 0.5, y, time))
    b = panel.lens.step(d, panel.directions(x, y + 0.5, time) - panel.directions(x, y - 0.5, time))
    share = np.sqrt(np.abs(a[..., 0] * b[..., 1] - a[..., 1] * b[..., 0]))
    return np.where(panel.lens.margin(d) > 0, share, np.nan)


@dataclass(frozen=True)
class Left:
    """Resolution really left over a take: recorded pixels per delivered pixel at the worst moment, in the middle, at the
    edges and the least of all; ``bare``: share of the picture without any recording behind it."""

    middle: float
    edge: float
    least: float
    bare: float
    worst_time: float
    worth: tuple[int, int]  # the largest raster whose every middle pixel still has a recorded one


def left(panel: Panel, start: float, stop: float, samples: int = 5) -> Left:
    """Looks at ``samples`` moments from ``start`` to ``stop`` seconds, one if the view is still."""
    times = [start] if panel.look.still else np.linspace(start, stop, samples).tolist()
    maps = [density(panel, t) for t in times]
    middles = [float(m[m.shape[0] // 2, m.shape[1] // 2]) for m in maps]
    n = int(np.nanargmin(middles)) if np.isfinite(middles).any() else 0
    worst = maps[n]
    edge = np.concatenate([worst[0], worst[-1], worst[:, 0], worst[:, -1]])
    seen = np.isfinite(worst)
    if not seen.any():
        return Left(0.0, 0.0, 0.0, 1.0, times[n], (0, 0))
    middle = middles[n] if np.isfinite(middles[n]) else float(np.nanmedian(worst))
    w, h = panel.size
    worth = (even(int(w * middle)), even(int(h * middle)))
    bare = max(float(1 - np.isfinite(m).mean()) for m in maps)
    edges = float(np.nanmedian(edge)) if np.isfinite(edge).any() else middle
    return Left(
        middle, edges, float(np.nanmin([np.nanmin(m) for m in maps if np.isfinite(m).any()])), bare, times[n], worth
    )


def filled_from(panel: Panel, key: Key, width: int) -> float | None:
    """Degrees across from which a delivery ``width`` pixels wide has a recorded pixel behind each of its own in the middle, as
    the view is at ``key``; None if it never has."""
    look, enough = panel.look, width / panel.size[0]
    assert isinstance(look, ViewLook)
    path = look.path
    low, high = NARROWEST, PROJECTIONS[path.projection].widest(path.amount)

    def middle(fov: float) -> float:
        still = msgspec.structs.replace(path, keys=(msgspec.structs.replace(key, t=0.0, fov=fov),))
        return float(density(replace(panel, look=replace(look, path=still)), 0.0, 1, 1)[0, 0])

    if not middle(high) >= enough:  # where there is no picture it is not a number
        return None
    for _ in range(14):
        fov = (low + high) / 2
        low, high = (fov, high) if middle(fov) < enough else (low, fov)
    return high


@dataclass(frozen=True)
class Pace:
    """How a view moves: degrees a second and a second squared, at ``times`` seconds."""

    times: Array
    speed: Array
    change: Array


def pace(path: ViewPath, start: float, stop: float, rate: float) -> Pace:
    """Speed and acceleration of the view, frame by frame of ``rate``, at most 2000 places. Cuts (holds) are left out."""
    n = int(np.clip(round((stop - start) * rate), 2, 2000))
    times = np.linspace(start, stop, n)
    turns, _ = views_at(path, times)
    step = float(times[1] - times[0])
    turned = turned_by(turns[:-1], turns[1:])
    for key, after in zip(path.keys, path.keys[1:], strict=False):
        if key.ease == "hold":
            turned[(times[:-1] < after.t) & (times[1:] >= after.t)] = 0.0
    speed = turned / step
    change = np.abs(np.diff(speed, prepend=speed[:1])) / step
    return Pace(times[:-1] + step / 2, speed, change)
