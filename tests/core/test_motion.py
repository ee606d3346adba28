"""Analyses span by span; how pictures move, on photographs that were moved by another library; how a shot shakes, by arithmetic."""

from __future__ import annotations

from fractions import Fraction
from itertools import pairwise

import numpy as np
import pytest
from scipy.ndimage import affine_transform, map_coordinates, shift, zoom

from adzer.core import records
from adzer.core.errors import AdzerError, Cancelled, UnreadableError
from adzer.core.intake.take import add_files, facts_of
from adzer.core.job import Job
from adzer.core.light.samples import Samples
from adzer.core.look import passes
from adzer.core.look.motion import (
    FAR,
    FIRST,
    SKEW,
    STRETCH,
    SURE,
    Motion,
    Small,
    blurs,
    lit,
    moved,
    path,
    readout,
    sharp,
    through,
    wobble,
)
from adzer.core.media import probe
from adzer.core.media.decode import opened
from adzer.core.media.formats import PixelFormat
from adzer.core.read.step import assumed_samples
from adzer.core.route import Route
from adzer.core.run import analysing
from adzer.core.steady import measure
from adzer.core.steady.step import shaken

from ..foreign import clip, photograph


def placed(picture, dx, dy, roll, size):
    """A photograph moved right and down, turned clockwise and made larger about its middle, by splines that are not ours."""
    h, w = picture.shape
    turn = np.radians(roll)
    matrix = size * np.array([[np.cos(turn), np.sin(turn)], [-np.sin(turn), np.cos(turn)]])  # of (row, column)
    back, middle = np.linalg.inv(matrix), np.array([h - 1, w - 1]) / 2
    return affine_transform(picture, back, middle - back @ (middle + (dy, dx)), order=3, mode="reflect")


@pytest.mark.parametrize("name", ["coffee", "chelsea", "rocket", "brick"])
def test_a_photograph_that_was_moved_is_found_moved_so(name):
    rng = np.random.default_rng(3)
    picture = photograph(name).astype(float).mean(axis=2)
    still = np.clip(picture, 0, 255).astype(np.uint8)
    for _ in range(6):
        dx, dy, roll, size = *rng.normal(0, 4, 2), rng.normal(0, 0.6), 1 + rng.normal(0, 0.01)
        after = np.clip(placed(picture, dx, dy, roll, size) + rng.normal(0, 2, picture.shape), 0, 255).astype(np.uint8)
        x, y, turned, larger, sure, skew, stretch, *_ = moved(still, after)
        assert abs(skew) < 5e-4 and abs(stretch) < 5e-4
        assert abs(x - dx) < 0.05 and abs(y - dy) < 0.05 and abs(turned - roll) < 0.02 and abs(larger - 100 * (size - 1)) < 0.05
        assert sure > 0.7
        assert moved(still, after, 3)[0] == pytest.approx(3 * x)  # a pixel that stands for three


def test_what_moves_by_itself_does_not_count_and_what_is_not_known_is_said():
    picture = photograph("coffee").astype(float).mean(axis=2)
    after = placed(picture, 2.0, -1.0, 0.0, 1.0)
    h, w = picture.shape
    after[:, : int(0.4 * w)] = placed(picture, -9.0, 5.0, 0.0, 1.0)[:, : int(0.4 * w)]  # two fifths go elsewhere
    x, y, _, _, sure, *_ = moved(picture.astype(np.uint8), np.clip(after, 0, 255).astype(np.uint8))
    assert (x, y) == pytest.approx((2.0, -1.0), abs=0.1) and sure < 0.75
    flat = np.full((h, w), 90, np.uint8)
    other = np.ascontiguousarray(photograph("rocket").mean(axis=2)[:h, :w].astype(np.uint8))
    black = np.zeros_like(other)
    for a, b in ((flat, flat), (picture.astype(np.uint8)[: len(other)], other), (other, black)):
        assert not any(moved(a, b))


def test_a_shake_is_what_is_faster_than_a_slow_hand():
    """Sines by arithmetic; a pan and a slow drift are meant; the first and last second are as good as the rest."""
    rate, seconds = 50.0, 8.0
    t = np.arange(int(rate * seconds)) / rate
    lies = np.stack([120 * t + 40 * np.sin(2 * np.pi * 0.08 * t), 3 * np.sin(2 * np.pi * 1.8 * t), 0.2 * np.sin(2 * np.pi * 4 * t)], 1)
    rows = np.zeros((len(t), len(Motion.columns)), np.float32)
    rows[1:, :3], rows[:, 4] = np.diff(lies, axis=0), 1
    found = measure.shake(rows, rate, (640, 480))
    assert found.pixels == pytest.approx(3 / np.sqrt(2), rel=0.03) and found.roll == pytest.approx(0.2 / np.sqrt(2), rel=0.03)
    assert found.hz == pytest.approx(1.8, abs=0.05) and found.known == 1
    off = measure.trace(rows, rate)[:, 0]
    assert np.abs(off).max() < 0.015 * 40  # neither the pan nor the drift, ends and all
    wave = np.sin(2 * np.pi * 0.5 * np.arange(1500) / rate)[:, None]
    assert np.ptp(measure.slow(wave, rate)[500:1000]) / np.ptp(wave) == pytest.approx(0.5, abs=0.01)  # the cut halves
    still = np.zeros((100, len(Motion.columns)), np.float32)
    still[:, 4] = 1
    assert measure.words(measure.shake(still, rate, (640, 480))) == "stands still"
    still[:, 4] = 0
    assert measure.words(measure.shake(still, rate, (640, 480))) == "motion not known"


    still[:, 4], still[1:, 0], still[1:, 2] = 1, 40 / rate, 3 / rate
    assert measure.words(measure.shake(still, rate, (640, 480))) == "goes 40 px and turns 3.0° a second, evenly"


def _hand(picture, n):
    """A leaf of gravel that turns and goes to the left, slower than a corner's own error from frame to frame."""
    y, x = np.mgrid[: picture.shape[0], : picture.shape[1]].astype(float)
    a = np.radians(0.35 * n)
    u, v = (x - 420) * np.cos(a) + (y - 250) * np.sin(a) - 0.12 * n, -(x - 420) * np.sin(a) + (y - 250) * np.cos(a)
    gravel = photograph("gravel").astype(float).mean(axis=2)
    return np.where(np.hypot(u / 150, v / 95) < 1, map_coordinates(gravel, [v + 200, u + 200], order=1), picture)


@pytest.mark.parametrize("name", ["coffee", "rocket"])
def test_what_goes_slowly_by_itself_does_not_carry_a_tripod_away(name):
    """A photograph that stands, with a tenth of it that does not, and noise: nothing has moved after two seconds."""
    picture, rng = photograph(name).astype(float).mean(axis=2), np.random.default_rng(5)
    scale = max(360 / picture.shape[0], 640 / picture.shape[1])
    picture = zoom(picture, scale * 1.002, order=1)[:360, :640]
    kind, seen, rows = Motion(Samples(PixelFormat(8, "4:2:0"), "bt709", True)), [], []
    for n in range(49):
        now = np.clip(_hand(picture, n) + rng.normal(0, 2.5, picture.shape), 0, 255).astype(np.uint8)
        seen = [*seen, Small(n, now)][-FAR - 1 :]
        rows.append(kind.row(seen, len(seen) - 1))
    stands = path(np.array(rows, np.float32))
    assert np.hypot(stands[:, 0], stands[:, 1]).max() < 0.4 and np.abs(stands[:, 2]).max() < 0.1
    assert np.hypot(*np.sum([r[:2] for r in rows], axis=0)) > 1.2, "from frame to frame alone it would have been carried away"


def test_a_gap_is_bridged_and_a_cut_is_no_movement():
    rows = np.zeros((40, 5), np.float32)
    rows[:, 0], rows[:, 4] = 2.0, 1
    rows[10:12] = 0  # two frames are not known
    assert path(rows)[-1, 0] == pytest.approx(80)
    rows[20:30] = 0  # a long while: nothing is made up but next to what is known
    assert path(rows)[-1, 0] == pytest.approx(80 - 2 * 6)


class Counting:
    """A pass that says what window it was shown."""

    name, version, reach, columns = "counting", 1, (2, 1), ("middle", "first", "last")

    def prepared(self, frame):
        return frame.number

    def row(self, window, middle):
        return (window[middle], window[0], window[-1])


def test_a_pass_sees_the_same_windows_whole_or_span_by_span(monkeypatch):
    facts = probe.probe(str(clip("carphone_pristine")))
    n = facts.frames
    monkeypatch.setattr(passes, "SPAN", 50)
    spans = passes.spans(n)
    assert spans[0] == (0, 50) and spans[-1][1] == n and all(a[1] == b[0] for a, b in zip(spans, spans[1:], strict=False))
    kept = {passes.key(s): passes.run(Counting(), facts.sources, facts.fingerprint, s) for s in spans}
    rows = passes.rows(Counting, n, kept)
    numbers = np.arange(n)
    assert np.array_equal(rows, np.stack([numbers, np.maximum(numbers - 2, 0), np.minimum(numbers + 1, n - 1)], axis=1))
    del kept[passes.key(spans[1])]
    kept[passes.key(spans[0])] = kept[passes.key(spans[0])][:-1]  # torn
    assert passes.missing(Counting, n, kept) == spans[:2] and passes.rows(Counting, n, kept) is None
    with pytest.raises(Cancelled, match="kept"):
        passes.run(Counting(), facts.sources, facts.fingerprint, spans[0], lambda: True)
    with pytest.raises(UnreadableError):
        passes.run(Counting(), facts.sources, facts.fingerprint, (0, n + 5))


def test_an_analysis_goes_on_where_it_was_stopped_and_its_finding_outlives_undo(tmp_path, monkeypatch):
    monkeypatch.setattr(passes, "SPAN", 40)
    with Job.create(tmp_path / "mill.adzer", "Mill", Fraction(25)) as job:
        add_files(job, [clip("carphone_pristine")])
        (shot,) = job.shots()
        walk = job.walker()
        assert walk(shot)["steady"].result.wants == "motion" and walk(shot)["steady"].result.says == "left as it is"
        with pytest.raises(AdzerError, match="not been looked at to its end"):
            analysing.found("motion", shot.facts, {})
        told, real = [], analysing.analyse

        def twice(*args):
            if len(told) == 2:
                raise Cancelled("The power went.")
            return real(*args)

        monkeypatch.setattr(analysing, "analyse", twice)
        with pytest.raises(Cancelled):
            analysing.through(job, "motion", shot.facts, shot.route, told.append)
        assert [p.done for p in told] == [40, 80] and shaken(job.found(shot.facts.fingerprint)) is None
        asked = []
        monkeypatch.setattr(analysing, "analyse", lambda *args: asked.append(args[3]) or real(*args))
        analysing.through(job, "motion", shot.facts, shot.route)
        assert asked == [s for s in passes.spans(shot.facts.frames) if s[0] >= 80]
        job.decide(shot, shot.route.with_("colour", exposure=0.5), "brighter")
        job.undo()
        found = shaken(job.found(shot.facts.fingerprint))
        rows = passes.rows(Motion, shot.facts.frames, analysing.kept(job, "motion", shot.facts))
        assert found == measure.shake(rows, float(shot.facts.rate), shot.facts.raster) and found.pixels > 0.5
        stop = job.walker()(shot)["steady"]
        assert stop.result.says == measure.words(found) and not stop.result.wants
        older = records.to_json({**records.to_plain(found), "version": 0}).encode()
        job.keep_measured(shot.facts.fingerprint, "shake", older)
        assert shaken(job.found(shot.facts.fingerprint)) is None  # another reckoning's: it is asked for again
        job.keep_measured(shot.facts.fingerprint, "shake", b"{torn")
        stop = job.walker()(shot)["steady"]
        assert not stop.findings and stop.result.wants == "motion"  # what cannot be read holds nothing back


def test_motion_of_a_clip_that_is_not_ours_is_the_same_at_half_the_frames():
    """Two steps of every frame are one step of every second: what is summed must come to the same place."""
    facts = probe.probe(str(clip("bikes")))
    kind = Motion(assumed_samples(facts, Route().read))
    with opened(facts.sources) as reader:
        seen = [kind.prepared(f).picture for f in reader.frames(40, 67)]  # a ride, that turns
    each = np.array([moved(a, b) for a, b in zip(seen, seen[1:], strict=False)])
    half = np.array([moved(a, b) for a, b in zip(seen[::2], seen[2::2], strict=False)])
    both = each[::2] + each[1::2]
    assert np.abs(both[:, 0]).max() > 8 and np.corrcoef(both[:, 0], half[:, 0])[0, 1] > 0.99
    assert np.median(np.abs(both - half)[:, :2]) < 0.4


@pytest.mark.parametrize("frames", [0.6, -0.35, 0.0])
def test_how_long_rows_are_read_out_is_found_from_how_they_lean(frames):
    """A photograph, each of whose rows is taken at its own moment, by another library's splines; upwards, too; and all at once."""
    photo = photograph("coffee").astype(float).mean(axis=2)
    h, w = 300, 480
    rng = np.random.default_rng(6)

    def at(t):
        return 7.0 * np.sin(2 * np.pi * t / 9.3), 5.0 * np.sin(2 * np.pi * t / 7.1 + 1)

    seen = []
    y, x = np.mgrid[:h, :w].astype(float)
    for n in range(30):
        dx, dy = at(n + frames * ((y + 0.5) / h - 0.5))
        made = map_coordinates(photo, [y + 50 - dy, x + 60 - dx], order=3)
        seen.append(np.clip(made + rng.normal(0, 1.5, made.shape), 0, 255).astype(np.uint8))
    rows = np.array([FIRST, *(moved(a, b) for a, b in zip(seen, seen[1:], strict=False))], np.float32)
    found, error = readout(rows, h)
    assert found == pytest.approx(frames, abs=0.018) and error < 0.03  # 0.018 frames are 0.7 ms at 25 a second
    steps = np.array([np.subtract(at(n), at(n - 1)) for n in range(1, 30)])
    assert np.sqrt(((rows[1:, :2] - steps) ** 2).mean()) < 0.2
    still = rows.copy()
    still[:, :2] = still[:, 5:] = 0
    assert readout(still, h) is None


def test_cuts_and_frozen_frames_are_counted_and_only_what_is_boxed_in_counts():
    """Two photographs carried by another library, one frame shown twice, a cut; and one whose left part goes its own way, which most of it is."""
    one, two = (photograph(n).mean(axis=2)[:360, :500] for n in ("coffee", "rocket"))
    seen = [shift(one, (0.8 * n, 2.0 * n), order=3, mode="reflect") for n in range(8)]
    seen.insert(4, seen[3])
    seen += [shift(two, (-0.5 * n, 1.5 * n), order=3, mode="reflect") for n in range(7)]
    seen = [np.clip(s, 0, 255).astype(np.uint8) for s in seen]
    rows = np.array([(*FIRST, 1, 0, 0), *((*moved(a, b), 1, *lit(a, b, (0, 0))) for a, b in pairwise(seen))], np.float32)
    assert measure.cuts(rows) == 1 and measure.frozen(rows) == 1 and rows[9, SURE] == 0
    assert measure.cuts(rows[:9]) == measure.frozen(rows[5:]) == 0
    a, b = (np.clip(np.hstack([shift(one, (0, x))[:, :350], two[:, 350:]]), 0, 255).astype(np.uint8) for x in (0.0, 3.0))
    assert moved(a, b)[0] == pytest.approx(3.0, abs=0.1) and moved(a, b, within=(0.72, 0.0, 0.28, 1.0))[0] == pytest.approx(0.0, abs=0.1)


def test_what_a_held_picture_still_wobbles_is_only_what_follows_its_speed():
    """A sine's speed by its formula; leaning of other causes, and noise, are not its."""
    n, high, rng = np.arange(200.0), 1080, np.random.default_rng(3)
    rows = np.tile(np.array(FIRST, np.float32), (200, 1))
    rows[:, SURE] = 1
    amplitude, turn = np.array([9.0, 5.0]), np.array([2 * np.pi / 9.3, 2 * np.pi / 7.1])
    rows[1:, :2] = np.diff(amplitude * np.sin(turn * n[:, None]), axis=0)
    faster = -amplitude * turn * 2 * np.sin(turn / 2) * np.sin(turn * (n[:, None] - 0.5))  # of speeds at n and n - 1
    for frames in (0.0, 0.4, -0.4):
        again = rows.copy()
        again[:, [SKEW, STRETCH]] = frames * faster / high + rng.normal(0, 1e-4, faster.shape)
        meant = abs(frames) * np.sqrt((faster[2:-1] ** 2).sum(axis=1).mean()) / 2
        assert wobble(rows, again, high) == pytest.approx(meant, rel=0.05, abs=0.03), frames
    assert wobble(rows[:10], rows[:10], high) is None


def test_pictures_that_no_sensor_read_out_are_not_told_to_lean():
    """An animated film, whose rows are all of one moment, and a reading that lies within its own doubt."""
    facts = facts_of(clip("bigbuckbunny"))
    kind = Motion(assumed_samples(facts))
    rows = np.frombuffer(passes.run(kind, facts.sources, facts.fingerprint, (0, 96)), "<f4").reshape(-1, len(Motion.columns))
    assert measure.shake(rows, 25.0, facts.raster).leans is None
    for readout_, leans in (((10.0, 2.0), 10.0), ((-10.0, 2.0), -10.0), ((5.0, 2.0), None), (None, None)):
        assert measure.Shake(1.0, 0.0, None, 2.0, 1.0, readout_).leans == leans


def test_a_fast_shake_is_gone_through_at_its_own_speed():
    """Of sines up to two thirds of what the rate can hold: places between frames, and speeds, by their formula."""
    n, at = np.arange(80.0), np.linspace(12, 66, 400)
    for hz, least in ((0.1, 1e-4), (0.24, 0.01), (0.33, 0.05)):  # of a frame
        wave = np.sin(2 * np.pi * hz * n + 0.4)[:, None]
        assert np.abs(through(wave, at)[:, 0] - np.sin(2 * np.pi * hz * at + 0.4)).max() < least
        speed = 2 * np.pi * hz * np.cos(2 * np.pi * hz * at + 0.4)
        assert np.abs(through(wave, at, 1)[:, 0] - speed).max() < 3 * least * 2 * np.pi * hz
    for few in range(2, 9):
        line = np.arange(few)[:, None] * 2.0
        assert np.allclose(through(line, np.array([0.5]))[0], 1.0), few


def test_blur_that_will_pulse_is_measured():
    """A photograph carried along at changing speed, its shutter open for no time, or for half of it (another library's shifts, averaged)."""
    photo, t = photograph("gravel").mean(axis=2)[:220, :260], np.arange(44.0)

    def at(moment):
        return 9 * np.sin(2 * np.pi * moment / 11), 5 * np.sin(2 * np.pi * moment / 8.3 + 1)

    fallen = {}
    for open_for in (0.0, 0.5):
        frames = []
        for n in t:
            moments = n + open_for * ((np.arange(6) + 0.5) / 6 - 0.5) if open_for else [n]
            frames.append(np.clip(np.mean([shift(photo, at(m)[::-1], order=3, mode="reflect") for m in moments], axis=0), 0, 255).astype(np.uint8))
        rows = np.array([(*FIRST, sharp(frames[0])), *((*moved(a, b), sharp(b)) for a, b in pairwise(frames))], np.float32)
        fallen[open_for] = blurs(rows)
    assert fallen[0.0] is None and 0.1 < fallen[0.5] < 0.8
    # What gets less sharp by itself, and not as it moves, is no blur of its shutter.
    rows[:, 9] = np.random.default_rng(3).permutation(rows[:, 9])
    assert blurs(rows) is None
