"""A shot steadied: solved from how its picture moves, and looked at again as it is delivered."""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Sequence
from fractions import Fraction
from pathlib import Path
from typing import Any, Literal

import msgspec
import numpy as np
from numpy.typing import NDArray

from .. import records
from ..cards import DeliveryCard
from ..compile import preview_plan
from ..errors import AdzerError, Stopped
from ..finding import Level
from ..light import names
from ..light.curves import Curve
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
from ..steady import lamp, sidecar, solve, standing
from ..steady.measure import Shake, Turned, shake, turned
from ..steady.settings import Heading
from ..steady.slow import slow
from ..steady.step import is_flat, lens_of, pane_of, times_of
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
    ``detail``: recorded pixels a delivered one; ``spends``: budget without which it could not be made; ``took``: seconds to solve and make it."""

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
    spends: float | None = None
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
    route = route.with_("steady", aspect=aspect_of(facts, route) if seen_through is None else 1.0)
    if route.steady.sidecar is not None:
        rows, _ = told(rows, facts, route, seen_through is None)
    sure = motion.SURE if seen_through is None else turns.SURE
    if route.steady.method != "off" and len(rows) and (rows[:, sure] > 0).mean() < 0.5:
        raise AdzerError(f"{facts.name}: on most of its frames nothing can be followed: it is fog, black, or all of it moves. It is left as it is.")
    s, text, goes, light = route.steady, "", "", ""
    if s.method != "off" and seen_through is None:
        text, goes = _held_flat(rows, facts, route, seen)
    elif s.method != "off" and seen_through is not None:
        text = _standing(rows, facts, route, seen, seen_through)
    if s.evens and seen_through is None:
        light = lamp.packed(lamp.evened(rows, recorded_curve(facts, route, seen), float(facts.rate or 25), s.cut))
    return records.to_plain(s) | {"moves": text, "goes": goes, "light": light}


def recorded_curve(facts: FileFacts, route: Route, seen: Seen | None) -> Curve | None:
    """In whose light the recording flickers, as Steady gets it."""
    return names.recorded(walk(route, facts, seen)["steady"].before)


def aspect_of(facts: FileFacts, route: Route) -> float:
    """How many times as wide as high each pixel of the upright recorded picture is, its lens's squeeze undone."""
    own = facts.pixel_aspect or Fraction(1)
    return float((1 / own if turn_of(facts, route.read) % 180 else own) * route.shape.squeeze)


def as_it_shows(rows: NDArray[np.float32], facts: FileFacts, route: Route, seen: Seen | None = None) -> Route:
    """The route, with what nobody has said of how its first frame leans and how long its rows are read out, as the footage shows it."""
    s, found = route.steady, said(rows, facts, route, seen)
    if isinstance(found, Turned) and found.lean is not None and s.lean == (0.0, 0.0):
        return route.with_("steady", lean=found.lean[:2])
    if isinstance(found, Shake) and s.readout is None:
        route = route.with_("steady", readout=found.leans)
    square = aspect_of(facts, route) == 1  # of what is squeezed, edges bend otherwise
    return route.with_("steady", view=found.view[0]) if isinstance(found, Shake) and s.view is None and found.view and square else route


def told(rows: NDArray[np.float32], facts: FileFacts, route: Route, flat: bool) -> tuple[NDArray[np.float32], sidecar.Fitted]:
    """A recording's rows with what its motion file says of them, and how that belongs to it."""
    file, turn = Path(str(route.steady.sidecar)), turn_of(facts, route.read)
    pane = pane_of(route.steady, facts, turn)
    if flat and pane.focal is None:
        raise AdzerError(f"{facts.name}: its motion file is in degrees, and nobody knows how many its lens sees across. Say so, or leave it out.")
    rates, times = sidecar.load(file), times_of(facts)
    # Recorded pixels to the right and down from the lens to its picture.
    far = None
    if flat and pane.focal is not None:
        far = (pane.focal, pane.focal / pane.aspect) if turn % 180 else (pane.focal / pane.aspect, pane.focal)
    seen = sidecar.as_turns(rows, far) if far is not None else rows
    fit = sidecar.fitted(rates, seen, times, str(file))
    made = sidecar.used(seen, rates, fit, times)
    return (sidecar.as_moves(rows, made, far) if far is not None else made), fit


def _held_flat(rows: NDArray[np.float32], facts: FileFacts, route: Route, seen: Seen | None) -> tuple[str, str]:
    """Its moves, and how fast it goes where it is meant to, as answers hold them."""
    s, rate, turn = route.steady, float(facts.rate or 25), turn_of(facts, route.read)
    walked = walk(route, facts, seen)
    if not is_flat(walked["steady"].before, walked.draft):
        raise AdzerError(f"{facts.name} is of round lenses that nobody has matched at Join, a flat pair, or a sphere on its side: it cannot be held.")
    if s.method == "level":
        raise AdzerError(f"{facts.name} is a flat picture: only a sphere can stand level. Hold it, or lay it on an even way.")
    path, pane = upright_path(rows, turn, s.aspect), pane_of(s, facts, turn)
    if s.method == "lock":
        places, at = followed(facts, route, seen)
        moves = solve.locked(places, path, at, pane, rate, s.budget, s.roll, s.grows)
    elif (pace := walked.draft.pace) is not None and pace.chosen:
        # Of what is played fast, only the frames that are shown count, and how fast they come: the others lie between them, as far as that goes.
        shown, frames = np.array(pace.chosen), np.arange(len(path))
        some = solve.solved(path[shown], pane, float(pace.rate), s.method, s.budget, s.roll, s.cut)
        moves = np.stack([np.interp(frames, shown, some[:, c]) for c in range(4)], axis=1)
        moves = moves * solve.share_inside(moves, pane, 1 - s.budget)[:, None]
    else:
        moves = solve.solved(path, pane, rate, s.method, s.budget, s.roll, s.cut)
    goes = solve.packed(solve.going(path, moves, rate), pane.size) if s.readout else ""
    return solve.packed(solve.eased(moves, pane, rate, s.budget) if s.eases and s.budget else moves, pane.size), goes


def _standing(rows: NDArray[np.float32], facts: FileFacts, route: Route, seen: Seen | None, seen_through: Directions) -> str:
    s, along, at = route.steady, rows[:, turns.ALONG].astype(np.float64), 0
    if s.method == "path":
        raise AdzerError(f"{facts.name}: on a sphere the way is laid by the keyframes of its view. Have it stand level, or take its jitter off.")
    how: tuple[str, Heading, float] = ("level", "world", 1.0) if s.method == "hold" else (s.method, s.heading, s.level)
    stood = standing.stands(rows)
    if s.method == "lock":
        places, at = followed(facts, route, seen)
        places = places[:, :2]
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
    """(frames, 4) where the middle of the marked thing lies in the recorded picture as it stands upright, degrees by which it is turned clockwise
    against how it was marked, and its size, as a logarithm in per cent; not a number where it is not seen; and the frame it was marked on.
    AdzerError if nothing is marked, or if it cannot be followed."""
    mark, walked = route.steady.mark, walk(route, facts, seen)
    if mark is None or mark[0] >= facts.frames:
        raise AdzerError(f"{facts.name}: nothing is marked that could keep its place. Draw a box around it.")
    source = followed_over(walked["read"].result.picture, route.shape, seen)
    (w, h), turn = upright_raster(facts, route.read), turn_of(facts, route.read)
    places = np.full((facts.frames, 4), np.nan)
    with Reader(facts.source, print_=facts.fingerprint) as reader:
        follower, box = None, (mark[1] * w, mark[2] * h, mark[3] * w, mark[4] * h)
        middle, grown = (box[0] + box[2] / 2, box[1] + box[3] / 2), np.eye(2)
        places[mark[0]] = (*middle, 0.0, 0.0)
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
                # The follower finds it again whatever happens to it, to a few pixels; its own picture says where it is to parts of one.
                (dx, dy), grown = motion.carried(first, luma, box, guess, grown) or (guess, np.eye(2))
                places[frame.number] = middle[0] + dx, middle[1] + dy, *_turn_and_size(grown, route.steady.aspect)
    return places, mark[0]


def _turn_and_size(grown: NDArray[np.float64], aspect: float) -> tuple[float, float]:
    """Degrees clockwise and logarithm in per cent of what became of a thing (2, 2) whose pixels are ``aspect`` times as wide as high."""
    turn = np.arctan2(grown[1, 0] / aspect - grown[0, 1] * aspect, grown[0, 0] + grown[1, 1])
    return float(np.degrees(turn)), float(50 * np.log(max(np.linalg.det(grown), 1e-6)))


def said(rows: NDArray[np.float32], facts: FileFacts, route: Route, seen: Seen | None = None) -> Shake | Turned:
    rate = float(facts.rate or 25)
    return shake(rows, rate, facts.raster) if lens(facts, route, seen) is None else turned(rows, rate)[0]


def lean_through(rows: NDArray[np.float32], frame: int, seen: NDArray[np.float64]) -> tuple[float, float]:
    """Tilt and roll by which the first frame leans if the horizon passes through two directions (2, 3) of a frame. AdzerError if those lie too
    near to each other."""
    stood = standing.stands(rows)[frame]
    tilt, roll = level_through(stood @ seen[0], stood @ seen[1])
    return round(tilt, 3), round(roll, 3)


def upright_path(rows: NDArray[np.float32], turn: int, aspect: float = 1.0) -> NDArray[np.float64]:
    """How the picture lies against the first, as it stands upright once it was turned clockwise by ``turn``, each of its pixels then ``aspect``
    times as wide as high."""
    path = motion.path(motion.squared(rows, 1 / aspect if turn % 180 else aspect))
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
    rows: NDArray[np.float32] | None = None, times: float = 1.0,
) -> tuple[Shake | Turned, tuple[Way, ...]]:  # fmt: skip
    """Every method, made and looked at again as delivered; one that fails is a row with its reason. ``times``: how many times as wide the recording
    is that a proxy stands for, in whose pixels is told what is left."""
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
            way = _flat_way(facts, seen, each, card, rows, again, times)
        made.append(msgspec.structs.replace(way, took=round(time.monotonic() - begun, 2)))
    return said(rows, facts, route, seen), tuple(made)


def _flat_way(
    facts: FileFacts, seen: Seen | None, route: Route, card: DeliveryCard, rows: NDArray[np.float32], again: NDArray[np.float32], times: float
) -> Way:
    rate, raster, s = float(facts.rate or 25), upright_raster(facts, route.read), route.steady
    walked = walk(route, facts, seen, card)
    wide, detail = preview_plan(walked, LOOKED, LOOKED).panels[0].size[0], walked["shape"].after.detail
    left, roll = left_of(again, rate, raster[0] / wide * times)
    turn = turn_of(facts, route.read)
    path, pane = upright_path(rows, turn, s.aspect), pane_of(s, facts, turn)
    needs = solve.needed(path, pane, s.method, rate, s.roll, s.cut) if s.method in ("hold", "drift") else None
    wobble, moves = motion.wobble(rows, again, facts.raster[1]), solve.unpacked(s.moves, facts.frames, pane.size)
    window = np.ones(1) if moves is None else solve.windows(moves, s.budget)
    spends = np.zeros(1) if moves is None else 1 - window if s.eases else solve.spent(moves, pane)
    return Way(
        s.method, left, roll, round(float((window**2).mean()), 4), None if needs is None else round(needs, 3),
        wobble=None if wobble is None else round(wobble * times, 3),
        detail=None if detail is None else round(detail * times * float(window.mean()), 3), spends=round(float(spends.max()), 3),
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
        return way, f"It takes {way.spends or 0:.1%} of each side, the least of those that leave a third at most: {says.format(_shakes(way))}."
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
