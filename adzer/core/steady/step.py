"""Steady: says how a shot shakes, and moves its picture so that it does not, as part of the one warp."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from .. import records
from ..finding import Finding, Fix, Level
from ..media.clock import clock_of
from ..media.probe import FileFacts
from ..picture import Picture
from ..stage import Context, StepResult
from . import solve
from .measure import VERSION, Shake, words
from .settings import SteadySettings

SAYS = {"hold": "held still", "drift": "its jitter gone", "path": "on an even way"}


def step(picture: Picture, settings: SteadySettings, context: Context) -> StepResult:
    if picture.projection not in (None, "flat") or picture.eyes not in (None, "one") or picture.mosaic not in (None, "none"):
        return StepResult(picture, "left as it is", idle=True)
    found = shaken(context.measured)
    wants = "" if found else "motion"
    if settings.method == "off":
        return StepResult(picture, words(found) if found else "left as it is", idle=True, wants=wants)
    facts = context.facts
    moves = solve.unpacked(settings.moves, facts.frames)
    if moves is None:
        text = "It is to be steadied, but how it moves was not measured on this very recording. Measure it, and choose how again."
        finding = Finding(Level.STOP, "moves-missing", text, "steady", Fix("Leave it as it was held", "steady", {"method": "off"}))
        return StepResult(picture, "not measured", (finding,), wants=wants)
    kept = 1 - settings.budget
    if solve.share_inside(moves, picture.raster, kept).min() < 1.0:
        text = f"Its moves need more than {settings.budget:.0%} of the picture: something bare would enter. Choose how again."
        return StepResult(picture, "too far", (Finding(Level.STOP, "moves-too-far", text, "steady", Fix("Leave it", "steady", {"method": "off"})),))
    held = solve.turning(moves, picture.raster, kept, times_of(facts))
    findings = []
    if context.draft.pace is not None and context.draft.pair is None and settings.budget > 0.2:
        findings.append(Finding(Level.NOTE, "much-spent", f"{1 - kept**2:.0%} of the recorded picture is spent on holding it.", "steady"))
    says = f"{SAYS[settings.method]}, keeps {kept**2:.0%}"
    return StepResult(picture, says, tuple(findings), draft=context.draft.with_(held=held), wants=wants)


def times_of(facts: FileFacts) -> np.ndarray[tuple[int, ...], np.dtype[np.float64]]:
    """Seconds of each recorded frame."""
    clock = clock_of(facts)
    return np.array([clock.time(n) for n in range(facts.frames)])


def shaken(measured: Mapping[str, bytes]) -> Shake | None:
    """What was found of a recording's shake, by this version's reckoning; what cannot be read is measured again."""
    return records.of_version(measured.get("shake"), Shake, VERSION)
