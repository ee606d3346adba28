"""A shot steadied: solved from how its picture moves, and looked at again as it is delivered."""

from __future__ import annotations

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..cards import DeliveryCard
from ..compile import preview_plan
from ..errors import AdzerError, Stopped
from ..look import motion, passes
from ..look.motion import Motion
from ..media.probe import FileFacts
from ..read.seen import Seen
from ..read.step import assumed_samples, turn_of, upright_raster
from ..route import Route, walk
from ..steady import solve
from ..steady.measure import Shake, shake, slow
from ..steady.step import times_of
from .frames import Inputs
from .pixels import Processor
from .render import Progress, Report

LOOKED = 640  # columns at which it is looked at again
BANDS = ((0.0, 0.5), (0.5, 3.0), (3.0, 1e9))  # Hz
METHODS = ("off", "hold", "drift", "path")


class Way(msgspec.Struct, frozen=True):
    """What a method leaves and costs. ``left``: pixels rms of the delivered picture (at its recorded size) in three bands of Hz (below 0.5, to 3,
    above), moved aside; ``roll``: degrees rms above 0.5 Hz; ``kept``: share of the picture; ``needed``: budget to do all of it (hold, drift)."""

    method: str
    left: tuple[float, float, float]
    roll: float
    kept: float
    needed: float | None = None
    why: str = ""


def rows_of(facts: FileFacts, route: Route, report: Report = lambda _: None) -> NDArray[np.float32]:
    """How the picture moves, frame by frame. UnreadableError if it cannot be decoded."""
    kind = Motion(assumed_samples(facts, route.read))
    parts = []
    for span in passes.spans(facts.frames):
        parts.append(np.frombuffer(passes.run(kind, facts.source, facts.fingerprint, span), "<f4").reshape(-1, len(Motion.columns)))
        report(Progress("measuring", span[1], facts.frames))
    return np.concatenate(parts)


def answers(
    rows: NDArray[np.float32], facts: FileFacts, route: Route, method: str, budget: float, roll: bool = True, cut: float = 0.5
) -> dict[str, object]:
    """A method as answers of Steady. AdzerError if most of its motion is not known."""
    if len(rows) and (rows[:, motion.SURE] > 0).mean() < 0.5:
        raise AdzerError(f"{facts.name}: on most of its frames nothing can be followed: it is fog, black, or all of it moves. It is left as it is.")
    path = upright_path(rows, turn_of(facts, route.read))
    size = upright_raster(facts, route.read)
    moves = solve.solved(path, size, float(facts.rate or 25), method, budget, roll, cut)
    return {"method": method, "budget": budget, "roll": roll, "cut": cut, "moves": solve.packed(moves, size)}


def upright_path(rows: NDArray[np.float32], turn: int) -> NDArray[np.float64]:
    """How the picture lies against the first, as it stands upright once it was turned clockwise by ``turn``."""
    path = motion.path(rows)
    for _ in range(turn // 90):
        path[:, 0], path[:, 1] = -path[:, 1], path[:, 0].copy()
    return path


def retracked(facts: FileFacts, seen: Seen | None, route: Route, card: DeliveryCard, report: Report = lambda _: None) -> NDArray[np.float32]:
    """Rows of motion of the delivered preview itself: nothing of what was solved is believed."""
    walked = walk(route, facts, seen, card)
    if walked.stopped is not None:
        raise Stopped(walked.stopped.text)
    plan = preview_plan(walked, LOOKED, LOOKED)
    w, h = plan.raster
    numbers, times = np.arange(facts.frames), times_of(facts)
    out = tuple(np.zeros((h, w), np.uint16) for _ in range(3))
    rows, before = [(0.0, 0.0, 0.0, 0.0, 1.0)], None
    with Inputs(plan.inputs, facts.source, facts.fingerprint) as inputs, Processor(plan, 2) as processor:
        for n, planes in enumerate(inputs.along(numbers, times)):
            processor.run(planes, out, float(times[n]))
            now = (out[0] >> 2).astype(np.uint8)
            if before is not None:
                rows.append(motion.moved(before, now))
            before = now
            report(Progress("looking again", n + 1, facts.frames))
    return np.array(rows, np.float32)


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
) -> tuple[Shake, tuple[Way, ...]]:  # fmt: skip
    """Every method, made and looked at again as delivered; one that fails is a row with its reason."""
    rows = rows_of(facts, route, report) if rows is None else rows
    rate, raster = float(facts.rate or 25), upright_raster(facts, route.read)
    made = []
    for method in METHODS:
        try:
            each = route.with_("steady", **(answers(rows, facts, route, method, budget) if method != "off" else {"method": "off"}))
            again = retracked(facts, seen, each, card, report)
        except AdzerError as error:
            made.append(Way(method, (0.0, 0.0, 0.0), 0.0, 0.0, None, str(error)))
            continue
        walked = walk(each, facts, seen, card)
        wide = preview_plan(walked, LOOKED, LOOKED).panels[0].size[0]
        kept = (1 - budget) ** 2 if method != "off" else 1.0
        left, roll = left_of(again, rate, raster[0] / wide)
        needs = solve.needed(upright_path(rows, turn_of(facts, route.read)), raster, method, rate) if method in ("hold", "drift") else None
        made.append(Way(method, left, roll, round(kept, 4), None if needs is None else round(needs, 3)))
    return shake(rows, rate), tuple(made)


def best(ways: tuple[Way, ...], still: bool) -> str:
    """The method that suits: a tripod's hold where the shot hardly goes anywhere, else the calmer of the moving ones; off where nothing shakes."""
    by = {w.method: w for w in ways if not w.why}
    if "off" not in by or by["off"].left[1] + by["off"].left[2] < 0.3:
        return "off"
    hold = by.get("hold")
    if still and hold is not None and hold.needed is not None and hold.needed <= 1 - hold.kept**0.5:
        return "hold"
    return min((m for m in ("drift", "path") if m in by), key=lambda m: by[m].left[1] + by[m].left[2], default="off")

