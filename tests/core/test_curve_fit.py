"""A curve card from exposures: against curves that are written anew here and listed nowhere."""

from __future__ import annotations

import json
import shlex
from fractions import Fraction

import numpy as np
import pytest

from adzer.core import cards
from adzer.core.colour.fit import fit
from adzer.core.errors import AdzerError
from adzer.core.light import names as colour_cards
from adzer.core.media.encode import VideoSpec, VideoTags, Writer

from .test_cli import adzer
from .test_docs import _commands

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


TO_709 = np.array([[3.2404542, -1.5371385, -0.4985314], [-0.9692660, 1.8760108, 0.0415560], [0.0556434, -0.2040259, 1.0572252]])
RED, GREEN, BLUE, WHITE = (0.73, 0.28), (0.14, 0.85), (0.10, 0.02), (0.3127, 0.3290)  # a camera's, listed nowhere


def camera_light(xyz):
    """Light of a camera with those primaries, written out anew: columns x, y, z scaled until white is 1, 1, 1."""
    columns = np.array([[x, y, 1 - x - y] for x, y in (RED, GREEN, BLUE)]).T
    white = np.array([WHITE[0] / WHITE[1], 1, (1 - sum(WHITE)) / WHITE[1]])
    return np.linalg.solve(columns * np.linalg.solve(columns, white), np.asarray(xyz).T).T


def test_a_card_is_made_by_command_and_is_sound(tmp_path):
    encode, rng = curve(4), np.random.default_rng(1)
    light = np.kron(0.18 * 2.0 ** rng.uniform(-7, 4.5, (36, 60)), np.ones((4, 4)))[..., None].repeat(3, 2)
    light[40:64, 100:140] = 0.18
    rows = ["x,y,width,height,X,Y,Z"]
    for n, rgb in enumerate(((0.5, 0.08, 0.06), (0.1, 0.4, 0.12), (0.06, 0.09, 0.45), (0.5, 0.42, 0.07), (0.4, 0.1, 0.35),
                             (0.1, 0.35, 0.4), (0.45, 0.3, 0.22), (0.18, 0.18, 0.18))):  # fmt: skip
        xyz = np.linalg.solve(TO_709, np.array(rgb))
        light[100:120, 20 * n + 8 : 20 * n + 28] = camera_light(xyz) * (0.8 + 0.05 * n)  # a board is never lit evenly
        rows.append(f"{20 * n + 10},102,16,16," + ",".join(f"{100 * v:.4f}" for v in xyz))
    board = tmp_path / "board.csv"
    board.write_text("\n".join(rows))
    files = []
    for stop in STOPS:
        files.append(tmp_path / f"{stop:+.0f}.mkv")
        spec = VideoSpec("ffv1", (240, 144), 10, "4:4:4", Fraction(25), Fraction(1, 25), VideoTags(None, None, "bt709", "limited"), 1, {})
        with Writer(files[-1], spec) as writer:
            for n in range(3):
                frame, planes = writer.blank()
                noisy = np.maximum(light * 2**stop + rng.normal(0, 3e-4, light.shape), 0)
                r, g, b = np.moveaxis(np.minimum(encode(noisy), 1.0), 2, 0)
                luma = 0.2126 * r + 0.7152 * g + 0.0722 * b
                for plane, codes in zip(planes, (64 + 876 * luma, 512 + 896 * (b - luma) / 1.8556, 512 + 896 * (r - luma) / 1.5748), strict=True):
                    plane[:, :240] = np.round(codes)
                writer.write(frame, n)
    card = tmp_path / "curves" / "mine.toml"
    card.parent.mkdir()
    done = adzer("cards", "fit", card, *files, "--stops=-2,-1,0,1,2", "--grey", "104,44,30,16", "--json")
    assert done.returncode == 0, done.stderr
    assert json.loads(done.stdout)["error_stops"] < 0.05
    made = colour_cards.check("curves", "mine", cards.read_card(card, "curves"))
    assert made
    held = cards.read_card(card, "curves")
    stops = np.arange(-5, 3.01, 0.5)
    got = np.log2(np.interp(encode(0.18 * 2.0**stops), held.signal, held.linear) / 0.18)
    assert np.abs(got - stops).max() < 0.06
    assert adzer("cards", "fit", card, *files, "--stops=-2,-1,0,1,2", "--grey", "104,44,30,16").returncode == 2  # never overwritten
    wide = tmp_path / "wide.toml"
    done = adzer("cards", "fit", tmp_path / "again.toml", *files, "--stops=-2,-1,0,1,2", "--grey", "104,44,30,16", "--patches", board,
                 "--primaries", wide, "--json")  # fmt: skip
    assert done.returncode == 0, done.stderr
    told, found = json.loads(done.stdout), cards.read_card(wide, "primaries")
    for got, true in ((found.red, RED), (found.green, GREEN), (found.blue, BLUE)):
        assert np.abs(np.array(got) - true).max() < 0.012, (got, true)
    assert told["error"] < 0.02 and cards.read_card(tmp_path / "again.toml", "curves").primaries == "wide"
    board.write_text(rows[0] + "\n" + "\n".join([rows[-1]] * 6))
    grey = adzer("cards", "fit", tmp_path / "x.toml", *files, "--stops=-2,-1,0,1,2", "--grey", "104,44,30,16", "--patches", board,
                 "--primaries", tmp_path / "x-wide.toml")  # fmt: skip
    assert grey.returncode == 2 and "too much of one colour" in grey.stderr and not (tmp_path / "x-wide.toml").exists()
    bad = adzer("cards", "fit", tmp_path / "x.toml", *files, "--stops=-2,-1,1,2,3", "--grey", "104,44,30,16")
    assert bad.returncode == 2 and "must be 0" in bad.stderr


def test_the_example_of_the_page_makes_a_sane_card_and_a_mad_one_is_refused(tmp_path, monkeypatch):
    """The camera's own curve from three exposures, grey and black where it has them; and a table that is nearly flat in the dark."""
    monkeypatch.chdir(tmp_path)
    page = [shlex.split(line)[1:] for line in _commands()]
    for words in page:
        if words[:3] == ["sim", "shoot", "log-body"]:
            assert adzer(*words).returncode == 0
    (line,) = [words for words in page if words[:2] == ["cards", "fit"]]
    assert adzer(*line).returncode == 0
    made, true = (colour_cards.facts(colour_cards.curve(name)) for name in (str(tmp_path / line[2]), "fen-log"))
    assert made.grey == pytest.approx(true.grey, abs=0.015) and made.black == pytest.approx(true.black, abs=0.03)
    mad = tmp_path / "mad.toml"
    points = ("linear = [0.00037844156, 0.00037844419, 0.18, 0.9]", "signal = [0.113, 0.115, 0.4, 0.7]")
    mad.write_text("\n".join(['title = "mad"', 'form = "table"', 'levels = "signal"', *points, ""]))
    done = adzer("cards", "check", mad)
    assert done.returncode != 0 and "black would sit at" in done.stderr
