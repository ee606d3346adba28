"""Recordings of one moment: sounds and movements made by arithmetic and other libraries, heard in different rooms, by other clocks."""

from __future__ import annotations

import json
import wave
from fractions import Fraction

import av
import numpy as np
import pytest
from scipy.ndimage import map_coordinates
from scipy.signal import butter, fftconvolve, resample_poly, sosfilt, sosfiltfilt
from typer.testing import CliRunner

from adzer.cli.main import app
from adzer.core.errors import AdzerError, UnreadableError
from adzer.core.join.find import partners
from adzer.core.look.together import RATE, by_motion, by_sound
from adzer.core.media import probe
from adzer.core.run import syncing

from ..foreign import clip, photograph


def talk(seconds, seed):
    """Bursts of noise like words, four times as finely sampled as it is listened to."""
    rng, n = np.random.default_rng(seed), int(seconds * RATE)
    loud, at = np.zeros(n), 0
    while at < n:
        long = int(rng.uniform(0.05, 0.3) * RATE)
        loud[at : at + long] = np.hanning(long)[: n - at] * rng.uniform(0.2, 1)
        at += long + int(rng.exponential(0.25) * RATE)
    voice = loud * sosfilt(butter(2, (150, 1800), "bandpass", fs=RATE, output="sos"), rng.normal(size=n))
    return resample_poly(voice / voice.std() * 0.1, 4, 1)


def heard(world, start, seconds, seed, ppm=0.0, noise=0.3, rate=RATE):
    """From ``start`` on, by a clock that runs ``ppm`` fast, in a room of its own, with noise of its own."""
    rng = np.random.default_rng((9, seed))  # nothing that the world's own numbers came of
    t = start + np.arange(int(seconds * rate)) / rate / (1 + ppm * 1e-6)
    sound = np.interp(t * 4 * RATE, np.arange(len(world)), world)
    room = rng.normal(size=int(0.3 * rate)) * np.exp(-np.arange(int(0.3 * rate)) / (0.06 * rate)) * 0.2
    room[0] = 6
    sound = fftconvolve(sound, room)[: len(t)]
    sound = sound / sound.std() * 0.1
    return (sound + rng.normal(size=len(t)) * 0.1 * noise).astype(np.float32)


@pytest.mark.parametrize(("seed", "seconds", "noise"), [(1, 8, 0.1), (2, 20, 0.7), (3, 60, 0.7), (4, 150, 1.4)])
def test_two_clocks_are_told_by_what_both_heard(seed, seconds, noise):
    rng = np.random.default_rng(seed)
    offset, ppm = rng.uniform(-5, 5) if seconds > 10 else rng.uniform(-2, 2), rng.uniform(-20, 20)
    world = talk(seconds + 20, seed)
    found = by_sound(heard(world, 8, seconds, 10 + seed, noise=noise), heard(world, 8 + offset, seconds, 20 + seed, ppm, noise))
    assert abs(found.offset - offset) < min(1e-3, found.uncertainty + 1e-5) and found.confidence > 0.9
    if seconds >= 60:
        assert abs(found.drift - ppm) < min(5, 2 * found.drift_uncertainty + 0.3)
        for t, lag in found.course:  # what was heard at t, the other has at (t − offset)(1 + drift)
            assert t - lag == pytest.approx((t - offset) * (1 + ppm * 1e-6), abs=5e-4)
    else:
        assert found.drift is None or abs(found.drift - ppm) < 3 * found.drift_uncertainty + 1


def test_what_was_heard_apart_silence_and_a_loop_are_no_answer():
    for seed in range(4):
        other = by_sound(heard(talk(40, seed), 8, 25, 1), heard(talk(40, 90 + seed), 8, 25, 2))
        assert other.confidence < 0.5 and not other.lost
    world = talk(45, 5)
    silent = by_sound(heard(world, 8, 20, 1), np.zeros(20 * RATE, np.float32))
    assert silent.confidence == 0 and silent.lost and "silent" in silent.says
    short = by_sound(heard(world, 8, 3, 1), heard(world, 8, 20, 2))
    assert short.confidence == 0 and "less than 4 s" in short.says
    loop = np.tile(talk(2, 7), 20)
    again = by_sound(heard(loop, 6, 24, 1, noise=0.02), heard(loop, 7.3, 24, 2, noise=0.02))
    assert again.confidence < 0.5 and "again and again" in again.says


def test_sound_that_is_not_ours_is_put_in_step():
    """A film's own voices and music; the second copy begins later and is noisier."""
    taken = av.AudioResampler("fltp", "mono", RATE)
    with av.open(str(clip("bigbuckbunny"))) as container:
        sound = np.concatenate([made.to_ndarray()[0] for f in container.decode(audio=0) for made in taken.resample(f)])
    for offset in (1600, 4136):  # samples
        later = sound[offset:] + np.random.default_rng(1).normal(0, 0.3 * sound.std(), len(sound) - offset).astype(np.float32)
        found = by_sound(sound[:-offset], later)
        assert abs(found.offset - offset / RATE) < 1e-4 and found.confidence > 0.9
        assert by_sound(sound[:-offset], later[::-1].copy()).confidence < 0.5  # backwards, nobody has heard it


def hand(seed, seconds=40):
    """(3, milliseconds) pixels right, down, degrees, of a hand that shakes by about two pixels a frame."""
    made = sosfiltfilt(butter(2, (0.3, 4), "bandpass", fs=1000, output="sos"), np.random.default_rng(seed).normal(size=(3, seconds * 1000)), axis=1)
    return made / np.diff(made, axis=1).std(axis=1, keepdims=True) / 40 * np.array([[2.5], [2.5], [0.12]])


def moved_rows(path, start, times, seed):
    rng = np.random.default_rng(seed)
    lies = np.stack([np.interp((times + start) * 1000, np.arange(path.shape[1]), v) for v in path], 1)
    rows = np.zeros((len(times), 5), np.float32)
    rows[1:, :3] = np.diff(lies, axis=0) + rng.normal(0, (2.0, 0.05, 0.005), (len(times) - 1, 3))  # sideways, depth hides it
    rows[:, 4] = 1
    return rows


@pytest.mark.parametrize(("seed", "rate"), [(0, 25), (1, 30), (2, 24), (3, 50)])
def test_two_clocks_are_told_by_how_both_moved(seed, rate):
    offset = np.random.default_rng(seed).uniform(-5, 5)
    ta, tb = np.arange(0, 20, 1 / 25), np.arange(0, 20, 1 / rate)
    a = moved_rows(hand(seed), 8, ta, 1)
    found = by_motion(a, ta, moved_rows(hand(seed), 8 + offset, tb, 2), tb)
    assert abs(found.offset - offset) < min(0.1 / 25, found.uncertainty) and found.confidence > 0.9
    other = by_motion(a, ta, moved_rows(hand(90 + seed), 8, tb, 2), tb)
    assert other.confidence < 0.5 and "does not settle" in other.says
    still = moved_rows(np.zeros((3, 40000)), 8, tb, 2)
    assert by_motion(a, ta, still, tb).confidence == 0


def film(path, seconds, sound=None, path_=None, start=0.0, rate=25, timecode=None):
    """A small film by the library alone: a photograph, moved or not, and a sound of 48 kHz, or none."""
    picture = photograph("coffee").mean(axis=2)[20:380, 20:580]
    still = None
    with av.open(str(path), "w") as out:
        if timecode:
            out.metadata["timecode"] = timecode
        stream = out.add_stream("mpeg4", rate=rate)
        stream.width, stream.height, stream.pix_fmt, stream.bit_rate = 256, 144, "yuv420p", 2_000_000
        voice = out.add_stream("pcm_s16le", rate=48000, layout="mono") if sound is not None else None
        v, u = np.mgrid[0:144, 0:256].astype(float)
        for n in range(int(seconds * rate)):
            x, y, roll = (np.interp((start + n / rate) * 1000, np.arange(path_.shape[1]), p) for p in path_) if path_ is not None else (0, 0, 0)
            c, s = np.cos(np.radians(roll)), np.sin(np.radians(roll))
            if path_ is not None or still is None:
                at = (180 + s * (u - 128) + c * (v - 72) - y, 280 + c * (u - 128) - s * (v - 72) - x)
                still = map_coordinates(picture, at, order=1, mode="reflect").astype(np.uint8)
            out.mux(stream.encode(av.VideoFrame.from_ndarray(np.dstack([still] * 3), format="rgb24")))
        out.mux(stream.encode(None))
        if voice is not None:
            frame = av.AudioFrame.from_ndarray((np.clip(sound, -1, 1) * 32767).astype(np.int16)[None], format="s16", layout="mono")
            frame.rate, frame.pts = 48000, 0
            out.mux(voice.encode(frame))
            out.mux(voice.encode(None))
    return path


def adzer(*words):
    return CliRunner().invoke(app, [str(w) for w in words])


def test_files_sounds_and_timecodes_are_put_in_step(tmp_path):
    world, path = talk(40, 3), hand(3)
    a = film(tmp_path / "a.mov", 10, heard(world, 8, 10, 1, rate=48000), path, 8, timecode="10:00:00:00")
    b = film(tmp_path / "b.mov", 9, heard(world, 9.237, 9, 2, rate=48000), path, 9.237, timecode="10:00:01:06")
    recorder = tmp_path / "r.wav"
    with wave.open(str(recorder), "wb") as out:
        out.setnchannels(1)
        out.setsampwidth(2)
        out.setframerate(RATE)
        out.writeframes((heard(world, 6.5, 20, 3) * 32767).astype("<i2").tobytes())
    told = json.loads(adzer("sync", a, b, "--json").stdout)
    assert told["by"] == "sound" and told["offset"] == pytest.approx(1.237, abs=1e-3) and told["confidence"] > 0.9
    assert "+1.240 s" in told["says"]["timecode"] and "otherwise" not in told["says"]["timecode"]
    assert syncing.in_step(a, recorder).offset == pytest.approx(-1.5, abs=1e-3)
    lying = film(tmp_path / "lying.mov", 9, heard(world, 9.237, 9, 2, rate=48000), timecode="17:20:01:06")
    found = syncing.in_step(a, lying)
    assert found.offset == pytest.approx(1.237, abs=1e-3) and "By sound it is otherwise" in found.says["timecode"]
    silent = [film(tmp_path / f"s{n}.mov", 8, None, path, t, 30) for n, t in enumerate((8.0, 8.71))]
    found = syncing.in_step(*silent)
    assert found.by == "motion" and found.offset == pytest.approx(0.71, abs=0.1 / 30) and found.uncertainty < 0.1
    coded = film(tmp_path / "coded.mov", 4, None, None, timecode="10:00:02:00")
    found = syncing.in_step(film(tmp_path / "coded2.mov", 4, None, None, timecode="10:00:00:00"), coded)
    assert (found.by, found.offset) == ("timecode", 2.0)
    still = [film(tmp_path / f"still{n}.mov", 4) for n in (0, 1)]
    done = adzer("sync", *still)
    assert done.exit_code == 1 and "cannot tell" in done.stdout and "hardly move" in done.output
    (tmp_path / "no.mov").write_bytes(b"no")
    with pytest.raises(UnreadableError, match=r"no\.mov"):
        syncing.in_step(a, tmp_path / "no.mov")


def test_pairs_are_found_under_equal_names_and_decoys_refused(tmp_path):
    """Three pairs of equal names in another order, one of them silent, and one stranger on each side."""
    left, right = tmp_path / "left", tmp_path / "right" / "card" / "100"  # folders below are looked through
    left.mkdir()
    right.mkdir(parents=True)
    offsets = {0: 0.8, 1: -1.31, 2: 1.12}
    order = [2, 0, 1]
    for n, at in offsets.items():
        sounds = [heard(talk(30, 40 + n), 6 + t, 7, 50 + k, rate=48000) if n < 2 else None for k, t in enumerate((0, at))]
        held = hand(60 + n) if n == 2 else None  # those that are heard need not move
        film(left / f"C{n:04}.mov", 7, sounds[0], held, 6)
        film(right / f"C{order.index(n):04}.mov", 7, sounds[1], held, 6 + at)
    film(left / "C0008.mov", 7, heard(talk(30, 80), 6, 7, 1, rate=48000))
    film(right / "C0009.mov", 7, None, hand(82), 6)
    (right / "notes.txt").write_text("no recording")
    told = json.loads(adzer("pairs", left, tmp_path / "right", "--json").stdout)
    made = {p["first"][-9:-4]: (p["second"][-9:-4], p["offset"], p["by"]) for p in told["pairs"]}
    assert set(made) == {f"C{n:04}" for n in offsets}
    for n, at in offsets.items():
        second, offset, by = made[f"C{n:04}"]
        assert second == f"C{order.index(n):04}" and by == ("sound" if n < 2 else "motion")
        assert offset == pytest.approx(at, abs=1e-3 if n < 2 else 0.1 / 25)
    assert [f[-9:] for f in told["alone"]] == ["C0008.mov", "C0009.mov"]
    (tmp_path / "nothing").mkdir()
    with pytest.raises(AdzerError, match="no folder with recordings"):
        syncing.pairs(left, tmp_path / "nothing")


def test_what_two_would_be_as_sure_of_is_nobodys():
    facts = probe.probe(str(clip("bikes")))
    sure = {(0, 0): 0.9, (0, 1): 0.85, (1, 0): 0.2, (1, 1): 0.1}
    assert partners([facts] * 2, [facts] * 2, lambda i, j: (0.0, sure[i, j], "sound"), 0.5) == []
    sure[0, 1] = 0.3
    assert [(p.first, p.second) for p in partners([facts] * 2, [facts] * 2, lambda i, j: (0.0, sure[i, j], "sound"), 0.5)] == [(0, 0)]
    slow = probe.FileFacts(**{**{f: getattr(facts, f) for f in facts.__struct_fields__}, "rate": Fraction(24)})
    assert partners([facts], [slow], lambda i, j: (0.0, 1.0, "sound"), 0.5) == []
