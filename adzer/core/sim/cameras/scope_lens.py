"""A squeezing lens on a log body: 10-bit 4:2:2, wide primaries, and a BT.709 tag that is not true."""

from __future__ import annotations

import math
from fractions import Fraction

from ...media.encode import VideoTags
from ..camera import Camera, Pose, Recorder


def _hand(t: float) -> Pose:
    """A slow pan to the right with the small drift of a hand."""
    return Pose(
        heading=1.0 + 0.9 * t + 0.05 * math.sin(2.1 * t),
        tilt=5.2 + 0.06 * math.sin(1.7 * t + 0.6),
        roll=0.05 * math.sin(1.1 * t),
    )


CAMERA = Camera(
    name="scope lens",
    raster=(1440, 1080),
    rate=Fraction(25),
    field_of_view=72.0,
    squeeze=Fraction(8, 5),
    pose=_hand,
    container="mov",
    timecode="10:14:22:00",
    recorder=Recorder(
        bits=10,
        chroma="4:2:2",
        curve="fen-log",
        primaries="bt2020",
        exposure=-0.4,
        encoder="h265",
        options={"preset": "slow", "crf": "17"},
        tags=VideoTags(curve="bt709", primaries="bt709", matrix="bt709", range="limited"),
        gop=50,
    ),
)
