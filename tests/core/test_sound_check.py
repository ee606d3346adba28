"""Sound of every layout through every encoder, and faults put into it: what is good passes, what is not does not."""

from __future__ import annotations

from fractions import Fraction
from functools import cache

import av
import numpy as np
import pytest

from adzer.core.errors import UnreadableError
from adzer.core.media import audio
from adzer.core.run import hearing

RATE, SECONDS = 48000, 6
TIME = np.arange(RATE * SECONDS) / RATE
LAYOUTS = (
    "mono", "stereo", "2.1", "3.0", "quad", "4.0", "5.0", "5.1", "5.1(side)", "6.1", "7.0", "7.1", "7.1(wide)", "5.1.2", "5.1.4", "7.1.2", "7.1.4"
)  # fmt: skip


@cache
def wave(count, seed=1):
    """(channels, samples): each channel of its own pitch and rhythm, with some noise; low effects stay low."""
    t, rng = TIME, np.random.default_rng(seed)
    made = []
    for c in range(count):
        second = sum(np.sin(2 * np.pi * (150 + 61 * c) * k * t[:RATE] + k) / k for k in range(1, 14))  # whole periods of each
        swells = 0.6 + 0.4 * np.sin(2 * np.pi * (0.7 + 0.13 * c) * t)
        made.append(0.12 * np.tile(second, SECONDS) * swells + 0.01 * rng.standard_normal(len(t)))
    return np.array(made)


def written(path, data, layout, codec="pcm_s16le", rate=RATE):
    with av.open(str(path), "w") as target:
        video = target.add_stream("libx264", rate=5)
        video.width, video.height, video.pix_fmt = 64, 48, "yuv420p"
        sound = target.add_stream(codec, rate=rate, layout=layout)
        for n in range(5 * SECONDS):
            frame = av.VideoFrame(64, 48, "yuv420p")
            frame.pts = n
            target.mux(video.encode(frame))
        target.mux(video.encode(None))
        codes = np.ascontiguousarray((np.clip(data, -1, 1) * 32767).astype(np.int16).T.reshape(1, -1))
        for at in range(0, data.shape[1], 4096):
            piece = av.AudioFrame.from_ndarray(codes[:, at * len(data) : (at + 4096) * len(data)], "s16", layout)
            piece.sample_rate, piece.pts, piece.time_base = rate, at, Fraction(1, rate)
            target.mux(sound.encode(piece))
        target.mux(sound.encode(None))
    return path


def mastered(source, path, codec, kbits=256, stop=Fraction(SECONDS)):
    with av.open(str(path), "w") as target:
        video = target.add_stream("libx264", rate=5)
        video.width, video.height, video.pix_fmt = 64, 48, "yuv420p"
        sound = audio.encoded(source, Fraction(0), stop, 0, target, codec, kbits)
        for n in range(5 * SECONDS):
            frame = av.VideoFrame(64, 48, "yuv420p")
            frame.pts = n
            target.mux(video.encode(frame))
        target.mux(video.encode(None))
        for packet in sound:
            target.mux(packet)
    return path


def faults(source, master):
    return hearing.compare(source, Fraction(0), Fraction(SECONDS), master, Fraction(0), 0, Fraction(1)).faults


@pytest.mark.parametrize("layout", LAYOUTS)
def test_every_layout_goes_through_every_encoder_and_passes(tmp_path, layout):
    names = [c.name for c in av.AudioLayout(layout).channels]
    source = written(tmp_path / "source.mov", wave(len(names)), layout)
    for codec, ending in (("aac", "mp4"), ("pcm_s24le", "mov"), ("flac", "mkv")):
        audio.check(source, 0, codec)
        master = mastered(source, tmp_path / f"{codec}.{ending}", codec)
        heard = hearing.compare(source, Fraction(0), Fraction(SECONDS), master, Fraction(0), 0, Fraction(1))
        assert heard.faults == [], (codec, heard.faults)
        with av.open(str(master)) as held:
            kept = [c.name for c in held.streams.audio[0].codec_context.layout.channels]
        folded = codec == "aac" and layout in ("5.1.2", "5.1.4", "7.1.2", "7.1.4")
        assert len(kept) == len(names) or folded, "no channel is lost"
        assert ("folded" in heard.note) == folded
        if folded:  # what is above is heard under it
            again = np.concatenate(list(hearing.seconds_of(master, 0, Fraction(0), Fraction(4))), axis=1)
            above = wave(len(names))[names.index("TFL"), : again.shape[1]]
            assert np.corrcoef(again[kept.index("FL")], wave(len(names))[names.index("FL"), : again.shape[1]] + 0.7071 * above)[0, 1] > 0.98


def test_a_layout_that_no_encoder_takes_is_said_before_anything_is_rendered(tmp_path):
    source = written(tmp_path / "source.mkv", wave(11), "11 channels")
    with pytest.raises(UnreadableError, match=r"source\.mkv.*11 channels.*uncompressed"):
        audio.check(source, 0, "aac")
    audio.check(source, 0, "pcm_s24le")


def lowpassed(data, hz):
    spectrum = np.fft.rfft(data)
    spectrum[:, np.fft.rfftfreq(data.shape[1], 1 / RATE) > hz] = 0
    return np.fft.irfft(spectrum, data.shape[1])


def hole(data, at, seconds):
    out = data.copy()
    out[:, int(at * RATE) : int((at + seconds) * RATE)] = 0
    return out


FAULTS = {
    "a hole of 0.1 s": lambda d: hole(d, 3.2, 0.1),
    "a hole of 0.1 s in one channel": lambda d: np.stack([hole(d, 5.13, 0.1)[0], d[1]]),
    "the last 0.3 s": lambda d: hole(d, SECONDS - 0.3, 0.3), "low-pass 3 kHz": lambda d: lowpassed(d, 3000),
    "low-pass 1 kHz": lambda d: lowpassed(d, 1000),
    "clipped": lambda d: np.clip(d, -0.5 * np.abs(d).max(), 0.5 * np.abs(d).max()), "half a decibel down": lambda d: d * 10 ** (-0.5 / 20),
    "half a decibel up in one channel": lambda d: d * np.array([[10 ** (0.5 / 20)], [1]]), "exchanged": lambda d: d[::-1],
    "a channel silent": lambda d: d * np.array([[1], [0]]), "3 ms late": lambda d: np.roll(d, 144, axis=1),
    "noise": lambda d: d + np.random.default_rng(3).normal(0, 0.2, d.shape),
    "one channel upside down": lambda d: d * np.array([[1], [-1]]),
}  # fmt: skip


@pytest.mark.parametrize("codec", ["aac", "flac"])
@pytest.mark.parametrize("fault", FAULTS)
def test_a_fault_is_heard(tmp_path, fault, codec):
    """Put in before the encoder, which then does its best with it."""
    data = wave(2, 5)
    source = written(tmp_path / "source.mov", data, "stereo")
    wrong = written(tmp_path / "wrong.mov", FAULTS[fault](data), "stereo")
    assert faults(source, mastered(wrong, tmp_path / ("m.mp4" if codec == "aac" else "m.mkv"), codec)), fault


def _bars(hz):
    return np.stack([0.25 * np.sin(2 * np.pi * hz * TIME)] * 2)


def _surround():
    """Five quiet channels, and a loud one for low effects that holds more than low sound."""
    data, turns = wave(6, 9) * 0.2, 2 * np.pi * TIME
    data[3] = 0.6 * np.sin(45 * turns) + 0.2 * np.sin(1500 * turns) * np.sin(3 * turns)
    return data


GOOD = {
    "a tone of 60 Hz": lambda: (_bars(60), "stereo"), "a tone of 440 Hz": lambda: (_bars(440), "stereo"),
    "a tone of 1 kHz": lambda: (_bars(1000), "stereo"), "a loud low channel": lambda: (_surround(), "5.1"),
    "white noise": lambda: (np.random.default_rng(1).normal(0, 0.1, (2, len(TIME))), "stereo"),
    "a voice with pauses": lambda: (wave(2) * (np.sin(np.pi * TIME) > 0), "stereo"),
    "clicks": lambda: ((np.arange(len(TIME)) % 24000 < 20) * np.random.default_rng(2).normal(0, 0.5, (2, len(TIME))), "stereo"),
    "very quiet": lambda: (wave(2) * 0.004, "stereo"), "loud to the end": lambda: (np.clip(wave(2) * 6, -1, 1), "stereo"),
    "one channel silent": lambda: (wave(2) * [[1], [0]], "stereo"),
}  # fmt: skip


@pytest.mark.parametrize("kbits", [256, 96])
@pytest.mark.parametrize("name", GOOD)
def test_good_sound_passes_however_it_is(tmp_path, name, kbits):
    data, layout = GOOD[name]()
    source = written(tmp_path / "source.mov", np.asarray(data, float), layout)
    assert faults(source, mastered(source, tmp_path / "m.mp4", "aac", kbits)) == []
    if kbits == 256:
        assert faults(source, mastered(source, tmp_path / "m.mkv", "flac")) == []
        assert faults(source, mastered(source, tmp_path / "m.mov", "pcm_s24le")) == []
