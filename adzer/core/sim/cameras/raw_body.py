"""A body that records sensor values, one DNG file a frame; ``raw.shoot`` writes them."""

from __future__ import annotations

from fractions import Fraction

from ...media.encode import VideoTags
from ..camera import Camera, Pose, Recorder

CAMERA = Camera(
    name="raw body",
    raster=(480, 270),
    rate=Fraction(25),
    field_of_view=50.0,
    pose=lambda t: Pose(place=(0.5, 2.0, 1.6), heading=9.0, tilt=6.0),
    container="dng",
    sound=False,
    recorder=Recorder(
        bits=12,
        chroma="4:0:0",
        curve="linear",
        primaries="bt709",
        encoder="ffv1",
        options={},
        tags=VideoTags(),
        exposure=-1.5,
    ),
)
