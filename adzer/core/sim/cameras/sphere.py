"""A whole sphere on a pole by the mill: 8-bit BT.709, and nothing in the file says that it is a sphere."""

from __future__ import annotations

from fractions import Fraction

from ...media.encode import VideoTags
from ..camera import Pose, Recorder
from ..optics import Sphere

CAMERA = Sphere(
    name="sphere",
    raster=(1536, 768),
    rate=Fraction(25),
    field_of_view=360.0,
    pose=lambda t: Pose(place=(0.4, 2.0, 2.1), heading=20.0 + 1.5 * t),
    container="mp4",
    timecode="11:02:10:00",
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
