"""Two lenses matched and calibrated on their own footage: the frames and the lenses that Join's measurements look at."""

from __future__ import annotations

from typing import Any

from ..errors import AdzerError
from ..join import rig
from ..join.measure import Matched, match
from ..join.step import recorded_curve
from ..media.decode import Reader, upright
from ..media.probe import FileFacts
from ..read.seen import Seen
from ..route import Route, walk
from ..shape.view import recording, region
from ..space.sphere import Round, rotation

FRAMES = 3


def match_lenses(facts: FileFacts, route: Route, seen: Seen | None) -> Matched:
    """What the overlap says. AdzerError if these are no two lenses, or their overlap says too little."""
    return match(*_looked_at(facts, route, seen, FRAMES))


def calibrate_lenses(facts: FileFacts, route: Route, seen: Seen | None) -> rig.Rigged:
    """The same, the lenses themselves doubted, too; how far they see is found where nobody has said it."""
    frames, samples, lens, corner, curve = _looked_at(facts, route, seen, 2 * FRAMES)
    guessed = route.shape.across is None and route.join.lenses is None and len(lens.lenses) == 2
    if guessed:
        lens = rig.seeing(frames[:1], samples, lens, corner, curve)
    return rig.calibrate(frames, samples, lens, corner, curve, guessed)


def seam_on(facts: FileFacts, route: Route, seen: Seen | None) -> tuple[float, ...]:
    """The way along which lenses that are known differ least on this shot, as of ``JoinSettings``."""
    frames, samples, lens, corner, _ = _looked_at(facts, route, seen, FRAMES)
    join = route.join
    apart = join.base / join.distance if join.base and join.distance else 0.0
    return rig.seam_of(frames, samples, lens, corner, rotation(*join.turn), join.gain, join.blend, apart)[0]


def _looked_at(facts: FileFacts, route: Route, seen: Seen | None, count: int) -> Any:
    walked = walk(route, facts, seen)
    picture, held = walked["read"].after, walked.draft.inputs[0]
    lens: object = recording(picture, route.shape, seen.upright(facts.raster, picture.turn) if seen else None, walked.draft.rig)
    if picture.projection != "fisheye" or not isinstance(lens, Round):
        raise AdzerError(f"{facts.path} does not show round lenses, as far as anybody says. Say so on Read first.")
    corner = region(picture, route.shape.eye)[:2]
    with Reader(facts.source, print_=facts.fingerprint) as reader:
        numbers = sorted({int((i + 0.5) * len(reader) / count) for i in range(count)})
        frames = [upright(reader.frame(n), picture.turn) for n in numbers]
    return frames, held.samples, lens, corner, recorded_curve(picture)
