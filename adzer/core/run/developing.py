"""What is measured for Develop: sensor values, noise, what of it is seen as delivered, and what a cleaning takes off."""

from __future__ import annotations

import time
from collections.abc import Iterator, Sequence
from dataclasses import replace
from fractions import Fraction

import msgspec
import numpy as np
from numpy.typing import NDArray

from .. import cards, records
from ..cards import DeliveryCard
from ..develop import cleaning, measure, noise, values
from ..develop.noise import Kind, Noise, Seen
from ..errors import AdzerError, UnreadableError
from ..light import names as colour_cards
from ..light.samples import Samples
from ..media.decode import Frame, opened
from ..media.formats import PixelFormat
from ..media.probe import FileFacts
from ..media.sensor import Sensor
from ..plan import Input, Panel, Patch, Plan, Planes
from ..read import play
from ..read.seen import Seen as Looked
from ..read.step import assumed_samples, turn_of
from ..route import Route, Walk, walk
from ..space.looks import AxisLook
from ..space.sphere import Flat
from .axes import AxisFilters
from .frames import prepared
from .pixels import Processor

TIMES = 8.0  # as strong as it was, what was taken off is shown
AMOUNTS = (0.7, 1.0, 1.3)  # of what was measured, the largest of which is taken that takes no structure with it
AROUND = 12  # sensor values about a click that are looked at, each way
STRUCTURE = 0.05  # share of what was taken off that may look like what is drawn
DRAWN = 0.8  # share of blocks on which less is drawn than on those that are looked at for it


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


def values_of(facts: FileFacts, route: Route) -> measure.Held:
    """The same."""
    return measure.held(facts, route.develop)


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


def seen_of(held: Noise, facts: FileFacts, seen: Looked | None, route: Route, card: str) -> Seen:
    """The same of a route."""
    return seen_as_delivered(held, facts, walk(route, facts, seen, cards.delivery(card)))


def left_of_noise(panel: Panel, source: Samples, target: Samples) -> float:
    """What is left of white noise in luma when a picture is brought to its delivered size: by the filters' own weights."""
    gain = 1.0
    for axis in AxisFilters(panel, source, target).luma:
        gain *= float(np.sqrt((axis.weights.astype(np.float64) ** 2).sum(axis=1).mean()))
    return gain


def answers(held: Noise, **given: object) -> dict[str, object]:
    """A cleaning as answers of Develop: what was measured is part of them, so that a queued render cannot change."""
    dots = {"dots": records.to_plain(held.dots)} if held.dots else {}
    return {"noise": records.to_plain(held.grain), "clean": 1.0} | dots | given


class Range(msgspec.Struct, frozen=True):
    """What a test recording holds: stops from full down to where light is as strong as its noise, and twice as strong; was it seen down there, or
    only above (then it is at least that many)? Size a second, and does this machine play it? ``raw``: does it hold sensor values?"""

    stops: float
    stops_at_2: float
    seen_to_black: bool
    megabits: float
    plays: float
    keeps_up: bool
    raw: bool = False

    @property
    def saw(self) -> str:
        bound = "" if self.seen_to_black else "at least "
        plays = "plays here" if self.keeps_up else "does not play here"
        return f"{bound}{self.stops:.1f} stops, {self.stops_at_2:.1f} where light is twice its noise; {self.megabits:.0f} Mbit/s, {plays}"


ALIKE = 0.3  # stops by which a range may be off


def either(kept: Sequence[Range]) -> tuple[str, str]:
    """RAW or log? Of test recordings of one camera the best of each against the other, in a few words and in full; empty while one of them is
    missing."""
    raws, logs = ([r for r in kept if r.raw == raw] for raw in (True, False))
    if not raws or not logs:
        return "", ""
    raw, log = (max(one, key=lambda r: r.stops) for one in (raws, logs))
    more, times = raw.stops - log.stops, raw.megabits / max(log.megabits, 1e-6)
    size = f"is {times:.1f} times as large" if times >= 1 else f"is {times:.0%} as large"
    size += "" if raw.keeps_up else " and does not play here"
    if more <= ALIKE:
        less = "no more stops" if more > -ALIKE else f"{-more:.1f} stops less"
        return "log", f"Log: RAW holds {less}, and {size}. Take RAW where what was white is still to be chosen."
    text = f"RAW holds {more:.1f} stops more, but {size}. Of a scene that spans less than {log.stops:.0f} stops log keeps all, too."
    return f"RAW, by {more:.1f} stops", text


def range_of(facts: FileFacts, route: Route) -> Range:
    """UnreadableError if it cannot be decoded, or its curve is not known."""
    held, looked_at = noise_of(facts, route), kind(facts, route)
    name = "linear" if looked_at.values else walk(route, facts)["read"].after.curve
    if name is None:
        raise UnreadableError(f"{facts.path}: nothing says what curve it was recorded in. Declare it with --curve.")
    made = colour_cards.curve(name, facts.bits, looked_at.samples.limited)
    one, seen = noise.range_of(held, looked_at, made)
    two, _ = noise.range_of(held, looked_at, made, 2.0)
    plays = play.measure(facts)
    seconds = float(facts.duration or 0) or 1.0
    return Range(one, two, seen, round(facts.size * 8 / seconds / 1e6, 1), plays.rate, plays.keeps_up(facts.rate), looked_at.values)


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
    with opened(facts.sources, facts.fingerprint) as reader:
        return [f.planes for f in reader.frames(first, min(number + cleaning.REACH + 1, len(reader)))], number - first


def _structure(one: cleaning.Cleaned, window: list[Planes], middle: int) -> tuple[float, float]:
    """On the stabilised shade, whose noise is 1. Where most is drawn: the share of what was taken off that looks like what is drawn there, block
    by block, beyond what noise does by chance. And the size of all that was taken off."""
    before, after = one.shade(window, middle)
    h, w = (v // 8 * 8 for v in before.shape)

    def blocks(p: NDArray[np.float32]) -> NDArray[np.float32]:
        made = p[:h, :w].reshape(h // 8, 8, w // 8, 8).transpose(0, 2, 1, 3).reshape(-1, 64)
        return made - made.mean(axis=1, keepdims=True)

    off, soft = before - after, np.pad(after, 1, mode="edge")
    about = np.sum([soft[y : y + after.shape[0], x : x + after.shape[1]] for y in range(3) for x in range(3)], axis=0) / np.float32(9)
    taken_off, drawn = blocks(off), blocks(after - about)
    energy = (drawn**2).sum(axis=1)
    much = energy >= np.quantile(energy, DRAWN)
    alike = (taken_off[much] * drawn[much]).sum(axis=1) ** 2 / np.maximum(energy[much], 1e-9)
    all_ = (taken_off[much] ** 2).sum(axis=1)
    share = float(alike.sum() / max(float(all_.sum()), 1e-9)) - 1 / 63
    return max(0.0, share), float(np.sqrt((off**2).mean()))


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




# --- for the window -----------------------------------------------------------------------------------------------
class Close(msgspec.Struct, frozen=True):
    """A piece of a frame at its own pixels: before a cleaning, after it, and what it took off, ``TIMES`` as strong; (rows, columns, 4) bytes of
    8-bit B, G, R, 255. The last two are empty where nothing is taken off."""

    size: tuple[int, int]
    before: bytes
    after: bytes = b""
    removed: bytes = b""


def close(
    facts: FileFacts, route: Route, seen: Looked | None, number: int, boxes: Sequence[tuple[int, int, int, int]], card: str
) -> list[Close]:
    """``boxes``: left, top, width, height in recorded, upright pixels. UnreadableError if the frame cannot be decoded."""
    walked = walk(route, facts, seen, cards.delivery(card))
    draft = walked.draft
    first = draft.inputs[0]
    matrix = first.given.matrix if first.given.matrix != "rgb" else "bt709"
    shown = Samples(PixelFormat(10, "4:4:4"), matrix, True)
    target = replace(draft.target.samples, format=PixelFormat(10, "4:4:4")) if draft.target is not None else shown
    window, middle = _window(facts, number)

    def pieces(held: Input) -> Iterator[list[NDArray[np.uint16]]]:
        planes = prepared(held.prepares, window, middle)
        for x, y, w, h in boxes:
            x, y = max(0, min(x, first.raster[0] - w)), max(0, min(y, first.raster[1] - h))
            look = AxisLook((w, h), (Fraction(1), Fraction(1)), (Fraction(x), Fraction(y)))
            panel = Panel(look, (Patch(Flat(first.raster), (0, 0, *first.raster)),))
            plan = Plan((replace(held, prepares=(), samples=held.given),), (w, h), (panel,), draft.chain, target)
            codes = [np.empty((h, w), np.uint16) for _ in range(3)]
            with Processor(plan, 1) as processor:
                processor.run([planes], tuple(codes))
            yield codes

    plain = replace(first, prepares=tuple(p for p in first.prepares if not isinstance(p, cleaning.Cleaned)))
    sizes = [(w, h) for _, _, w, h in boxes]
    if len(plain.prepares) == len(first.prepares):
        return [Close(size, _shown(codes, target)) for size, codes in zip(sizes, pieces(plain), strict=True)]
    made, grey = [], np.array(target.black()) + (400, 0, 0)
    for size, before, after in zip(sizes, pieces(plain), pieces(first), strict=True):
        removed = [np.clip(g + TIMES * (a.astype(np.float32) - b), 0, 1023).astype(np.uint16) for g, a, b in zip(grey, before, after, strict=True)]
        made.append(Close(size, _shown(before, target), _shown(after, target), _shown(removed, target)))
    return made


def _shown(codes: list[NDArray[np.uint16]], samples: Samples) -> bytes:
    """Codes as bytes of the screen."""
    from ..kernels import screen

    h, w = codes[0].shape
    out = np.empty((h, w, 4), np.uint8)
    screen.screen_rgb(*codes, samples.to_signal().astype(np.float32), out, 0, h)
    return out.tobytes()


def neutral_at(
    facts: FileFacts, route: Route, seen: Looked | None, number: int, place: tuple[float, float]
) -> tuple[float, float, float]:
    """What the camera says of something that is clicked, ``place`` in recorded, upright pixels, its largest value 1. AdzerError if it is full
    or black there, which says nothing of its colour."""
    sensor = values.sensor_of(facts, route.develop)
    if sensor is None:
        raise AdzerError(f"{facts.name} holds no sensor values.")
    with opened(facts.sources, facts.fingerprint) as reader:
        frame = np.asarray(reader.frame(number).cropped(0))
    if turn_of(facts, route.read):
        raise AdzerError(f"{facts.name} lies on its side: say the light instead.")
    h, w = frame.shape
    x, y = (max(0, min(round(v) // 2 * 2 - AROUND, n - 2 * AROUND)) for v, n in zip(place, (w, h), strict=True))
    part = frame[y : y + 2 * AROUND, x : x + 2 * AROUND].astype(np.float64)
    found, most = np.zeros(3), np.zeros(3)
    for i, (cell, colour) in enumerate(zip(measure.cells(np.asarray(part, np.uint16)), sensor.cells, strict=True)):
        light = (cell.astype(np.float64) - sensor.black[i]) / (sensor.white[i] - sensor.black[i])
        found[colour] += float(np.median(light)) * (0.5 if colour == 1 else 1.0)
        most[colour] = max(most[colour], float(np.quantile(light, 0.98)))
    if most.max() >= values.FULL:
        raise AdzerError("That is full in the sensor: what colour it had is gone. Click something neutral that is darker.")
    if found.min() < 0.002:
        raise AdzerError("That is too dark to say what colour it has. Click something neutral that is lighter.")
    r, g, b = (found / found.max()).tolist()
    return r, g, b


def tone_at(facts: FileFacts, route: Route, number: int, place: tuple[float, float]) -> tuple[float, float, float]:
    """Of what is clicked, ``place`` in recorded, upright pixels, as ``DevelopSettings.smooth`` has it. AdzerError if it is not cleaned."""
    one = cleaner(facts, route)
    if one is None:
        raise AdzerError(f"{facts.name} is not cleaned: nothing of it can be made smoother.")
    if turn_of(facts, route.read):
        raise AdzerError(f"{facts.name} lies on its side: no tone of it can be picked.")
    with opened(facts.sources, facts.fingerprint) as reader:
        return one.tone_at(reader.frame(number).planes, *place)


def gone_marks(frame: Frame, sensor: Sensor, columns: int = 160) -> NDArray[np.int8]:
    """A grid over the recorded picture: in how many channels most of a cell is full in the sensor, 0 … 3."""
    clip = np.array(sensor.black) + values.FULL * (np.array(sensor.white) - np.array(sensor.black))
    held = np.asarray(frame.cropped(0), np.uint16)
    parts = measure.cells(values.healed(held, sensor.dead) if sensor.dead else held)
    h, w = parts[0].shape
    k = max(1, w // columns)
    many = np.zeros((h // k, w // k), np.int8)
    for colour in range(3):
        full = np.any([p >= c for p, c, cell in zip(parts, clip, sensor.cells, strict=True) if cell == colour], axis=0)
        share = full[: h // k * k, : w // k * k].reshape(h // k, k, w // k, k).mean(axis=(1, 3))
        many += (share > 0.5).astype(np.int8)
    return many
