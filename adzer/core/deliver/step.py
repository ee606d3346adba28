"""Deliver: the card's samples, raster and container. Adds nothing of its own but checks that card and Picture agree."""

from __future__ import annotations

from ..finding import Finding, Fix, Level
from ..picture import Picture
from ..stage import Context, StepResult
from ..target import Target
from .settings import DeliverSettings

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
    if picture.projection not in (None, "flat"):
        findings.append(
            Finding(
                Level.STOP,
                "projection-needs-metadata",
                f"{card.title} would show this as a stretched rectangle: it cannot say that it is {picture.projection}.",
                "deliver",
                Fix("Take a flat view of it", "shape", {"view": {"shape": "16/9"}}),
            )
        )
    if (beyond := _beyond_detail(picture)) is not None:
        findings.append(beyond)
    if picture.eyes not in (None, "one"):
        findings.append(
            Finding(
                Level.WARN,
                "eyes-need-metadata",
                f"{card.title} would show two pictures, {picture.eyes}: nothing in it says that they are eyes.",
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
    after = picture.with_(
        bits=card.bits, chroma=card.chroma, siting=card.sited, matrix=card.matrix,
        range=card.range,
    )  # fmt: skip
    return StepResult(after, card.title, tuple(findings), draft=context.draft.with_(target=Target.of(card)))


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
