"""What covers the foot of a sphere: colours by direction, looked up where arithmetic says they lie."""

from __future__ import annotations

import json

import av
import numpy as np
import pytest

from .test_cli import adzer
from .test_rig import signal_of

W, H = 512, 256


@pytest.fixture(scope="module")
def sphere(tmp_path_factory):
    """Two seconds of grey; below −60° something red stands, and goes after one."""
    path = tmp_path_factory.mktemp("foot") / "court.mkv"
    with av.open(str(path), "w") as container:
        stream = container.add_stream("ffv1", rate=10)
        stream.width, stream.height, stream.pix_fmt = W, H, "yuv444p"
        for n in range(20):
            rgb = np.full((H, W, 3), 120, np.uint8)
            rgb[H * 150 // 180 :] = (200, 30, 30) if n < 10 else (30, 160, 60)
            frame = av.VideoFrame.from_ndarray(rgb, format="rgb24").reformat(format="yuv444p", dst_colorspace=1, dst_color_range=1)
            for packet in stream.encode(frame):
                container.mux(packet)
        for packet in stream.encode():
            container.mux(packet)
    return path


def at(picture, heading, tilt):
    """What a whole sphere shows there."""
    h, w = picture.shape[:2]
    return picture[int((0.5 - tilt / 180) * h), int((heading / 360 + 0.5) * w) % w]


def covered(sphere, out, foot, *words):
    declared = ("--projection", "equirectangular", "--eyes", "one", "--curve", "bt709", "--primaries", "bt709")
    return adzer("convert", sphere, *declared, *words, "--foot", foot, "--card", "web-sphere", "--out", out, "--json")


def test_another_moment_covers_it_and_nothing_else(sphere, tmp_path):
    made = covered(sphere, tmp_path / "a.mp4", "1.5,40")
    assert made.returncode == 0, made.stderr
    assert any(f["code"] == "foot-covered" and "1.5 s" in f["text"] for f in json.loads(made.stdout)["findings"])
    first = signal_of(tmp_path / "a.mp4")
    assert first.shape[:2] == (H, W)
    for heading in (-170, 0, 95):
        assert at(first, heading, -88) == pytest.approx((30 / 255, 160 / 255, 60 / 255), abs=0.1), "as after a second"
        assert at(first, heading, -75) == pytest.approx((30 / 255, 160 / 255, 60 / 255), abs=0.1)
        assert at(first, heading, -40) == pytest.approx((120 / 255,) * 3, abs=0.06)
    less = signal_of(tmp_path / "b.mp4") if covered(sphere, tmp_path / "b.mp4", "1.5,10").returncode == 0 else first
    assert at(less, 0, -88)[1] > 0.5 and at(less, 0, -70)[0] > 0.6, "beyond its reach it is left"


def test_a_picture_covers_it_its_upper_edge_ahead(sphere, tmp_path):
    """Four coloured quarters: ahead is up, to the right is right. 10° off straight down lies a third of the way to where 36° does."""
    quarters = np.zeros((300, 300, 3), np.uint8)
    quarters[:150, :150], quarters[:150, 150:], quarters[150:, :150], quarters[150:, 150:] = (250, 0, 0), (0, 250, 0), (0, 0, 250), (250, 250, 0)
    quarters[70:80, 145:155] = 255  # ahead, 75/150 of the way out: 18° of 36°
    from PIL import Image

    Image.fromarray(quarters).save(tmp_path / "mark.png")
    made = covered(sphere, tmp_path / "a.mp4", f"{tmp_path / 'mark.png'},30")
    assert made.returncode == 0 and "not recorded" in made.stdout, made.stderr
    first = signal_of(tmp_path / "a.mp4")
    for heading, colour in ((-45, (1, 0, 0)), (45, (0, 1, 0)), (-135, (0, 0, 1)), (135, (1, 1, 0))):
        assert np.allclose(at(first, heading, -80) > 0.5, colour), (heading, at(first, heading, -80))
    assert at(first, 0, -90 + 18).min() > 0.7 and at(first, 0, -90 + 12).min() < 0.5
    assert at(first, 0, -40) == pytest.approx((120 / 255,) * 3, abs=0.06)
    view = ("--projection", "equirectangular", "--eyes", "one", "--curve", "bt709", "--view", "0,-90,0,40", "--size", "320x320")
    mark = ("--foot", f"{tmp_path / 'mark.png'},30", "--card", "native-wide", "--out", tmp_path / "v.mp4")
    looked = adzer("reframe", sphere, *view, *mark)
    assert looked.returncode == 0, looked.stderr
    down = signal_of(tmp_path / "v.mp4")
    assert np.allclose(down[100, 100] > 0.5, (1, 0, 0)) and np.allclose(down[220, 220] > 0.5, (1, 1, 0))


def test_what_cannot_cover_it_is_said(sphere, tmp_path):
    for foot, words in (("9,25", "2.0 s long"), ("1,99", "3 to 80"), ("gone.png,25", "gone.png"), ("-1", "0 or more")):
        made = covered(sphere, tmp_path / "x.mp4", f"{foot}")
        assert made.returncode != 0 and words in made.stderr, (foot, made.stderr)
