"""What curve footage looks like, on photographs that nothing was taught on, by formulas written anew: what is said at 90 % is right in 90 of 100."""

from __future__ import annotations

from fractions import Fraction

import numpy as np
import pytest

from adzer.core.intake.take import read_file
from adzer.core.media.encode import VideoSpec, VideoTags, Writer
from adzer.core.read import halves, identify, kinds, measure
from adzer.core.route import Route, walk

from ..foreign import photograph

NAMES = ("astronaut", "coffee", "chelsea", "rocket", "brick", "gravel", "grass", "retina", "motorcycle_left", "page", "text", "moon", "coins")
LOGS = {"low": (0.06, 0.38, 6.5), "middle": (0.095, 0.34, 6.0), "high": (0.12, 0.42, 7.0), "lowest": (0.04, 0.40, 6.0)}


def light_of(picture):
    """IEC 61966-2-1, clause 5.2."""
    return np.where(picture <= 0.04045, picture / 12.92, ((picture + 0.055) / 1.055) ** 2.4)


def displayed(light):
    """BT.709, item 1.2."""
    light = np.clip(light, 0, 1)
    return np.where(light < 0.018, 4.5 * light, 1.099 * light**0.45 - 0.099)


def logged(light, black, grey, stops):
    """A log curve with black and grey (18 %) at signals, and 93 % so many stops above grey."""
    a_stop = (0.93 - grey) / stops
    toe = 0.18 / (2 ** ((grey - black) / a_stop) - 1)
    return grey + a_stop * np.log2((np.maximum(light, -0.5 * toe) + toe) / (0.18 + toe))


def cases(name):
    """(kind, R′G′B′ (n, 3)) of a photograph: as it is, at night, in fog, too bright; and as log cameras would have it."""
    rng = np.random.default_rng(sum(name.encode()))
    picture = (photograph(name) / 255)[::3, ::3].reshape(-1, 3)
    light = light_of(picture)
    yield from (("display", v) for v in (picture, *(displayed(x) for x in (light / 16, light / 4, light * 0.3 + 0.35, light * 1.6))))
    for terms in LOGS.values():
        for stops in (-1.5, 0.0, 1.0):
            exposed = light * 0.9 * 2.0**stops
            exposed = exposed + rng.normal(0, 1, light.shape) * np.sqrt(exposed / 8000 + 1e-6)
            grey = exposed @ [[0.2126], [0.7152], [0.0722]]
            yield "log", logged(grey + 0.75 * (exposed - grey), *terms)


def test_what_is_said_to_be_so_sure_is_so_often_right():
    told = []
    for name in NAMES:
        for kind, signal in cases(name):
            bits = 8 if len(told) % 2 else 10
            codes = np.round(np.clip(signal, -0.06, 1.09) * 219 * 2 ** (bits - 8)) / (219 * 2 ** (bits - 8))
            found = kinds.guess(measure.levels(codes), bits)
            told.append((found.value == kind, found.confidence))
    right, sure = np.array([t[0] for t in told]), np.array([t[1] for t in told])
    assert sure.max() <= 0.95 and (sure >= 0.8).mean() > 0.6
    for low, high in ((0.8, 0.9), (0.9, 0.96)):
        mine = (sure >= low) & (sure < high)
        assert mine.sum() > 20 and right[mine].mean() >= low, (low, int(mine.sum()), right[mine].mean())


def written(path, name, signal_of, tags):
    """Two frames of a photograph in 10 bits, 4:4:4 as Y′CbCr of BT.709, limited range (item 3 and 4)."""
    picture = signal_of(light_of(photograph(name)[:300, :400] / 255))
    luma = picture @ [0.2126, 0.7152, 0.0722]
    planes = (64 + 876 * luma, 512 + 896 * (picture[..., 2] - luma) / 1.8556, 512 + 896 * (picture[..., 0] - luma) / 1.5748)
    spec = VideoSpec("ffv1", (400, 300), 10, "4:4:4", Fraction(25), Fraction(1, 25), tags, 1, {})
    with Writer(path, spec) as writer:
        for n in range(2):
            frame, target = writer.blank()
            for plane, values in zip(target, planes, strict=True):
                plane[:300, :400] = np.clip(np.round(values), 0, 1023)
            writer.write(frame, n)
    return path


@pytest.mark.parametrize("name", ["astronaut", "coffee", "chelsea", "gravel", "motorcycle_left"])
def test_log_that_is_tagged_as_display_is_told(tmp_path, name):
    tags = VideoTags(curve="bt709", primaries="bt709", matrix="bt709", range="limited")
    for kind, curve in (("log", lambda x: logged(x * 0.9, *LOGS["middle"])), ("display", displayed)):
        facts, seen = read_file(written(tmp_path / f"{kind}.mkv", name, curve, tags))
        codes = [f.code for f in walk(Route(), facts, seen)["read"].result.findings]
        assert ("log-tagged-display" in codes) == (kind == "log"), (kind, seen.curve)


def test_a_picture_shown_twice_is_no_pair_of_eyes():
    """Before and after: the same view beside itself, one of them graded; a photograph beside its other eye is one."""
    photo = photograph("coffee")[:360, :480].mean(axis=2).astype(np.float32) / 255
    graded = np.hstack([photo, np.clip(photo * 0.8 + 0.1, 0, 1) ** 1.2])
    eyes, *_ = identify._eyes([graded], 8 / 3)
    assert eyes.value == "one" or eyes.confidence < 0.8, eyes
    left, right = (photograph(f"motorcycle_{side}").mean(axis=2).astype(np.float32)[::2, ::2] / 255 for side in ("left", "right"))
    assert identify._spread(halves.compare([np.hstack([left, right])], "side by side")) > identify.DEPTH
