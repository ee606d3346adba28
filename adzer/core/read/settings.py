"""What the person declares about a recording. None: nothing declared, so tag or guess stands."""

from __future__ import annotations

from fractions import Fraction
from typing import Literal

from ..stage import Settings


class ReadSettings(Settings, frozen=True, forbid_unknown_fields=True):
    """``timing`` even: delivered frames come at ``even_rate``, each the recorded frame nearest in time.
    ``turn``: degrees clockwise by which the recorded picture is turned to stand upright.
    ``alone``: the first of several pictures or eyes is delivered without the others.
    ``damage``: what becomes of frames that decode with errors: the render stops, or they are used as they decode.
    ``fields``: of interlaced frames, whether the lines of one moment are used or both as they are recorded; None: nobody said.
    ``applied`` display: a transform has been applied already, whatever the camera's curve was.
    ``master`` to come: this is a proxy, and what is delivered is made once its master is linked; here: it is the recording itself.
    """

    OWN = frozenset({"turn"})
    FROM = {1: dict, 2: dict, 3: dict}  # fields were added, nothing else
    version: int = 4
    curve: str | None = None
    primaries: str | None = None
    range: Literal["limited", "full"] | None = None
    matrix: Literal["bt709", "bt2020", "bt601"] | None = None
    siting: Literal["left", "center", "topleft", "top", "bottomleft", "bottom"] | None = None
    turn: Literal[0, 90, 180, 270] | None = None
    timing: Literal["recorded", "even"] = "recorded"
    even_rate: Fraction | None = None
    projection: Literal["flat", "equirectangular", "fisheye"] | None = None
    coverage: Literal["360", "180"] | None = None
    eyes: Literal["one", "side by side", "over under"] | None = None
    packing: Literal["full", "half"] | None = None
    first: Literal["left", "right"] | None = None
    alone: bool = False
    applied: Literal["nothing", "display"] | None = None
    damage: Literal["stop", "use"] = "stop"
    fields: Literal["one", "both"] | None = None
    master: Literal["here", "to come"] | None = None
