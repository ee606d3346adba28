"""Stripes of a sensor: rows that lie too high in every frame, under photographs that are not ours and in the simulated world; none are made up."""

from __future__ import annotations

from dataclasses import replace

import cv2
import msgspec
import numpy as np
import pytest

from adzer.core import records
from adzer.core.develop import lines, measure, values
from adzer.core.intake.take import facts_of
from adzer.core.route import Route, walk
from adzer.core.sim import camera as cameras
from adzer.core.sim import raw

from ..foreign import photograph


def bends(rows):
    """What the eye sees of stripes: each row against those two away, which lie under the same cells."""
    return rows[2:-2] - (rows[:-4] + rows[4:]) / 2


@pytest.mark.parametrize("name, moves", [("coffee", False), ("gravel", True), ("astronaut", False)])
def test_stripes_are_found_and_none_are_made_up(name, moves):
    """A dim photograph under a filter, with photons' and reading's noise; rows with offsets of three codes, columns without."""
    photo = cv2.resize(photograph(name), None, fx=2.5, fy=2.5, interpolation=cv2.INTER_CUBIC)
    light, rng = 0.1 * (photo.astype(float) / 255) ** 2.2, np.random.default_rng(4)
    h, w = (v // 2 * 2 - 40 for v in photo.shape[:2])
    stripes = 3.0 * rng.standard_normal(h)
    for rows in (stripes, np.zeros(h)):
        frames = []
        for n in range(4):
            x, y = (6 * n, 4 * n) if moves else (0, 0)
            cells = np.empty((h, w))
            for i, c in enumerate((0, 1, 1, 2)):
                cells[i // 2 :: 2, i % 2 :: 2] = light[y + i // 2 : y + h : 2, x + i % 2 : x + w : 2, c]
            electrons = cells * 15000 + np.sqrt(cells * 15000 + 9) * rng.standard_normal((h, w), np.float32)
            frames.append(np.clip(np.rint(256 + electrons * 3839 / 15000 + rows[:, None]), 0, 4095).astype(np.float32))
        found, across = lines.off(frames), lines.off([f.T for f in frames])
        assert across is None and (found is not None) == bool(rows.any())
        if found is not None:
            left = np.sqrt((bends(rows - found) ** 2).mean() / (bends(rows) ** 2).mean())
            assert left < 0.3 and np.abs(found).max() < 15, left


def test_the_simulated_sensors_stripes_are_taken_off_by_a_click(tmp_path):
    """Against the electrons that it added to each row: a fifth is left."""
    world = replace(cameras.load("raw-body"), raster=(640, 360))
    dark = replace(world, recorder=replace(world.recorder, exposure=-5.0))
    raw.shoot_sequence(dark, tmp_path / "reeds", "reeds", "dng", range(1, 7), body=raw.Body(rows=20.0))
    facts = facts_of(tmp_path / "reeds")
    fixed = np.random.default_rng([1, 99]).standard_normal((360, 1))[:, 0] * 20.0 / dark.recorder.full_well * (raw.WHITE - raw.BLACK)
    found = measure.held(facts, Route().develop)
    assert not found.columns and np.sqrt((bends(np.array(found.rows) - fixed) ** 2).mean()) < 0.2 * np.sqrt((bends(fixed) ** 2).mean())
    walked = walk(Route(), facts, measured={"values": records.to_json(found).encode()})
    finding = next(f for f in walked["develop"].findings if f.code == "fixed-rows")
    mended = Route().mended(finding.fix)
    assert "fixed-rows" not in [f.code for f in walk(mended, facts, measured={"values": records.to_json(found).encode()}).findings]
    sensor = values.sensor_of(facts, mended.develop)
    assert sensor.down == found.rows and sensor.across == facts.sensor.across
    # What the file says of its rows' black is known already; of another sensor nothing is taken off.
    told = replace_sensor(facts, down=found.rows)
    assert not measure.held(told, Route().develop).rows
    both = values.sensor_of(told, mended.develop)
    assert np.allclose(both.down, 2 * np.array(found.rows))
    assert values.sensor_of(facts, Route().with_("develop", rows=[1.0] * 3).develop).down == facts.sensor.down


def replace_sensor(facts, **changes):
    return msgspec.structs.replace(facts, sensor=msgspec.structs.replace(facts.sensor, **changes))


@pytest.mark.parametrize("pattern", [False, True])
@pytest.mark.parametrize("name, at", [("coffee", (61, 122)), ("brick", (61, 122)), ("page", (122,))])  # of lines of text it says nothing
def test_a_row_that_is_off_alone_is_told_from_what_the_lens_draws(name, at, pattern):
    """A photograph that moves a little, with photons' noise; two rows off by 14 and −11 codes, by themselves or besides stripes of three."""
    photo = cv2.resize(photograph(name), None, fx=2.5, fy=2.5, interpolation=cv2.INTER_CUBIC).mean(-1)[:360, :640].clip(0, 255)
    h, w = photo.shape
    rng = np.random.default_rng(5)
    stripes = np.round(rng.normal(0, 3, h), 1) if pattern else np.zeros(h)
    rows = stripes.copy()
    rows[[61, 122]] = 14.0, -11.0
    drawn = stripes.copy()
    drawn[[61, 62]] += 14.0  # two rows wide, as a lens may draw it
    for offsets in (rows, stripes, drawn):
        frames = []
        for n in range(6):
            electrons = 20 + 900 * np.roll(photo, 2 * (n % 2), 1) / 255
            electrons = electrons + rng.standard_normal((h, w)) * np.sqrt(electrons + 9)
            frames.append(np.clip(np.rint(256 + electrons * 3839 / 15000 + offsets[:, None]), 0, 4095).astype(np.float32))
        found = lines.off(frames)
        if not pattern:
            assert (found is None) == (offsets is not rows)
        if offsets is rows:
            assert found is not None and found[list(at)] == pytest.approx(rows[list(at)], abs=4.0 if pattern else 3.0)
            assert pattern or set(np.flatnonzero(found)) == set(at)
