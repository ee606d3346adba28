"""A moment of a shot as it is delivered, made small and played round and round; of several routes the same moment."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from fractions import Fraction

import numpy as np

from .. import cards
from ..compile import preview_plan
from ..errors import AdzerError, Stopped
from ..look.passes import Rows
from ..media import probe
from ..media.probe import FileFacts
from ..read.seen import Seen
from ..route import Route, walk
from .frames import Inputs
from .pixels import Processor
from .steadying import answers, as_it_shows

Size = tuple[int, int]


@dataclass(frozen=True)
class Loop:
    """``frames``: rows of B, G, R, 255, ``size`` wide and high, ``rate`` a second; ``made``: how many of them were made between two recorded ones,
    and ``again``: shown again, as these do not agree."""

    size: Size
    rate: float
    frames: tuple[bytes, ...]
    made: int = 0
    again: int = 0


def loop(facts: FileFacts, seen: Seen | None, route: Route, card: str, frame: int, seconds: float, fit: Size) -> Loop:
    """What is delivered from a recorded frame on, ``seconds`` long, at a raster that fits. Stopped with the finding's sentence."""
    from ..kernels import screen

    walked = walk(route, facts, seen, cards.delivery(card))
    if walked.stopped is not None:
        raise Stopped(walked.stopped.text)
    plan, pace = preview_plan(walked, *fit), walked.draft.pace
    assert pace is not None
    frame = min(frame, max(0, facts.frames - 2))
    lasts = Fraction(seconds).limit_denominator(1000) * pace.speed * (facts.rate or 25)
    when = pace.over(probe.scan(facts.source, facts.fingerprint), frame, min(facts.frames, frame + max(2, int(lasts) + 1)))
    count = min(len(when), max(1, round(float(pace.rate) * seconds)))
    w, h = plan.raster
    codes, out, made = tuple(np.empty((h, w), plan.target.format.dtype) for _ in range(3)), np.empty((h, w, 4), np.uint8), []
    with Inputs(plan.inputs, facts) as inputs, Processor(plan, 1) as processor:
        for planes, moment in zip(inputs.along(when.frames[:count], when.moments[:count], when.between), when.moments, strict=False):
            processor.run(planes, codes, float(moment))
            screen.screen_rgb(*codes, plan.target.to_signal().astype(np.float32), out, 0, h)
            made.append(out.tobytes())
        return Loop((w, h), float(pace.rate), tuple(made), inputs.made, inputs.again)


def ways(
    facts: FileFacts, seen: Seen | None, route: Route, card: str, rows: Rows, changes: Iterable[dict[str, object]], frame: int, seconds: float,
    fit: Size,
) -> list[Loop | None]:  # fmt: skip
    """The same moment held in several ways, each solved anew; None: it cannot be done."""
    made: list[Loop | None] = []
    for each in changes:
        try:
            held = route.with_("steady", **each)
            if held.steady.method != "off":
                held = held.with_("steady", **answers(rows, facts, as_it_shows(rows, facts, held, seen), seen))
            made.append(loop(facts, seen, held, card, frame, seconds, fit))
        except AdzerError:
            made.append(None)
    return made
