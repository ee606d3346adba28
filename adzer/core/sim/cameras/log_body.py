"""A log body with a plain lens: 10-bit 4:2:2 intra, fen log, and no tag that says so."""

from __future__ import annotations

from fractions import Fraction

from ...media.encode import VideoTags
from ..camera import Camera, Pose, Recorder

CAMERA = Camera(
    name="log body",
    raster=(960, 540),
    rate=Fraction(25),
    field_of_view=58.0,
    pose=lambda t: Pose(place=(1.5, 1.0, 1.6), heading=7.0 + 0.5 * t, tilt=7.0),
    container="mov",
    timecode="10:40:00:00",
    recorder=Recorder(
        bits=10,
        chroma="4:2:2",
        curve="fen-log",
        primaries="bt2020",
        encoder="h265",
        options={"preset": "medium", "crf": "18"},
        tags=VideoTags(range="limited"),
        gop=25,
    ),
)
