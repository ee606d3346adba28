"""Files: every format comes back bit for bit, every frame is found exactly, and bad files get a sentence."""

from __future__ import annotations

import os
import sys
import wave
from fractions import Fraction
from pathlib import Path

import av
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from adzer.core.errors import AdzerError, UnreadableError
from adzer.core.intake.take import take
from adzer.core.media import audio, probe, timecode, unlike
from adzer.core.media.decode import Reader
from adzer.core.media.encode import VideoSpec, VideoTags, Writer
from adzer.core.media.formats import AV_FORMATS, PACKED_RGB, SEMI_PLANAR

from ..conftest import frame_number, picture, write_clip


@pytest.mark.parametrize("bits", [8, 10, 12, 16])
@pytest.mark.parametrize("chroma", ["4:2:0", "4:2:2", "4:4:4"])
def test_lossless_formats_come_back_bit_for_bit(tmp_path, bits, chroma):
    raster = (66, 50) if bits == 8 else (67, 51)  # odd sides round chroma up
    path = write_clip(tmp_path / "x.mkv", 3, raster, "ffv1", bits, chroma)
    facts = probe.probe(path)
    assert (facts.bits, facts.chroma, facts.raster, facts.frames) == (bits, chroma, raster, 3)
    with Reader(path) as reader:
        for frame in reader.frames():
            for i, plane in enumerate(picture(frame.number, *raster, (1 << bits) - 1)):
                sx, sy = frame.format.sub if i else (1, 1)
                assert np.array_equal(frame.cropped(i), plane[::sy, ::sx].astype(frame.format.dtype))


@pytest.mark.parametrize("name", [*PACKED_RGB, *SEMI_PLANAR, "gbrp10le", "gray10le"])
def test_interleaved_samples_are_laid_apart_unchanged(name):
    from adzer.core.media.decode import planes_of

    rng = np.random.default_rng(0)
    form = {**AV_FORMATS, **{k: v[0] for k, v in PACKED_RGB.items()}, **{k: v[0] for k, v in SEMI_PLANAR.items()}}[name]
    frame = av.VideoFrame(32, 16, name)
    for plane in frame.planes:
        bytes_ = rng.integers(0, 256, plane.buffer_size, dtype=np.uint8)
        if form.bits in (10, 12):
            shift = SEMI_PLANAR[name][1] if name in SEMI_PLANAR else 0
            bytes_ = ((bytes_.view(np.uint16) & ((1 << form.bits) - 1)) << shift).view(np.uint8)
        plane.update(bytes_.tobytes())
    found, planes = planes_of(frame)
    assert found == form and len(planes) == form.planes
    raw = [np.frombuffer(p, form.dtype).reshape(p.height, -1) for p in frame.planes]
    if name in PACKED_RGB:
        _, order, step = PACKED_RGB[name]
        assert all(np.array_equal(planes[i], raw[0][:, : 32 * step][:, c::step]) for i, c in enumerate(order))
    elif name in SEMI_PLANAR:
        assert np.array_equal(planes[1][:, :16] << SEMI_PLANAR[name][1], raw[1][:, :32:2])
        assert np.array_equal(planes[2][:, :16] << SEMI_PLANAR[name][1], raw[1][:, 1:32:2])
    elif name == "gbrp10le":
        assert [np.array_equal(planes[i], raw[k]) for i, k in enumerate((2, 0, 1))] == [True] * 3
    else:
        assert np.array_equal(planes[0], raw[0])


@given(st.lists(st.integers(0, 59), min_size=1, max_size=8))
def test_any_frame_is_found_exactly_in_any_order(small_clip, numbers):
    with Reader(small_clip) as reader:
        assert len(reader) == 60
        for n in numbers:
            frame = reader.frame(n)
            assert frame.number == n == frame_number(frame.planes[0], 1, 255)


def test_a_run_of_frames_has_none_missing_and_none_twice(small_clip):
    with Reader(small_clip) as reader:
        assert [frame_number(f.planes[0], 1, 255) for f in reader.frames(17, 43)] == list(range(17, 43))


def test_tags_rates_and_timecode_are_written_and_read(tmp_path):
    tags = VideoTags("pq", "bt2020", "bt2020", "limited", "topleft")
    path = write_clip(
        tmp_path / "x.mp4",
        30,
        encoder="h265",
        bits=10,
        rate=Fraction(30000, 1001),
        tags=tags,
        timecode="00:00:59;28",
    )
    facts = probe.probe(path)
    assert (facts.curve, facts.primaries, facts.matrix, facts.range) == ("pq", "bt2020", "bt2020", "limited")
    assert facts.rate == Fraction(30000, 1001) and facts.constant_rate
    assert facts.timecode == "00:00:59;28"
    assert facts.duration == 30 * Fraction(1001, 30000)


def test_variable_rates_are_measured_and_rounded_ones_are_not_mistaken(tmp_path, phone_clip):
    phone = probe.probe(phone_clip)
    assert not phone.constant_rate and phone.spacing[2] > Fraction(1, 16) > phone.spacing[0]
    mkv = probe.probe(write_clip(tmp_path / "x.mkv", 40, encoder="ffv1", rate=Fraction(24000, 1001)))
    assert mkv.constant_rate and mkv.rate == Fraction(24000, 1001)


@given(
    st.integers(0, 24 * 3600 * 23),
    st.sampled_from(("24", "25", "30", "50", "30000/1001", "60000/1001", "24000/1001")),
)
def test_timecode_labels_come_back(frame, rate):
    rate = Fraction(rate)
    for drop in (False, True):
        label = timecode.to_label(frame, rate, drop)
        assert timecode.to_frames(label, rate) == frame


def test_drop_frame_skips_what_the_standard_skips():
    rate = Fraction(30000, 1001)
    assert timecode.to_label(1800, rate, True) == "00:01:00;02"
    assert timecode.to_label(17982, rate, True) == "00:10:00;00"
    for bad in ("", "1:2:3", "00:61:00:00", "00:00:00:99", "aa:bb:cc:dd"):
        with pytest.raises(AdzerError):
            timecode.to_frames(bad, rate)


def test_sound_is_cut_to_the_sample_and_padded_with_silence(small_clip):
    from adzer.core.sim import sound

    whole = sound.wave(0, 48000 * 2)
    piece = audio.mono(small_clip, Fraction(1, 2), Fraction(1))
    assert np.abs(piece - whole[24000:72000]).max() < 1e-3
    late = audio.mono(small_clip, Fraction(2), Fraction(1))
    assert len(late) == 48000 and np.all(late[48000 * 2 // 5 + 10 :] == 0)
    knock = sound.wave(96000, 48480)
    assert audio.shift(knock[:48000], knock[480:], 2000)[0] == -480


def bad_files(folder, good):
    whole = good.read_bytes()
    (folder / "empty.mov").write_bytes(b"")
    (folder / "text.mov").write_text("these are only words\n" * 50)
    (folder / "random.mp4").write_bytes(np.random.default_rng(0).bytes(200_000))
    (folder / "headless.mp4").write_bytes(whole[len(whole) // 2 :])
    (folder / "cut.mov").write_bytes(whole[: len(whole) // 3])
    (folder / "holes.mov").write_bytes(whole[:5000] + bytes(3000) + whole[8000:])
    (folder / "folder.mov").mkdir()
    return sorted(folder.iterdir())


def test_bad_files_are_read_or_refused_with_their_name_never_worse(tmp_path, small_clip):
    refused = 0
    for path in [*bad_files(tmp_path, small_clip), tmp_path / "gone.mov"]:
        try:
            facts = probe.probe(path)
            with Reader(path) as reader:
                seen = sum(1 for _ in reader.frames())
            assert 0 < seen <= facts.frames
        except UnreadableError as error:
            refused += 1
            assert path.name in str(error) and str(error).endswith((".", "?"))
    assert refused >= 6


@pytest.mark.parametrize("raster", [(2, 2), (16, 16)])
def test_tiny_rasters_are_read(tmp_path, raster):
    assert probe.probe(write_clip(tmp_path / "x.mkv", 2, raster, "ffv1")).raster == raster


def test_absurd_headers_are_refused(tmp_path):
    path = tmp_path / "vast.avi"
    container = av.open(str(path), "w")
    stream = container.add_stream("rawvideo", rate=25)
    stream.width, stream.height, stream.pix_fmt = 16, 16, "yuv420p"
    for packet in stream.encode(av.VideoFrame(16, 16, "yuv420p")):
        container.mux(packet)
    container.close()
    data = bytearray(path.read_bytes())
    at = data.find(b"strf") + 8
    data[at + 4 : at + 8] = (40000).to_bytes(4, "little")
    data[at + 8 : at + 12] = (40000).to_bytes(4, "little")
    path.write_bytes(data)
    with pytest.raises(UnreadableError, match="vast.avi"):
        probe.probe(path)


def test_everything_is_released(small_clip):
    before = len(os.listdir("/proc/self/fd"))
    for _ in range(5):
        with Reader(small_clip) as reader:
            next(iter(reader.frames(5)))
        probe.probe(small_clip)
    assert len(os.listdir("/proc/self/fd")) <= before


@pytest.mark.parametrize("frames", [1, 2, 3, 6])
def test_the_shortest_clips_are_whole(tmp_path, frames):
    """An encoder that is flushed early still gives every frame, with decode times that a container takes."""
    for turn in range(4):
        path = tmp_path / f"{turn}.mov"
        spec = VideoSpec(encoder="h265", raster=(320, 240), bits=10, chroma="4:2:2", rate=Fraction(25), time_base=Fraction(1, 25),
                         tags=VideoTags(None, None, "bt709", "limited"), gop=50, options={"preset": "ultrafast", "crf": "20"})  # fmt: skip
        with Writer(path, spec) as writer:
            for n in range(frames):
                frame, planes = writer.blank()
                for plane in planes:
                    plane[:] = 512
                writer.write(frame, n)
        with av.open(str(path)) as held:
            assert [f.pts for f in held.decode(video=0)] == [
                n * held.streams.video[0].time_base.denominator // 25 for n in range(frames)
            ]


@pytest.mark.parametrize(("name", "codec", "options"), [
    ("a.ts", "libx264", {"bf": "3"}), ("b.ts", "mpeg2video", {"b": "4M", "bf": "2"}), ("c.mpg", "mpeg2video", {"b": "4M", "bf": "2"}),
    ("d.avi", "mpeg4", {"b": "4M", "bf": "2"}), ("e.avi", "libx264", {"bf": "3"}), ("f.h264", "libx264", {"bf": "3"}),
    ("g.mkv", "libx264", {"bf": "3"}),
])  # fmt: skip
def test_common_containers_are_decoded_frame_by_frame(tmp_path, name, codec, options):
    path = numbered(tmp_path / name, codec, options, range(40))
    with Reader(path) as reader:
        assert [frame_number(f.planes[0], 1, 255) for f in reader.frames()] == list(range(40))
        assert [frame_number(reader.frame(n).planes[0], 1, 255) for n in (39, 23, 0, 11)] == [39, 23, 0, 11]


def numbered(path, codec, options, numbers, size=(192, 112)):
    with av.open(str(path), "w") as target:
        stream = target.add_stream(codec, rate=25, options=options)
        stream.width, stream.height, stream.pix_fmt = *size, "yuv420p"
        for k in numbers:
            frame = av.VideoFrame(*size, "yuv420p")
            for plane, values in zip(frame.planes, picture(k, *size, 255), strict=True):
                held = np.frombuffer(memoryview(plane), np.uint8).reshape(plane.height, plane.line_size)
                held[:, : plane.width] = values[:: size[1] // plane.height, :: size[0] // plane.width].astype(np.uint8)
            frame.pts = k - numbers[0]
            target.mux(stream.encode(frame))
        target.mux(stream.encode(None))
    return path


def test_joined_streams_cut_off_files_and_frames_that_change_are_told(tmp_path):
    whole = numbered(tmp_path / "a.ts", "libx264", {"bf": "2"}, range(90)).read_bytes()
    (tmp_path / "joined.ts").write_bytes(whole + whole)
    with pytest.raises(UnreadableError, match=r"joined\.ts.*start again after frame 90"):
        probe.probe(tmp_path / "joined.ts")
    data = numbered(tmp_path / "whole.mkv", "libx264", {}, range(60)).read_bytes()
    (tmp_path / "cut.mkv").write_bytes(data[: len(data) * 2 // 3])
    assert probe.probe(tmp_path / "cut.mkv").cut and not probe.probe(tmp_path / "whole.mkv").cut
    small = numbered(tmp_path / "b.h264", "libx264", {"bf": "0"}, range(20), (160, 96)).read_bytes()
    large = numbered(tmp_path / "c.h264", "libx264", {"bf": "0"}, range(20)).read_bytes()
    (tmp_path / "both.h264").write_bytes(large + small)
    with Reader(tmp_path / "both.h264") as reader, pytest.raises(UnreadableError, match="at frame 2[0-9] its pictures become 160×96"):
        list(reader.frames())


def test_an_index_of_a_file_that_is_still_written_is_made_anew(tmp_path):
    """Same size, same ends, other middle: what a recorder that lays its file out beforehand leaves."""
    path = numbered(tmp_path / "x.mkv", "libx264", {}, range(50))
    whole = path.read_bytes()
    before = len(probe.scan(path, "the same").pts)
    os.utime(path, (1e9, 1e9))
    path.write_bytes(numbered(tmp_path / "y.mkv", "libx264", {}, range(70)).read_bytes())
    assert before == 50 and len(probe.scan(path, "the same").pts) == 70 and len(whole) > 0


def test_what_is_no_footage_is_called_by_what_it_is(tmp_path):
    """Each its sentence; the recording that was cut off stays one, and what a camera alone reads is not called damaged."""
    from PIL import Image

    frames = [Image.fromarray(np.full((40, 60, 3), 50 * n, np.uint8)) for n in range(3)]
    frames[0].save(tmp_path / "a.gif", save_all=True, append_images=frames[1:])
    for n in range(3):
        frames[n].save(tmp_path / f"still{n}.jpg")
    (tmp_path / "notes.txt").write_text("lens 2, filter out\n" * 20)
    with wave.open(str(tmp_path / "s.wav"), "wb") as sound:
        sound.setnchannels(1), sound.setsampwidth(2), sound.setframerate(48000), sound.writeframes(bytes(9600))
    (tmp_path / "A001.raw9").write_bytes(b"\x00\x00\x01\x07VALUES" + bytes(range(256)) * 4000)
    whole = write_clip(tmp_path / "whole.mp4", 12).read_bytes()
    (tmp_path / "cut.mp4").write_bytes(whole[: len(whole) // 2])
    wanted = {"a.gif": "GIF", "notes.txt": "text", "s.wav": "sound", "A001.raw9": "DNG frames", "cut.mp4": "copy it from the card again"}
    for name, word in wanted.items():
        with pytest.raises(UnreadableError, match=word):
            probe.probe(tmp_path / name)
    (tmp_path / "index.bdm").write_bytes(b"INDX0100" + bytes(range(256)) * 20)  # small, as what cameras keep for themselves is
    assert unlike.told(tmp_path / "index.bdm") is None and "program" in str(unlike.told(Path(sys.executable).resolve()))
    said = []
    assert take([tmp_path / f"still{n}.jpg" for n in range(3)], say=said.append) == []
    assert len(said) == 1 and "still0.jpg, still1.jpg, still2.jpg: single pictures" in said[0]
    said.clear()
    rows = take([tmp_path], say=said.append)
    assert [r.name for r in rows] == ["whole"] and any("A001.raw9" in s and "proxy" in s for s in said) and any("a.gif" in s for s in said)
