"""Develop: sensor values become light before anything else is done to them; adds what works on frames before the warp."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ..finding import Finding, Fix, Level
from ..light import names as colour_cards
from ..picture import Picture
from ..stage import Context, StepResult
from . import camera, values
from .settings import DevelopSettings


def step(picture: Picture, settings: DevelopSettings, context: Context) -> StepResult:
    sensor = values.sensor_of(context.facts, settings)
    if sensor is None:
        return StepResult(picture, "left as it is", idle=True)
    made = values.developed(sensor, settings)
    findings: list[Finding] = []

    def say(level: Level, code: str, text: str, fix: Fix | None = None) -> None:
        findings.append(Finding(level, code, text, "develop", fix))

    if not sensor.lights:
        say(Level.WARN, "no-camera-matrix", "Nothing says how this camera sees colours (no matrix): they are taken as BT.709's, balanced. "
            "Neutral things come out right, colours only roughly.")  # fmt: skip
    if sensor.neutral is None and sensor.white_xy is None and settings.white == "as shot":
        say(Level.WARN, "no-white", "The camera did not say what was white. Say the light, or click something neutral.")
    if context.facts.rebalanced and settings.white == "as shot":
        few = ", ".join(map(str, context.facts.rebalanced[:4]))
        say(Level.WARN, "balance-jumps", f"The camera changed its white or exposure at frame {few}: the first frame's is held for all of it.")
    if settings.highlights is None:
        say(Level.NOTE, "highlights-open", "What is full in the sensor is delivered white, without a colour cast. Look if it should be rebuilt.")
    if sensor.bend:
        say(Level.NOTE, "lens-bends", f"The file says that its lens bends straight lines ({', '.join(f'{k:+.3f}' for k in sensor.bend)}). Shape can "
            "undo it.")  # fmt: skip
    draft = context.draft
    inputs = tuple(replace(i, prepares=(made,)) if i.by_its_clock else i for i in draft.inputs)
    top = float(made.curve.encode(np.array([float((made.matrix @ made.ceiling).max())]))[0])
    after = picture.with_(
        mosaic="none", curve=made.curve.name if settings.into == "light" else settings.into, primaries=settings.primaries, range="full",
        matrix="rgb", bits=16, chroma="4:4:4", siting=None,
    )  # fmt: skip
    return StepResult(after, says(made, settings), tuple(findings), draft=draft.with_(inputs=inputs, top=top))


def says(made: values.Developed, settings: DevelopSettings) -> str:
    kelvin, tint = camera.correlated(camera.white_of(made.sensor, made.neutral)) if made.sensor.lights else (0.0, 0.0)
    white = {"as shot": "as shot", "light": "light", "patch": "patch"}[settings.white] + (f" {kelvin:.0f} K {tint:+.0f}" if kelvin else "")
    exposure = f", {settings.exposure:+.1f} stops" if settings.exposure else ""
    into = "light" if settings.into == "light" else colour_cards.title(settings.into)
    return f"{white}{exposure} → {into}"
