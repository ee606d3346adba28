"""Colour: from the recorded curve and primaries to the delivered ones, corrected. Adds a ``ColourChain`` or nothing."""

from __future__ import annotations

import numpy as np

from ..cards import DeliveryCard
from ..finding import Finding, Fix, Level
from ..light import names as colour_cards
from ..light.chain import ColourChain
from ..light.primaries import adaptation, daylight, rgb_to_rgb, rgb_to_xyz
from ..picture import Picture
from ..stage import Context, StepResult
from .measure import OVER, peak
from .settings import NEUTRAL_KELVIN, ColourSettings

HDR = ("pq", "hlg")
HIGHEST, SLACK = 109, 0.01  # percent that limited codes have room for; of the signal, what compression adds to a white


def chain(picture: Picture, settings: ColourSettings, card: DeliveryCard, top: float | None = None) -> ColourChain:
    """The whole colour of one shot for one delivery. The picture's curve and primaries must be known; ``top``: the highest signal
    that was measured in it."""
    assert picture.curve and picture.primaries
    source = colour_cards.curve(picture.curve, picture.bits or 10, picture.range != "full")
    inner, outer = colour_cards.primaries(picture.primaries), colour_cards.primaries(card.primaries)
    balance = None
    if (settings.kelvin, settings.tint) != (NEUTRAL_KELVIN, 0.0):
        light, neutral = daylight(settings.kelvin, settings.tint), daylight(NEUTRAL_KELVIN)
        balance = adaptation(light, neutral, settings.adaptation)
    gain = 2.0**settings.exposure
    luma = rgb_to_xyz(outer)[1]
    return ColourChain(
        source=source,
        matrix=rgb_to_rgb(inner, outer, settings.adaptation, balance) * gain,
        target=colour_cards.curve(card.curve),
        whites=settings.whites,
        contrast=settings.contrast,
        black=settings.black,
        saturation=settings.saturation,
        peak=(settings.peak or peak(source, OVER if top is None else top)) * gain,
        to_709=tuple(map(tuple, rgb_to_rgb(outer, colour_cards.primaries("bt709"), settings.adaptation).tolist())),
        ceiling=settings.ceiling / 100 if card.range == "limited" else 1.0,
        gather=settings.beyond == "draw in",
        luma=(float(luma[0]), float(luma[1]), float(luma[2])),
    )


def step(picture: Picture, settings: ColourSettings, context: Context) -> StepResult:
    card = context.card
    assert card is not None
    if picture.curve is None or picture.primaries is None:
        return StepResult(picture, "waits for Read")  # which stops, and says why
    source = colour_cards.curve(picture.curve, picture.bits or 10)
    findings = []
    top = context.draft.top or (context.seen.levels.top() if context.seen is not None else None)
    after = picture.with_(curve=card.curve, primaries=card.primaries)
    unchanged = picture.curve == card.curve and picture.primaries == card.primaries and not settings.corrects
    ceiling = settings.ceiling / 100 if card.range == "limited" and settings.ceiling < HIGHEST else None
    if unchanged and settings.beyond == "cut":
        if ceiling is not None and top is not None and top > ceiling + SLACK:
            findings.append(Finding(
                Level.NOTE, "cut-at-ceiling", f"It reaches {top:.0%}, and nothing else is done to its colour: its luma is cut off at {ceiling:.0%}. "
                "Choose 109 % to keep what lies above.", "colour", Fix("Keep it up to 109 %", "colour", {"ceiling": 109}),
            ))  # fmt: skip
        return StepResult(after, "unchanged", tuple(findings), idle=True, draft=context.draft.with_(ceiling=ceiling))
    if settings.whites == "keep all" and source.kind == "log":
        made = chain(picture, settings, card, top)
        grey = float(made.tone(np.array([0.18 * 2.0**settings.exposure]))[0])
        if grey < 0.25:
            findings.append(
                Finding(
                    Level.WARN,
                    "keep-all-dark",
                    f"Keeping everything under white puts middle grey at {grey:.0%}: the picture turns dark.",
                    "colour",
                    Fix("Roll off instead", "colour", {"whites": "roll off"}),
                )  # fmt: skip
            )
    if picture.curve in HDR and card.curve not in HDR:
        text = f"It was recorded as {colour_cards.title(picture.curve)}, and {card.title} is SDR. Light above its white is brought down."
        findings.append(Finding(Level.NOTE, "hdr-becomes-sdr", text, "colour"))
    if source.kind == "display" and settings.exposure > 0.5:
        findings.append(
            Finding(
                Level.NOTE,
                "display-lifted",
                "This is a finished picture, lifted: what was clipped in the camera stays flat.",
                "colour",
            )
        )
    says = f"{colour_cards.title(picture.curve)} → {colour_cards.title(card.curve)}"
    made = chain(picture, settings, card, top)
    return StepResult(after, says, tuple(findings), draft=context.draft.with_(chain=made))
