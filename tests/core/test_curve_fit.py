"""A curve card from exposures: against curves that are written anew here and listed nowhere."""

from __future__ import annotations

import json
from fractions import Fraction

import numpy as np
import pytest

from adzer.core import cards
from adzer.core.colour import cards as colour_cards
from adzer.core.colour.fit import fit
from adzer.core.errors import AdzerError
from adzer.core.media.encode import VideoSpec, VideoTags, Writer

from .test_cli import adzer

STOPS = (-2.0, -1.0, 0.0, 1.0, 2.0)


def curve(number):
    """Twelve of them: logs with and without a straight toe, and powers; light → signal."""
    rng = np.random.default_rng(number)
    kind = number % 3
    if kind == 0:
        a, b, c, d, cut = rng.uniform(4, 12), rng.uniform(0.02, 0.1), rng.uniform(0.22, 0.3), rng.uniform(0.35, 0.42), 0.01
        low, slope = c * np.log10(a * cut + b) + d, c * a / ((a * cut + b) * np.log(10))
        return lambda x: np.where(x > cut, c * np.log10(a * np.maximum(x, cut) + b) + d, low + slope * (x - cut))
    if kind == 1:
        a, c, d = rng.uniform(40, 200), rng.uniform(0.22, 0.3), rng.uniform(0.07, 0.12)
        return lambda x: d + c * np.log10(1 + a * x)
    g, c = rng.uniform(0.3, 0.42), rng.uniform(0.5, 0.6)
    return lambda x: c * (x + 0.01) ** g


def exposures(encode, moved=0.0):
    rng = np.random.default_rng(4)
    light = 0.18 * 2.0 ** rng.uniform(-7, 4.5, 6000)
    seen = []
    for stop in STOPS:
        now = light * 2**stop
        now = np.where(rng.random(len(now)) < moved, 0.18 * 2.0 ** rng.uniform(-6, 4, len(now)), now)
        noisy = np.maximum(now + rng.normal(0, 1, len(now)) * np.sqrt(now * 2e-5 + 1e-7), 0)
        seen.append(np.round(np.minimum(encode(noisy), 1.0) * 876) / 876)
    return np.array(seen)


@pytest.mark.parametrize("number", range(12))
def test_a_curve_is_found_within_a_twentieth_of_a_stop_and_its_doubt_is_true(number):
    encode = curve(number)
    for moved in (0.0, 0.04):
        made = fit(exposures(encode, moved), STOPS, float(encode(np.array([0.18]))[0]))
        stops = np.arange(-5, 3.01, 0.25)
        signal = encode(0.18 * 2.0**stops)
        off = np.interp(signal, made.signal, np.log2(made.light / 0.18)) - stops
        assert np.abs(off).max() < (0.08 if moved else 0.05), (moved, np.abs(off).max())
        assert np.all(np.abs(off) < 4 * np.interp(signal, made.signal, made.error))
        assert np.all(np.diff(made.light) > 0) and np.all(np.diff(made.signal) > 0)


def test_what_cannot_be_fitted_is_said():
    seen = exposures(curve(1))
    for signals, stops, grey, word in (
        (seen[:2], STOPS[:2], 0.4, "three exposures"), (np.tile(seen[2], (5, 1)), (0,) * 5, 0.4, "three exposures"),
        (seen, STOPS, 1.2, "grey lies outside"), (np.full((5, 3000), 0.5), STOPS, 0.5, "Too few places"),
    ):  # fmt: skip
        with pytest.raises(AdzerError, match=word):
            fit(signals, stops, grey)


def test_a_card_is_made_by_command_and_is_sound(tmp_path):
    encode, rng = curve(4), np.random.default_rng(1)
    light = np.kron(0.18 * 2.0 ** rng.uniform(-7, 4.5, (36, 60)), np.ones((4, 4)))
    light[40:64, 100:140] = 0.18
    files = []
    for stop in STOPS:
        files.append(tmp_path / f"{stop:+.0f}.mkv")
        spec = VideoSpec("ffv1", (240, 144), 10, "4:2:2", Fraction(25), Fraction(1, 25), VideoTags(None, None, "bt709", "limited"), 1, {})
        with Writer(files[-1], spec) as writer:
            for n in range(3):
                frame, planes = writer.blank()
                noisy = np.maximum(light * 2**stop + rng.normal(0, 3e-4, light.shape), 0)
                planes[0][:, :240] = np.round(64 + 876 * np.minimum(encode(noisy), 1.0))
                planes[1][:], planes[2][:] = 512, 512
                writer.write(frame, n)
    card = tmp_path / "curves" / "mine.toml"
    card.parent.mkdir()
    done = adzer("fit", card, *files, "--stops=-2,-1,0,1,2", "--grey", "104,44,30,16", "--json")
    assert done.returncode == 0, done.stderr
    assert json.loads(done.stdout)["error_stops"] < 0.05
    made = colour_cards.check("curves", "mine", cards.read_card(card, "curves"))
    assert made
    held = cards.read_card(card, "curves")
    stops = np.arange(-5, 3.01, 0.5)
    got = np.log2(np.interp(encode(0.18 * 2.0**stops), held.signal, held.linear) / 0.18)
    assert np.abs(got - stops).max() < 0.06
    assert adzer("fit", card, *files, "--stops=-2,-1,0,1,2", "--grey", "104,44,30,16").returncode == 2  # never overwritten
    bad = adzer("fit", tmp_path / "x.toml", *files, "--stops=-2,-1,1,2,3", "--grey", "104,44,30,16")
    assert bad.returncode == 2 and "must be 0" in bad.stderr
