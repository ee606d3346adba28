"""One of two back-to-back round lenses, each recorded to a file of its own; the front one. ``REAR`` is the other."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction

from ...media.encode import VideoTags
from ..camera import Pose, Recorder
from ..optics import Disc, RoundLens

CAMERA = RoundLens(
    name="lens pair",
    raster=(640, 640),
    rate=Fraction(25),
    field_of_view=200.0,
    pose=lambda t: Pose(place=(0.0, 3.0, 1.8), heading=12.0),
    container="mp4",
    discs=(Disc(0.502, 0.497, 0.481),),
    recorder=Recorder(
        bits=8,
        chroma="4:2:0",
        curve="bt709",
        primaries="bt709",
        full_well=9000.0,
        rolls_off=True,
        encoder="h264",
        options={"preset": "slow", "crf": "23"},
        tags=VideoTags(matrix="bt709", range="limited"),
        gop=25,
    ),
)
REAR = replace(CAMERA, name="lens pair, rear", discs=(Disc(0.497, 0.502, 0.480, facing=180.0),), sound=False)
