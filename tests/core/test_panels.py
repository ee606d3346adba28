"""Several recordings behind one picture, several pictures in one raster: against arithmetic on what was painted."""

from __future__ import annotations

from dataclasses import dataclass, replace
from fractions import Fraction

import numpy as np
import pytest

from adzer.core.light.chain import ColourChain
from adzer.core.light.curves import STANDARD
from adzer.core.light.samples import Samples
from adzer.core.media.decode import Reader
from adzer.core.media.formats import PixelFormat
from adzer.core.media.probe import probe
from adzer.core.plan import Input, Panel, Patch, Plan, on_axes
from adzer.core.run import reference
from adzer.core.run.frames import Inputs
from adzer.core.run.pixels import Processor
from adzer.core.space import sphere
from adzer.core.space.looks import AxisLook, Turning, ViewLook
from adzer.core.space.meeting import Around, Away, Fall, Meeting, Tone
from adzer.core.space.path import Key, ViewPath
from adzer.core.space.sphere import Equirect, Flat, Lens, Round
from tests.conftest import frame_number, write_clip

SIZE = (640, 640)
TARGET = Samples(PixelFormat(16, "4:4:4"), "bt709", False)
PLAIN = Samples(PixelFormat(16, "4:4:4"), "rgb", False)


@dataclass(frozen=True)
class Ramp:
    """Counts to the left of heading ``at``, falling off over ``across`` degrees; ``other``: to the right of it."""

    at_: float
    across: float
    other: bool = False
    still: bool = True

    @property
    def width(self) -> float:
        return float(np.radians(self.across))

    def at(self, d, time):
        heading, _ = sphere.heading_tilt(d)
        left = np.clip(0.5 - (heading - self.at_) / self.across, 0.0, 1.0)
        return 1 - left if self.other else left


def scene(d):
    """Linear R, G, B by direction, smooth."""
    d = d / np.linalg.norm(d, axis=-1, keepdims=True)
    return np.stack([0.3 + 0.2 * np.sin(3 * d @ np.array(v)) for v in ((1, 0.3, 0.1), (0.2, 1, -0.4), (-0.5, 0.1, 1))], -1)


def recorded(samples, lens, gain=1.0, curve="bt709", offset=None):
    """Planes of a recording whose light is ``gain`` times the scene's."""
    form, planes = samples.format, []
    y, x = np.mgrid[0 : lens.size[1], 0 : lens.size[0]] + 0.5
    signal = STANDARD[curve].encode(scene(lens.direction(np.stack([x, y], -1)) if offset is None else offset(x, y)) * gain)
    matrix = samples.to_codes() if samples.matrix != "rgb" else np.column_stack([np.eye(3) * samples.top, np.zeros(3)])
    codes = signal @ matrix[:, :3].T + matrix[:, 3]
    for i in range(3):
        sx, sy = form.sub if i else (1, 1)
        planes.append(np.ascontiguousarray(np.round(codes[::sy, ::sx, i]), dtype=form.dtype))
    return tuple(planes)


def two_lenses(ramp=20.0, light=None, look=None, second=PLAIN):
    lenses = [Round(SIZE, (Lens(320, 320, 310, 200.0, facing),)) for facing in (-35.0, 35.0)]
    patches = tuple(
        Patch(lens, (0, 0, *SIZE), n, share=Ramp(0.0, ramp, bool(n)), light=light if n else None) for n, lens in enumerate(lenses)
    )
    look = look or ViewLook((480, 270), ViewPath(keys=(Key(fov=100),)), (1.0, 0.5625))
    inputs = (Input(PLAIN, SIZE), Input(second, SIZE))
    return lenses, Plan(inputs, look.size, (Panel(look, patches),), None, TARGET, STANDARD["bt709"])


def run(plan, frames, time=0.0):
    out = [np.zeros(plan.target.format.plane_size(plan.raster, i)[::-1], plan.target.format.dtype) for i in range(3)]
    with Processor(plan, 2) as processor:
        processor.run(frames, tuple(out), time)
    return out


def codes_of(light):
    matrix = TARGET.to_codes()
    return STANDARD["bt709"].encode(light) @ matrix[:, :3].T + matrix[:, 3]


def centres(size):
    return (np.arange(size[0]) + 0.5)[None], (np.arange(size[1]) + 0.5)[:, None]


@pytest.mark.parametrize("ramp", [20.0, 3.0])
@pytest.mark.parametrize("second", [PLAIN, Samples(PixelFormat(10, "4:4:4"), "bt2020", True)])
def test_two_lenses_that_see_one_scene_unlike_give_that_scene(ramp, second):
    """One is two stops darker and redder and of other samples; made alike in light before mixing, nothing of it is left."""
    unlike = np.array([0.3, 0.25, 0.2])
    alike = tuple(tuple(float(v) for v in row) for row in np.diag(1 / unlike))
    lenses, plan = two_lenses(ramp, alike, second=second)
    frames = [recorded(PLAIN, lenses[0]), recorded(second, lenses[1], unlike)]
    out = run(plan, frames)
    wanted = codes_of(scene(plan.panels[0].look.directions(*centres((480, 270)), 0.0)))
    within = 40 if second is PLAIN else 65536 / 1024 * 4.0  # a code of ten bits is 64 here, and dark ones are raised
    for c in range(3):
        assert np.abs(out[c].astype(float) - wanted[..., c]).max() < within, c


def test_light_is_mixed_not_signal():
    """Half of 0.8 and half of 0.1 is 0.45 of light, whatever the curve says halfway."""
    lenses, plan = two_lenses(20.0)
    codes = [round(float(v) * 65535) for v in STANDARD["bt709"].encode(np.array([0.8, 0.1]))]
    frames = [(np.full(SIZE[::-1], code, np.uint16),) * 3 for code in codes]
    out = run(plan, frames)[0]
    heading, _ = sphere.heading_tilt(plan.panels[0].look.directions(*centres((480, 270)), 0.0))
    share = np.clip(0.5 - heading / 20, 0, 1)
    off = np.abs(out - codes_of((share * 0.8 + (1 - share) * 0.1)[..., None].repeat(3, -1))[..., 0])
    assert off[np.abs(np.abs(heading) - 10) > 5].max() < 150  # where its way begins and ends it is rounded by a cell
    assert out.max() < codes_of(np.full(3, 0.8))[0] + 8


WAY = Meeting((1.0, 0.0, 0.0), (-1.0, 0.0, 0.0), 0.1)
def test_what_is_coarse_passes_slowly_and_detail_soon():
    """Two recordings of 0.3 and 0.4 light with stripes that cancel each other where both count alike. The level goes from one to the other over
    20°; the stripes are gone in 4° about the middle and whole beyond, where without bands they are weak over 16°."""
    lenses, plan = two_lenses(20.0)
    (panel,) = plan.panels

    def striped(n):  # upright, 2° from one to the next
        y, x = np.mgrid[0 : SIZE[1], 0 : SIZE[0]] + 0.5
        heading, _ = sphere.heading_tilt(lenses[n].direction(np.stack([x, y], -1)))
        light = 0.3 + 0.1 * n + 0.05 * (-1) ** n * np.sin(heading * np.pi)
        return (np.round(STANDARD["bt709"].encode(light) * 65535).astype(np.uint16),) * 3

    def along(bands):
        patches = tuple(replace(p, fine=Ramp(0.0, 4.0, bool(n)) if bands else None) for n, p in enumerate(panel.patches))
        row = run(replace(plan, panels=(replace(panel, patches=patches),)), [striped(0), striped(1)])[0][135]
        return STANDARD["bt709"].decode((row.astype(float) - TARGET.to_codes()[0, 3]) / TARGET.to_codes()[0, :3].sum())

    x, y = centres((480, 270))
    heading = sphere.heading_tilt(panel.look.directions(x, y, 0.0))[0][135]
    (banded, plain), deep = (along(b) for b in (True, False)), []
    level = 0.3 + 0.1 * np.clip(0.5 + heading / 20, 0, 1)
    for made in (banded, plain):
        stripes = made - level
        deep.append([np.sqrt(2) * stripes[(np.abs(heading) > a) & (np.abs(heading) < b)].std() for a, b in ((0, 0.5), (3, 7), (11, 15))])
    assert deep[0][0] < 0.02 and deep[1][0] < 0.02, deep  # in the middle they cancel, either way
    assert deep[0][1] == pytest.approx(0.05, rel=0.06) and deep[1][1] == pytest.approx(0.025, rel=0.15), deep
    assert deep[0][2] == pytest.approx(0.05, rel=0.06), deep
    mean = np.convolve(banded - level, np.hanning(31) / np.hanning(31).sum(), "same")[np.abs(heading) < 30]
    assert np.abs(mean).max() < 0.004, "the level goes slowly all the same"


BRIGHTER = tuple(Around.still_at(v) for v in ((0.3, -0.2, 0.1), (0.0, 0.2), (0.1,)))
TONE = Tone(WAY, 0.5, BRIGHTER, Fall((0.0, 1.0, 0.0), 0.3, 0.1, 1.5))


@pytest.mark.parametrize("chain", [None, ColourChain(STANDARD["bt709"], np.eye(3) * 1.3, STANDARD["bt709"])])
@pytest.mark.parametrize("look", [None, ViewLook((480, 240), ViewPath("equidistant", (Key(fov=200),)), (1.0, 0.5))])
@pytest.mark.parametrize("tone, fine, second", [
    (None, None, PLAIN), (TONE, None, PLAIN), (TONE, 4.0, PLAIN), (None, 4.0, Samples(PixelFormat(10, "4:2:0"), "bt709", True)),
    (None, 4.0, Samples(PixelFormat(10, "4:2:2"), "bt709", True)),
])  # fmt: skip
def test_the_loops_mix_as_the_reference_does(chain, look, tone, fine, second):
    rng = np.random.default_rng(3)
    lenses, plan = two_lenses(12.0, ((0.9, 0.1, 0.0, 0.01), (0.0, 1.2, 0.0, 0.0), (0.05, 0.0, 0.8, -0.004)), look, second)
    plan = replace(plan, chain=chain, target=Samples(PixelFormat(10, "4:2:0"), "bt709", True))
    (panel,) = plan.panels
    one, two = (replace(p, fine=fine and Ramp(0.0, fine, bool(n))) for n, p in enumerate(panel.patches))
    plan = replace(plan, panels=(replace(panel, patches=(replace(one, tone=tone), two)),))
    frames = [recorded(PLAIN, lenses[0]), recorded(second, lenses[1], 0.8)]
    frames[0] = tuple(np.clip(p.astype(int) + rng.integers(-300, 300, p.shape), 0, 65535).astype(np.uint16) for p in frames[0])
    for ours, theirs in zip(run(plan, frames), reference.deliver(plan, frames), strict=True):
        off = np.abs(ours.astype(int) - theirs)
        assert np.percentile(off, 99) <= 3 and off.mean() < 0.6, (off.max(), off.mean())


@pytest.mark.parametrize("chain", [None, ColourChain(STANDARD["bt709"], np.diag([1.3, 0.9, 1.1]), STANDARD["bt709"])])
def test_where_the_second_alone_counts_its_light_is_matched_as_the_reference_does(chain):
    look = ViewLook((480, 270), ViewPath(keys=(Key(heading=70.0, fov=50.0),)), (1.0, 0.5625))
    lenses, plan = two_lenses(12.0, ((0.9, 0.1, 0.0, 0.01), (0.0, 1.2, 0.0, 0.0), (0.05, 0.0, 0.8, -0.004)), look)
    plan = replace(plan, chain=chain, target=Samples(PixelFormat(10, "4:2:0"), "bt709", True))
    frames = [recorded(PLAIN, lenses[0]), recorded(PLAIN, lenses[1], 0.8)]
    for ours, theirs in zip(run(plan, frames), reference.deliver(plan, frames), strict=True):
        off = np.abs(ours.astype(int) - theirs)
        assert off.max() <= 3 and off.mean() < 0.6, (off.max(), off.mean())


def test_what_stands_nearer_round_the_way_is_seen_from_between():
    """A lens 5 cm ahead of where it is looked from sees a thing 2 m away, square to where it faces, and one 1 m away below, by arithmetic;
    over two seconds the near one goes to 4 m."""
    near = Around((0.0, 2.0), ((0.0, 0.0, 0.025, 0.0), (0.0, 0.0, -0.0125, 0.0)))
    away = Away((1.0, 0.0, 0.0), 0.025, WAY, 0.3, near)
    patch = Patch(Flat((2, 2)), (0, 0, 2, 2), away=away)
    for d, metres, time in (((0.0, 0.0, 3.0), 2.0, 0.0), ((0.0, 0.0, -1.0), 1.0, 0.0), ((0.0, 0.0, -1.0), 4.0, 5.0)):
        thing = np.array(d) / np.linalg.norm(d) * metres - [0.05, 0, 0]
        assert np.allclose(np.cross(patch.held(np.array(d), time), thing), 0, atol=1e-9)
    assert not patch.still and np.allclose(away.moved(np.array([1.0, 0.0, 0.0]), 0.0), [0.975, 0, 0])


def test_where_one_alone_counts_nothing_is_done_to_it():
    lenses, plan = two_lenses(4.0, ((0.9, 0.0, 0.0), (0.0, 0.9, 0.0), (0.0, 0.0, 0.9)))
    frames = [recorded(PLAIN, lenses[0]), recorded(PLAIN, lenses[1])]
    alone = replace(plan, panels=(Panel(plan.panels[0].look, (Patch(lenses[0], (0, 0, *SIZE)),)),))
    both, one = run(plan, frames), run(alone, frames)
    heading, _ = sphere.heading_tilt(plan.panels[0].look.directions(*centres((480, 270)), 0.0))
    for a, b in zip(both, one, strict=True):
        off = np.abs(a.astype(int) - b)
        assert off[heading < -3].max() <= 12 and off[heading > 3].max() > 200  # of 65535; its map is drawn in finer cells


def test_what_one_recorded_brighter_by_direction_is_made_alike():
    """Twice as bright above as below, and of two recordings one; brought together where they meet, it is the other's."""
    lenses, plan = two_lenses(20.0)
    tone = Tone(WAY, 10.0, (Around.still_at((-0.7, -0.3, 0.0, -0.3)),) * 3)  # everywhere: it falls to nothing only ten turns away
    places = np.stack(np.meshgrid(np.arange(SIZE[0]) + 0.5, np.arange(SIZE[1]) + 0.5), -1)
    frames, matrix = [], PLAIN.to_codes()
    for lens, brighter in ((lenses[0], 1.0), (lenses[1], 1 / tone.at(lenses[1].direction(places), 0.0))):
        codes = STANDARD["bt709"].encode(scene(lens.direction(places)) * 0.5 * brighter) @ matrix[:, :3].T + matrix[:, 3]
        frames.append(tuple(np.ascontiguousarray(np.round(codes[..., c]), PLAIN.format.dtype) for c in range(3)))
    (panel,) = plan.panels
    plan = replace(plan, panels=(replace(panel, patches=(panel.patches[0], replace(panel.patches[1], tone=tone))),))
    wanted = codes_of(scene(panel.look.directions(*centres((480, 270)), 0.0)) * 0.5)
    for c, plane in enumerate(run(plan, frames)):
        assert np.percentile(np.abs(plane.astype(float) - wanted[..., c]), 99.5) < 120, c


def test_two_eyes_stand_beside_each_other_and_none_sees_into_the_other():
    """Of one recording over under to a raster side by side: reduced, and with sharp filters, to the very edge."""
    source, target = Samples(PixelFormat(8, "4:2:0"), "bt709", True), Samples(PixelFormat(8, "4:2:0"), "bt709", True)
    luma, grey = np.full((240, 320), 40, np.uint8), np.full((120, 160), 128, np.uint8)
    luma[120:] = 200
    panels = tuple(
        Panel(AxisLook((160, 60), (Fraction(2), Fraction(2))), (Patch(Flat((320, 120)), (0, 120 * n, 320, 120)),), (160 * n, 4))
        for n in (0, 1)
    )
    plan = Plan((Input(source, (320, 240)),), (320, 68), panels, None, target)
    out = run(plan, [(luma, grey, grey)])
    assert (out[0][4:64, :160] == 40).all() and (out[0][4:64, 160:] == 200).all()
    assert (out[0][:4] == 16).all() and (out[0][64:] == 16).all() and (out[1] == 128).all()
    small = plan.at_size(200, 200)
    assert small.raster[0] <= 200 and [p.place[0] for p in small.panels] == [0, small.panels[0].size[0]]


def test_a_recording_that_stands_turned_is_turned_back():
    """Painted as a camera that leans and looks aside saw it; its turning says so, and the view is as if it had not."""
    lens, lean = Equirect((1440, 720)), sphere.rotation(25.0, -12.0, 8.0)
    y, x = np.mgrid[0:720, 0:1440] + 0.5
    planes = recorded(PLAIN, lens, offset=lambda *_: lens.direction(np.stack([x, y], -1)) @ lean.T)  # its axes in the world
    look = ViewLook((320, 180), ViewPath(keys=(Key(0, 40, 20, 0, 80),)), (1.0, 0.5625))
    patch = Patch(lens, (0, 0, 1440, 720), turning=Turning.fixed(lean.T))
    out = run(Plan.single(PLAIN, lens.size, Panel(look, (patch,)), None, TARGET), [planes])
    wanted = codes_of(scene(look.directions(*centres((320, 180)), 0.0)))
    assert max(np.abs(o.astype(float) - wanted[..., c]).max() for c, o in enumerate(out)) < 40


def test_a_shake_is_undone_row_by_row():
    """A flat recording slides by 300 px/s and is read out over 20 ms: each row is taken from where it was at its own moment."""
    lens, speed, readout = Flat((400, 300)), 300.0, 0.02
    times = np.linspace(-1, 1, 21)
    slide = np.tile(np.eye(3), (21, 1, 1))
    slide[:, 0, 2] = speed * times
    patch = Patch(lens, (0, 0, 400, 300), turning=Turning(times, slide), readout=readout)
    panel = Panel(AxisLook((300, 300), (Fraction(1), Fraction(1)), (Fraction(20), Fraction(0))), (patch,))
    when = 0.1 + readout * ((np.arange(300) + 0.5) / 300 - 0.5)
    places = panel.recorded(*centres((300, 300)), 0.1)
    assert np.allclose(places[..., 0], 20 + (np.arange(300) + 0.5)[None] + speed * when[:, None], atol=1e-6)
    still = np.arange(300)[None] + 20  # what a pattern that stands in the world looks like on such a sensor
    held = (np.arange(400)[None] - speed * when[:, None]) * 100 + 20000
    planes = (held.astype(np.uint16),) * 3
    out = run(Plan.single(PLAIN, lens.size, panel, None, PLAIN), [planes], 0.1)[0]
    assert np.abs(out[:, 4:-50] - (still * 100 + 20000)[:, 4:-50]).max() <= 3


def test_a_turn_between_two_moments_goes_the_even_way():
    way = Turning(np.array([0.0, 1.0]), np.stack([sphere.rotation(0, 0), sphere.rotation(40.0, 0)]))
    assert np.degrees(np.arctan2(*(way.at(np.array(0.25)) @ [0.0, 1.0, 0.0])[:2])) == pytest.approx(10.0)
    assert np.allclose(way.at(np.array([-5.0, 9.0])), way.matrices)


@dataclass(frozen=True)
class Mean:
    """Of three recorded frames, twice as bright as 16 bits."""

    samples: Samples
    reach: tuple[int, int] = (1, 1)

    def run(self, window, middle):
        assert 0 <= middle < len(window) <= 3
        return tuple(np.mean([w[c].astype(float) for w in window], axis=0).round().astype(np.uint16) * 256 for c in range(3))


def test_each_input_goes_by_its_own_clock_and_is_prepared_with_its_neighbours(tmp_path):
    """Two cameras of 25 and 50 frames a second, the second begun 0.2 s earlier: which frames meet is arithmetic, and each says
    its number in its picture."""
    one = write_clip(tmp_path / "one.mkv", 30, encoder="ffv1", chroma="4:4:4")
    two = write_clip(tmp_path / "two.mkv", 80, encoder="ffv1", chroma="4:4:4", rate=Fraction(50))
    held = Samples(PixelFormat(8, "4:4:4"), "bt709", True)
    inputs = (Input(held, (192, 108)), Input(held, (192, 108), sources=(two,), offset=0.2))
    with Inputs(inputs, probe(one)) as opened:
        made = list(opened.along(np.arange(3, 20), np.arange(3, 20) / 25))
    for n, (a, b) in zip(range(3, 20), made, strict=True):
        assert frame_number(a[0].astype(float), 1, 255) == n and frame_number(b[0].astype(float), 1, 255) == 2 * n + 10
    mean = Input(held, (192, 108), prepares=(Mean(Samples(PixelFormat(16, "4:4:4"), "bt709", True)),))
    with Inputs((mean,), probe(one)) as opened, Reader(one) as reader:
        plain = [f.cropped(0).astype(float) for f in reader.frames()]
        for n, (planes,) in zip((0, 7, 8, 29), opened.along(np.array([0, 7, 8, 29]), np.zeros(4)), strict=True):
            near = plain[max(0, n - 1) : n + 2]
            assert np.array_equal(planes[0][:108, :192], np.mean(near, axis=0).round() * 256)


def test_plain_axes_of_a_map_are_the_same_axes():
    """The general way through ``on_axes`` panels finds the very places that the filters take."""
    panel = on_axes((100, 50), (Fraction(3, 2), Fraction(2)), (Fraction(5), Fraction(7)), (400, 300))
    assert panel.on_axes and np.allclose(panel.recorded(np.array(10.0), np.array(20.0), 0.0), (20.0, 47.0))
