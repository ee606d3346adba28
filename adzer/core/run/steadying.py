"""A shot steadied: solved from how its picture moves, and looked at again as it is delivered."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from .. import cards, records
from ..errors import AdzerError
from ..job import Job
from ..light import names
from ..light.curves import Curve
from ..look import motion, passes, track, turns
from ..look.passes import Pass
from ..media.decode import opened, upright
from ..media.probe import FileFacts
from ..read.seen import Seen
from ..read.step import turn_of, upright_raster
from ..route import Route, walk
from ..shape.view import followed_over
from ..space.level import level_through
from ..space.sphere import Directions, Round
from ..steady import lamp, sidecar, solve, standing
from ..steady.measure import Shake, Turned, shake, turned
from ..steady.settings import Heading
from ..steady.step import is_flat, lens_of, named, names_of, pane_of, times_of
from .analysing import kept_rows, motion_of, turns_of
from .render import Progress, Report

TRAVELS = 0.3  # share of frames that have to say where it goes
def lens(facts: FileFacts, route: Route, seen: Seen | None = None) -> Directions | None:
    """Through which a recording of directions was seen; None of a flat picture."""
    walked = walk(route, facts, seen)
    return lens_of(walked["steady"].before, walked.draft)


def rows_of(facts: FileFacts, route: Route, report: Report = lambda _: None, seen: Seen | None = None) -> NDArray[np.float32]:
    """How the picture moves or the camera turns, frame by frame. UnreadableError if it cannot be decoded."""
    kind: Pass[Any] = motion_of(facts, route) if lens(facts, route, seen) is None else turns_of(facts, route, seen)
    parts = []
    for span in passes.spans(facts.frames):
        parts.append(np.frombuffer(passes.run(kind, facts.sources, facts.fingerprint, span), "<f4").reshape(-1, len(kind.columns)))
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
        if route.steady.still is not None:
            raise AdzerError(f"{facts.name}: on most of its frames nothing can be followed in the box that stands still. Draw a larger one.")
        raise AdzerError(f"{facts.name}: on most of its frames nothing can be followed: it is fog, black, or all of it moves. It is left as it is.")
    s, text, goes, light, needs = route.steady, "", "", "", 0.0
    if s.method != "off" and seen_through is None:
        text, goes, needs = _held_flat(rows, facts, route, seen)
    elif s.method != "off" and seen_through is not None:
        text, goes = _standing(rows, facts, route, seen, seen_through)
    if s.evens and seen_through is None:
        light = lamp.packed(lamp.evened(rows, recorded_curve(facts, route, seen), float(facts.rate or 25), s.cut))
    through = named("", seen_through, turn_of(facts, route.read)) if isinstance(seen_through, Round) else ""
    return records.to_plain(s) | {"moves": text, "goes": goes, "needs": needs, "light": light, "through": through}


def held(job: Job, facts: FileFacts, route: Route, seen: Seen | None) -> Route:
    """The route with what Steady is asked for in it solved by what was measured of the recording and is kept in its job. AdzerError if
    that is too little, or nothing was measured."""
    walked = walk(route, facts, seen)
    rows = kept_rows(job, names_of(walked["steady"].before, walked.draft, route.steady)[0], facts)
    if rows is None:
        raise AdzerError("how it moves has not been measured to its end")
    return route.with_("steady", **answers(rows, facts, route, seen))


def recorded_curve(facts: FileFacts, route: Route, seen: Seen | None) -> Curve | None:
    """In whose light the recording flickers, as Steady gets it."""
    return names.recorded(walk(route, facts, seen)["steady"].before)


def aspect_of(facts: FileFacts, route: Route) -> float:
    """How many times as wide as high each pixel of the upright recorded picture is, its lens's squeeze undone."""
    own = facts.pixel_aspect or Fraction(1)
    return float((1 / own if turn_of(facts, route.read) % 180 else own) * route.shape.squeeze)


def as_it_shows(rows: NDArray[np.float32], facts: FileFacts, route: Route, seen: Seen | None = None) -> Route:
    """The route, with what nobody has said of how its first frame leans, how long its rows are read out and how wide its lens sees, as the lens's
    card says or the footage shows."""
    found = said(rows, facts, route, seen)
    route = _by_card(route)
    if route.steady.readout is None:
        route = route.with_("steady", readout=found.leans)
    s = route.steady
    if isinstance(found, Turned):
        return route.with_("steady", lean=found.lean[:2]) if found.lean is not None and s.lean == (0.0, 0.0) else route
    square = aspect_of(facts, route) == 1  # of what is squeezed, edges bend otherwise
    return route.with_("steady", view=found.view[0]) if s.view is None and found.view and square else route


def _by_card(route: Route) -> Route:
    """With what its lens's card says that nobody has said."""
    says: dict[str, float | None] = {}
    try:
        if route.shape.lens:
            card = cards.find("lenses", route.shape.lens, cards.LensCard)
            says = {"readout": card.readout, "view": card.view}
        elif route.join.rig:
            says = {"readout": cards.find("rigs", route.join.rig, cards.RigCard).readout}
    except AdzerError:  # it is gone, which Shape and Join say
        pass
    return route.with_("steady", **{n: v for n, v in says.items() if v is not None and getattr(route.steady, n) is None})


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


def _held_flat(rows: NDArray[np.float32], facts: FileFacts, route: Route, seen: Seen | None) -> tuple[str, str, float]:
    """Its moves, how fast it goes where it is meant to, and the budget that all of it takes, as answers hold them."""
    s, rate, turn = route.steady, float(facts.rate or 25), turn_of(facts, route.read)
    walked = walk(route, facts, seen)
    if not is_flat(walked["steady"].before, walked.draft):
        raise AdzerError(f"{facts.name} is of round lenses that were not matched on Join, a flat pair, or a sphere on its side: it cannot be held.")
    if s.method == "level":
        raise AdzerError(f"{facts.name} is a flat picture: only a sphere can stand level. Hold it, or lay it on an even way.")
    path, pane, needs = upright_path(rows, turn, s.aspect), pane_of(s, facts, turn), 0.0
    shown_path, comes = path, rate
    if s.method == "lock":
        places, at = followed(facts, route, seen)
        moves = solve.locked(places, path, at, pane, rate, s.budget, s.roll, s.grows)
        needs = float(solve.spent(solve.locked(places, path, at, pane, rate, 0.9, s.roll, s.grows), pane).max())
    elif (pace := walked.draft.pace) is not None and pace.chosen:
        # Of what is played fast, only the frames that are shown count, and how fast they come: the others lie between them, as far as that goes.
        shown, frames = np.array(pace.chosen), np.arange(len(path))
        some = solve.solved(path[shown], pane, float(pace.rate), s.method, s.budget, s.roll, s.cut)
        moves = np.stack([np.interp(frames, shown, some[:, c]) for c in range(4)], axis=1)
        moves = moves * solve.share_inside(moves, pane, 1 - s.budget)[:, None]
        shown_path, comes = path[shown], float(pace.rate)
    else:
        moves = solve.solved(path, pane, rate, s.method, s.budget, s.roll, s.cut)
    if s.method in ("hold", "drift"):
        needs = solve.needed(shown_path, pane, s.method, comes, s.roll, s.cut)
    goes = solve.packed(solve.going(path, moves, rate), pane.size) if s.readout else ""
    text = solve.packed(solve.eased(moves, pane, rate, s.budget) if s.eases and s.budget else moves, pane.size)
    return text, goes, round(min(needs, 0.9), 4)


def _standing(rows: NDArray[np.float32], facts: FileFacts, route: Route, seen: Seen | None, seen_through: Directions) -> tuple[str, str]:
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
    own = solve.packed(standing.vectors(np.swapaxes(stood, 1, 2)), (1, 1)) if s.readout and isinstance(seen_through, Round) else ""
    return solve.packed(standing.vectors(held), (1, 1)), own


def followed(facts: FileFacts, route: Route, seen: Seen | None = None) -> tuple[NDArray[np.float64], int]:
    """(frames, 4) where the middle of the marked thing lies in the recorded picture as it stands upright, degrees by which it is turned clockwise
    against how it was marked, and its size, as a logarithm in per cent; not a number where it is not seen; and the frame it was marked on.
    AdzerError if nothing is marked, or if it cannot be followed."""
    mark, walked = route.steady.mark, walk(route, facts, seen)
    if mark is not None and mark[0] >= facts.frames:
        raise AdzerError(f"{facts.name} has {facts.frames} frames, and a thing is marked on number {mark[0]}, counted from 0. Mark it anew.")
    if mark is None:
        raise AdzerError(f"{facts.name}: nothing is marked that could keep its place. Draw a box around it.")
    source = followed_over(walked["read"].result.picture, route.shape, seen, walked.draft.rig)
    (w, h), turn = upright_raster(facts, route.read), turn_of(facts, route.read)
    places = np.full((facts.frames, 4), np.nan)
    with opened(facts.sources, facts.fingerprint) as reader:
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
