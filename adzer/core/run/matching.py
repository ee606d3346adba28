"""Two lenses matched on their own footage: the frames and the lenses that ``join.measure`` looks at."""

from __future__ import annotations

from ..errors import AdzerError
from ..join.measure import Matched, match
from ..join.step import recorded_curve
from ..media.decode import Reader, upright
from ..media.probe import FileFacts
from ..read.seen import Seen
from ..route import Route, walk
from ..shape.view import recording, region
from ..space.sphere import Round

FRAMES = 3


def match_lenses(facts: FileFacts, route: Route, seen: Seen | None) -> Matched:
    """What the overlap says. AdzerError if these are no two lenses, or their overlap says too little."""
    walked = walk(route, facts, seen)
    picture, held = walked["read"].after, walked.draft.inputs[0]
    lens: object = recording(picture, route.shape, seen.upright(facts.raster, picture.turn) if seen else None)
    if picture.projection != "fisheye" or not isinstance(lens, Round):
        raise AdzerError(f"{facts.path} does not show round lenses, as far as anybody says. Say so on Read first.")
    corner = region(picture, route.shape.eye)[:2]
    with Reader(facts.source, print_=facts.fingerprint) as reader:
        numbers = sorted({int((i + 0.5) * len(reader) / FRAMES) for i in range(FRAMES)})
        frames = [upright(reader.frame(n), picture.turn) for n in numbers]
    return match(frames, held.samples, lens, corner, recorded_curve(picture))
