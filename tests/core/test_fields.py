"""Interlaced footage: asked about, and no comb in what is delivered, slow or not."""

from __future__ import annotations

from fractions import Fraction

import av
import numpy as np
import pytest

from adzer.core.compile import freeze
from adzer.core.errors import Stopped
from adzer.core.intake.take import read_file
from adzer.core.route import Route, walk
from adzer.core.run.render import render

W, H = 320, 180


def moment(n):
    """A soft bar that goes 6 pixels to the right from field to field, over a slope."""
    x, y = np.meshgrid(np.arange(W), np.arange(H))
    return 60 + 0.2 * y + 120 * np.clip((20 - np.abs((x - 40 - 6 * n) % W - 30)) / 8, 0, 1)


@pytest.fixture(scope="module")
def woven(tmp_path_factory):
    path = tmp_path_factory.mktemp("fields") / "woven.mp4"
    with av.open(str(path), "w") as target:
        stream = target.add_stream("libx264", rate=25, options={"crf": "8", "x264-params": "tff=1"})
        stream.width, stream.height, stream.pix_fmt = W, H, "yuv420p"
        for n in range(30):
            luma = moment(2 * n)
            luma[1::2] = moment(2 * n + 1)[1::2]
            planes = np.concatenate([luma, np.full((H // 2, W), 128.0)]).round().astype(np.uint8)
            frame = av.VideoFrame.from_ndarray(planes, "yuv420p")
            target.mux(stream.encode(frame))
        target.mux(stream.encode(None))
    return path


def comb(luma):
    """How much lines beside each other differ, over how much those after the next do, where the picture changes sideways."""
    luma = luma.astype(float)
    edge = np.abs(np.gradient(luma, axis=1))[1:-2] > 4
    return np.abs(luma[1:-2] - luma[2:-1])[edge].mean() / max(np.abs(luma[1:-2] - luma[3:])[edge].mean(), 0.5)


@pytest.mark.parametrize("speed", ["1", "1/2"])
def test_what_says_that_it_is_interlaced_is_asked_about_and_delivered_without_combs(woven, tmp_path, speed):
    facts, seen = read_file(woven)
    route = Route().with_("read", curve="bt709").with_("shape", hold="native", speed=speed)
    stopped = walk(route, facts, seen).stopped
    assert facts.interlaced and stopped is not None and stopped.code == "interlaced"
    with pytest.raises(Stopped, match="interlaced"):
        freeze("s", facts, route, "archive", tmp_path / "x.mkv", 0, 20, seen)
    combs = {}
    for name, answered in (("one", route.mended(stopped.fix)), ("both", route.with_("read", fields="both"))):
        out = tmp_path / f"{name}.mkv"
        assert render(freeze("s", facts, answered, "archive", out, 0, 20, seen)).passed
        with av.open(str(out)) as held:
            frames = [f.to_ndarray()[0] for f in held.decode(video=0)]
        assert len(frames) == round(20 / Fraction(speed))
        combs[name] = np.nanmedian([comb(f) for f in frames[2:-2]])
    assert combs["one"] < 1.2 < 3 < combs["both"]


def test_the_other_lines_are_reckoned_from_those_that_are_kept():
    """Of a picture that is a cubic of its rows, to the code: the weights go through cubics exactly."""
    from adzer.core.read.fields import _one_field

    y = np.arange(40.0)
    plane = np.repeat((2000 + 9 * y - 0.9 * y**2 + 0.02 * y**3)[:, None], 8, axis=1).round().astype(np.uint16)
    made = _one_field(plane, 65535)
    assert np.array_equal(made[::2], plane[::2]) and np.abs(made[3:-4].astype(int) - plane[3:-4]).max() <= 1
