"""From a route to a plan: one decode, one warp, one colour, one encode. Preview and render compile the same way."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass, replace
from fractions import Fraction
from pathlib import Path

import msgspec
import numpy as np
from numpy.typing import NDArray

from . import cards, records
from .errors import AdzerError, Stopped, UnreadableError, as_text
from .light.samples import Samples
from .media import probe, timecode
from .media.encode import VideoSpec, VideoTags
from .media.formats import PixelFormat
from .media.rolls import Source
from .plan import Plan, on_axes
from .read.seen import Seen
from .read.step import assumed_samples, turn_of
from .route import Route, Walk, walk

SEGMENT_SECONDS = 4.0


class Order(msgspec.Struct, frozen=True):
    """Everything that a render depends on, frozen: source, route, and the cards themselves, not their names.

    ``start`` and ``stop`` are recorded frames, stop excluded. ``out`` is the master's path.
    """

    shot: str
    facts: probe.FileFacts
    route: Route
    card_name: str
    card: cards.DeliveryCard
    curve_cards: dict[str, cards.CurveCard]
    primaries_cards: dict[str, cards.PrimariesCard]
    start: int
    stop: int
    out: str
    job_rate: Fraction | None = None
    seen: Seen | None = None
    copy_scale: Fraction | None = None  # set: a copy as recorded at this scale, nothing shaped or coloured

    @property
    def pinned(self) -> dict[str, cards.Card]:
        held: dict[str, cards.Card] = {f"curves/{k}": v for k, v in self.curve_cards.items()}
        return held | {f"primaries/{k}": v for k, v in self.primaries_cards.items()}

    @property
    def speed(self) -> Fraction:
        """How many times as fast as recorded it is played."""
        return self.route.shape.speed if self.copy_scale is None else Fraction(1)

    @property
    def digest(self) -> str:
        """Changes with anything that changes the rendered pixels; not with where they go."""
        plain = records.to_plain(self)
        for key in ("out", "shot"):
            plain.pop(key)
        return hashlib.sha256(records.to_json(plain).encode()).hexdigest()[:24]


def freeze(
    shot: str, facts: probe.FileFacts, route: Route, card_name: str, out: Path, start: int = 0, stop: int | None = None,
    seen: Seen | None = None, job_rate: Fraction | None = None, raster: tuple[int, int] | None = None,
) -> Order:  # fmt: skip
    """An order as things are now; ``raster`` instead of the card's largest. Stopped with the finding's sentence if the walk
    has a *stop*."""
    card = cards.delivery(card_name)
    if raster is not None:
        card = msgspec.structs.replace(card, max_raster=raster)
    walked = walk(route, facts, seen, card, job_rate)
    if walked.stopped:
        raise Stopped(f"{shot}: {walked.stopped.text}")
    as_text(str(out))
    stop = facts.frames if stop is None else min(stop, facts.frames)
    if not 0 <= start < stop:
        raise AdzerError(f"{shot}: from frame {start} to {stop} there is nothing to render. Set in before out.")
    curves = {n for n in (walked["read"].after.curve, card.curve) if n and n in cards.paths("curves")}
    primaries = {n for n in (walked["read"].after.primaries, card.primaries) if n}
    return Order(
        shot=shot, facts=facts, route=route, card_name=card_name, card=card,
        curve_cards={n: cards.find("curves", n, cards.CurveCard) for n in curves},
        primaries_cards={n: cards.find("primaries", n, cards.PrimariesCard) for n in primaries},
        start=start, stop=stop, out=str(out), job_rate=job_rate, seen=seen,
    )  # fmt: skip


def freeze_copy(shot: str, facts: probe.FileFacts, route: Route, card_name: str, scale: Fraction, out: Path) -> Order:
    """An order for a proxy or intermediate: the whole recording as it is, by a card of the kind ``copies``."""
    if facts.mosaic:
        raise Stopped(f"{shot} holds sensor values; they must be developed before a copy of them can be watched.")
    if not Fraction(1, 16) <= scale <= 1:
        raise AdzerError(f"{shot}: a copy at {float(scale):g} of the size cannot be made; take 1, 1/2 or 1/4.")
    card = cards.find("copies", card_name, cards.DeliveryCard)
    plain = Route(read=route.read).with_("read", timing="recorded", even_rate=None)
    return Order(shot=shot, facts=facts, route=plain, card_name=card_name, card=card, curve_cards={}, primaries_cards={},
                 start=0, stop=facts.frames, out=str(out), copy_scale=scale)  # fmt: skip


@dataclass(frozen=True)
class Timing:
    """Which recorded frame makes each delivered frame, and its stamp in ``time_base`` units from 0. ``moments``: seconds of
    the recording from its first frame, where a view that moves is then."""

    frames: NDArray[np.int64]
    stamps: NDArray[np.int64]
    moments: NDArray[np.float64]
    time_base: Fraction
    rate: Fraction

    def __len__(self) -> int:
        return len(self.frames)


def timing(facts: probe.FileFacts, route: Route, start: int, stop: int, index: probe.FrameIndex) -> Timing:
    """Every recorded frame once at its own time; or, made even or played at another speed, at each tick the frame nearest in
    recorded time, of two as near the earlier one."""
    read, speed = route.read, route.shape.speed
    numbers = np.arange(start, stop)
    moments = (index.pts[start:stop] - index.pts[0]).astype(np.float64) * float(facts.time_base)
    even = read.even_rate if read.timing == "even" else None
    rate = even or facts.rate or Fraction(25)
    if even or speed != 1:
        end = _end(facts, index, stop) - int(index.pts[start]) * facts.time_base
        count = max(1, round(end * rate / speed))
        times = index.pts[start:stop] - index.pts[start]
        tick = speed / (rate * facts.time_base)  # in units of the time base, exact
        ticks = np.arange(count) * tick.numerator
        after = np.clip(np.searchsorted(times * tick.denominator, ticks), 1, len(times) - 1) if len(times) > 1 else 0
        before = np.maximum(after - 1, 0)
        earlier = 2 * ticks <= (times[before] + times[after]) * tick.denominator
        chosen = np.broadcast_to(np.where(earlier, before, after), (count,))
        return Timing(
            numbers[chosen], np.arange(count), moments[0] + np.arange(count) * float(speed / rate), 1 / rate, rate
        )
    if facts.constant_rate:
        return Timing(numbers, np.arange(len(numbers)), moments, 1 / rate, rate)
    stamps = index.pts[start:stop] - index.pts[start]
    return Timing(numbers, stamps.astype(np.int64), moments, facts.time_base, rate)


def _end(facts: probe.FileFacts, index: probe.FrameIndex, stop: int) -> Fraction:
    """When the frame before ``stop`` ends, in container seconds."""
    if stop < len(index.pts):
        return int(index.pts[stop]) * facts.time_base
    return int(index.pts[0]) * facts.time_base + facts.duration


@dataclass(frozen=True)
class RenderPlan:
    """What is done, in numbers: see ``Plan`` for the pixels, ``VideoSpec`` for the encoder, ``Timing`` for when. ``turn``:
    degrees clockwise that players are asked to turn a copy by, which lies as its recording does."""

    source: Source
    pixels: Plan
    spec: VideoSpec
    timing: Timing
    segment: int
    timecode: str | None
    turn: int = 0

    def segments(self) -> list[tuple[int, int]]:
        """Delivered frames [from, to) of each segment."""
        n = len(self.timing)
        return [(a, min(a + self.segment, n)) for a in range(0, n, self.segment)]


def pixel_plan(walked: Walk) -> Plan:
    """A walk's draft, frozen, whatever its findings; see ``Walk.stopped``."""
    return walked.draft.frozen


def copy_plan(order: Order) -> Plan:
    """The whole picture at a scale, its codes carried over: same matrix (where the encoder can say it), range and curve."""
    facts, card = order.facts, order.card
    assert order.copy_scale is not None
    source = assumed_samples(facts, order.route.read)
    size = tuple(max(16, round(v * order.copy_scale / 2) * 2) for v in facts.raster)
    scale = tuple(Fraction(facts.raster[i], size[i]) for i in (0, 1))
    panel = on_axes((size[0], size[1]), (scale[0], scale[1]), (Fraction(0), Fraction(0)), facts.raster)
    sayable = ("bt709", "bt2020") if card.encoder == "st2019" else ("bt709", "bt2020", "bt601")
    matrix = source.matrix if source.matrix in sayable else "bt709"
    target = Samples(PixelFormat(card.bits, card.chroma), matrix, source.limited or facts.rgb, card.sited)
    return Plan.single(source, facts.raster, panel, None, target)


def preview_plan(walked: Walk, width: int, height: int) -> Plan:
    """The same plan at a raster that fits (width, height); chroma is kept at every pixel, at least ten bits."""
    plan = pixel_plan(walked).at_size(width, height)
    form = PixelFormat(max(10, plan.target.format.bits), "4:4:4")
    return replace(plan, target=replace(plan.target, format=form))


def recorded_plan(walked: Walk, width: int, height: int) -> Plan:
    """The picture as it is recorded: no colour. Framed as delivered, for the wipe; whole where it is not delivered."""
    d = walked.draft
    first = d.inputs[0]
    matrix = first.samples.matrix if first.samples.matrix != "rgb" else "bt709"
    target = Samples(PixelFormat(10, "4:4:4"), matrix, True)
    if not d.panels:
        whole = (max(2, first.raster[0] // 2 * 2), max(2, first.raster[1] // 2 * 2))
        panel = on_axes(whole, (Fraction(1), Fraction(1)), (Fraction(0), Fraction(0)), first.raster)
        d = d.with_(raster=whole, panels=(panel,))
    return d.with_(chain=None, target=target).frozen.at_size(width, height)


def compile_order(order: Order) -> RenderPlan:
    """The plan of a frozen order. Raises UnreadableError if the source is gone or is not what it was."""
    path = order.facts.source
    try:
        changed = probe.fingerprint(path) != order.facts.fingerprint
    except OSError:
        raise UnreadableError(
            f"{path} is not there any more. Plug its disk in, or queue the shot again from where it is."
        ) from None
    if changed:
        raise UnreadableError(f"{path} has changed since it was read. Read it again, then queue the shot anew.")
    card = order.card
    if order.copy_scale is not None:
        pixels = copy_plan(order)
        range_ = "limited" if pixels.target.limited else "full"
        tags = VideoTags(None if order.facts.floating else order.facts.curve, order.facts.primaries, pixels.target.matrix, range_, card.sited)
        aspect = order.facts.pixel_aspect or Fraction(1)
    else:
        with cards.pinned(order.pinned):
            walked = walk(order.route, order.facts, order.seen, order.card, order.job_rate)
            if walked.stopped:
                raise Stopped(walked.stopped.text)
            pixels = pixel_plan(walked)
        tags = VideoTags(card.curve, card.primaries, card.matrix, card.range, card.sited)
        aspect = Fraction(1)
    when = timing(order.facts, order.route, order.start, order.stop, probe.scan(path, order.facts.fingerprint))
    gop = max(1, round(card.gop_seconds * when.rate))
    spec = VideoSpec(
        encoder=card.encoder, raster=pixels.raster, bits=card.bits, chroma=card.chroma, rate=when.rate,
        time_base=when.time_base, gop=gop, options=dict(card.options),
        tags=tags, pixel_aspect=aspect,
    )  # fmt: skip
    whole = max(1, round(SEGMENT_SECONDS * float(when.rate) / gop)) * gop
    turn = turn_of(order.facts, order.route.read) if order.copy_scale is not None else 0
    return RenderPlan(path, pixels, spec, when, whole, _timecode(order, when), turn)


def sound_span(order: Order, plan: RenderPlan) -> tuple[Fraction, Fraction]:
    """Container times between which the source's sound belongs to the delivered pictures."""
    index = probe.scan(plan.source, order.facts.fingerprint)
    start = int(index.pts[order.start]) * order.facts.time_base
    if plan.timing.time_base * plan.timing.rate == 1:
        return start, start + len(plan.timing) / plan.timing.rate * order.speed
    stamps = plan.timing.stamps
    tail = int(np.median(np.diff(stamps))) if len(stamps) > 1 else 0
    return start, start + (int(stamps[-1]) + tail) * plan.timing.time_base


def _timecode(order: Order, when: Timing) -> str | None:
    """The recorded timecode carried on to the first delivered frame; only where rates agree can it be."""
    facts = order.facts
    if not facts.timecode or not facts.rate or when.rate != facts.rate or order.speed != 1:
        return None
    try:
        first = timecode.to_frames(facts.timecode, facts.rate) + order.start
    except AdzerError:
        return None
    return timecode.to_label(first, facts.rate, timecode.is_drop(facts.timecode))
