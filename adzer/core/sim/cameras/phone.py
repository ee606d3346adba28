"""A phone: 8-bit BT.709, already rolled off by the phone itself, with time stamps that wander."""

from __future__ import annotations

import math
from fractions import Fraction

from ...media.encode import VideoTags
from ..camera import Camera, Pose, Recorder


def _shaky(t: float) -> Pose:
    return Pose(
        place=(1.2, 0.4, 1.55),
        heading=2.5 - 0.4 * t + 0.35 * math.sin(5.3 * t) + 0.12 * math.sin(13.1 * t + 1.0),
        tilt=6.5 + 0.30 * math.sin(4.1 * t + 0.4) + 0.10 * math.sin(11.3 * t),
        roll=0.5 * math.sin(2.3 * t),
    )


def _wandering(count: int) -> list[int]:
    """Stamps in 1/90 000 s: about 30 a second, each a little off, and one in forty comes a whole frame late."""
    stamps, now = [], 0
    for n in range(count):
        stamps.append(now)
        now += 3000 + (n * 7919 % 241 - 120) + (3000 if n % 40 == 39 else 0)
    return stamps


CAMERA = Camera(
    name="phone",
    raster=(1280, 720),
    rate=Fraction(30),
    field_of_view=62.0,
    pose=_shaky,
    container="mp4",
    time_base=Fraction(1, 90000),
    stamps=_wandering,
    recorder=Recorder(
        bits=8,
        chroma="4:2:0",
        curve="bt709",
        primaries="bt709",
        full_well=6000.0,
        read_noise=5.0,
        rolls_off=True,
        encoder="h264",
        options={"preset": "slow", "crf": "20"},
        tags=VideoTags(curve="bt709", primaries="bt709", matrix="bt709", range="limited"),
        gop=30,
    ),
)
