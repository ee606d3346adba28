"""Deliver: the card's samples, raster and container. Adds nothing of its own but checks that card and Picture agree."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction
from pathlib import Path

from ..cards import DeliveryCard
from ..finding import Finding, Fix, Level
from ..media.boxes import SphereTags
from ..picture import Picture
from ..plan import Draft, Overlay
from ..records import to_plain
from ..stage import Context, StepResult
from ..target import Target
from .settings import DeliverSettings, Laid

LINES = (360, 540, 720, 1080, 1440, 2160, 2880, 4320)  # usual rasters by their shorter side
RASTERS = ((1280, 720), (1920, 1080), (2560, 1440), (3840, 2160), (4096, 2160), (1080, 1920), (1080, 1080))  # usual ones
SOFT = 0.7  # recorded pixels per delivered pixel below which a smaller raster is as sharp
SMALLEST_FOR = {"st2019": (256, 120)}  # the encoder refuses less


def step(picture: Picture, settings: DeliverSettings, context: Context) -> StepResult:
    card = context.card
    assert card is not None
    findings = []
    if not settings.cards:
        findings.append(
            Finding(
                Level.NOTE,
                "no-delivery",
                "No delivery is chosen for this shot.",
                "deliver",
                Fix("Web wide 16:9", "deliver", {"cards": ["web-wide"]}),
            )  # fmt: skip
        )
    whole = card.shows == "spheres" or (context.draft.rig is not None and context.draft.rig.whole)
    unrolled = picture.projection == "equirectangular"
    whole |= context.draft.pair is not None and unrolled
    whole |= card.encoder not in PACKED and unrolled and told(picture, card)[0] is not None  # kept or edited as it is, and not shown anywhere
    shown, unsaid = told(picture, card) if whole else (None, None)
    packed = None
    if unsaid is not None:
        findings.append(unsaid)
    if not whole and picture.projection not in (None, "flat"):
        findings.append(
            Finding(
                Level.STOP,
                "projection-needs-metadata",
                f"{card.title} would show this as a stretched rectangle: it cannot say that it is {picture.projection}. Take a flat view of it, or "
                "deliver it whole by a card that shows spheres.",
                "deliver",
                Fix("Take a flat view of it", "shape", {"view": {"shape": "16/9"}}),
            )
        )
    if (beyond := _beyond_detail(picture)) is not None:
        findings.append(beyond)
    flat_pair = not whole and picture.eyes not in (None, "one")
    if flat_pair:
        shown, packed = pair_told(picture, card)
    if flat_pair and shown is None and packed is None:
        findings.append(
            Finding(
                Level.WARN if context.draft.pair is None else Level.STOP,
                "eyes-need-metadata",
                f"{card.title} would show two pictures, {picture.eyes}: nothing in it says that they are eyes, and which is which.",
                "deliver",
            )
        )
    least = SMALLEST_FOR.get(card.encoder, (16, 16))
    if picture.raster[0] < least[0] or picture.raster[1] < least[1]:
        findings.append(
            Finding(
                Level.STOP,
                "raster-too-small-for-card",
                f"{picture.raster[0]}×{picture.raster[1]} is less than {card.codec} can hold ({least[0]}×{least[1]}).",
                "deliver",
            )  # fmt: skip
        )
    if picture.curve is not None and picture.curve != card.curve:
        findings.append(
            Finding(
                Level.STOP,
                "curve-not-delivered",
                f"{card.title} asks for {card.curve}; the picture is not that yet.",
                "deliver",
            )
        )
    if (black := _mostly_black(card, context.draft)) is not None:
        findings.append(black)
    after = picture.with_(
        bits=card.bits, chroma=card.chroma, siting=card.sited, matrix=card.matrix,
        range=card.range,
    )  # fmt: skip
    for laid in settings.over:
        if not Path(laid.file).is_file():
            text = f"{laid.file}, which is laid over it, is not there. Bring it back, or take it off."
            findings.append(Finding(Level.STOP, "overlay-missing", text, "deliver", _without(settings, laid)))
        elif laid.nearer and picture.eyes not in (None, "one") and not picture.first:
            text = "Which eye is first is not known: what should stand nearer than the screen would stand behind it. Say it on Read."
            findings.append(Finding(Level.STOP, "overlay-eyes-unknown", text, "deliver"))
    overlays = tuple(overlay(laid, picture, context.draft) for laid in settings.over)
    target = Target.of(card)
    samples = replace(target.samples, ceiling=context.draft.ceiling)
    target = replace(target, samples=samples, shown=shown, packed=packed, half=picture.packing == "half")
    return StepResult(after, card.title, tuple(findings), draft=context.draft.with_(target=target, overlays=overlays))


MOSTLY = 0.5  # of a frame that its picture fills, under which it is mostly black


def _mostly_black(card: DeliveryCard, draft: Draft) -> Finding | None:
    """A picture of another shape than the frame that holds it."""
    _, _, wide, high = draft.filled
    if not draft.panels or wide * high >= MOSTLY:
        return None
    fix = Fix("Web upright 9:16", "deliver", {"cards": ["web-upright"]}) if high > 0.98 and card.wanted is None else None
    text = f"{1 - wide * high:.0%} of what {card.title} shows is black: the picture has another shape. Deliver it in its own, or crop it on Shape."
    return Finding(Level.NOTE, "mostly-black", text, "deliver", fix)


SAYABLE = {("side by side", "left"), ("over under", "left")}  # eyes that the boxes of MP4 have a word for, in both versions
PACKED = ("h264", "h265")  # codecs whose pictures can say it themselves


def sayable(picture: Picture, card: DeliveryCard) -> bool:
    """Has the card's container a word for how its eyes lie?"""
    return picture.first is not None and (card.container == "mkv" or (picture.eyes, picture.first) in SAYABLE)


def pair_told(picture: Picture, card: DeliveryCard) -> tuple[SphereTags | None, tuple[str, str] | None]:
    """What a master of two flat eyes says of itself: by its container, and by its pictures."""
    if picture.first is None or picture.eyes is None:
        return None, None
    shown = SphereTags("both", None, picture.eyes, picture.first) if sayable(picture, card) else None
    return shown, (picture.eyes, picture.first) if card.encoder in PACKED else None


def told(picture: Picture, card: DeliveryCard) -> tuple[SphereTags | None, Finding | None]:
    """What a master of a sphere says of itself; or why it cannot be one, or cannot say so."""

    def stop(code: str, text: str, fix: Fix | None = None) -> tuple[None, Finding]:
        return None, Finding(Level.STOP, code, text, "deliver", fix)

    if picture.projection != "equirectangular":
        what = "round lenses, which are no sphere before they are laid flat" if picture.projection == "fisheye" else "flat"
        return stop(
            "not-a-sphere", f"{card.title} shows whole spheres, and this is {what}: it would break the film that is looked around in.",
            Fix("Web wide 16:9", "deliver", {"cards": ["web-wide"]}),
        )  # fmt: skip
    two = picture.eyes not in (None, "one")
    if two and not sayable(picture, card):
        first = f"the {picture.first} one first" if picture.first else "nobody knows which first"
        text = f"No published tag says that eyes lie {picture.eyes}, {first}: players would show them crossed. Say it on Read."
        return stop("eyes-cannot-be-said", text)
    half = picture.coverage == "180"
    shape = picture.shape * (Fraction(1, 2) if picture.eyes == "side by side" else 2 if picture.eyes == "over under" else 1)
    if two and picture.packing == "half":
        shape *= 2 if picture.eyes == "side by side" else Fraction(1, 2)
    if abs(float(shape) / (1 if half else 2) - 1) > 0.01:
        return stop(
            "sphere-cropped", f"Only {float(shape):.2f}:1 of it is left: a sphere that is cropped is bent where it is looked at.",
            Fix("Take the whole picture", "shape", {"shape": None, "enlarged": 1.0, "moves": None, "keep": None}),
        )  # fmt: skip
    bounds = (0.0, 0.0, 0.25, 0.25) if half else (0.0, 0.0, 0.0, 0.0)
    return SphereTags("both", "equirectangular", picture.eyes or "one", picture.first if two else None, bounds), None


def _without(settings: DeliverSettings, laid: Laid) -> Fix:
    return Fix("Take it off", "deliver", {"over": [to_plain(other) for other in settings.over if other != laid]})


def overlay(laid: Laid, picture: Picture, draft: Draft) -> Overlay:
    """What is laid over, in delivered pixels: once, or once an eye, so that both see it nearer by ``laid.nearer``."""
    left, top, wide, high = (v * side for v, side in zip(draft.filled, (*draft.raster, *draft.raster), strict=True))
    beside, over = picture.eyes == "side by side", picture.eyes == "over under"
    areas = [(left, top)]
    if beside or over:
        wide, high = (wide / 2, high) if beside else (wide, high / 2)
        areas.append((left + wide, top) if beside else (left, top + high))
    half = picture.packing == "half" and len(areas) == 2
    tall = laid.wide * wide / laid.shape * ((2 if beside else 0.5) if half else 1)
    boxes = []
    for n, (x, y) in enumerate(areas):
        sees_left = (picture.first != "right") == (n == 0)
        aside = laid.nearer / 200 * (1 if sees_left else -1) if len(areas) == 2 else 0.0  # crossed: the left eye's lies further right
        boxes.append((x + (laid.x - laid.wide / 2 + aside) * wide, y + laid.y * high - tall / 2, laid.wide * wide, tall))
    card = picture.curve or "bt709", picture.primaries or "bt709"
    return Overlay(laid.file, laid.print, tuple(boxes), laid.start, laid.stop, laid.fade, *card)


def _beyond_detail(picture: Picture) -> Finding | None:
    """A raster that holds clearly more pixels than were recorded for it, and the usual one that holds them all."""
    if picture.detail is None or not 0 < picture.detail < SOFT:
        return None
    short = min(picture.raster)
    enough = next((n for n in LINES if n >= short * picture.detail), short)
    if enough >= short:
        return None
    k = enough / short
    w, h = (round(v * k / 2) * 2 for v in picture.raster)
    return Finding(
        Level.NOTE,
        "raster-beyond-detail",
        f"{picture.raster[0]}×{picture.raster[1]} holds {1 / picture.detail:.1f} times as many pixels each way as were recorded; "
        f"{w}×{h} is as sharp and {1 / k**2:.1f} times smaller.",
        "deliver",
        Fix(f"At most {w}×{h}", "deliver", {"raster": [w, h], "exact": False}),
    )
