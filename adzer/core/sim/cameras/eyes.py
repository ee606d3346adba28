"""Two cameras side by side, 65 mm apart, recorded into one side-by-side picture, right eye first and untagged."""

from __future__ import annotations

from fractions import Fraction

from ...media.encode import VideoTags
from ..camera import Camera, Pose, Recorder
from ..optics import eyes

LENS = Camera(
    name="one eye",
    raster=(640, 360),
    rate=Fraction(25),
    field_of_view=64.0,
    pose=lambda t: Pose(place=(0.6, 4.6, 1.5), heading=10.0 + 0.3 * t, tilt=-1.0),
    container="mp4",
    timecode="12:30:05:00",
    recorder=Recorder(
        bits=8,
        chroma="4:2:0",
        curve="bt709",
        primaries="bt709",
        full_well=9000.0,
        rolls_off=True,
        encoder="h264",
        options={"preset": "slow", "crf": "21"},
        tags=VideoTags(curve="bt709", primaries="bt709", matrix="bt709", range="limited"),
        gop=25,
    ),
)
CAMERA = eyes("eyes", LENS, "side by side", first="right")
