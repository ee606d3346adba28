"""Join: two round lenses become one recording that sees all round; everything else is passed through."""

from __future__ import annotations

import numpy as np

from ..errors import AdzerError
from ..finding import Finding, Fix, Level
from ..light import names
from ..light.curves import Curve
from ..picture import Picture
from ..plan import Rig
from ..space.looks import Turning
from ..space.sphere import Lens, rotation
from ..stage import Context, StepResult
from .settings import JoinSettings


def two_lenses(picture: Picture, context: Context) -> bool:
    """Are there two round lenses in it, back to back, for one eye?"""
    discs = context.seen.discs if context.seen is not None else ()
    return picture.projection == "fisheye" and picture.eyes in (None, "one") and len(discs) == 2


def recorded_curve(picture: Picture) -> Curve | None:
    try:
        return names.curve(picture.curve, picture.bits or 10, picture.range != "full") if picture.curve else None
    except AdzerError:  # which Read says
        return None


def step(picture: Picture, settings: JoinSettings, context: Context) -> StepResult:
    if not two_lenses(picture, context):
        if context.facts.beside is not None:
            return StepResult(picture, "two lenses side by side, not stitched")
        return StepResult(picture, "one recording, nothing to join", idle=True)
    findings = []
    matched = settings.error is not None or any(settings.turn) or settings.gain != (1.0, 1.0, 1.0)
    if not matched:
        text = (
            "The two lenses are taken as standing exactly back to back and alike in light, which no pair does. Let them be matched by what "
            "both see: on Join, with adzer lenses, or adzer reframe --match."
        )
        findings.append(Finding(Level.NOTE, "lenses-not-matched", text, "join"))
    turning = Turning.fixed(rotation(*settings.turn)) if any(settings.turn) else None
    light = tuple(tuple(float(v) for v in row) for row in np.diag(settings.gain)) if settings.gain != (1.0, 1.0, 1.0) else None
    high = picture.raster[1]
    lenses = tuple(
        Lens(held.x * high, held.y * high, held.radius * high, held.across, 180.0 * n, held.bend)
        for n, held in enumerate(settings.lenses or ())
    )  # fmt: skip
    apart = 0.0
    if settings.distance is not None:
        if settings.base is None:
            text = "The lenses are to meet near by, but not how far they stand apart. Measure it with a ruler, from front glass to front glass."
            findings.append(Finding(Level.STOP, "rig-base-unknown", text, "join", Fix("Let them meet far away", "join", {"distance": None})))
        else:
            apart = settings.base / settings.distance
    rig = Rig(
        turning, light, float(np.radians(settings.blend)), tuple(np.radians(settings.seam).tolist()), lenses, apart,  # type: ignore[arg-type]
        settings.laid == "sphere" or (context.card is not None and context.card.shows == "spheres"),
    )  # fmt: skip
    says = "two lenses, matched" if matched else "two lenses, not matched"
    if rig.whole:
        says += ", a whole sphere"
    return StepResult(picture, says, tuple(findings), draft=context.draft.with_(rig=rig, curve=recorded_curve(picture)))
