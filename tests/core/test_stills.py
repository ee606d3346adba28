"""Stills one by one as a moving shot: in the order in which they were taken, and their light made even; files written and looked at by other
libraries, light by the standard's formula written anew."""

from __future__ import annotations

import json

import cv2
import numpy as np
import pytest
from PIL import Image
from typer.testing import CliRunner

from adzer.cli.main import app
from adzer.core.intake.group import MANY, gather
from adzer.core.intake.take import facts_of, take
from adzer.core.light import names
from adzer.core.look.motion import lit
from adzer.core.media.stills import size, taken
from adzer.core.route import Route, walk
from adzer.core.steady import lamp

from ..foreign import photograph
from ..masters import lumas, run


def decoded(v):
    """BT.709-6, 1.2, the other way."""
    return np.where(v < 0.081, v / 4.5, ((np.maximum(v, 0.081) + 0.099) / 1.099) ** (1 / 0.45))


def encoded(light):
    return np.where(light < 0.018, 4.5 * light, 1.099 * np.maximum(light, 0.018) ** 0.45 - 0.099)


def still(path, picture, when=None):
    exif = Image.Exif()
    if when is not None:
        exif.get_ifd(0x8769).update({36867: f"2026:11:27 06:{int(when) // 60:02d}:{int(when) % 60:02d}", 37521: f"{round(when % 1 * 100):02d}"})
    Image.fromarray(picture).save(path, quality=96, exif=exif)


def run_of(folder, gains, start=1):
    """Stills whose light is so many times that of a photograph, and their numbers after the camera's counter began anew."""
    folder.mkdir()
    light = decoded(photograph("coffee")[:384:2, :576:2] / 255.0) * 0.45
    for n, gain in enumerate(gains):
        picture = np.clip(np.rint(encoded(light * gain) * 255), 0, 255).astype(np.uint8)
        still(folder / f"MILL{(start + n - 1) % 9999 + 1:04d}.JPG", picture, 5 + 2.5 * n)
    return folder


GAINS = 2.0 ** (0.3 * np.sin(np.arange(40) * 2.3) + np.linspace(0, 0.8, 40))  # a flicker, and a morning


@pytest.fixture(scope="module")
def stills(tmp_path_factory):
    return run_of(tmp_path_factory.mktemp("mill") / "one", GAINS, 9980)


def test_stills_go_in_the_order_in_which_they_were_taken(stills, tmp_path):
    assert taken(stills / "MILL9981.JPG") - taken(stills / "MILL9980.JPG") == pytest.approx(2.5, abs=0.01)
    (row,) = take([stills])
    files = row.facts.files
    assert [f[-8:-4] for f in files] == [f"{n:04d}" for n in (*range(9980, 10000), *range(1, 21))] and not row.facts.missing
    assert row.kind == "JPG sequence" and row.name == "MILL" and not row.doubts
    assert size(stills / "MILL9980.JPG") == row.facts.raster
    # Single pictures are asked about, or left: taken now and then, or of different sizes.
    for name, high in (("then", 24), ("sizes", 30)):
        (tmp_path / "photos" / name).mkdir(parents=True)
        for n in range(MANY + 2):
            when = n * 2.0 + 200 * (n > 4) + 90 * (n > 9)
            still(tmp_path / "photos" / name / f"P{n:03d}.jpg", np.zeros((high if n == 5 else 24, 32, 3), np.uint8), when)
    said = []
    (then,) = take([tmp_path / "photos" / "then"])
    assert "uneven times" in then.doubts[0].ask
    assert not take([tmp_path / "photos" / "sizes"], say=said.append) and "32×24 and 32×30" in said[0]
    # A camera's small pictures beside what it recorded are none, nor are a few.
    (card := tmp_path / "card").mkdir()
    for n in range(MANY + 3):
        still(card / f"C{n:04d}.jpg", np.zeros((8, 8, 3), np.uint8))
        (card / f"C{n:04d}.mp4").write_bytes(b"x")
        if n < MANY - 1:
            still(card / f"few{n:04d}.jpg", np.zeros((8, 8, 3), np.uint8))
    found = gather([card])
    assert not found.sequences and len(found.films) == MANY + 3
    assert taken(card / "few0001.jpg") is None and taken(card / "C0001.mp4") is None and taken(card / "none.jpg") is None


def test_light_that_flickers_is_made_even_and_a_morning_stays(stills, tmp_path):
    out = tmp_path / "even.mkv"
    run("steady", stills, "--method", "off", "--even-light", "--curve", "bt709", "--primaries", "bt709", "--card", "archive", "--out", out)
    spread = {}
    for name, frames in (("before", None), ("after", lumas(out))):
        pictures = [np.asarray(Image.open(f).convert("L"), float) * 256 for f in facts_of(stills).files] if frames is None else frames
        low, span = (0.0, 255.0 * 256) if frames is None else (16.0 * 256, 219.0 * 256)
        light = [float(np.median(decoded((p - low) / span))) for p in pictures]
        stops = np.log2(np.array(light) / light[0])
        spread[name] = stops - np.polynomial.Polynomial.fit(np.arange(40), stops, 2)(np.arange(40))
        rises = stops[-5:].mean() - stops[:5].mean()
        assert rises == pytest.approx(0.8 * 35 / 39, abs=0.25), name  # the morning
    off = {name: float(np.sqrt((v[3:-3] ** 2).mean())) for name, v in spread.items()}
    assert off["before"] > 0.15 and off["after"] < 0.1 * off["before"], off
    told = json.loads(run("shake", stills, "--curve", "bt709", "--primaries", "bt709", "--json"))
    assert told["flickers"] == pytest.approx(0.3 / np.sqrt(2), rel=0.12)


def test_what_light_did_is_known_whatever_moved():
    """Codes of a photograph that was brightened; shifted, too; a cut, and black, say nothing."""
    photo = photograph("astronaut").mean(axis=2).astype(np.float32)[:360, :500]
    a = np.rint(photo * 0.6 + 20).astype(np.uint8)
    b = np.rint((photo * 0.6 + 20) * 1.1).astype(np.uint8)
    for gone in ((0, 0), (23, -11), (-40, 7)):
        level, rise = lit(a, np.roll(b, gone[::-1], (0, 1)), gone)
        assert rise / level == pytest.approx(0.1, abs=0.01), gone
    light = decoded(photo / 255 * 0.8)
    for stops in (-1.0, -0.4, 0.05, 0.8):  # far more than flickers do, where it is no longer one step for all of it
        brighter = np.rint(np.clip(encoded(light * 2.0**stops), 0, 1) * 255).astype(np.uint8)
        level, rise = lit(np.rint(photo * 0.8).astype(np.uint8), brighter, (0, 0))
        assert np.log2(decoded(np.array(level + rise)) / decoded(np.array(level))) == pytest.approx(stops, abs=0.04)
    for name in ("gravel", "rocket", "coffee", "moon"):  # a cut is no light
        other = cv2.resize(photograph(name).mean(axis=2).astype(np.uint8), (500, 360))
        assert lit(a, other, (0, 0)) == (0.0, 0.0), name
    assert lit(a * 0, b, (0, 0)) == (0.0, 0.0) == lit(a, b, (400, 0))


def test_stops_are_those_of_the_recorded_light():
    rows = np.zeros((3, 12), np.float32)
    rows[1:, 10], rows[1:, 11] = 0.4, (float(encoded(2 * decoded(np.array(0.4)))) - 0.4, 0.0)
    assert lamp.stops(rows, names.curve("bt709", 10, True)) == pytest.approx([0, 1, 1], abs=1e-3)
    assert lamp.stops(rows, None) == pytest.approx([0, np.log2(1 + rows[1, 11] / 0.4), np.log2(1 + rows[1, 11] / 0.4)], abs=1e-4)


def test_what_cannot_be_made_even_is_said(stills, tmp_path):
    facts = facts_of(stills)
    stop = walk(Route().with_("steady", evens=True, light="none"), facts)["steady"].findings[0]
    assert stop.code == "light-missing" and not walk(Route().mended(stop.fix) if stop.fix else Route(), facts)["steady"].findings
    sphere = ("--projection", "equirectangular", "--method", "off", "--even-light", "--card", "web-sphere", "--out", str(tmp_path / "a.mp4"))
    made = CliRunner().invoke(app, ["steady", str(stills), *sphere])
    assert made.exit_code and "only a flat picture" in made.output + str(made.exception)
