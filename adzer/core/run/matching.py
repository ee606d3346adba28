"""Two lenses, or two eyes, measured on their own footage: the frames that Join's measurements look at."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from ..errors import AdzerError
from ..join import along, eyes, measure, rig, selfcalibration, strip
from ..join.measure import Matched, match
from ..join.step import around, aside
from ..light import names
from ..light.curves import Curve
from ..light.samples import Samples
from ..look import cuts
from ..look.sampling import signal, signal_at
from ..look.turns import Turns
from ..media.decode import opened, upright
from ..media.probe import FileFacts
from ..picture import Picture
from ..read.seen import Seen
from ..route import Route, walk
from ..shape.view import recording
from ..space.meeting import Around
from ..space.sphere import Round, heading_tilt, rotation, view_directions

FRAMES = 3
EACH_SECOND, MOST = 2, 32  # moments of the way on which two lenses meet
MOMENTS = 5


def match_lenses(facts: FileFacts, route: Route, seen: Seen | None) -> Matched:
    """What the overlap says. AdzerError if these are no two lenses, or their overlap says too little."""
    return match(*_looked_at(facts, route, seen, FRAMES))


def calibrate_lenses(facts: FileFacts, route: Route, seen: Seen | None) -> rig.Rigged:
    """The same, the lenses themselves doubted, too: what each does to angles by how it turns, where the camera turns; how far they see by where
    both see, where nobody has said it. And the way on which they meet."""
    frames, samples, lens, corner, curve = _looked_at(facts, route, seen, 2 * FRAMES)
    known = route.shape.across is not None or route.join.lenses is not None
    solved = _by_turning(facts, route, seen)
    if solved is not None:
        lens = solved[0]
    elif not known and len(lens.lenses) == 2:
        lens = rig.seeing(frames[:1], samples, lens, corner, curve)
    guessed = solved is None and not known and len(lens.lenses) == 2
    try:
        found = rig.calibrate(frames, samples, lens, corner, curve, rig.SOLVED if solved else rig.GUESSED if guessed else rig.USUAL)
    except AdzerError as error:
        if solved is not None or route.shape.across is None:
            raise
        law = "by the declared law" if route.shape.bend else "and taken as equidistant"
        raise AdzerError(
            f"{error} The lenses were declared to see {route.shape.across:g}° {law}, which does not fit what both see. Leave the declared angle "
            "out, or take a shot in which the camera turns."
        ) from None
    found = replace(found, law=solved[1] if solved else None)
    return replace(found, along=along_seam(facts, route.with_("join", **rig.answers(found)), seen))


def _by_turning(facts: FileFacts, route: Route, seen: Seen | None) -> tuple[Round, selfcalibration.Law] | None:
    """The lenses, calibrated by points that cross them while the camera turns; None where the camera hardly turns."""
    picture, lens, _, _, samples = _lenses(facts, route, seen)
    region = picture.region(route.shape.eye)
    analysis = Turns(samples, lens, region, picture.turn)
    with opened(facts.sources, facts.fingerprint) as reader:
        pairs = selfcalibration.chosen(lambda n: analysis.picture(reader.frame(n)), len(reader), float(facts.rate or 25), analysis)
    return selfcalibration.by_turning(pairs, analysis, rotation(*route.join.turn))


def along_seam(facts: FileFacts, route: Route, seen: Seen | None) -> along.Along:
    """The way on which lenses that are known meet on this shot, moment by moment."""
    picture, overlap = _overlap(facts, route, seen)
    with opened(facts.sources, facts.fingerprint) as reader:
        count = int(np.clip(float(facts.duration or 0) * EACH_SECOND, FRAMES, MOST))
        moments = ((float(reader.time(n)), upright(reader.frame(n), picture.turn)) for n in _spread(len(reader), count))
        return along.measured(moments, overlap, route.join.blend)


def overlap_looked(
    facts: FileFacts, route: Route, seen: Seen | None, frame: int, how: str, wide: int
) -> tuple[NDArray[np.uint8], ...]:
    """What both lenses see of a frame, as ``strip.looked``."""
    picture, overlap = _seen_by_both(facts, route, seen)
    join = route.join
    apart = around(join.met, "apart") if join.close else None
    if apart is None and join.base and join.distance:
        apart = Around.still_at((float(np.degrees(join.base / join.distance)),))
    with opened(facts.sources, facts.fingerprint) as reader:
        return strip.looked(overlap, upright(reader.frame(frame), picture.turn), apart, float(reader.time(frame)), how, wide)


def apart_at(facts: FileFacts, route: Route, seen: Seen | None, frame: int, how: str, x: float, y: float) -> float | None:
    """Degrees that what is pointed at in such a picture stands apart in the two lenses; None if that cannot be told."""
    picture, overlap = _seen_by_both(facts, route, seen)
    with opened(facts.sources, facts.fingerprint) as reader:
        return overlap.apart_at(upright(reader.frame(frame), picture.turn), *strip.place_in(overlap.half, how, x, y))


def look_at_eyes(facts: FileFacts, route: Route, seen: Seen | None, moments: int = MOMENTS) -> eyes.Seen:
    """How the two eyes of a recording lie, how deep they see, and which is left. AdzerError if they are no two, or have too little in
    common."""
    held, aspect, curve = _eyes(facts, route, seen)
    begun = _begun(facts, moments)
    both = list(held([n for first in begun for n in (first - 1, first)]))
    return eyes.measure(list(held(moments)), aspect, curve, list(zip(both[::2], both[1::2], strict=True)))


def _begun(facts: FileFacts, moments: int) -> list[int]:
    """Frames with which another shot begins, as far as a look at a few tells."""
    with opened(facts.sources, facts.fingerprint) as reader:
        looked = sorted({0, *_spread(len(reader), moments), len(reader) - 1})
        return cuts.between(lambda n: cuts.small(reader.frame(n).cropped(0)), looked)


def depth_at(facts: FileFacts, route: Route, seen: Seen | None, x: float, y: float, frame: int = 0) -> float:
    """Per cent of the width by which the right eye holds a thing farther right than the left one, once both are in line: the thing at a
    share of the first eye's width and height. Of eyes that recorded directions: of the width of a straight view ahead."""
    picture = walk(route, facts, seen)["read"].after
    first = picture.first or "left"
    if picture.projection in (None, "flat"):
        held, aspect, _ = _eyes(facts, route, seen)
        (shown,) = held([frame])
        return eyes.depth_at(shown, route.join.aligned(shown.time), aspect, x, y, first)
    found = seen.upright(facts.raster, picture.turn) if seen else None
    _, _, w, h = picture.region(first)
    heading, tilt = (float(v) for v in heading_tilt(recording(picture, replace(route.shape, eye=first), found).direction(np.array([x * w, y * h]))))
    held, aspect, _ = _eyes(facts, route, seen, rotation(heading, tilt))
    (shown,) = held([frame])
    lie = np.append(route.join.aligned(shown.time)[:2], np.zeros(3))  # what is undone of such eyes
    apart = aside(eyes.depth_at(shown, lie, aspect, 0.5, 0.5, first)) / np.cos(np.radians(tilt))
    return float(np.tan(apart) / (2 * np.tan(np.radians(eyes.VIEW / 2))) * 100)


def both_looked(
    facts: FileFacts, route: Route, seen: Seen | None, frame: int, how: str, wide: int
) -> tuple[NDArray[np.uint8], ...]:
    """Pictures (rows, columns, 3) by which somebody sees which eye is which and how they lie, both brought in line: ``coloured`` (for
    glasses, red before the left eye and cyan before the right), ``apart`` (what differs), ``by turns`` (two: left, right)."""
    held, aspect, curve = _eyes(facts, route, seen)
    (shown,) = held([frame])
    first = walk(route, facts, seen)["read"].after.first or "left"
    join = route.join
    return eyes.looked(shown, join.aligned(shown.time), aspect, first, join.pinned(shown.time), how, curve, wide)


def _eyes(
    facts: FileFacts, route: Route, seen: Seen | None, toward: NDArray[np.float64] | None = None
) -> tuple[Callable[[int | list[int]], Iterator[eyes.Shown]], float, Curve | None]:
    """What shows a number of moments, or those frames; how wide an eye's pixels are; and the curve. ``toward``: turns the straight view that
    eyes that recorded directions are looked at by; None: ahead."""
    walked = walk(route, facts, seen)
    picture, samples = walked["read"].after, walked.draft.inputs[0].samples
    if picture.eyes in (None, "one"):
        raise AdzerError(f"{facts.path} does not hold two eyes, as far as anybody says. Say so on Read, or give the other eye's file.")
    first = picture.first or "left"
    order = (first, "right" if first == "left" else "left")
    regions = [picture.region(e) for e in order]
    aspect, places = float(picture.eye_aspect), None
    if picture.projection not in (None, "flat"):  # what a straight view ahead shows of each
        found = seen.upright(facts.raster, picture.turn) if seen else None
        lenses = [recording(picture, replace(route.shape, eye=e), found) for e in order]
        wide = int(np.clip(lenses[0].density * 2, 320, eyes.SEARCHED)) // 16 * 16
        across, down = (np.arange(wide) + 0.5) / wide * 2 - 1, (1 - (np.arange(wide * 9 // 16) + 0.5) / (wide * 9 // 16) * 2) * 9 / 16
        d = view_directions("straight", eyes.VIEW, 0.0, *np.meshgrid(across, down))
        d = d if toward is None else d @ toward.T
        places = [lens.place(d) + np.array(r[:2], np.float64) for lens, r in zip(lenses, regions, strict=True)]
        aspect = 1.0

    def shown(which: int | list[int]) -> Iterator[eyes.Shown]:
        with opened(facts.sources, facts.fingerprint) as reader:
            numbers = _spread(len(reader), which) if isinstance(which, int) else which
            for n in numbers:
                frame = reader.frame(n)
                planes = upright(frame, picture.turn)
                if places is not None:
                    one, two = (signal_at(planes, samples, p) for p in places)
                else:
                    one, two = (signal(planes, samples, r, eyes.WIDE) for r in regions)
                yield eyes.Shown(one, two, float(reader.time(n)))

    return shown, aspect, names.recorded(picture)


def _overlap(facts: FileFacts, route: Route, seen: Seen | None) -> tuple[Picture, along.Overlap]:
    picture, lens, corner, curve, samples = _lenses(facts, route, seen)
    join = route.join
    return picture, along.Overlap(lens, corner, rotation(*join.turn), samples, curve, measure.Light(join.gain, join.black, join.falls, 1))


def _seen_by_both(facts: FileFacts, route: Route, seen: Seen | None) -> tuple[Picture, along.Overlap]:
    picture, overlap = _overlap(facts, route, seen)
    if overlap.half < 0.5:
        raise AdzerError(f"The lenses of {facts.path} hardly overlap, as far as is known. Say how far they see, or let them be measured.")
    return picture, overlap


def _lenses(facts: FileFacts, route: Route, seen: Seen | None) -> tuple[Picture, Round, tuple[int, int], Curve | None, Samples]:
    walked = walk(route, facts, seen)
    picture, held = walked["read"].after, walked.draft.inputs[0]
    lens: object = recording(picture, route.shape, seen.upright(facts.raster, picture.turn) if seen else None, walked.draft.rig)
    if picture.projection != "fisheye" or not isinstance(lens, Round):
        raise AdzerError(f"{facts.path} does not show round lenses, as far as anybody says. Say so on Read first.")
    x, y, *_ = picture.region(route.shape.eye)
    return picture, lens, (x, y), names.recorded(picture), held.samples


def _spread(length: int, count: int) -> list[int]:
    """Frames evenly over a take."""
    return sorted({int((i + 0.5) * length / count) for i in range(count)})


def _looked_at(facts: FileFacts, route: Route, seen: Seen | None, count: int) -> Any:
    picture, lens, corner, curve, samples = _lenses(facts, route, seen)
    with opened(facts.sources, facts.fingerprint) as reader:
        frames = [upright(reader.frame(n), picture.turn) for n in _spread(len(reader), count)]
    return frames, samples, lens, corner, curve
