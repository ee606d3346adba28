"""Sensor values: what is read of DNG files, against LibRaw and arithmetic; what becomes of them, against cameras that are known."""

from __future__ import annotations

import itertools
import struct
from dataclasses import replace

import colour
import numpy as np
import pytest
import rawpy
from hypothesis import given, settings
from hypothesis import strategies as st

from adzer.core.develop import camera, measure, values
from adzer.core.develop.settings import DevelopSettings
from adzer.core.errors import UnreadableError
from adzer.core.intake.take import read_file
from adzer.core.light import names
from adzer.core.light.primaries import adaptation, daylight, rgb_to_rgb, rgb_to_xyz, xy_to_xyz
from adzer.core.media import dng
from adzer.core.media.decode import Frame, opened
from adzer.core.media.formats import PixelFormat
from adzer.core.media.sensor import Sensor
from adzer.core.route import Route, walk
from adzer.core.run.developing import gone_marks
from adzer.core.sim import camera as cameras
from adzer.core.sim import raw
from adzer.core.sim.dng import Writing, rational, write

from .. import foreign
from .test_cli import adzer

ORDERS = ("rggb", "bggr", "grbg", "gbrg")
# Two made-up calibrations: XYZ → camera under a warm and a daylight, as unequal as real ones.
WARM = np.array([[1.05, -0.38, -0.07], [-0.42, 1.28, 0.16], [-0.06, 0.18, 0.62]])
COLD = np.array([[0.86, -0.26, -0.09], [-0.47, 1.31, 0.18], [-0.10, 0.24, 0.66]])
KELVIN = (2856.0, 6504.0)


def matrices():
    return (
        (50778, "H", 17), (50779, "H", 21), (50721, "r", tuple(map(rational, WARM.ravel().tolist()))),
        (50722, "r", tuple(map(rational, COLD.ravel().tolist()))),
    )  # fmt: skip


def xyz_to_camera(kelvin):
    """The specification's interpolation, written anew: linear in 1/T, held beyond the ends."""
    share = np.clip((1 / kelvin - 1 / KELVIN[1]) / (1 / KELVIN[0] - 1 / KELVIN[1]), 0, 1)
    return share * WARM + (1 - share) * COLD


def mosaic_of(rgb, order, black=256, white=4095, noise=0.0, seed=1):
    """(h, w, 3) of 0 … 1 at the sensor → stored codes."""
    h, w = rgb.shape[:2]
    picked = np.empty((h, w))
    for i, letter in enumerate(order):
        picked[i // 2 :: 2, i % 2 :: 2] = rgb[i // 2 :: 2, i % 2 :: 2, "rgb".index(letter)]
    rng = np.random.default_rng(seed)
    codes = black + picked * (white - black) + noise * rng.standard_normal((h, w))
    return np.clip(np.floor(codes + rng.random((h, w))), 0, white).astype(np.uint16)


def made_light(path, **answers):
    """What Develop makes of a file's one frame: linear light (h, w, 3) of AP1."""
    facts, _ = read_file(path)
    sensor = values.sensor_of(facts, DevelopSettings(**answers))
    made = values.developed(sensor, DevelopSettings(**answers))
    with opened(facts.sources) as reader:
        planes = made.run([reader.frame(0).planes], 0)
    return names.curve("float-log").decode(np.stack(planes, -1) / 65535.0)


# --- files --------------------------------------------------------------------------------------------------------
LAYOUTS = {
    "strips": {}, "12 bits": {"bits": 12}, "14 bits, big end": {"bits": 14, "little": False}, "10 bits, tiles": {"bits": 10, "tile": (48, 64)},
    "16 bits, big end, below a preview": {"little": False, "preview": True}, "lossless": {"lossless": True, "bits": 12}, "8 bits": {"bits": 8},
}  # fmt: skip


@pytest.mark.parametrize("name", LAYOUTS)
def test_values_are_those_that_libraw_reads(tmp_path, name):
    how = Writing(**LAYOUTS[name])
    top = (1 << min(how.bits, 12)) - 1
    stored = np.random.default_rng(2).integers(0, top + 1, (110, 150)).astype(np.uint16)
    write(tmp_path / "a.dng", stored, how)
    sensor, layout = dng.header(tmp_path / "a.dng")
    assert np.array_equal(dng.values(tmp_path / "a.dng", sensor, layout), stored)
    with rawpy.imread(str(tmp_path / "a.dng")) as raw:
        assert np.array_equal(raw.raw_image, stored)
        assert "".join("RGBG"[k].lower() for k in raw.raw_pattern.ravel()) == sensor.order == "rggb"


@pytest.mark.parametrize("lossless", [False, True])
def test_a_table_says_what_stored_values_stand_for(tmp_path, lossless):
    table = tuple(int(v) for v in np.round(np.linspace(0, 1, 1024) ** 2 * 60000))
    stored = np.random.default_rng(3).integers(0, 1024, (40, 60)).astype(np.uint16)
    write(tmp_path / "a.dng", stored, Writing(bits=10, lossless=lossless, white=60000, more=((50712, "H", table),)))
    sensor, layout = dng.header(tmp_path / "a.dng")
    assert sensor.depth == 16
    assert np.array_equal(dng.values(tmp_path / "a.dng", sensor, layout), np.array(table)[stored])


def test_black_crop_and_scale_are_where_the_file_says(tmp_path):
    """Black by cell, row and column; an odd active area and an odd crop, so that the filter's phase turns twice."""
    h, w, top, left, x, y, cw, ch = 70, 90, 3, 2, 4, 1, 60, 51
    rng = np.random.default_rng(4)
    down, across = rng.uniform(0, 20, h - top).round(3), rng.uniform(0, 20, w - left).round(3)
    black = (200.0, 220.0, 240.0, 260.0)
    codes = np.empty((h, w))
    for i in range(h):
        for j in range(w):
            a, b = i - top, j - left
            level = black[(a % 2) * 2 + b % 2] + (down[a] + across[b] if a >= 0 and b >= 0 else 0)
            codes[i, j] = level + 0.25 * (4095 - black[(a % 2) * 2 + b % 2])
    more = (
        (50829, "I", (top, left, h, w)), (50719, "R", (rational(x), rational(y))), (50720, "R", (rational(cw), rational(ch))),
        (50716, "r", tuple(map(rational, down.tolist()))), (50715, "r", tuple(map(rational, across.tolist()))),
        (50718, "R", ((2, 1), (1, 1))), (51044, "r", (24000, 1001)), (50730, "r", (1, 1)),
    )  # fmt: skip
    write(tmp_path / "a.dng", codes.round().astype(np.uint16), Writing(black=black, more=more))
    facts, _ = read_file(tmp_path / "a.dng")
    sensor = facts.sensor
    assert facts.raster == (cw, ch) and sensor.corner == (left + x, top + y) and facts.pixel_aspect == 2
    assert sensor.order == "gbrg"  # a row below the active area's corner, where the filter begins
    assert abs(float(sensor.rate) - 23.976) < 1e-3
    out = made_light(tmp_path / "a.dng", highlights="as is")
    assert np.abs(out / 0.5 - 1).max() < 4e-3  # 0.25 and a stop of the maker's own; codes are whole numbers


def test_gain_maps_and_dead_places_are_undone(tmp_path):
    h, w = 48, 64
    falls = np.linspace(1.0, 2.0, 5)
    body = struct.pack(">10I", 0, 0, h, w, 0, 1, 1, 1, 1, 5) + struct.pack(">4d", 1, 0.25, 0, 0) + struct.pack(">I", 1)
    body += np.array(falls, ">f4").tobytes()
    maps = struct.pack(">I", 1) + struct.pack(">4I", 9, 0x01030000, 0, len(body)) + body
    bad = struct.pack(">I", 0) + struct.pack(">2I", 2, 0) + struct.pack(">4I", 10, 20, 31, 11)
    dead = struct.pack(">I", 1) + struct.pack(">4I", 5, 0x01030000, 0, len(bad)) + bad
    fall = np.interp((np.arange(w) + 0.5) / w, np.linspace(0, 1, 5), falls)
    rgb = np.broadcast_to((0.4 / fall)[None, :, None], (h, w, 3))
    codes = mosaic_of(rgb, "rggb", 0, 60000)
    codes[10, 20], codes[31, 11] = 60000, 0
    write(tmp_path / "a.dng", codes, Writing(black=(0.0,), white=60000, more=((51009, "u", maps), (51008, "u", dead))))
    out = made_light(tmp_path / "a.dng", highlights="as is")
    assert np.abs(out / 0.4 - 1).max() < 2e-3
    assert read_file(tmp_path / "a.dng")[0].sensor.dead == ((20, 10), (11, 31))
    listed = struct.pack(">I", 2) + struct.pack(">4I", 4, 0x01030000, 0, 8) + struct.pack(">2I", 60000, 0)
    listed += struct.pack(">4I", 1, 0x01030000, 0, 68) + struct.pack(">I", 1) + struct.pack(">8d", 1.25, -0.1, 0.05, 0, 0, 0, 0.5, 0.5)
    codes[31, 11] = 60000
    write(tmp_path / "b.dng", codes, Writing(black=(0.0,), white=60000, more=((51009, "u", maps), (51008, "u", listed))))
    assert np.abs(made_light(tmp_path / "b.dng", highlights="as is") / 0.4 - 1).max() < 2e-3
    facts, _ = read_file(tmp_path / "b.dng")
    fix = next(f for f in walk(Route(), facts)["develop"].findings if f.code == "lens-bends").fix
    assert fix.stage == "shape" and fix.answers["bent"] == pytest.approx([-0.08, 0.04, 0])
    assert walk(Route().mended(fix), facts).stopped is None


@pytest.mark.parametrize(
    "harm",
    ["cut compressed", "absurd tiles", "cut", "no tiff", "black above white", "absurd count", "other filter", "1x1 tiles", "no values", "floats"],
)
def test_a_damaged_or_foreign_file_gets_a_sentence(tmp_path, harm):
    path = tmp_path / "a.dng"
    stored = np.full((40, 60), 900, np.uint16)
    how = {
        "absurd tiles": Writing(tile=(16, 16)), "cut compressed": Writing(lossless=True, bits=12), "black above white": Writing(black=(5000.0,)),
        "1x1 tiles": Writing(tile=(1, 1)), "other filter": Writing(more=((50711, "H", 2),)),
    }  # fmt: skip
    write(path, stored, how.get(harm, Writing(more=((339, "H", 3),) if harm == "floats" else ())))
    body = bytearray(path.read_bytes())
    if harm == "absurd tiles":
        field = struct.pack("<HHI", 322, 4, 1)
        body = body.replace(field + struct.pack("<I", 16), field + struct.pack("<I", 1 << 30))
    elif harm == "cut compressed":  # its header promises more than the file holds
        counts = body.index(struct.pack("<HHI", 279, 4, 1))
        body[counts + 8 : counts + 12] = struct.pack("<I", len(body) + 100)
    elif harm == "cut":
        body = body[: len(body) // 2]
    elif harm == "no tiff":
        body[:4] = b"\0\1\2\3"
    elif harm == "absurd count":
        at = struct.unpack("<I", body[4:8])[0]
        body[at : at + 2] = b"\xff\xff"
    elif harm == "no values":
        body = body.replace(struct.pack("<HHI", 262, 3, 1) + struct.pack("<H", 32803), struct.pack("<HHI", 262, 3, 1) + struct.pack("<H", 1))
    elif harm == "other filter":
        body = body.replace(struct.pack("<HHI", 50711, 3, 1) + struct.pack("<H", 1), struct.pack("<HHI", 50711, 3, 1) + struct.pack("<H", 2))
    path.write_bytes(body)
    if harm == "1x1 tiles":  # odd, but whole
        facts, _ = read_file(path)
        with opened(facts.sources) as reader:
            assert (reader.frame(0).cropped(0) == 900).all()
        return
    with pytest.raises(UnreadableError, match="a.dng"):
        facts, _ = read_file(path)
        with opened(facts.sources) as reader:
            reader.frame(0)


def test_a_folder_of_two_cameras_is_refused_and_a_jumping_balance_said(tmp_path):
    stored = np.full((40, 60), 900, np.uint16)
    for n, neutral in enumerate((0.5, 0.5, 0.6)):
        write(tmp_path / f"a.{n:04d}.dng", stored, Writing(more=(*matrices(), (50728, "R", tuple(map(rational, (neutral, 1.0, 0.7)))))))
    facts, _ = read_file(tmp_path)
    assert facts.rebalanced == (2,) and facts.frames == 3
    found = {f.code: f for f in walk(Route(), facts)["develop"].findings}
    assert "frame 2" in found["balance-jumps"].text
    write(tmp_path / "a.0003.dng", stored, Writing(camera="another body"))
    with pytest.raises(UnreadableError, match=r"a\.0003\.dng is of another camera"):
        read_file(tmp_path)


# --- colour -------------------------------------------------------------------------------------------------------
@pytest.mark.parametrize("kelvin, tint", [(3000, 0), (4300, 12), (5600, 0), (6500, -8), (9000, 0)])
def test_colours_come_out_as_they_were(tmp_path, kelvin, tint):
    """A board of known reflectances under a known light, seen by a known camera; ΔE ITP by another library."""
    xy = daylight(kelvin, tint)
    to_camera = xyz_to_camera(colour.temperature.xy_to_CCT(np.array(xy), method="Hernandez 1999"))
    white = to_camera @ xy_to_xyz(xy)
    neutral = white / white.max()
    rng = np.random.default_rng(7)
    patches = np.concatenate([np.repeat([[0.03], [0.09], [0.18], [0.36], [0.9]], 3, axis=1), rng.uniform(0.04, 0.75, (25, 3))])
    # Reflectances as colours of BT.709 under D65, brought under the light (Bradford): what a matrix camera can know of them.
    to_xyz = adaptation((0.3127, 0.3290), xy, "bradford") @ rgb_to_xyz(names.primaries("bt709"))
    seen = patches @ to_xyz.T @ to_camera.T / white.max()
    picture = np.repeat(np.repeat(seen.reshape(5, 6, 3), 16, axis=0), 16, axis=1)
    assert picture.max() < 1
    write(tmp_path / "a.dng", mosaic_of(picture, "rggb", 1000, 65000), Writing(
        black=(1000.0,), white=65000, more=(*matrices(), (50728, "R", tuple(map(rational, neutral.tolist()))))))  # fmt: skip
    light = made_light(tmp_path / "a.dng", highlights="as is")
    middles = np.array([light[16 * y + 6 : 16 * y + 10, 16 * x + 6 : 16 * x + 10].mean((0, 1)) for y in range(5) for x in range(6)])
    got = middles @ rgb_to_rgb(names.primaries("ap1"), names.primaries("bt2020")).T
    meant = patches @ rgb_to_rgb(names.primaries("bt709"), names.primaries("bt2020")).T
    itp = [colour.RGB_to_ICtCp(np.maximum(v, 0) * 203, method="ITU-R BT.2100-2 PQ") for v in (got, meant)]
    away = 720 * np.sqrt((itp[0][:, 0] - itp[1][:, 0]) ** 2 + 0.25 * (itp[0][:, 1] - itp[1][:, 1]) ** 2 + (itp[0][:, 2] - itp[1][:, 2]) ** 2)
    assert away[:5].max() < 1.0
    assert np.median(away) < 2.0
    facts, _ = read_file(tmp_path / "a.dng")
    found = camera.correlated(camera.white_of(facts.sensor, values.as_shot(facts.sensor)))
    assert abs(found[0] - kelvin) < 50 and abs(found[1] - tint) < 1.0


@settings(max_examples=40, deadline=None)
@given(st.floats(2200, 15000), st.floats(-30, 30))
def test_a_light_and_its_neutral_lead_back_to_each_other(kelvin, tint):
    sensor = _sensor()
    neutral = camera.neutral_of(sensor, daylight(kelvin, tint))
    k, t = camera.correlated(camera.white_of(sensor, neutral))
    assert abs(k / kelvin - 1) < 0.01 and abs(t - tint) < 0.5


def _sensor():
    from adzer.core.media.sensor import Calibration, Sensor

    lights = tuple(Calibration(k, tuple(map(tuple, m.tolist()))) for k, m in zip(KELVIN, (WARM, COLD), strict=True))
    return Sensor((64, 64), (0, 0), "rggb", 16, (0.0,) * 4, (65535.0,) * 4, lights=lights)


def test_a_forward_matrix_is_followed(tmp_path):
    """Balanced white must be D50's white whatever the light; a forward matrix gives the colours beside it."""
    forward = np.array([[0.60, 0.27, 0.0942], [0.25, 0.72, 0.03], [0.02, 0.05, 0.7552]])
    forward *= (xy_to_xyz((0.3457, 0.3585)) / forward.sum(axis=1))[:, None]
    neutral, seen = np.array([0.5, 1.0, 0.7]), np.array([0.3, 0.4, 0.2])
    more = (*matrices(), *((t, "r", tuple(map(rational, forward.ravel().tolist()))) for t in (50964, 50965)),
            (50728, "R", tuple(map(rational, neutral.tolist()))))  # fmt: skip
    write(tmp_path / "a.dng", mosaic_of(np.broadcast_to(seen, (32, 32, 3)), "rggb", 0, 65535), Writing(black=(0.0,), white=65535, more=more))
    got = made_light(tmp_path / "a.dng", highlights="as is")[8:24, 8:24].mean((0, 1))
    xyz = adaptation((0.3457, 0.3585), names.primaries("ap1").white, "bradford") @ forward @ (seen / neutral)
    assert np.abs(got - np.linalg.solve(rgb_to_xyz(names.primaries("ap1")), xyz)).max() < 1e-3


def test_exposure_is_exact_and_flat_patches_are_those_of_libraw(tmp_path):
    rng = np.random.default_rng(8)
    flat = np.repeat(np.repeat(rng.uniform(0.02, 0.9, (4, 5, 3)), 16, axis=0), 16, axis=1)
    write(tmp_path / "a.dng", mosaic_of(flat, "rggb", 512, 65000), Writing(black=(512.0,), white=65000))
    plain = made_light(tmp_path / "a.dng", highlights="as is")
    for stops in (-3, 3):
        ratio = made_light(tmp_path / "a.dng", highlights="as is", exposure=float(stops))[8::16, 8::16] / plain[8::16, 8::16]
        assert np.abs(ratio / 2.0**stops - 1).max() < 2e-3
    with rawpy.imread(str(tmp_path / "a.dng")) as raw:
        theirs = raw.postprocess(
            demosaic_algorithm=rawpy.DemosaicAlgorithm.LINEAR, gamma=(1, 1), no_auto_bright=True, output_bps=16, user_wb=[1, 1, 1, 1],
            output_color=rawpy.ColorSpace.raw, no_auto_scale=False, adjust_maximum_thr=0.0,
        ) / 65535.0  # fmt: skip
    to_709 = np.linalg.inv(np.linalg.inv(rgb_to_xyz(names.primaries("ap1"))) @ adaptation((0.3457, 0.3585), names.primaries("ap1").white, "bradford")
                           @ adaptation((0.3127, 0.3290), (0.3457, 0.3585), "bradford") @ rgb_to_xyz(names.primaries("bt709")))  # fmt: skip
    ours = (plain @ to_709.T)[6::16, 6::16]
    assert np.abs(ours / theirs[6::16, 6::16] - 1).max() < 5e-3


# --- three colours a place ----------------------------------------------------------------------------------------
def _zone(h, w):
    y, x = np.mgrid[0:h, 0:w]
    return np.repeat((0.5 + 0.4 * np.cos(np.pi * ((x - w / 2) ** 2 + (y - h / 2) ** 2) / (1.25 * w)))[..., None], 3, axis=2)


def _photo(name):
    """A photograph of a general package at half its size, so that it was not interpolated itself; as light."""
    import skimage.data

    a = (getattr(skimage.data, name)()[..., :3] / 255.0) ** 2.2
    h, w = (v // 4 * 2 for v in a.shape[:2])
    return a[: 2 * h, : 2 * w].reshape(h, 2, w, 2, 3).mean((1, 3))


def _decibels(a, b):
    a, b = (np.clip(v, 0, 1)[8:-8, 8:-8] ** 0.45 for v in (a, b))
    return -10 * np.log10(((a - b) ** 2).mean())


@pytest.mark.parametrize("name", ["zone", "chelsea", "astronaut", "coffee"])
def test_fine_detail_comes_out_better_than_from_others(tmp_path, name):
    truth = _zone(240, 320) if name == "zone" else _photo(name)
    write(tmp_path / "a.dng", mosaic_of(truth, "rggb", 0, 65535), Writing(black=(0.0,), white=65535))
    sensor, _ = dng.header(tmp_path / "a.dng")
    to_709 = np.linalg.inv(values.developed(sensor, DevelopSettings(highlights="as is")).matrix.astype(float))
    ours = _decibels(made_light(tmp_path / "a.dng", highlights="as is") @ to_709.T, truth)
    theirs = {}
    for way in ("LINEAR", "AHD", "DHT", "PPG"):
        with rawpy.imread(str(tmp_path / "a.dng")) as raw:
            theirs[way] = _decibels(raw.postprocess(
                demosaic_algorithm=getattr(rawpy.DemosaicAlgorithm, way), gamma=(1, 1), no_auto_bright=True, output_bps=16,
                user_wb=[1, 1, 1, 1], output_color=rawpy.ColorSpace.raw, adjust_maximum_thr=0.0) / 65535.0, truth)  # fmt: skip
    assert ours > theirs["LINEAR"] + 3
    assert ours > max(theirs.values()) + 0.3


@pytest.mark.parametrize("order, size", itertools.product(ORDERS, [(61, 45), (64, 64), (450, 130)]))
def test_every_phase_and_odd_sides(order, size):
    """A smooth picture comes back in every phase, quickly and finely, to its very edge."""
    w, h = size
    y, x = np.mgrid[0:h, 0:w]
    truth = np.stack([0.3 + 0.2 * x / w, 0.4 + 0.1 * y / h, 0.5 - 0.2 * x / w], -1)
    codes = mosaic_of(truth, order, 0, 65535)
    from adzer.core.media.sensor import Sensor

    made = values.developed(Sensor(size, (0, 0), order, 16, (0.0,) * 4, (65535.0,) * 4), DevelopSettings(highlights="as is"))
    for each in (made, made.quick()):
        light = names.curve("float-log").decode(np.stack(each.run([(codes,)], 0), -1) / 65535.0) @ np.linalg.inv(made.matrix.astype(float)).T
        assert np.abs(light - truth)[2:-2, 2:-2].max() < 3e-3
        assert np.abs(light - truth).max() < 2e-2


# --- what is full -------------------------------------------------------------------------------------------------
def _lamp():
    """A warm glow on a blue-green wall, brighter than green's ceiling in its middle, then than all; balanced light, and what was there."""
    y, x = np.mgrid[0:128, 0:128]
    glow = 3.0 * np.exp(-((x - 64) ** 2 + (y - 64) ** 2) / 900.0)
    return (0.1 + glow)[..., None] * np.array([0.8, 1.0, 0.7])


@pytest.mark.parametrize("answer", ["neutral", "rebuild", "as is"])
def test_what_is_full_is_told_as_answered(tmp_path, answer):
    neutral = np.array([0.5, 1.0, 0.6])
    light = _lamp()
    at_sensor = light * neutral
    stored = mosaic_of(np.minimum(at_sensor, 1.0), "rggb", 0, 65535)
    write(tmp_path / "a.dng", stored, Writing(black=(0.0,), white=65535, more=(*matrices(), (50728, "R", tuple(map(rational, neutral.tolist()))))))
    facts, _ = read_file(tmp_path / "a.dng")
    made = values.developed(facts.sensor, DevelopSettings(highlights=answer))
    got = made_light(tmp_path / "a.dng", highlights=answer) @ np.linalg.inv(made.matrix.astype(float)).T
    plain = made_light(tmp_path / "a.dng", highlights="as is") @ np.linalg.inv(made.matrix.astype(float)).T
    gone = (at_sensor >= 1).sum(axis=-1)
    whole = gone == 0
    far = np.pad(gone, 4, mode="edge")
    whole = np.lib.stride_tricks.sliding_window_view(far, (9, 9)).max((2, 3)) == 0
    whole &= np.lib.stride_tricks.sliding_window_view(np.pad(at_sensor.max(axis=-1), 4, mode="edge"), (9, 9)).max((2, 3)) < 0.68
    assert np.array_equal(got[whole], plain[whole])  # what is whole is not touched
    all_gone = np.lib.stride_tricks.sliding_window_view(np.pad(gone, 2, mode="edge"), (5, 5)).min((2, 3)) == 3
    one = gone == 1
    assert one.any() and all_gone.any()
    if answer != "as is":
        assert np.ptp(got[all_gone], axis=1).max() / got[all_gone].mean() < 0.01
    if answer == "neutral":
        off, before = (np.abs(np.log2(v[one] / light[one])).mean() for v in (got, plain))
        assert off < before and (got[one] >= np.minimum(plain[one], 1 / neutral) * 0.999).all()  # nearer to the light, nothing darker
    if answer == "rebuild":
        away, before = (np.abs(v[one] / light[one] - 1).mean() for v in (got, plain))
        assert away < before / 2
    found = measure.held(facts, DevelopSettings())
    assert abs(found.gone[0] - one.mean()) < 0.01 and abs(found.gone[2] - (gone == 3).mean()) < 0.01


NEUTRALS = ((0.5, 1.0, 0.6), (1.0, 0.62, 0.45), (0.45, 1.0, 0.75))


def _pushed(name, stops):
    """Light of a photograph, so many stops brighter than a sensor can hold at its brightest."""
    picture = foreign.photograph(name)[:240, :320].astype(float) / 255
    return np.maximum(picture**2.2, 1e-3) * 2.0**stops


def _ramps():
    """Light that grows by 0.007 stop a column from two stops below full to two above it, in bands of eight hues."""
    hues = np.array([(1, 1, 1), (1, 0.35, 0.2), (0.9, 1, 0.4), (0.3, 1, 0.45), (0.35, 0.6, 1), (1, 0.5, 0.9), (0.8, 0.9, 1), (1, 0.8, 0.6)])
    return np.repeat(hues, 12, axis=0)[:, None] * (2.0 ** (np.arange(-280, 280) * 0.007))[None, :, None]


@pytest.mark.parametrize("neutral", NEUTRALS)
def test_no_edge_is_drawn_where_a_channel_becomes_full(tmp_path, neutral):
    """On ramps so slow that what is recorded goes on by 0.007 stop a column: no channel may leap, whichever is full first."""
    light = _ramps()
    at_sensor = light * np.array(neutral)
    write(tmp_path / "a.dng", mosaic_of(np.minimum(at_sensor, 1.0), "rggb", 0, 65535), Writing(
        black=(0.0,), white=65535, more=(*matrices(), (50728, "R", tuple(map(rational, neutral))))))  # fmt: skip
    facts, _ = read_file(tmp_path / "a.dng")
    back = np.linalg.inv(values.developed(facts.sensor, DevelopSettings()).matrix.astype(float)).T
    got = made_light(tmp_path / "a.dng", highlights="neutral") @ back
    middle = np.concatenate([np.arange(12 * n + 5, 12 * n + 7) for n in range(8)])  # away from where the bands meet
    stops = np.log2(np.maximum(got[middle], 1e-4))
    lasting = stops[:, 4:, :] - stops[:, :-4, :]  # over four columns, as every second place of a filter has its own colour
    assert np.abs(lasting).max() < 3 * 4 * 0.007 + 0.03
    full = (at_sensor[middle] >= 1).all(axis=-1)
    assert full.any() and np.ptp(got[middle][full], axis=-1).max() < 0.01 * got.max(), "white where all are full"


@pytest.mark.parametrize("name, stops", [("astronaut", 1.5), ("chelsea", 1.6), ("coffee", 2.0), ("rocket", 2.0)])
@pytest.mark.parametrize("neutral", NEUTRALS[:2])
def test_photographs_pushed_over_the_sensors_ceiling_are_never_worse_than_as_recorded(tmp_path, name, stops, neutral):
    light = _pushed(name, stops)
    at_sensor = light * np.array(neutral)
    write(tmp_path / "a.dng", mosaic_of(np.minimum(at_sensor, 1.0), "rggb", 0, 65535), Writing(
        black=(0.0,), white=65535, more=(*matrices(), (50728, "R", tuple(map(rational, neutral))))))  # fmt: skip
    facts, _ = read_file(tmp_path / "a.dng")
    back = np.linalg.inv(values.developed(facts.sensor, DevelopSettings()).matrix.astype(float)).T
    lost = (at_sensor >= 1).any(axis=-1) & ~(at_sensor >= 1).all(axis=-1)
    assert lost.mean() > 0.002
    off = {}
    for answer in ("as is", "neutral"):
        got = np.maximum(made_light(tmp_path / "a.dng", highlights=answer) @ back, 1e-4)
        off[answer] = float(np.sqrt(np.mean(np.log2(got[lost] / light[lost]) ** 2)))
    assert off["neutral"] <= off["as is"] * 1.02 + 0.005, off


def test_what_is_full_is_marked_where_more_light_came_than_the_sensor_takes():
    """The simulated world brighter than a sensor can hold, by 0.5 to 3 stops: which values are marked full, and in how many channels, against the
    light itself. F1 is twice what both say over what each says; where hardly anything is full, the noise decides of it."""
    plain, scores, body = replace(cameras.load("raw-body"), raster=(640, 360)), [], raw.Body(full=(1.3, 1.3, 1.3))
    sensor = Sensor((640, 360), (0, 0), "rggb", 12, (float(raw.BLACK),) * 4, (float(raw.WHITE),) * 4)
    for stops in (0.5, 1.0, 1.5, 2.0, 3.0):
        shot = replace(plain, recorder=replace(plain.recorder, exposure=plain.recorder.exposure + stops))
        light = body.seen(np.maximum(shot.light(0.0, 1), 0)) * 2.0**shot.recorder.exposure
        frame = Frame((raw.mosaic(shot, 0.0, body=body),), PixelFormat(12, "4:0:0"), (640, 360), 0, 0)
        marks = gone_marks(frame, sensor, 320)
        beyond = [light[y::2, x::2, c] >= 1.0 for c, y, x in ((0, 0, 0), (1, 0, 1), (1, 1, 0), (2, 1, 1))]
        many = beyond[0].astype(int) + (beyond[1] | beyond[2]) + beyond[3]
        for n in (1, 2, 3):
            there, found = many >= n, marks >= n
            if there.sum() > 0.002 * there.size:
                scores.append(2 * (there & found).sum() / (there.sum() + found.sum()))
    assert len(scores) >= 5 and np.median(scores) >= 0.98 and min(scores) >= 0.94, np.round(scores, 4)


def test_how_to_expose_next_time_is_said(tmp_path):
    """A ramp two stops below full, one that just reaches it, one that is cut off: more by what was left, no more, less."""
    ramp = np.broadcast_to(np.linspace(0.02, 1.0, 128)[None, :, None], (96, 128, 3))
    said = {}
    for name, bright in (("dim", 0.25), ("full", 0.97), ("over", 1.3)):
        write(tmp_path / f"{name}.dng", mosaic_of(np.minimum(bright * ramp, 1), "rggb", 256, 3000), Writing(white=3000))
        said[name] = measure.next_time(measure.held(read_file(tmp_path / f"{name}.dng")[0], DevelopSettings()))
    assert "1.7 stops more" in said["dim"] and "as far as the sensor goes" in said["full"] and "a stop less" in said["over"]


def test_what_the_header_says_is_checked_against_the_values(tmp_path):
    rng = np.random.default_rng(9)
    y, x = np.mgrid[0:96, 0:128]
    light = np.stack([0.2 + 0.9 * x / 128, 0.3 + 0.9 * x / 128, 0.15 + 0.4 * y / 96], -1) * rng.uniform(0.98, 1.02, (96, 128, 1))
    honest = mosaic_of(np.minimum(light, 1), "rggb", 256, 3000)
    write(tmp_path / "a.dng", honest, Writing(white=3000))
    write(tmp_path / "b.dng", honest, Writing(white=4095))  # full at 3000, whatever it says
    write(tmp_path / "c.dng", honest, Writing(white=3000, order="grbg"))
    write(tmp_path / "d.dng", mosaic_of(np.minimum(light * 0 + light.min() * 0.01, 1), "rggb", 256, 3000), Writing(white=3000, black=(700.0,)))
    found = {n: measure.held(read_file(tmp_path / f"{n}.dng")[0], DevelopSettings()) for n in "abcd"}
    assert (found["a"].ceiling, found["a"].floor, found["a"].diagonal) == (None, None, False)
    assert found["b"].ceiling == pytest.approx(3000, abs=2)
    assert found["c"].diagonal and found["d"].floor is not None
    for name, said in (("b", "full at 4095"), ("c", "another order"), ("d", "black is 700")):
        done = adzer("develop", tmp_path / f"{name}.dng", "--card", "archive", "--out", tmp_path / f"{name}.mkv")
        assert done.returncode == 0 and said in done.stderr, (name, done.stderr)


def test_a_video_of_sensor_values_is_developed_whether_tagged_or_not(tmp_path):
    """Raw video that says its filter, and FFV1 of grey that does not; both come out as the colour that was there."""
    import av
    from typer.testing import CliRunner

    from adzer.cli.main import app

    meant = np.array([0.5, 0.3, 0.2])
    for name, form, codec, fmt in (
        ("a.nut", "nut", "rawvideo", "bayer_gbrg16le"), ("b.mkv", "matroska", "ffv1", "gray16le"),
        ("a8.nut", "nut", "rawvideo", "bayer_gbrg8"), ("b8.mkv", "matroska", "ffv1", "gray"),
    ):  # fmt: skip
        kind = np.uint16 if "16" in fmt else np.uint8
        codes = mosaic_of(np.broadcast_to(meant, (96, 128, 3)), "gbrg", 0, np.iinfo(kind).max).astype(kind)
        with av.open(str(tmp_path / name), "w", format=form) as out:
            stream = out.add_stream(codec, rate=25)
            stream.width, stream.height, stream.pix_fmt = 128, 96, fmt
            for n in range(2):
                frame = av.VideoFrame(128, 96, fmt)
                np.frombuffer(memoryview(frame.planes[0]), kind).reshape(96, -1)[:, :128] = codes
                frame.pts = n
                out.mux(stream.encode(frame))
            out.mux(stream.encode(None))
        more = [] if name.endswith("nut") else ["--order", "gbrg"]
        made = CliRunner().invoke(app, ["develop", str(tmp_path / name), "--card", "archive", "--out", str(tmp_path / f"{name}.mkv"), *more])
        assert made.exit_code == 0, made.output
        with av.open(str(tmp_path / f"{name}.mkv")) as held:
            rgb = next(held.decode(video=0)).to_ndarray(format="rgb48le").astype(float)[20:-20, 20:-20].mean((0, 1)) / 65535
        linear = np.where(rgb < 0.081, rgb / 4.5, ((rgb + 0.099) / 1.099) ** (1 / 0.45))
        assert linear == pytest.approx(meant, rel=0.03)
    assert CliRunner().invoke(app, ["develop", str(tmp_path / "b.mkv"), "--card", "archive", "--out", str(tmp_path / "c.mkv")]).exit_code
