"""What is measured for Develop: sensor values, noise, what of it is seen as delivered, and what a cleaning takes off."""

from __future__ import annotations

import time

import msgspec
import numpy as np

from .. import records
from ..cards import DeliveryCard
from ..develop import cleaning, measure, noise, values
from ..develop.noise import Kind, Noise, Seen
from ..errors import AdzerError
from ..media.decode import Reader
from ..media.probe import FileFacts
from ..light.samples import Samples
from ..plan import Panel, Planes
from ..read.seen import Seen as Looked
from ..read.step import assumed_samples
from ..route import Route, Walk, walk
from ..space.looks import AxisLook
from .axes import AxisFilters

AMOUNTS = (0.7, 1.0, 1.3, 1.6)  # of what was measured, the largest of which is taken that takes no structure with it
STRUCTURE = 0.06  # share of what was taken off that may lie where something is drawn


def kind(facts: FileFacts, route: Route) -> Kind:
    """How a recording's noise is to be looked at, read as its route says."""
    samples = assumed_samples(facts, route.read)
    sensor = values.sensor_of(facts, route.develop)
    if sensor is not None:
        span = np.array(sensor.white) - np.array(sensor.black)
        full = np.array(sensor.black) + values.FULL * span
        return Kind(samples, facts.raster, True, sensor.black, tuple(full.tolist()))
    black = samples.black()
    unit = 1 << (samples.format.bits - 8)
    full = (235 * unit, 240 * unit, 240 * unit) if samples.limited else (samples.top,) * 3
    return Kind(samples, facts.raster, False, (float(black[0]),) * 3, tuple(float(v) for v in full))


def noise_of(facts: FileFacts, route: Route) -> Noise:
    """UnreadableError if the recording cannot be decoded."""
    return noise.measured(kind(facts, route), noise.frames_of(facts))


def looked(facts: FileFacts, route: Route) -> dict[str, bytes]:
    """What Develop wants to know of a recording, by the finding's name, to be kept."""
    made: dict[str, bytes] = {"noise": records.to_json(noise_of(facts, route)).encode()}
    if facts.mosaic is not None:
        made["values"] = records.to_json(measure.held(facts, route.develop)).encode()
    return made


def seen_as_delivered(held: Noise, facts: FileFacts, walked: Walk) -> Seen:
    """Of what was measured, through this walk's colour and size."""
    draft = walked.draft
    look = draft.panels[0].look if draft.panels else None
    gain = 1.0
    if isinstance(look, AxisLook) and draft.target is not None:
        gain = left_of_noise(draft.panels[0], draft.inputs[0].given, draft.target.samples)
    elif walked["shape"].after.detail:
        gain = min(1.0, 1 / max(float(walked["shape"].after.detail), 1e-3))
    prepares = tuple(p for p in draft.inputs[0].prepares if not isinstance(p, cleaning.Cleaned))
    return noise.delivered(held, kind(facts, walked.route), prepares, draft.chain, gain)


def left_of_noise(panel: Panel, source: Samples, target: Samples) -> float:
    """What is left of white noise in luma when a picture is brought to its delivered size: by the filters' own weights."""
    gain = 1.0
    for axis in AxisFilters(panel, source, target).luma:
        gain *= float(np.sqrt((axis.weights.astype(np.float64) ** 2).sum(axis=1).mean()))
    return gain


def answers(held: Noise, **given: object) -> dict[str, object]:
    """A cleaning as answers of Develop: what was measured is part of them, so that a queued render cannot change."""
    return {"noise": records.to_plain(held.grain), "clean": 1.0} | given


class Taken(msgspec.Struct, frozen=True):
    """What a cleaning takes off one frame. ``structure``: share of it that lies where something is drawn and not where nothing is;
    ``sigma``: its size in what was measured; ``seconds``: for a frame."""

    amount: float
    structure: float
    sigma: float
    seconds: float


def taken(facts: FileFacts, route: Route, number: int | None = None, amounts: tuple[float, ...] = AMOUNTS) -> tuple[Taken, ...]:
    """By several amounts, on one frame. AdzerError if nothing was measured."""
    if route.develop.noise is None:
        raise AdzerError(f"{facts.name}: its noise was not measured. Measure it first.")
    made = []
    window, middle = _window(facts, facts.frames // 2 if number is None else number)
    for amount in amounts:
        one = cleaner(facts, route.with_("develop", clean=amount, colour=amount, detail=0.0))
        assert one is not None
        one.run(window, middle)  # what is only made once is not counted
        begun = time.perf_counter()
        one.run(window, middle)
        seconds = time.perf_counter() - begun
        share, sigma = _structure(one, window, middle)
        made.append(Taken(amount, round(share, 4), round(sigma, 3), round(seconds, 4)))
    return tuple(made)


def best(found: tuple[Taken, ...]) -> float:
    """The largest amount whose removed picture shows no structure; the smallest that was tried, if all do."""
    return max((t.amount for t in found if t.structure <= STRUCTURE), default=min(t.amount for t in found))


def cleaner(facts: FileFacts, route: Route) -> cleaning.Cleaned | None:
    draft = walk(route, facts).draft
    return next((p for i in draft.inputs for p in i.prepares if isinstance(p, cleaning.Cleaned)), None)


def _window(facts: FileFacts, number: int) -> tuple[list[Planes], int]:
    first = max(0, number - cleaning.REACH)
    with Reader(facts.source, print_=facts.fingerprint) as reader:
        return [f.planes for f in reader.frames(first, min(number + cleaning.REACH + 1, len(reader)))], number - first


def _structure(one: cleaning.Cleaned, window: list[Planes], middle: int) -> tuple[float, float]:
    """On the stabilised shade, whose noise is 1: squares of what was taken off, where much is drawn and where little is."""
    before, after = one.shade(window, middle)
    h, w = (v // 8 * 8 for v in before.shape)

    def blocks(p: np.ndarray[tuple[int, ...], np.dtype[np.float32]]) -> np.ndarray[tuple[int, ...], np.dtype[np.float32]]:
        return p[:h, :w].reshape(h // 8, 8, w // 8, 8).transpose(0, 2, 1, 3).reshape(-1, 8, 8)

    off = (blocks(before - after) ** 2).mean(axis=(1, 2))
    drawn = blocks(after).var(axis=(1, 2))
    order = np.argsort(drawn)
    few, many = off[order[: max(1, len(order) // 4)]].mean(), off[order[-max(1, len(order) // 4) :]].mean()
    return float(max(0.0, (many - max(few, 1e-9)) / max(many, 1e-9))), float(np.sqrt(off.mean()))


def delivered_noise(facts: FileFacts, seen: Looked | None, route: Route, card: DeliveryCard | None = None) -> tuple[Noise, Seen]:
    """Both at once."""
    held = noise_of(facts, route)
    return held, seen_as_delivered(held, facts, walk(route, facts, seen, card))


def cleaned_route(
    facts: FileFacts, route: Route, held: Noise, amount: float | None, colour: float | None, detail: float
) -> tuple[Route, tuple[Taken, ...]]:
    """With a cleaning by ``amount``, None: as was measured to be best."""
    route = route.with_("develop", **answers(held))
    tried: tuple[Taken, ...] = ()
    if amount is None:
        tried = taken(facts, route)
        amount = best(tried)
    return route.with_("develop", clean=amount, colour=amount if colour is None else colour, detail=detail), tried


