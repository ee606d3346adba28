"""Shape: undoes the squeeze, crops to the delivered shape, fits the card's raster. Adds a ``Shaped`` to the plan."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

from ..cards import DeliveryCard
from ..finding import Finding, Fix, Level
from ..picture import Picture
from ..pixels import AxisWarp
from ..stage import Context, StepResult
from .advise import shape_text
from .geometry import Fitted, Framing, fit, solve, warp
from .settings import ShapeSettings

LIMITS = (Fraction(1, 4), Fraction(4))
SHAPE_LIMITS = (Fraction(1, 4), Fraction(6))


@dataclass(frozen=True)
class Shaped:
    """The crop, how it lies in the delivered raster, and both as one warp."""

    framing: Framing
    fitted: Fitted
    warp: AxisWarp

    @property
    def scale(self) -> tuple[Fraction, Fraction]:
        """Recorded pixels per delivered pixel, x and y."""
        return self.warp.scale


def shaped(picture: Picture, settings: ShapeSettings, card: DeliveryCard) -> Shaped:
    solved = framing(picture, settings)
    fitted = fit(solved.size, settings.hold or card.hold, card.max_raster)
    return Shaped(solved, fitted, warp(solved, fitted))


def framing(picture: Picture, settings: ShapeSettings) -> Framing:
    return solve(
        picture.raster, picture.pixel_aspect * settings.squeeze, settings.school, settings.shape, settings.position
    )


def step(picture: Picture, settings: ShapeSettings, context: Context) -> StepResult:
    findings: list[Finding] = []
    squeeze, shape = settings.squeeze, settings.shape
    if not LIMITS[0] <= squeeze <= LIMITS[1]:
        findings.append(
            Finding(
                Level.STOP,
                "squeeze-out-of-range",
                f"A squeeze of {float(squeeze):g} cannot be; lenses have 1 to 2.",
                "shape",
                Fix("Take 1×", "shape", "squeeze", "1"),
            )  # fmt: skip
        )
        return StepResult(picture, "squeeze?", tuple(findings))
    if shape is not None and not SHAPE_LIMITS[0] <= shape <= SHAPE_LIMITS[1]:
        findings.append(
            Finding(
                Level.STOP,
                "shape-out-of-range",
                f"A delivered shape of {float(shape):g}:1 cannot be used.",
                "shape",
                Fix("Take the whole picture", "shape", "shape", None),
            )  # fmt: skip
        )
        return StepResult(picture, "shape?", tuple(findings))
    if min(picture.raster) < 2:
        return StepResult(picture, "too small")
    assert context.card is not None
    made = shaped(picture, settings, context.card)
    solved = made.framing
    if shape is not None and solved.kept < Fraction(6, 10):
        findings.append(
            Finding(
                Level.WARN,
                "much-lost",
                f"Only {float(solved.kept):.0%} of the recorded picture is left at {shape_text(shape)}. "
                "A sensor mode or squeeze nearer to the shape keeps more.",
                "shape",
            )  # fmt: skip
        )
    if settings.school == "stretch" and picture.pixel_aspect * squeeze != 1:
        findings.append(
            Finding(
                Level.NOTE,
                "pixels-invented",
                f"The width is stretched: {float(1 - min(solved.scale)):.0%} of the delivered pixels are interpolated.",
                "shape",
                Fix("Shrink the height instead", "shape", "school", "shrink"),
            )  # fmt: skip
        )
    parts = [f"{float(squeeze):.2f}×"] if squeeze != 1 else []
    parts.append(shape_text(shape) if shape else "whole frame")
    after = picture.with_(raster=made.fitted.raster, pixel_aspect=Fraction(1))
    return StepResult(after, " → ".join(parts), tuple(findings), adds=made, idle=squeeze == 1 and shape is None)
