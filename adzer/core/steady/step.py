"""Steady: passes the Picture through, and says how it shakes where that is known."""

from __future__ import annotations

from collections.abc import Mapping

from .. import records
from ..errors import UnreadableError
from ..picture import Picture
from ..stage import Context, StepResult
from .measure import VERSION, Shake, words
from .settings import SteadySettings


def step(picture: Picture, settings: SteadySettings, context: Context) -> StepResult:
    if picture.projection not in (None, "flat") or picture.eyes not in (None, "one") or picture.mosaic not in (None, "none"):
        return StepResult(picture, "left as it is", idle=True)
    found = shaken(context.measured)
    return StepResult(picture, words(found) if found else "left as it is", idle=True, wants="" if found else "motion")


def shaken(measured: Mapping[str, bytes]) -> Shake | None:
    """What was found of a recording's shake, by this version's reckoning; what cannot be read is measured again."""
    body = measured.get("shake")
    try:
        found = records.from_json(body, Shake, "What was measured of its motion") if body else None
    except UnreadableError:
        return None
    return found if found is not None and found.version == VERSION else None
