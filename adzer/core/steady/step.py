"""Steady: says how a shot shakes, and moves its picture so that it does not, as part of the one warp."""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache

import numpy as np

from .. import records
from ..finding import Finding, Fix, Level
from ..media.clock import Clock, clock_of
from ..media.probe import FileFacts
from ..picture import Picture
from ..space.looks import Turning
from ..stage import Context, StepResult
from . import solve
from .measure import VERSION, Shake, words
from .settings import SteadySettings
from .solve import Array

SAYS = {"hold": "held still", "drift": "its jitter gone", "path": "on an even way"}


def step(picture: Picture, settings: SteadySettings, context: Context) -> StepResult:
    if picture.projection not in (None, "flat") or picture.eyes not in (None, "one") or picture.mosaic not in (None, "none"):
        return StepResult(picture, "left as it is", idle=True)
    found = shaken(context.measured)
    wants = "" if found else "motion"
    if settings.method == "off":
        return StepResult(picture, words(found) if found else "left as it is", idle=True, wants=wants)
    facts = context.facts
    if _moves(settings.moves, facts.frames, picture.raster) is None:
        text = "It is to be steadied, but how it moves was not measured on this very recording. Measure it, and choose how again."
        finding = Finding(Level.STOP, "moves-missing", text, "steady", Fix("Leave it as it was held", "steady", {"method": "off"}))
        return StepResult(picture, "not measured", (finding,), wants=wants)
    kept = 1 - settings.budget
    if not _fits(settings.moves, facts.frames, picture.raster, kept):
        text = f"Its moves need more than {settings.budget:.0%} of the picture: something bare would enter. Choose how again."
        return StepResult(picture, "too far", (Finding(Level.STOP, "moves-too-far", text, "steady", Fix("Leave it", "steady", {"method": "off"})),))
    held = _turning(settings.moves, facts.frames, picture.raster, kept, clock_of(facts))
    findings = []
    if context.draft.pace is not None and context.draft.pair is None and settings.budget > 0.2:
        findings.append(Finding(Level.NOTE, "much-spent", f"{1 - kept**2:.0%} of the recorded picture is spent on holding it.", "steady"))
    says = f"{SAYS[settings.method]}, keeps {kept**2:.0%}"
    return StepResult(picture, says, tuple(findings), draft=context.draft.with_(held=held), wants=wants)


# A route is walked at every change of any answer: what only hangs on what was solved is worked out once.
@lru_cache(maxsize=16)
def _moves(text: str, frames: int, size: tuple[int, int]) -> Array | None:
    return solve.unpacked(text, frames, size)


@lru_cache(maxsize=16)
def _fits(text: str, frames: int, size: tuple[int, int], kept: float) -> bool:
    moves = _moves(text, frames, size)
    return moves is not None and bool(solve.inside(moves, size, kept - 1e-9).all())


@lru_cache(maxsize=16)
def _turning(text: str, frames: int, size: tuple[int, int], kept: float, clock: Clock) -> Turning | None:
    moves = _moves(text, frames, size)
    return None if moves is None else solve.turning(moves, size, kept, np.array([clock.time(n) for n in range(frames)]))


def times_of(facts: FileFacts) -> np.ndarray[tuple[int, ...], np.dtype[np.float64]]:
    """Seconds of each recorded frame."""
    clock = clock_of(facts)
    return np.array([clock.time(n) for n in range(facts.frames)])


def shaken(measured: Mapping[str, bytes]) -> Shake | None:
    """What was found of a recording's shake, by this version's reckoning; what cannot be read is measured again."""
    return records.of_version(measured.get("shake"), Shake, VERSION)
