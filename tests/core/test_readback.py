"""The read-back, with faults put in between what was witnessed and what is written; on footage that is not ours."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import av
import msgspec
import numpy as np
import pytest

from adzer.core.cards import delivery
from adzer.core.compile import freeze
from adzer.core.errors import RenderFailed
from adzer.core.intake.take import read_file
from adzer.core.media import audio, packets
from adzer.core.media.encode import Writer
from adzer.core.route import Route
from adzer.core.run import hearing
from adzer.core.run import render as rendering
from adzer.core.run.render import render

from .. import foreign

RATE, SECONDS, FPS = 48000, 24, 4
PLAIN = Route().with_("read", curve="bt709").with_("shape", hold="native")


def sounds() -> list[np.ndarray]:
    """A stereo pair and a second one, (2, samples) each: a voice with pauses, wind, bells; no two channels alike."""
    t = np.arange(RATE * SECONDS) / RATE
    rng = np.random.default_rng(4)
    pitch = 2 * np.pi * np.cumsum(120 * (1 + 0.1 * np.sin(2 * np.pi * 0.8 * t))) / RATE
    voice = sum(np.sin(k * pitch) / k for k in range(1, 16)) * 0.12 * np.clip(np.sin(2 * np.pi * 1.7 * t) + 0.4, 0, 1)
    wind = np.convolve(rng.standard_normal(len(t)), np.hanning(40) / 20, "same") * (0.06 + 0.04 * np.sin(2 * np.pi * 0.3 * t))
    bells = sum(np.sin(2 * np.pi * f * t) for f in (523, 659, 880)) * 0.1 * np.exp(-3 * (t % 0.75))
    return [np.stack([voice + 0.3 * wind, bells + 0.2 * voice]), np.stack([wind, 0.5 * bells + wind])]


@pytest.fixture(scope="module")
def recording(tmp_path_factory) -> Path:
    return recorded(tmp_path_factory.mktemp("foreign") / "recording.mkv", sounds())


@pytest.fixture(scope="module")
def mute(tmp_path_factory) -> Path:
    return recorded(tmp_path_factory.mktemp("foreign") / "mute.mkv", [])


def recorded(path: Path, sounds: list[np.ndarray]) -> Path:
    with av.open(str(foreign.clip("bikes"))) as source, av.open(str(path), "w") as target:
        video = target.add_stream("libx264", rate=FPS, options={"crf": "10", "preset": "ultrafast"})
        video.width, video.height, video.pix_fmt = 256, 144, "yuv420p"
        tracks = [target.add_stream("flac", rate=RATE, layout="stereo") for _ in sounds]
        for n, frame in enumerate(source.decode(video=0)):
            if n == FPS * SECONDS:
                break
            small = frame.reformat(256, 144, "yuv420p")
            small.pts, small.time_base = n, Fraction(1, FPS)
            target.mux(video.encode(small))
        target.mux(video.encode(None))
        for track, sound in zip(tracks, sounds, strict=True):
            codes = np.ascontiguousarray((np.clip(sound, -1, 1) * 32767).astype(np.int16).T.reshape(1, -1))
            for at in range(0, RATE * SECONDS, 4096):
                piece = av.AudioFrame.from_ndarray(codes[:, 2 * at : 2 * (at + 4096)], "s16", "stereo")
                piece.sample_rate, piece.pts, piece.time_base = RATE, at, Fraction(1, RATE)
                target.mux(track.encode(piece))
            target.mux(track.encode(None))
    return path


def order(recording, tmp_path, card="web-wide", route=PLAIN, options=None, stop=None, raster=(256, 144)):
    facts, seen = read_file(recording)
    made = freeze("foreign", facts, route, card, tmp_path / f"m.{delivery(card).container}", 0, stop, seen, raster=raster)
    if options:
        made = msgspec.structs.replace(made, card=msgspec.structs.replace(made.card, options=options))
    return made


def _blurred(y):
    row = np.apply_along_axis(np.convolve, 1, y, np.hanning(7)[1:-1] / 3, "same")
    return np.apply_along_axis(np.convolve, 0, row, np.hanning(7)[1:-1] / 3, "same")


def _block(y):
    y[50:74, 90:122] += np.random.default_rng(1).normal(0, 40, (24, 32))
    return y


PICTURES = {
    "luma + 2": lambda y: y + 2,
    "luma + 5": lambda y: y + 5,
    "contrast": lambda y: (y - 128) * 1.3 + 128,
    "mirrored": lambda y: y[:, ::-1],
    "upside down": lambda y: y[::-1],
    "moved 4 px": lambda y: np.roll(y, 4, axis=1),
    "moved down 1 px": lambda y: np.roll(y, 1, axis=0),
    "blurred": _blurred,
    "a block of noise": _block,
    "as if full range": lambda y: (y - 16) * 255 / 219,
}
MOMENTS = ("one black", "one repeated", "two exchanged", "the last ten frozen")
COLOURS = ("no colour", "chroma exchanged", "chroma + 4")


def _mixed(y, cb, cr):
    """Codes of BT.709 written as those of BT.601."""
    r, b = y + 1.793 * (cr - 128), y + 2.112 * (cb - 128)
    g = y - 0.534 * (cr - 128) - 0.213 * (cb - 128)
    luma = 0.299 * r + 0.587 * g + 0.114 * b
    return luma, 128 + (b - luma) / 1.772 * 0.893, 128 + (r - luma) / 1.402 * 0.893


def _half(plane):
    return plane.reshape(plane.shape[0] // 2, 2, plane.shape[1] // 2, 2).mean(axis=(1, 3))


def _matrix(y, cb, cr):
    small = _mixed(_half(y), cb, cr)
    return y + np.kron(small[0] - _half(y), np.ones((2, 2))), small[1], small[2]


# Of all three planes, as floats: (luma, Cb, Cr) → the same. ``now`` counts the frames.
PLANES = {
    "chroma moved by 1 sample": lambda y, b, r: (y, np.roll(b, 1, 1), np.roll(r, 1, 1)),
    "chroma moved by 4 samples": lambda y, b, r: (y, np.roll(b, 4, 1), np.roll(r, 4, 1)),
    "chroma moved down by 1 sample": lambda y, b, r: (y, np.roll(b, 1, 0), np.roll(r, 1, 0)),
    "noise of 8 codes": lambda y, b, r: (y + np.random.default_rng(1).normal(0, 8, y.shape), b, r),
    "a white row in every frame": lambda y, b, r: (np.where(np.arange(len(y))[:, None] == 70, 235, y), b, r),
    "a green column in every frame": lambda y, b, r: (y, np.where(np.arange(b.shape[1]) == 40, 60, b), np.where(np.arange(b.shape[1]) == 40, 60, r)),
    "saturation x 0.9": lambda y, b, r: (y, 128 + (b - 128) * 0.9, 128 + (r - 128) * 0.9),
    "another matrix": _matrix,
}


@pytest.mark.parametrize("fault", [*PLANES, "chroma of five frames before", "green for ten frames"])
def test_a_fault_of_colour_place_or_grain_gets_no_name(mute, tmp_path, monkeypatch, fault):
    """Put in between what was witnessed and the encoder; colours of the clip lie 3 codes from grey (rms)."""
    made = order(mute, tmp_path, stop=72)
    w, h = made.card.max_raster
    real, before = Writer.write, []

    def planes(frame):
        held = [np.frombuffer(memoryview(p), np.uint8).reshape(p.height, p.line_size) for p in frame.planes]
        return [held[0][:h, :w], *(p[: h // 2, : w // 2] for p in held[1:])]

    def write(self, frame, pts):
        held = planes(frame)
        now = [p.astype(float) for p in held]
        before.append(now)
        if fault in PLANES:
            now = PLANES[fault](*now)
        elif fault == "chroma of five frames before":
            now = [now[0], *before[max(0, len(before) - 6)][1:]]
        elif 30 <= len(before) < 40:
            now = [now[0], np.full_like(now[1], 54), np.full_like(now[2], 34)]
        for plane, value in zip(held, now, strict=True):
            plane[:] = np.clip(np.rint(value), 0, 255)
        real(self, frame, pts)

    monkeypatch.setattr(Writer, "write", write)
    with pytest.raises(RenderFailed, match="failed its check"):
        render(made)


@pytest.mark.parametrize("turn", [90, 180])
def test_a_turn_that_nobody_ordered_gets_no_name(mute, tmp_path, monkeypatch, turn):
    made, real = order(mute, tmp_path, stop=24), rendering.join

    def join(plan, *rest):
        return real(replace(plan, target=replace(plan.target, turn=turn)), *rest)

    monkeypatch.setattr(rendering, "join", join)
    with pytest.raises(RenderFailed, match="turn is"):
        render(made)


@pytest.mark.parametrize("fault", [*PICTURES, *MOMENTS, *COLOURS])
def test_a_picture_that_is_not_what_went_in_gets_no_name(mute, tmp_path, monkeypatch, fault):
    made = order(mute, tmp_path, stop=60)
    w, h = made.card.max_raster
    real, kept, count = Writer.write, [], [0]

    def planes(frame):
        return [np.frombuffer(memoryview(p), np.uint8).reshape(p.height, p.line_size) for p in frame.planes]

    def write(self, frame, pts):
        luma, cb, cr = planes(frame)
        n, count[0] = count[0], count[0] + 1
        now = [luma.copy(), cb.copy(), cr.copy()]
        if fault in PICTURES:
            luma[:h, :w] = np.clip(np.rint(PICTURES[fault](luma[:h, :w].astype(float))), 0, 255)
        elif fault == "one black" and n == 31:
            luma[:], cb[:], cr[:] = 16, 128, 128
        elif (fault == "one repeated" and n == 31) or (fault == "two exchanged" and n == 32):
            luma[:], cb[:], cr[:] = kept[0]
        elif fault == "the last ten frozen" and n >= 50:
            luma[:], cb[:], cr[:] = kept[0]
            now = kept[0]
        elif fault == "no colour":
            cb[:], cr[:] = 128, 128
        elif fault == "chroma exchanged":
            cb[:], cr[:] = now[2], now[1]
        elif fault == "chroma + 4":
            cb += 4
        kept[:] = [now]
        real(self, frame, pts)

    monkeypatch.setattr(Writer, "write", write)
    with pytest.raises(RenderFailed, match="failed its check"):
        render(made)
    assert not Path(made.out).exists()


def _silent(data, channel, n):
    data[channel] = 0
    return data


SOUNDS = {
    "left and right exchanged": lambda d, at, stream: d[::-1] if stream == 0 else d,
    "one channel silent": lambda d, at, stream: d * np.array([[1], [0]]) if stream == 0 else d,
    "second stream silent": lambda d, at, stream: d * (stream == 0),
    "all after 20 s silent": lambda d, at, stream: d * (at < 20 * RATE),
    "18 dB down": lambda d, at, stream: d / 8,
    "1.5 dB up in one channel": lambda d, at, stream: d * np.array([[1.19], [1]]) if stream == 1 else d,
    "4 ms late": "late",
    "second stream twice": "twice",
}


@pytest.mark.parametrize("fault", SOUNDS)
def test_sound_that_is_not_what_was_recorded_gets_no_name(recording, tmp_path, monkeypatch, fault):
    stop = None if "20 s" in fault else FPS * 14
    made, real = order(recording, tmp_path, options={"preset": "ultrafast", "crf": "20"}, stop=stop), audio.samples

    def samples(path, start, stop, stream=0, layout=None, fmt="fltp", rate=None):
        if SOUNDS[fault] == "late":
            start, stop = start - Fraction(4, 1000), stop - Fraction(4, 1000)
        if SOUNDS[fault] == "twice":
            stream = 0
        for frame in real(path, start, stop, stream, layout, fmt, rate):
            if callable(SOUNDS[fault]):
                data = np.ascontiguousarray(SOUNDS[fault](frame.to_ndarray(), frame.pts, stream), np.float32)
                pts, base = frame.pts, frame.time_base
                frame = av.AudioFrame.from_ndarray(data, fmt, frame.layout.name)
                frame.sample_rate, frame.pts, frame.time_base = RATE, pts, base
            yield frame

    monkeypatch.setattr(audio, "samples", samples)
    with pytest.raises(RenderFailed, match="was not kept: sound"):
        render(made)


@pytest.mark.parametrize("card", ["web-wide", "archive"])
def test_one_byte_that_the_disk_changes_is_found(recording, tmp_path, monkeypatch, card):
    """In a packet that decodes all the same, or of sound; wherever it lies."""
    made, real = order(recording, tmp_path, card, stop=40), rendering.join

    def join(plan, order_, segments, out, *rest):
        said = real(plan, order_, segments, out, *rest)
        with av.open(str(out)) as file:
            places = [(p.pos, p.size) for p in file.demux() if p.size > 40 and p.pos]
        data = bytearray(out.read_bytes())
        at, size = places[len(places) // 2]
        data[at + size - 3] ^= 4
        out.write_bytes(data)
        return said

    monkeypatch.setattr(rendering, "join", join)
    with pytest.raises(RenderFailed, match="encoder"):
        render(made)


@pytest.mark.parametrize(
    "card, options, grain",
    [
        ("web-wide", {"crf": "40", "preset": "veryfast"}, 0), ("native-wide", {"crf": "26", "preset": "ultrafast"}, 15),
        ("web-wide", {"b": "60k", "preset": "veryfast"}, 6), ("archive", None, 10),
    ],
)  # fmt: skip
def test_good_masters_pass_however_strongly_they_are_compressed(recording, tmp_path, monkeypatch, card, options, grain):
    """Small and grainy: the grain is put in before what is witnessed."""
    from adzer.core.run.pixels import Processor

    real, rng = Processor.run, np.random.default_rng(9)

    def run(self, sources, target, time=0.0, coming=None):
        real(self, sources, target, time, coming)
        noise = rng.normal(0, grain * 2 ** (self.plan.target.format.bits - 8), target[0].shape)
        target[0][:] = np.clip(target[0] + noise, 0, self.plan.target.top)

    monkeypatch.setattr(Processor, "run", run)
    made = order(recording, tmp_path, card, options=options, stop=48, raster=(128, 72))
    checked = render(made)
    assert checked.passed and any("frames come back" in c.text for c in checked.checks)


@pytest.mark.parametrize("speed", ["1/2", "24/25"])
def test_slow_and_fast_sound_passes_its_check_and_its_check_hears_a_fault(recording, tmp_path, monkeypatch, speed):
    made = order(recording, tmp_path, "archive", PLAIN.with_("shape", speed=speed), stop=64)
    checked = render(made)
    assert sum("ms off" in c.text for c in checked.checks) == 2
    speed, span = Fraction(speed), (Fraction(0), Fraction(16))
    for fault, pattern in ((lambda d: np.roll(d, 960), "ms off"), (lambda d: d / 8, "dB off"), (lambda d: d[::-1], "place")):
        real = hearing.seconds_of

        def heard(source, *rest, fault=fault, real=real):
            for piece in real(source, *rest):
                yield fault(piece) if source == Path(made.out) else piece

        with monkeypatch.context() as patch:
            patch.setattr(hearing, "seconds_of", heard)
            bad = hearing.compare(recording, *span, Path(made.out), Fraction(0), 0, speed)
        assert any(pattern in f for f in bad.faults)


def test_a_packet_is_known_by_what_it_holds_not_by_how_it_is_framed():
    sets, picture, rest = b"\x67\x42\x00\x1e", b"\x65" + bytes(range(1, 90)), b"\x41\x9a\x01\x00\x00\x03\x02"
    started = b"\0\0\0\1" + sets + b"\0\0\1" + picture + b"\0\0\0\1" + rest
    framed = b"".join(len(u).to_bytes(4, "big") + u for u in (picture, rest))
    wanted = packets.packet_print(started, "h264", framed=False)
    assert wanted == packets.packet_print(framed, "h264", framed=True)
    assert wanted != packets.packet_print(framed.replace(b"\x05\x06", b"\x05\x07"), "h264", framed=True)
    assert packets.packet_print(started, "ffv1", False) == packets.packet_print(started, "ffv1", True)


def test_looks_lean_by_what_a_moved_picture_differs():
    """Against a photograph moved by one pixel, reckoned from the pixels themselves."""
    from adzer.core.run.witness import block_side, look, luma_blocks

    luma = np.ascontiguousarray(foreign.photograph("chelsea")[..., 1][:240, :400])
    planes = [np.ascontiguousarray(luma[:, :320]), np.ascontiguousarray(luma[:, 1:321])]
    flat = np.full((120, 160), 128, np.uint8)
    here, left = (look((p, flat, flat), (320, 240), (2, 2)) for p in planes)
    n, side = luma_blocks((320, 240)), block_side(320)
    means = planes[0][: side * 3, : side * 3].reshape(3, side, 3, side).mean(axis=(1, 3))
    assert np.allclose(here.means[:n].reshape(-1, -(-320 // side))[:3, :3], means, atol=1e-4)
    inner = np.arange(n) % -(-320 // side) < 320 // side - 1
    assert np.abs(left.means[:n] - here.means[:n] - here.tilt[0])[inner].max() < 1e-3
    assert replace(here, print=1) != here
