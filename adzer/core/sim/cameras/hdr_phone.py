"""A phone that records BT.2100 HLG in 10 bits, tagged as what it is."""

from __future__ import annotations

from fractions import Fraction

from ...media.encode import VideoTags
from ..camera import Camera, Pose, Recorder

CAMERA = Camera(
    name="hdr phone",
    raster=(1280, 720),
    rate=Fraction(30000, 1001),
    field_of_view=66.0,
    pose=lambda t: Pose(place=(-1.0, 0.5, 1.5), heading=4.0 + 0.8 * t, tilt=8.0),
    container="mp4",
    recorder=Recorder(
        bits=10,
        chroma="4:2:0",
        curve="hlg",
        primaries="bt2020",
        matrix="bt2020",
        siting="topleft",
        full_well=8000.0,
        encoder="h265",
        options={"preset": "medium", "crf": "20"},
        tags=VideoTags(curve="hlg", primaries="bt2020", matrix="bt2020", range="limited", siting="topleft"),
        gop=30,
    ),
)
