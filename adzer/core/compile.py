"""From a route to a plan: one decode, one warp, one colour, one encode. Preview and render compile the same way."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass, replace
from fractions import Fraction
from pathlib import Path

import msgspec

from . import cards, records
from .errors import AdzerError, Stopped, UnreadableError, as_text
from .light.samples import Samples
from .media import audio, prints, probe
from .media.encode import VideoSpec, VideoTags
from .media.formats import PixelFormat
from .pace import Pace, Paced
from .plan import Draft, Input, Plan, on_axes
from .read.seen import Seen
from .read.step import assumed_samples, turn_of
from .route import Route, Walk, span_of, walk
from .target import Target

SEGMENT_SECONDS = 4.0
ORDER_VERSION = 2
NOWHERE = (Fraction(0), Fraction(0))


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
    version: int = ORDER_VERSION

    @property
    def pinned(self) -> dict[str, cards.Card]:
        held: dict[str, cards.Card] = {f"curves/{k}": v for k, v in self.curve_cards.items()}
        return held | {f"primaries/{k}": v for k, v in self.primaries_cards.items()}

    @property
    def digest(self) -> str:
        """Changes with anything that changes the rendered pixels; not with where they go."""
        plain = records.to_plain(self)
        for key in ("out", "shot", "version"):
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
    stop = facts.frames if stop is None else min(stop, facts.frames)
    walked = walk(route, facts, seen, card, job_rate, span=span_of(facts, start, stop))
    if walked.stopped:
        raise Stopped(f"{shot}: {walked.stopped.text}")
    as_text(str(out))
    for n, sound in enumerate(facts.audio):
        if sound.channels > 8:
            audio.check(facts.source, n, card.audio)
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
class RenderPlan:
    """What is done, in numbers: see ``Plan`` for the pixels, ``Target`` for the file, ``VideoSpec`` for its encoder, ``Paced`` for
    when. ``segment``: delivered frames that are encoded at once."""

    pixels: Plan
    target: Target
    spec: VideoSpec
    timing: Paced
    segment: int
    timecode: str | None

    def segments(self) -> list[tuple[int, int]]:
        """Delivered frames [from, to) of each segment."""
        return self.timing.segments(self.segment)


def pixel_plan(walked: Walk) -> Plan:
    """A walk's draft, frozen, whatever its findings; see ``Walk.stopped``."""
    return walked.draft.frozen()


def copied(order: Order) -> Draft:
    """The whole picture at a scale, its codes carried over: same matrix (where the encoder can say it), range and curve."""
    facts, card, scale = order.facts, order.card, order.copy_scale
    assert scale is not None
    source = assumed_samples(facts, order.route.read)
    size = tuple(max(16, round(v * scale / 2) * 2) for v in facts.raster)
    panel = on_axes((size[0], size[1]), (Fraction(facts.raster[0], size[0]), Fraction(facts.raster[1], size[1])), NOWHERE, facts.raster)
    sayable = ("bt709", "bt2020") if card.encoder == "st2019" else ("bt709", "bt2020", "bt601")
    matrix = source.matrix if source.matrix in sayable else "bt709"
    samples = Samples(PixelFormat(card.bits, card.chroma), matrix, source.limited or facts.rgb, card.sited)
    range_ = "limited" if samples.limited else "full"
    tags = VideoTags(None if facts.floating else facts.curve, facts.primaries, matrix, range_, card.sited)
    target = replace(
        Target.of(card), samples=samples, tags=tags, pixel_aspect=facts.pixel_aspect or Fraction(1), turn=turn_of(facts, order.route.read)
    )  # it lies as its recording does
    return Draft((Input(source, facts.raster),), panel.size, (panel,), target=target, pace=Pace(facts))


def preview_plan(walked: Walk, width: int, height: int) -> Plan:
    """The same plan at a raster that fits (width, height); chroma is kept at every pixel, at least ten bits."""
    plan = pixel_plan(walked).at_size(width, height)
    form = PixelFormat(max(10, plan.target.format.bits), "4:4:4")
    return replace(plan, target=replace(plan.target, format=form), inputs=tuple(i.quick() for i in plan.inputs))


def recorded_plan(walked: Walk, width: int, height: int) -> Plan:
    """The picture as it is recorded: no colour. Framed as delivered, for the wipe; whole where it is not delivered."""
    d = walked.draft
    first = d.inputs[0]
    d = d.with_(inputs=tuple(i.quick() for i in d.inputs))
    matrix = first.samples.matrix if first.samples.matrix != "rgb" else "bt709"
    if not d.panels:
        whole = (max(2, first.raster[0] // 2 * 2), max(2, first.raster[1] // 2 * 2))
        d = d.with_(raster=whole, panels=(on_axes(whole, (Fraction(1), Fraction(1)), NOWHERE, first.raster),))
    return d.with_(chain=None, overlays=()).frozen(Samples(PixelFormat(10, "4:4:4"), matrix, True)).at_size(width, height)


def compile_order(order: Order) -> RenderPlan:
    """The plan of a frozen order. Raises UnreadableError if the source is gone or is not what it was."""
    path = order.facts.source
    try:
        changed = prints.changed(order.facts)
    except OSError:
        raise UnreadableError(
            f"{path} is not there any more. Plug its disk in, or queue the shot again from where it is."
        ) from None
    if changed:
        raise UnreadableError(f"{path} has changed since it was read. Read it again, then queue the shot anew.")
    if order.copy_scale is not None:
        draft = copied(order)
    else:
        with cards.pinned(order.pinned):
            walked = walk(
                order.route, order.facts, order.seen, order.card, order.job_rate, span=span_of(order.facts, order.start, order.stop)
            )
        if walked.stopped:
            raise Stopped(walked.stopped.text)
        draft = walked.draft
    assert draft.pace is not None and draft.target is not None
    when = draft.pace.over(probe.scan(path, order.facts.fingerprint), order.start, order.stop)
    spec = draft.target.spec(draft.raster, when)
    whole = max(1, round(SEGMENT_SECONDS * float(when.rate) / spec.gop)) * spec.gop
    return RenderPlan(draft.frozen(), draft.target, spec, when, whole, draft.pace.timecode(order.start))
