"""A shot steadied: solved from how its picture moves, and looked at again as it is delivered."""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from .. import records
from ..cards import DeliveryCard
from ..compile import preview_plan
from ..errors import AdzerError, Stopped
from ..finding import Level
from ..look import motion, passes, track, turns
from ..look.motion import Motion
from ..look.passes import Pass
from ..look.turns import WIDE, Turns
from ..media.decode import Reader, upright
from ..media.probe import FileFacts
from ..read.seen import Seen
from ..read.step import assumed_samples, turn_of, upright_raster
from ..route import Route, walk
from ..shape.view import followed_over
from ..space.level import level_through
from ..space.sphere import Directions, Equirect
from ..steady import sidecar, solve, standing
from ..steady.measure import Shake, Turned, shake, turned
from ..steady.settings import Heading
from ..steady.slow import slow
from ..steady.step import focal_of, is_flat, lens_of, times_of
from .analysing import turns_of
from .frames import Inputs
from .pixels import Processor
from .render import Progress, Report

LOOKED = 640  # columns at which it is looked at again
BANDS = ((0.0, 0.5), (0.5, 3.0), (3.0, 1e9))  # Hz
METHODS: tuple[dict[str, object], ...] = ({"method": "off"}, {"method": "hold"}, {"method": "drift"}, {"method": "path"})
TRAVELS = 0.3  # share of frames that have to say where it goes
STANDS: tuple[dict[str, object], ...] = (
    {"method": "off"}, {"method": "drift"}, {"method": "level", "heading": "world"}, {"method": "level", "heading": "vehicle"},
    {"method": "level", "heading": "travel"}, {"method": "level", "heading": "free"},
)  # fmt: skip


class Way(msgspec.Struct, frozen=True):
    """What a method leaves and costs. ``left``: pixels rms of the delivered picture (at its recorded size), or degrees of a sphere, in three bands
    of Hz (below 0.5, to 3, above); ``roll``: degrees rms above 0.5 Hz; ``kept``: share of the picture; ``needed``: budget to do all of it (hold,
    drift); ``heading`` of a sphere that stands level; ``fastest``: degrees a second that it turns its viewers; ``wobble``: delivered pixels rms, at
    the recorded size, by which its upper and lower edge lean as rows do that are read out one after another, as the recorded picture moved;
    ``detail``: recorded pixels a delivered one; ``took``: seconds to solve and make it."""

    method: str
    left: tuple[float, float, float]
    roll: float
    kept: float
    needed: float | None = None
    why: str = ""
    heading: str = ""
    fastest: float | None = None
    wobble: float | None = None
    detail: float | None = None
    took: float = 0.0


def lens(facts: FileFacts, route: Route, seen: Seen | None = None) -> Directions | None:
    """Through which a recording of directions was seen; None of a flat picture."""
    walked = walk(route, facts, seen)
    return lens_of(walked["steady"].before, walked.draft)


def rows_of(facts: FileFacts, route: Route, report: Report = lambda _: None, seen: Seen | None = None) -> NDArray[np.float32]:
    """How the picture moves or the camera turns, frame by frame. UnreadableError if it cannot be decoded."""
    kind: Pass[Any] = Motion(assumed_samples(facts, route.read)) if lens(facts, route, seen) is None else turns_of(facts, route, seen)
    parts = []
    for span in passes.spans(facts.frames):
        parts.append(np.frombuffer(passes.run(kind, facts.source, facts.fingerprint, span), "<f4").reshape(-1, len(kind.columns)))
        report(Progress("measuring", span[1], facts.frames))
    return np.concatenate(parts)


def answers(rows: NDArray[np.float32], facts: FileFacts, route: Route, seen: Seen | None = None) -> dict[str, object]:
    """What Steady is asked for in a route, solved: its answers. AdzerError if most of its motion is not known, or if it cannot be done."""
    seen_through = lens(facts, route, seen)
    if route.steady.sidecar is not None:
        rows, _ = told(rows, facts, route, seen_through is None)
    sure = motion.SURE if seen_through is None else turns.SURE
    if len(rows) and (rows[:, sure] > 0).mean() < 0.5:
        raise AdzerError(f"{facts.name}: on most of its frames nothing can be followed: it is fog, black, or all of it moves. It is left as it is.")
    text = _held_flat(rows, facts, route, seen) if seen_through is None else _standing(rows, facts, route, seen, seen_through)
    return records.to_plain(route.steady) | {"moves": text}


def as_it_shows(rows: NDArray[np.float32], facts: FileFacts, route: Route, seen: Seen | None = None) -> Route:
    """The route, with what nobody has said of how its first frame leans and how long its rows are read out, as the footage shows it."""
    s, found = route.steady, said(rows, facts, route, seen)
    if isinstance(found, Turned) and found.lean is not None and s.lean == (0.0, 0.0):
        return route.with_("steady", lean=found.lean[:2])
    if isinstance(found, Shake) and s.readout is None:
        route = route.with_("steady", readout=found.leans)
    square = (facts.pixel_aspect or 1) == 1 and route.shape.squeeze == 1
    return route.with_("steady", view=found.view[0]) if isinstance(found, Shake) and s.view is None and found.view and square else route


def told(rows: NDArray[np.float32], facts: FileFacts, route: Route, flat: bool) -> tuple[NDArray[np.float32], sidecar.Fitted]:
    """A recording's rows with what its motion file says of them, and how that belongs to it."""
    file, focal = Path(str(route.steady.sidecar)), focal_of(route.steady, facts.raster[0])
    if flat and focal is None:
        raise AdzerError(f"{facts.name}: its motion file is in degrees, and nobody knows how many its lens sees across. Say so, or leave it out.")
    rates, times = sidecar.load(file), times_of(facts)
    seen = sidecar.as_turns(rows, focal) if focal is not None and flat else rows
    fit = sidecar.fitted(rates, seen, times, str(file))
    made = sidecar.used(seen, rates, fit, times)
    return (sidecar.as_moves(rows, made, focal) if focal is not None and flat else made), fit


def _held_flat(rows: NDArray[np.float32], facts: FileFacts, route: Route, seen: Seen | None) -> str:
    s, rate, size = route.steady, float(facts.rate or 25), upright_raster(facts, route.read)
    if not is_flat(walk(route, facts, seen)["steady"].before):
        raise AdzerError(f"{facts.name} is of round lenses that nobody has matched at Join, a flat pair, or a sphere on its side: it cannot be held.")
    if s.method == "level":
        raise AdzerError(f"{facts.name} is a flat picture: only a sphere can stand level. Hold it, or lay it on an even way.")
    path = upright_path(rows, turn_of(facts, route.read))
    if s.method == "lock":
        places, at = followed(facts, route, seen)
        return solve.packed(solve.locked(places, path, at, size, rate, s.budget, s.roll), size)
    focal, moves = focal_of(s, facts.raster[0]), None
    if (pace := walk(route, facts, seen).draft.pace) is not None and pace.chosen:
        # Of what is played fast, only the frames that are shown count, and how fast they come: the others lie between them, as far as that goes.
        shown, frames = np.array(pace.chosen), np.arange(len(path))
        some = solve.solved(path[shown], size, float(pace.rate), s.method, s.budget, s.roll, s.cut, focal)
        moves = np.stack([np.interp(frames, shown, some[:, c]) for c in range(4)], axis=1)
        moves = moves * solve.share_inside(moves, size, 1 - s.budget, focal)[:, None]
    if moves is None:
        moves = solve.solved(path, size, rate, s.method, s.budget, s.roll, s.cut, focal)
    return solve.packed(moves, size)


def _standing(rows: NDArray[np.float32], facts: FileFacts, route: Route, seen: Seen | None, seen_through: Directions) -> str:
    s, along, at = route.steady, rows[:, turns.ALONG].astype(np.float64), 0
    if s.method == "path":
        raise AdzerError(f"{facts.name}: on a sphere the way is laid by the keyframes of its view. Have it stand level, or take its jitter off.")
    how: tuple[str, Heading, float] = ("level", "world", 1.0) if s.method == "hold" else (s.method, s.heading, s.level)
    stood = standing.stands(rows)
    if s.method == "lock":
        places, at = followed(facts, route, seen)
        x, y, _, _ = walk(route, facts, seen)["steady"].before.region("left")
        frames, known = np.arange(facts.frames), np.isfinite(places[:, 0])
        # Where it is not seen it stands still in the world.
        world = np.einsum("nij,nj->ni", stood[known], seen_through.direction(places[known] - (x, y)))
        world = np.stack([np.interp(frames, frames[known], world[:, c]) for c in range(3)], axis=1)
        along = np.einsum("nji,nj->ni", stood, world)
    if how[:2] == ("level", "travel") and standing.travels(rows) < TRAVELS:
        raise AdzerError(f"{facts.name}: nothing in it says where it goes: little passes by. Head it as it rides, or to the world.")
    held = standing.held(stood, along, float(facts.rate or 25), *how, s.cut, s.lean, at)
    return solve.packed(standing.vectors(held), (1, 1))


def followed(facts: FileFacts, route: Route, seen: Seen | None = None) -> tuple[NDArray[np.float64], int]:
    """(frames, 2) where the middle of the marked thing lies in the recorded picture as it stands upright, not a number where it is not seen; and
    the frame it was marked on. AdzerError if nothing is marked, or if it cannot be followed."""
    mark, walked = route.steady.mark, walk(route, facts, seen)
    if mark is None or mark[0] >= facts.frames:
        raise AdzerError(f"{facts.name}: nothing is marked that could keep its place. Draw a box around it.")
    source = followed_over(walked["read"].result.picture, route.shape, seen)
    (w, h), turn = upright_raster(facts, route.read), turn_of(facts, route.read)
    places = np.full((facts.frames, 2), np.nan)
    with Reader(facts.source, print_=facts.fingerprint) as reader:
        follower, box = None, (mark[1] * w, mark[2] * h, mark[3] * w, mark[4] * h)
        middle = (box[0] + box[2] / 2, box[1] + box[3] / 2)
        places[mark[0]] = middle
        for frame in reader.frames(mark[0], facts.frames):
            planes = upright(frame, turn)
            luma = (planes[0] >> max(facts.bits - 8, 0)).astype(np.uint8)
            if follower is None:
                follower, first = source.marked(*box).start(planes), luma
                continue
            follower, point = track.step(follower, planes, frame.number)
            if point.sure > track.LOST:
                x, y, wide, high = source.box(point)
                guess = x + wide / 2 - middle[0], y + high / 2 - middle[1]
                # The follower finds it again whatever happens to it, to a few pixels; its own corners say where it is to parts of one.
                dx, dy = motion.carried(first, luma, box, guess) or guess
                places[frame.number] = middle[0] + dx, middle[1] + dy
    return places, mark[0]


def said(rows: NDArray[np.float32], facts: FileFacts, route: Route, seen: Seen | None = None) -> Shake | Turned:
    rate = float(facts.rate or 25)
    return shake(rows, rate, facts.raster) if lens(facts, route, seen) is None else turned(rows, rate)[0]


def lean_through(rows: NDArray[np.float32], frame: int, seen: NDArray[np.float64]) -> tuple[float, float]:
    """Tilt and roll by which the first frame leans if the horizon passes through two directions (2, 3) of a frame. AdzerError if those lie too
    near to each other."""
    stood = standing.stands(rows)[frame]
    tilt, roll = level_through(stood @ seen[0], stood @ seen[1])
    return round(tilt, 3), round(roll, 3)


def upright_path(rows: NDArray[np.float32], turn: int) -> NDArray[np.float64]:
    """How the picture lies against the first, as it stands upright once it was turned clockwise by ``turn``."""
    path = motion.path(rows)
    for _ in range(turn // 90):
        path[:, 0], path[:, 1] = -path[:, 1], path[:, 0].copy()
    return path


def retracked(facts: FileFacts, seen: Seen | None, route: Route, card: DeliveryCard, report: Report = lambda _: None) -> NDArray[np.float32]:
    """Rows of motion of the delivered preview itself, of a sphere's the whole one: nothing of what was solved is believed."""
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
    kind = Turns(target, Equirect((w, h), 180.0 if walked["shape"].after.coverage == "180" else 360.0), (0, 0, w, h))
    rows: list[Sequence[float]] = []
    held: deque[Any] = deque(maxlen=turns.FAR + 1)
    with Inputs(plan.inputs, facts.source, facts.fingerprint) as inputs, Processor(plan, 2) as processor:
        for n, planes in enumerate(inputs.along(numbers, times)):
            processor.run(planes, out, float(times[n]))
            now = (out[0] >> 2).astype(np.uint8)
            if round_:
                held.append(kind.looked(n, now))
                rows.append(kind.row(list(held), len(held) - 1))
            else:
                rows.append(motion.moved(held[-1], now) if held else motion.FIRST)
                held.append(now)
            report(Progress("looking again", n + 1, facts.frames))
    return np.array(rows, np.float32)


def turns_left(rows: NDArray[np.float32], rate: float) -> tuple[tuple[float, float, float], float, float]:
    """Degrees rms in each band, of them to the side above the lowest, and degrees a second that viewers are turned."""
    stands = standing.stands(rows)
    slower = [standing.calm(stands, rate, hz) for hz in (0.02, BANDS[0][1], BANDS[1][1])] + [stands]
    found = [standing.between(a, b) for a, b in zip(slower, slower[1:], strict=False)]
    low, middle, high = (float(np.sqrt((d**2).sum(axis=1).mean())) for d in found)
    roll = float(np.sqrt((standing.between(slower[1], stands)[:, 1] ** 2).mean()))
    return (round(low, 3), round(middle, 3), round(high, 3)), round(roll, 4), round(standing.fastest(slower[1], rate), 1)


def left_of(rows: NDArray[np.float32], rate: float, scale: float) -> tuple[tuple[float, float, float], float]:
    """Pixels rms in each band, ``scale`` times, and degrees of roll above the lowest."""
    path = motion.path(rows)
    path = path - path.mean(axis=0)
    below = [np.zeros_like(path), slow(path, rate, BANDS[0][1]), slow(path, rate, BANDS[1][1]), path]
    parts = [below[k + 1] - below[k] for k in range(3)]
    found = [float(np.sqrt((p[:, :2] ** 2).sum(axis=1).mean())) * scale for p in parts]
    roll = float(np.sqrt(((path - below[1])[:, 2] ** 2).mean()))
    return (round(found[0], 3), round(found[1], 3), round(found[2], 3)), round(roll, 4)


def compared(
    facts: FileFacts, seen: Seen | None, route: Route, card: DeliveryCard, budget: float, report: Report = lambda _: None,
    rows: NDArray[np.float32] | None = None,
) -> tuple[Shake | Turned, tuple[Way, ...]]:  # fmt: skip
    """Every method, made and looked at again as delivered; one that fails is a row with its reason."""
    round_ = lens(facts, route, seen) is not None
    rows = rows_of(facts, route, report, seen) if rows is None else rows
    rate = float(facts.rate or 25)
    made = []
    for changes in STANDS if round_ else METHODS:
        begun = time.monotonic()
        name, heading = str(changes["method"]), str(changes.get("heading", ""))
        try:
            each = route.with_("steady", **changes, budget=budget)
            if name != "off":
                each = each.with_("steady", **answers(rows, facts, as_it_shows(rows, facts, each, seen), seen))
            again = retracked(facts, seen, each, card, report)
        except AdzerError as error:
            made.append(Way(name, (0.0, 0.0, 0.0), 0.0, 0.0, None, str(error), heading))
            continue
        if round_:
            left, roll, fastest = turns_left(again, rate)
            way = Way(name, left, roll, 1.0, heading=heading, fastest=fastest)
        else:
            way = _flat_way(facts, seen, each, card, rows, again)
        made.append(msgspec.structs.replace(way, took=round(time.monotonic() - begun, 2)))
    return said(rows, facts, route, seen), tuple(made)


def _flat_way(
    facts: FileFacts, seen: Seen | None, route: Route, card: DeliveryCard, rows: NDArray[np.float32], again: NDArray[np.float32]
) -> Way:
    rate, raster, s = float(facts.rate or 25), upright_raster(facts, route.read), route.steady
    walked = walk(route, facts, seen, card)
    wide, detail = preview_plan(walked, LOOKED, LOOKED).panels[0].size[0], walked["shape"].after.detail
    kept = (1 - s.budget) ** 2 if s.method != "off" else 1.0
    left, roll = left_of(again, rate, raster[0] / wide)
    path, focal = upright_path(rows, turn_of(facts, route.read)), focal_of(s, facts.raster[0])
    needs = solve.needed(path, raster, s.method, rate, s.roll, s.cut, focal) if s.method in ("hold", "drift") else None
    wobble = motion.wobble(rows, again, facts.raster[1])
    return Way(
        s.method, left, roll, round(kept, 4), None if needs is None else round(needs, 3), wobble=None if wobble is None else round(wobble, 3),
        detail=None if detail is None else round(detail * (1 - s.budget if s.method != "off" else 1.0), 3),
    )  # fmt: skip


DIZZY = 20.0  # degrees a second from which a sphere that turns by itself is better headed to the world


def best(ways: tuple[Way, ...], still: bool) -> Way | None:
    """The way that suits: of a flat picture a tripod's hold where the shot hardly goes anywhere, else the calmer of the moving ones; of a
    sphere that it stands level, headed as it rides unless that turns viewers fast. None: it is left, as nothing shakes."""
    by = {(w.method, w.heading): w for w in ways if not w.why}
    off = by.get(("off", ""))
    if ("level", "world") in by:
        if off is not None and sum(off.left) < 0.05:
            return None
        rides = by.get(("level", "vehicle"))
        turns_far = off is not None and off.left[0] > 10 and rides is not None and (rides.fastest or 0) < DIZZY
        return rides if turns_far else by["level", "world"]
    if off is None or off.left[1] + off.left[2] < 0.3:
        return None
    hold = by.get(("hold", ""))
    if still and hold is not None and hold.needed is not None and hold.needed <= 1 - hold.kept**0.5:
        return hold
    moving = [by[m, ""] for m in ("drift", "path") if (m, "") in by]
    return min(moving, key=lambda w: w.left[1] + w.left[2], default=None)
