"""Ways of steadying a shot tried: each made, and looked at again as it is delivered; and which of them suits."""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Sequence
from typing import Any, Literal

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..cards import DeliveryCard
from ..compile import preview_plan
from ..errors import AdzerError, Stopped
from ..finding import Level
from ..look import motion, turns
from ..look.turns import WIDE, Turns
from ..media.clock import clock_of
from ..media.probe import FileFacts
from ..plan import Panel
from ..read.seen import Seen
from ..read.step import turn_of, upright_raster
from ..route import Route, walk
from ..space.sphere import Equirect
from ..steady import solve, standing
from ..steady.measure import Shake, Turned
from ..steady.slow import slow
from ..steady.step import pane_of, times_of
from .frames import Inputs
from .pixels import Processor
from .render import Progress, Report
from .steadying import answers, as_it_shows, aspect_of, lens, rows_of, said, upright_path

LOOKED = 640  # columns at which it is looked at again
BANDS = ((0.0, 0.5), (0.5, 3.0), (3.0, 1e9))  # Hz
METHODS: tuple[dict[str, object], ...] = ({"method": "off"}, {"method": "hold"}, {"method": "drift"}, {"method": "path"})
STANDS: tuple[dict[str, object], ...] = (
    {"method": "off"}, {"method": "drift"}, {"method": "level", "heading": "world"}, {"method": "level", "heading": "vehicle"},
    {"method": "level", "heading": "travel"}, {"method": "level", "heading": "free"},
)  # fmt: skip


Bands = tuple[float, float, float]
Mark = tuple[int, float, float, float, float]
NEAR = 300  # frames before and after the one that a thing is marked on, in which it is looked for


class Way(msgspec.Struct, frozen=True):
    """What a method leaves and costs. ``left``: pixels rms of the delivered picture (at its recorded size), or degrees of a sphere, in three bands
    of Hz (below 0.5, to 3, above); ``roll``: degrees rms above 0.5 Hz; ``kept``: share of the picture; ``needed``: budget to do all of it (hold,
    drift); ``heading`` of a sphere that stands level; ``fastest``: degrees a second that it turns its viewers; ``wobble``: delivered pixels rms, at
    the recorded size, by which its upper and lower edge lean as rows do that are read out one after another, as the recorded picture moved;
    ``detail``: recorded pixels a delivered one; ``spends``: budget without which it could not be made; ``axes``: what is left in the bands by axis,
    pixels right and down, degrees of roll, per cent of size, of a sphere degrees; ``horizon``: degrees rms by which it is off; ``offset``: pixels
    rms by which a marked thing is off its place; ``took``: seconds to solve and make it."""

    method: str
    left: Bands
    roll: float
    kept: float
    needed: float | None = None
    why: str = ""
    heading: str = ""
    fastest: float | None = None
    wobble: float | None = None
    detail: float | None = None
    spends: float | None = None
    axes: dict[str, Bands] = {}
    horizon: float | None = None
    offset: float | None = None
    took: float = 0.0


def retracked(
    facts: FileFacts, seen: Seen | None, route: Route, card: DeliveryCard, report: Report = lambda _: None,
    looked: dict[int, NDArray[np.uint8]] | None = None,
) -> NDArray[np.float32]:  # fmt: skip
    """Rows of motion of the delivered preview itself, of a sphere's the whole one: nothing of what was solved is believed. ``looked`` gets the
    pictures of a flat one near the frame on which a thing is marked."""
    round_ = lens(facts, route, seen) is not None
    if round_:
        route = route.with_("shape", view=None)
        if walk(route, facts, seen, card).draft.pair is not None:  # both eyes are held alike
            route = route.with_("join", laid="left")
    walked = walk(route, facts, seen, card)
    # Of a sphere all is looked at, whatever is delivered of it.
    if (stop := next((f for f in walked.findings if f.level is Level.STOP and not (round_ and f.stage == "deliver")), None)) is not None:
        raise Stopped(stop.text)
    plan = preview_plan(walked, WIDE if round_ else LOOKED, WIDE if round_ else LOOKED)
    (w, h), target = plan.raster, plan.target
    numbers, times = np.arange(facts.frames), times_of(facts)
    out = tuple(np.zeros((h, w), np.uint16) for _ in range(3))
    ball = Turns(target, Equirect((w, h), 180.0 if walked["shape"].after.coverage == "180" else 360.0), (0, 0, w, h))
    within = None
    if not round_ and route.steady.still is not None:
        part = _box(plan.panels[0], float(times[0]), route.steady.still, upright_raster(facts, route.read))
        within = None if part is None else (part[0] / w, part[1] / h, part[2] / w, part[3] / h)
    kind: Any = ball if round_ else motion.Motion(target, within)
    rows: list[Sequence[float]] = []
    held: deque[Any] = deque(maxlen=kind.reach[0] + 1)
    with Inputs(plan.inputs, facts) as inputs, Processor(plan, 2) as processor:
        for n, planes in enumerate(inputs.along(numbers, times)):
            processor.run(planes, out, float(times[n]))
            now = (out[0] >> 2).astype(np.uint8)
            held.append(ball.looked(n, now) if round_ else motion.Small(n, now))
            rows.append(kind.row(list(held), len(held) - 1))
            if not round_ and looked is not None and (mark := route.steady.mark) is not None and abs(n - mark[0]) <= NEAR:
                looked[n] = now
            report(Progress("looking again", n + 1, facts.frames))
    return np.array(rows, np.float32)


def _bands(names: tuple[str, ...], parts: Sequence[NDArray[np.float64]], scales: tuple[float, ...]) -> dict[str, Bands]:
    """rms of each axis in the three bands."""
    low, middle, high = (np.sqrt((p**2).mean(axis=0)) * scales for p in parts)
    return {n: (round(float(low[c]), 3), round(float(middle[c]), 3), round(float(high[c]), 3)) for c, n in enumerate(names)}


def _together(axes: dict[str, Bands], names: tuple[str, ...]) -> Bands:
    low, middle, high = (float(np.sqrt(sum(axes[n][k] ** 2 for n in names))) for k in range(3))
    return round(low, 3), round(middle, 3), round(high, 3)


def turns_left(rows: NDArray[np.float32], rate: float) -> tuple[dict[str, Bands], float, float]:
    """Degrees rms by axis in each band, of them to the side above the lowest, and degrees a second that viewers are turned."""
    stands = standing.stands(rows)
    slower = [standing.calm(stands, rate, hz) for hz in (0.02, BANDS[0][1], BANDS[1][1])] + [stands]
    found = [standing.between(a, b) for a, b in zip(slower, slower[1:], strict=False)]
    roll = float(np.sqrt((standing.between(slower[1], stands)[:, 1] ** 2).mean()))
    return _bands(("tilt", "roll", "heading"), found, (1.0, 1.0, 1.0)), round(roll, 4), round(standing.fastest(slower[1], rate), 1)


def horizon_off(rows: NDArray[np.float32]) -> float | None:
    """Degrees rms by which what shows of a horizon or of uprights leans; None where hardly a frame shows any."""
    up = rows[rows[:, turns.PLUMB] > 0][:, turns.UP].astype(np.float64)
    if len(up) < max(3, 0.1 * len(rows)):
        return None
    return round(float(np.degrees(np.sqrt((np.arctan2(np.hypot(up[:, 0], up[:, 1]), up[:, 2]) ** 2).mean()))), 3)


def left_of(rows: NDArray[np.float32], rate: float, scale: float) -> tuple[dict[str, Bands], float]:
    """By axis in each band: pixels rms, ``scale`` times, degrees of roll, per cent of size; and degrees of roll above the lowest."""
    path = motion.path(rows)
    path = path - path.mean(axis=0)
    below = [np.zeros_like(path), slow(path, rate, BANDS[0][1]), slow(path, rate, BANDS[1][1]), path]
    parts = [below[k + 1] - below[k] for k in range(3)]
    roll = float(np.sqrt(((path - below[1])[:, 2] ** 2).mean()))
    return _bands(("right", "down", "roll", "size"), parts, (scale, scale, 1.0, 1.0)), round(roll, 4)


def _box(panel: Panel, time: float, box: motion.Box, raster: tuple[int, int]) -> motion.Box | None:
    """Delivered pixels in which lies what is in a box of the recorded picture of ``raster`` pixels, in shares of that; None: hardly any."""
    (x, y), (w, h), low = panel.place, panel.size, np.array(box[:2])
    across, down = np.meshgrid(np.arange(w) + 0.5, np.arange(h) + 0.5)
    place = panel.recorded(across.ravel(), down.ravel(), time).reshape(h, w, 2) / raster
    inside = np.asarray(((place >= low) & (place <= low + box[2:])).all(axis=2))
    if inside.sum() < 64:
        return None
    columns, lines = np.flatnonzero(inside.any(axis=0)), np.flatnonzero(inside.any(axis=1))
    return float(columns[0] + x), float(lines[0] + y), float(np.ptp(columns) + 1), float(np.ptp(lines) + 1)


def offset_of(
    looked: dict[int, NDArray[np.uint8]], rows: NDArray[np.float32], panel: Panel, time: float, mark: Mark, raster: tuple[int, int]
) -> float | None:
    """Delivered pixels rms by which what is marked in the recorded picture of ``raster`` pixels is off the place that it has on its frame, as it is
    found again in the delivered pictures; None where it is seldom seen."""
    at, box, gone = mark[0], _box(panel, time, mark[1:], raster), list[NDArray[np.float64]]()
    if box is None or at not in looked:
        return None
    for way in (range(at + 1, max(looked) + 1), range(at - 1, min(looked) - 1, -1)):
        off, grown = np.zeros(2), np.eye(2)
        for n in way:
            off = off + (rows[n, :2] if n > at else -rows[n + 1, :2])  # as the picture went
            found = motion.carried(looked[at], looked[n], box, (float(off[0]), float(off[1])), grown)
            if found is not None:
                off, grown = np.array(found[0]), found[1]
                gone.append(off)
    return float(np.sqrt((np.array(gone) ** 2).sum(axis=1).mean())) if len(gone) >= 0.5 * (len(looked) - 1) > 0 else None


def compared(
    facts: FileFacts, seen: Seen | None, route: Route, card: DeliveryCard, budget: float, report: Report = lambda _: None,
    rows: NDArray[np.float32] | None = None, times: float = 1.0,
) -> tuple[Shake | Turned, tuple[Way, ...]]:  # fmt: skip
    """Every method, made and looked at again as delivered; one that fails is a row with its reason. ``times``: how many times as wide the recording
    is that a proxy stands for, in whose pixels is told what is left."""
    round_ = lens(facts, route, seen) is not None
    rows = rows_of(facts, route, report, seen) if rows is None else rows
    route = route if round_ else route.with_("steady", aspect=aspect_of(facts, route))
    rate = float(facts.rate or 25)
    made = []
    thing: tuple[dict[str, object], ...] = ({"method": "lock"},) if route.steady.mark is not None else ()
    for changes in (*(STANDS if round_ else METHODS), *thing):
        begun = time.monotonic()
        name, heading = str(changes["method"]), str(changes.get("heading", ""))
        try:
            each = route.with_("steady", **changes, budget=budget)
            if name != "off":
                each = each.with_("steady", **answers(rows, facts, as_it_shows(rows, facts, each, seen), seen))
            looked = dict[int, NDArray[np.uint8]]()
            again = retracked(facts, seen, each, card, report, looked if thing else None)
        except AdzerError as error:
            made.append(Way(name, (0.0, 0.0, 0.0), 0.0, 0.0, None, str(error), heading))
            continue
        if round_:
            axes, roll, fastest = turns_left(again, rate)
            left = _together(axes, ("tilt", "roll", "heading"))
            way = Way(name, left, roll, 1.0, heading=heading, fastest=fastest, axes=axes, horizon=horizon_off(again))
        else:
            way = _flat_way(facts, seen, each, card, rows, again, looked, times)
        made.append(msgspec.structs.replace(way, took=round(time.monotonic() - begun, 2)))
    return said(rows, facts, route, seen), tuple(made)


def _flat_way(
    facts: FileFacts, seen: Seen | None, route: Route, card: DeliveryCard, rows: NDArray[np.float32], again: NDArray[np.float32],
    looked: dict[int, NDArray[np.uint8]], times: float,
) -> Way:  # fmt: skip
    rate, raster, s = float(facts.rate or 25), upright_raster(facts, route.read), route.steady
    walked = walk(route, facts, seen, card)
    panel, detail, turn = preview_plan(walked, LOOKED, LOOKED).panels[0], walked["shape"].after.detail, turn_of(facts, route.read)
    scale = raster[0] / panel.size[0] * times
    axes, roll = left_of(again, rate, scale)
    marked = s.mark if s.mark is not None and s.mark[0] < facts.frames else None
    offset = None if marked is None else offset_of(looked, again, panel, clock_of(facts).time(marked[0]), marked, raster)
    path, pane = upright_path(rows, turn, s.aspect), pane_of(s, facts, turn)
    needs = solve.needed(path, pane, s.method, rate, s.roll, s.cut) if s.method in ("hold", "drift") else None
    # Of a picture turned by a quarter, rows stand in columns: nothing tells how those lean.
    wobble = None if turn % 180 else motion.wobble(motion.widened(rows, s.aspect), again, facts.raster[1])
    moves = solve.unpacked(s.moves, facts.frames, pane.size) if s.method != "off" else None  # of the way before, which it may still have
    window = np.ones(1) if moves is None else solve.windows(moves, s.budget)
    spends = np.zeros(1) if moves is None else 1 - window if s.eases else solve.spent(moves, pane)
    return Way(
        s.method, _together(axes, ("right", "down")), roll, round(float((window**2).mean()), 4), None if needs is None else round(needs, 3),
        wobble=None if wobble is None else round(wobble * times, 3),
        detail=None if detail is None else round(detail * times * float(window.mean()), 3), spends=round(float(spends.max()), 3), axes=axes,
        offset=None if offset is None else round(offset * scale, 2),
    )  # fmt: skip


DIZZY = 20.0  # degrees a second from which a sphere that turns by itself is better headed to the world
ENOUGH = 1 / 3  # of what it shakes, left: calm enough where something else matters more
Matters = Literal["calm", "picture", "resolution"]


def best(ways: tuple[Way, ...], still: bool, matters: Matters = "calm") -> tuple[Way | None, str]:
    """The way that suits, None: it is left as it was held; and why, a sentence. Of a flat picture by what matters most: the calmest, which is a
    tripod's hold where the shot hardly goes anywhere; of those that are calm enough the one that takes the least of the picture; or the calmest
    behind whose every delivered pixel a recorded one still lies. A sphere stands level, headed as it rides unless that turns viewers fast."""
    by = {(w.method, w.heading): w for w in ways if not w.why}
    if not by:
        return None, f"No way could be tried: {ways[0].why}" if ways else ""
    off = by.get(("off", ""))
    if ("level", "world") in by:
        rides = by.get(("level", "vehicle"))
        turns_far = off is not None and off.left[0] > 10 and rides is not None and (rides.fastest or 0) < DIZZY
        way = rides if turns_far and rides is not None else by["level", "world"]
        if off is not None and sum(off.left) < 0.05:
            return None, "It hardly shakes. Leave it."
        return way, f"It leaves {_shakes(way):.2g} of {_shakes(off or way):.2g} degrees of shake" + (
            f", and turns with what carries it by no more than {rides.fastest or 0:.0f}° a second." if turns_far and rides is not None else "."
        )
    moving = [by[m, ""] for m in ("drift", "path") if (m, "") in by]
    hold = by.get(("hold", ""))
    if off is None or _shakes(off) < 0.3:
        return None, "It hardly shakes. Leave it."
    if still and hold is not None and hold.needed is not None and hold.needed <= (hold.spends or 0.0) + 0.002:
        moving.append(hold)
    calmest = hold if hold in moving else min(moving, key=_shakes, default=None)
    if calmest is None:
        return None, "Nothing that was tried leaves less of it."
    says = f"it leaves {{:.2g}} of {_shakes(off):.2g} pixels of shake"
    if matters == "picture" and (calm := [w for w in moving if _shakes(w) <= ENOUGH * _shakes(off)]):
        way = min(calm, key=lambda w: w.spends or 0.0)
        return way, f"It takes {way.spends or 0:.1%} of width and height, the least of those that leave a third at most: {says.format(_shakes(way))}."
    if matters == "resolution":
        sharp = [w for w in moving if (off.detail or 1.0) * (1 - (w.spends or 0.0)) >= 1]
        way = min(sharp, key=_shakes) if sharp else min(moving, key=lambda w: w.spends or 0.0)
        detail = (off.detail or 1.0) * (1 - (way.spends or 0.0))
        how = "It keeps" if sharp else "No way keeps a recorded pixel behind each delivered one; this keeps"
        return way, f"{how} {detail:.2f} recorded pixels behind each delivered one with {way.spends or 0:.1%} spent: {says.format(_shakes(way))}."
    says = says.format(_shakes(calmest))
    return calmest, f"{says[:1].upper() + says[1:]}."


def _shakes(way: Way) -> float:
    return way.left[1] + way.left[2]
