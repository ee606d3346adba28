"""What covers the foot of a sphere: the camera's stand, or whoever held it."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from .. import plan
from ..errors import AdzerError
from ..finding import Finding, Fix, Level
from ..light.curves import Curve
from ..light.samples import Samples
from ..media import still
from ..media.formats import PixelFormat
from ..picture import Picture
from .settings import Foot

SAMPLES = Samples(PixelFormat(16, "4:4:4"), "rgb", False)  # of a person's own picture, once it stands in the recording's curve
FORGET = Fix("Leave the foot as it was recorded", "join", {"foot": None})


def of_picture(file: str | Path, reach: float) -> Foot:
    """A picture as it is now. UnreadableError if it is none."""
    path = Path(file).absolute()
    wide, high = still.shape(path)
    return Foot(reach, None, str(path), still.print_of(path), wide, high)


def told(text: str) -> Foot:
    """From ``3.2,25`` or ``FILE,25``. AdzerError says what is wrong."""
    first, comma, last = text.rpartition(",")
    what, reach = (first, last) if comma and _number(last) is not None else (text, "25")
    degrees, seconds = _number(reach), _number(what)
    if degrees is None or not 3 <= degrees <= 80:
        raise AdzerError(f"--foot {text}: degrees round straight down go from 3 to 80.")
    if seconds is None:
        return of_picture(what, degrees)
    if not 0 <= seconds <= 1e6:
        raise AdzerError(f"--foot {text}: give seconds from the shot's beginning, 0 or more, or a picture's file.")
    return Foot(degrees, seconds)


def _number(text: str) -> float | None:
    try:
        return float(text)
    except ValueError:
        return None


def planned(foot: Foot, picture: Picture, curve: Curve | None) -> tuple[plan.Foot | None, Finding]:
    """What becomes of it, and what has to be said."""
    reach = float(np.radians(foot.reach))
    if foot.file is None:
        seconds = float(picture.duration or 0)
        if foot.at is None or (seconds and foot.at > seconds):
            text = f"The foot is to be covered by what was there at {foot.at or 0.0:.1f} s, but the shot is {seconds:.1f} s long."
            return None, Finding(Level.STOP, "foot-beyond-shot", text, "join", FORGET)
        text = f"The foot, {foot.reach:.0f}° round straight down, is what was there at {foot.at:.1f} s, all the time: right while the camera stands."
        return plan.Foot(reach, foot.at), Finding(Level.NOTE, "foot-covered", text, "join", FORGET)
    if not Path(foot.file).is_file():
        text = f"{foot.file}, which is to cover the foot, is not there. Bring it back, or leave the foot as it is."
        return None, Finding(Level.STOP, "foot-missing", text, "join", FORGET)
    held = plan.Still(foot.file, foot.print, (foot.wide, foot.high), curve, picture.primaries or "bt709")
    made = plan.Input(SAMPLES, (foot.wide, foot.high), still=held)
    text = f"The foot, {foot.reach:.0f}° round straight down, is covered by {Path(foot.file).name}, which was not recorded."
    return plan.Foot(reach, still=made), Finding(Level.NOTE, "foot-covered", text, "join", FORGET)
