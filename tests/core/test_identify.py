"""What the footage says, against simulated recordings whose answers are known and whose files carry no tag."""

from __future__ import annotations

from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import msgspec
import numpy as np
import pytest

from adzer.core.errors import Cancelled
from adzer.core.finding import Level
from adzer.core.intake.take import look_at, read_file
from adzer.core.light.samples import Samples
from adzer.core.media import boxes, probe
from adzer.core.media.boxes import SphereTags
from adzer.core.media.decode import Frame
from adzer.core.media.encode import VideoSpec, VideoTags, Writer
from adzer.core.media.formats import PixelFormat
from adzer.core.read import depth, halves, identify, play, rhythm
from adzer.core.read.seen import SURE, Guess
from adzer.core.route import Route, walk
from adzer.core.sim import camera as cameras
from adzer.core.sim import suite
from adzer.core.sim.demo import CLIPS

from ..conftest import write_clip

HOW_MANY = 33  # of the 200 that ./run bench judges: each layout three times


def judge(ask):
    number, folder = ask
    case = suite.case(number, 2026, 480)
    facts = probe.probe(suite.write(case, Path(folder) / f"{number}.mkv"))
    return case.answers, identify.identify(facts, Samples(PixelFormat(facts.bits, facts.chroma), "bt709", True))


@pytest.fixture(scope="module")
def judged(tmp_path_factory):
    folder = tmp_path_factory.mktemp("suite")
    with ProcessPoolExecutor(2) as pool:
        return list(pool.map(judge, [(n, str(folder)) for n in range(HOW_MANY)]))


@pytest.mark.parametrize(("field", "least"), [("projection", 0.95), ("eyes", 0.95), ("coverage", 1), ("packing", 1), ("first", 0.8),
                                              ("curve", 0.8)])  # fmt: skip
def test_untagged_footage_is_known_or_said_to_be_not_known(judged, field, least):
    """Right as often as asked; and what is said for sure is hardly ever wrong."""
    counts = Counter()
    for answers, seen in judged:
        if (wanted := answers[field]) is None:
            continue
        guess = getattr(seen, field)
        counts["right" if guess.value == wanted else "wrong"] += 1
        counts["surely wrong"] += guess.confidence >= SURE and guess.value != wanted
        assert guess.saw and any(c.isdigit() for c in guess.saw), "evidence is in numbers"
    assert counts["right"] >= least * (counts["right"] + counts["wrong"])
    assert counts["surely wrong"] <= 0.065 * HOW_MANY


def test_range_is_never_said_wrongly(judged):
    for answers, seen in judged:
        assert not seen.range.sure or seen.range.value == answers["range"], seen.range.saw


def test_round_lenses_are_found_where_they_are():
    camera = cameras.load("lens-pair").sized((500, 500))
    planes = cameras.record(camera, camera.light(0.0, 1), 0)
    frame = Frame(tuple(p.astype(np.uint8) for p in planes), PixelFormat(8, "4:2:0"), (500, 500), 0, 0)
    from adzer.core.look import sampling
    from adzer.core.read import lenses

    (found,) = lenses.discs(sampling.small(frame, camera.recorder.samples), 1.0, [frame])
    disc = camera.discs[0]
    assert np.allclose([found.x, found.y, found.radius], np.array([disc.x, disc.y, disc.radius]) * 500, atol=0.7)


@pytest.mark.parametrize(("raster", "discs"), [
    ((1400, 1400), [(703.3, 696.2, 650.7)]), ((3500, 1752), [(880, 870.5, 845), (2620, 880, 850.2)]),
    ((5500, 2750), [(1380, 1370, 1320), (4130, 1372, 1330.5)]),
])  # fmt: skip
def test_round_lenses_are_measured_to_the_pixel(raster, discs):
    """A photograph that falls off towards soft rims, drawn here, at sizes that no cell of the small picture divides."""
    from skimage import data

    from adzer.core.look import sampling
    from adzer.core.read import lenses

    (w, h), photo = raster, data.coffee().mean(axis=2)
    ys, xs = np.mgrid[0:h, 0:w]
    picture = photo[ys * len(photo) // h, xs * len(photo[0]) // w]
    out = np.full((h, w), 17.0)
    for x, y, radius in discs:
        off = np.hypot(xs + 0.5 - x, ys + 0.5 - y)
        lit = np.maximum((picture * 0.8 + 20) * (1 - 0.3 * (off / radius) ** 2), 17)
        out += (lit - out) * np.clip((radius - off) / 3 + 0.5, 0, 1)  # three pixels soft
    luma = np.clip(out + np.random.default_rng(1).normal(0, 2, out.shape), 16, 235).round().astype(np.uint8)
    grey = np.full((h // 2, w // 2), 128, np.uint8)
    form = PixelFormat(8, "4:2:0")
    frame = Frame((luma, grey, grey), form, raster, 0, 0)
    found = lenses.discs(sampling.small(frame, Samples(form, "bt709", True)), float(sampling.cell(w)), [frame])
    assert np.allclose([(d.x, d.y, d.radius) for d in found], discs, atol=0.5)


@pytest.mark.parametrize("first", ["left", "right"])
def test_the_demo_eyes_are_known_by_their_nearness(first):
    """The same clip with its halves exchanged is known to be exchanged."""
    from adzer.core.look import sampling
    from adzer.core.media.decode import Reader

    form = Samples(PixelFormat(8, "4:2:0"), "bt709", True)
    with Reader(CLIPS / "cartwheel-eyes.mp4") as reader:
        view = sampling.luma(reader.frame(20), form)
    a, b = halves.split(view, "side by side")
    swapped = view if first == "right" else np.concatenate([b, a], axis=1)
    compared = halves.compare([swapped], "side by side")
    assert compared.agree > 0.9 and (compared.slope > 0) is (first == "left")
    assert abs(compared.slope) > 4 * compared.slope_error


@pytest.mark.parametrize("version", [1, 2])
@pytest.mark.parametrize("tags", [
    SphereTags("", "equirectangular", "one"), SphereTags("", "equirectangular", "over under", "left"),
    SphereTags("", "equirectangular", "side by side", "right", (0.0, 0.0, 0.25, 0.25)),
])  # fmt: skip
@pytest.mark.parametrize("ending", ["mp4", "mov"])
def test_sphere_boxes_are_read_and_the_file_stays_whole(tmp_path, version, tags, ending):
    path = write_clip(tmp_path / f"x.{ending}", 12, sound=True)
    before = probe.probe(path)
    boxes.put_into_mp4(path, tags, (version,))
    after = probe.probe(path)
    assert (after.frames, after.duration, after.audio) == (before.frames, before.duration, before.audio)
    assert after.sphere.projection == "equirectangular" and after.sphere.eyes == tags.eyes
    if version == 2:
        assert after.sphere.first == tags.first and np.allclose(after.sphere.bounds, tags.bounds, atol=1e-6)
        assert after.sphere.coverage == ("180" if tags.bounds[2] else "360")
    stop = walk(Route(), after)["read"]
    assert stop.after.projection == "equirectangular" and stop.result.evidence["projection"].startswith("tagged")


def test_matroska_elements_are_read(tmp_path):
    import av

    made, held = write_clip(tmp_path / "x.mkv", 8, encoder="ffv1"), tmp_path / "held.mkv"
    with av.open(str(made)) as source, av.open(str(held), "w", format="matroska") as target:
        stream = target.add_stream_from_template(source.streams.video[0])
        stream.metadata["title"] = boxes.ROOM
        for packet in source.demux(source.streams.video[0]):
            if packet.size:
                packet.stream = stream
                target.mux(packet)
    tags = SphereTags("", "equirectangular", "over under", "left", (0.0, 0.0, 0.25, 0.25))
    with pytest.raises(ValueError, match="no room"):
        boxes.put_into_matroska(made, tags)
    size = held.stat().st_size
    boxes.put_into_matroska(held, tags)
    assert held.stat().st_size == size
    facts = probe.probe(held)
    assert facts.frames == 8 and facts.sphere.eyes == "over under" and facts.sphere.first == "left"
    assert facts.sphere.coverage == "180"


def test_hostile_boxes_are_no_tags(tmp_path):
    rng = np.random.default_rng(3)
    whole = write_clip(tmp_path / "x.mp4", 4).read_bytes()
    for n in range(60):
        data = bytearray(whole)
        for at in rng.integers(0, len(data), 40):
            data[at] = rng.integers(0, 256)
        bad = tmp_path / f"{n}.mp4"
        bad.write_bytes(data[: rng.integers(1, len(data))])
        boxes.read(bad)  # never raises, never hangs
    (tmp_path / "y.mkv").write_bytes(b"\x1a\x45\xdf\xa3" + rng.bytes(5000))
    boxes.read(tmp_path / "y.mkv")
    assert boxes.read(tmp_path / "gone.mp4") is None


def test_footage_that_contradicts_its_tags_is_a_finding():
    facts, seen = read_file(CLIPS / "all-round.mp4")
    flat = walk(Route().with_("read", projection="flat"), facts, seen)["read"]
    finding = next(f for f in flat.findings if f.code == "projection-contradicts")
    assert "equirectangular" in finding.text and finding.fix.answers["projection"] == "equirectangular"
    lying = msgspec.structs.replace(
        facts, sphere=SphereTags("version 2 boxes", "equirectangular", "over under", "left")
    )
    found = walk(Route(), lying, seen)["read"]
    assert next(f for f in found.findings if f.code == "eyes-contradicts").fix.answers == {"eyes": "one"}


def test_a_transform_that_was_applied_already_is_noticed():
    facts, seen = read_file(CLIPS / "all-round.mp4")
    declared = walk(Route().with_("read", curve="fen-log"), facts, seen)["read"]
    finding = next(f for f in declared.findings if f.code == "already-transformed")
    assert walk(Route().with_("read", curve="fen-log").mended(finding.fix), facts, seen)["read"].after.curve == "bt709"
    odd_one = walk(Route(), facts, seen, usual="log")["read"]
    assert any(f.code == "already-transformed" for f in odd_one.findings)
    assert not any(f.code == "already-transformed" for f in walk(Route(), facts, seen)["read"].findings)


def noisy(bits, real, n=2):
    """Frames of soft noise that use only ``real`` of their bits."""
    rng = np.random.default_rng(1)
    form = PixelFormat(bits, "4:2:0")
    top = 1 << bits
    made = []
    for _ in range(n):
        luma = np.clip(rng.normal(0.5, 0.12, (240, 320)), 0.05, 0.98) * top
        luma = (luma.astype(np.uint16) >> (bits - real)) << (bits - real)
        made.append(
            Frame(
                (luma.astype(form.dtype), *(np.full((120, 160), top // 2, form.dtype) for _ in "ab")),
                form,
                (320, 240),
                0,
                0,
            )
        )
    return made, Samples(form, "bt709", True)


@pytest.mark.parametrize(("bits", "real"), [(8, 8), (10, 10), (10, 8), (12, 10), (16, 12)])
def test_bits_that_are_not_used_are_counted(bits, real):
    frames, samples = noisy(bits, real)
    assert depth.measure(frames, samples).real_bits == real


def test_clipping_and_noise_are_measured():
    rng = np.random.default_rng(2)
    form = PixelFormat(10, "4:4:4", rgb=True)
    samples = Samples(form, "rgb", False)
    base = np.tile(np.linspace(0.1, 0.7, 320), (240, 1))[..., None] + rng.normal(0, 0.01, (240, 320, 3))
    base[:60, :80, 0] = 0.9  # six and a quarter percent of red at one level, nothing above
    frame = Frame(
        tuple((np.clip(base[..., c], 0, 1) * 1023).astype(np.uint16) for c in range(3)), form, (320, 240), 0, 0
    )
    found = depth.measure([frame], samples)
    assert abs(found.high[0] - 0.0625) < 0.004 and found.high[1] == found.high[2] == 0
    assert abs(found.noise / (0.01 * np.sqrt(0.2126**2 + 0.7152**2 + 0.0722**2)) - 1) < 0.15
    marks = depth.level_marks(frame, replace(samples), 32)
    assert not marks.any()


def test_lost_doubled_and_interlaced_frames_are_seen(tmp_path):
    path = write_clip(
        tmp_path / "gap.mkv",
        40,
        encoder="ffv1",
        stamps=[n + (n > 17) * 2 for n in range(40)],
        time_base=Fraction(1, 25),
    )
    facts, seen = read_file(path)
    assert seen.rhythm is None  # too small to look at
    index = probe.scan(facts.source)
    form = Samples(PixelFormat(8, "4:2:0"), "bt709", True)

    def frames(offsets, weave=False):
        x = np.arange(320)[None] + np.zeros((200, 1))
        out = []
        for n, at in enumerate(offsets):
            plane = 120 + 60 * np.sign(np.sin((x - 7 * at) / 9.0))
            if weave:
                late = 120 + 60 * np.sign(np.sin((x - 7 * (at + 0.5)) / 9.0))
                plane[1::2] = late[1::2]
            out.append(Frame((plane.astype(np.uint8),) * 3, form.format, (320, 200), n, n))
        return out

    plain = rhythm.measure(index, frames(range(8)), form)
    assert plain.late == (17,) and plain.lost == 2 and plain.doubled == 0 and not plain.interlaced
    assert rhythm.measure(index, frames([0, 0, 1, 1, 2, 2, 3]), form).doubled == 0.5
    woven = rhythm.measure(index, frames(range(8), weave=True), form)
    assert woven.interlaced and woven.comb > 1.5 > plain.comb


def test_player_cards_say_why_not(tmp_path):
    from adzer.core import cards

    made = probe.probe(CLIPS / "sails-wide.mov")

    def facts(**changes):
        return msgspec.structs.replace(made, **changes)

    desktop = cards.find("players", "desktop", cards.PlayerCard)
    assert "4:2:2" in play.judge(facts(), desktop)
    assert play.judge(facts(chroma="4:2:0"), desktop) is None
    assert "12-bit" in play.judge(facts(chroma="4:2:0", bits=12), desktop)
    assert "9000" in play.judge(facts(chroma="4:2:0", raster=(9000, 4500)), desktop)
    assert "frames a second" in play.judge(facts(chroma="4:2:0", raster=(8192, 4320), rate=Fraction(120)), desktop)
    assert "no" in play.judge(facts(codec="ffv1"), desktop)
    measured = play.measure(probe.probe(CLIPS / "all-round.mp4"), 0.3)
    assert measured.rate > 5 and 0 < measured.seek_ms < 5000 and measured.keeps_up(Fraction(1))
    assert not measured.keeps_up(Fraction(10**6))


def test_looking_can_be_stopped():
    facts = probe.probe(CLIPS / "all-round.mp4")
    with pytest.raises(Cancelled):
        look_at(facts, Route(), cancelled=lambda: True)


def test_log_in_eight_bits_says_how_many_codes_a_stop_has(tmp_path):
    camera = cameras.load("log-body").sized((480, 270))
    recorder = replace(
        camera.recorder, bits=8, encoder="ffv1", options={}, tags=VideoTags(matrix="bt709", range="limited")
    )
    path = tmp_path / "eight.mkv"
    cameras.shoot(replace(camera, recorder=recorder, sound=False), 2, path, samples=1)
    facts, seen = read_file(path)
    stop = walk(Route().with_("read", curve="fen-log"), facts, seen)["read"]
    finding = next(f for f in stop.findings if f.code == "log-8-bit")
    assert finding.level is Level.WARN and "codes" in finding.text and stop.after.bits == 8


def test_an_intra_file_with_a_hole_in_its_frames_is_still_looked_at(tmp_path):
    """One damaged frame among the sampled ones is no reason to know nothing."""
    spec = VideoSpec("h264", (320, 240), 8, "4:2:0", Fraction(25), Fraction(1, 25), VideoTags("bt709", "bt709", "bt709", "limited"), 1,
                     {"crf": "16"})  # fmt: skip
    path = tmp_path / "x.mkv"
    with Writer(path, spec) as writer:
        for n in range(10):
            frame, planes = writer.blank()
            planes[0][:] = 60 + 10 * n + (np.arange(planes[0].shape[1]) % 64)
            planes[1][:] = planes[2][:] = 128
            writer.write(frame, n)
    data = bytearray(path.read_bytes())
    data[len(data) // 2 : len(data) // 2 + 200] = bytes(200)
    path.write_bytes(data)
    facts, seen = read_file(path)
    assert seen is None or seen.levels.high > seen.levels.low


@pytest.mark.parametrize("field, value, words", [("projection", "fisheye", "round lenses"), ("eyes", "side by side", "two eyes")])
def test_a_doubt_is_a_question_with_an_answer(small_clip, field, value, words):
    """From 80 % on it stops; below it is asked, and said what it is taken as; under 50 %, or once it was said, it is not asked."""
    facts, seen = read_file(small_clip)
    told = {}
    for sure in (0.9, 0.7, 0.4):
        doubted = msgspec.structs.replace(seen, **{field: Guess(value, sure, "it was put in")})
        told[sure] = {f.code: f for f in walk(Route(), facts, doubted)["read"].findings if f.code.startswith(field)}
    assert told[0.9][f"{field}-asked"].level is Level.STOP and not told[0.4]
    asked = told[0.7][f"{field}-unsure"]
    assert asked.level is Level.WARN and asked.text.startswith(f"Is it {words}") and "Until you say" in asked.text
    said = Route().with_(asked.fix.stage, **asked.fix.answers)
    doubted = msgspec.structs.replace(seen, **{field: Guess(value, 0.7, "it was put in")})
    assert f"{field}-unsure" not in {f.code for f in walk(said, facts, doubted)["read"].findings}
