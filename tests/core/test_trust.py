"""Nothing lost, nobody in: names, locks, leases, strangers' jobs and cards, and files that are not what they seem."""

from __future__ import annotations

import json
import os
import sqlite3
import subprocess
import threading
import time
import tomllib
from fractions import Fraction
from pathlib import Path

import av
import msgspec
import numpy as np
import pytest

from adzer.core import cards, questions
from adzer.core.compile import freeze
from adzer.core.errors import AdzerError, RenderFailed, UnreadableError
from adzer.core.intake.manifest import MANIFEST
from adzer.core.intake.offload import offload
from adzer.core.intake.take import add_files, read_file
from adzer.core.job import Job
from adzer.core.media import clock, disk, options, probe
from adzer.core.media.decode import Reader
from adzer.core.route import Route, walk
from adzer.core.run import queue
from adzer.core.run import render as rendering
from adzer.core.run.render import render
from adzer.core.stage import STAGES

from .. import foreign
from ..conftest import parts_folder, write_clip
from .test_cli import adzer

PLAIN = Route().with_("shape", hold="native")


@pytest.fixture
def order(small_clip, tmp_path):
    facts, seen = read_file(small_clip)
    return freeze("s", facts, PLAIN, "web-wide", tmp_path / "out.mp4", 0, 12, seen)


# --- what strangers could do ----------------------------------------------------------------------------------------------
@pytest.mark.parametrize("encoder, option, value", [
    ("h264", "x264-params", "dump-yuv=/tmp/x"), ("h264", "stats", "/tmp/x"), ("h264", "x264-params", "stats=/tmp/x"),
    ("h265", "x265-params", "csv=/tmp/x"), ("h265", "x265-params", "analysis-save=x"), ("h264", "passlogfile", "/tmp/x"),
    ("h264", "crf", "52"), ("h264", "crf", "-1"), ("h264", "preset", "../fast"), ("h264", "b", "1e99"), ("ffv1", "slices", "a"),
    ("st2019", "profile", "hqx;x"), ("h265", "x265-params", "master-display=/etc/passwd"), ("h264", "x264-params", "ref=3:log-file=x"),
])  # fmt: skip
def test_an_encoder_is_told_only_what_is_harmless(tmp_path, monkeypatch, order, encoder, option, value):
    with pytest.raises(UnreadableError, match="may|no such value"):
        options.check(encoder, {option: value}, "card")
    card = Path(cards.SHIPPED / "deliveries" / "web-wide.toml").read_text().split("[options]")[0]
    own = tmp_path / "deliveries" / "mine.toml"
    own.parent.mkdir()
    own.write_text(card + f'[options]\n{option} = "{value}"\n')
    if encoder == "h264":
        with pytest.raises(UnreadableError, match=r"mine\.toml"):
            cards.read_card(own, "deliveries")
        hostile = msgspec.structs.replace(order, card=msgspec.structs.replace(order.card, options={option: value}))
        with pytest.raises((UnreadableError, RenderFailed)):
            render(hostile)
        assert not Path("/tmp/x").exists()


def test_every_option_of_a_shipped_card_is_known_and_only_its_value_may_go_wrong():
    """All of them pass as they are; each, given the name of a file instead of its value, is refused by its own name."""
    judged = 0
    for kind in ("deliveries", "copies"):
        for name, path in cards.paths(kind).items():
            held = tomllib.loads(path.read_text())
            assert cards.read_card(path, kind).options == held["options"], name
            for option in held["options"]:
                with pytest.raises(UnreadableError, match=f"{name}.*{option}"):
                    options.check(held["encoder"], held["options"] | {option: "/tmp/x"}, name)
                judged += 1
    assert judged >= 20
    light = "max-cll=1000,400:master-display=G(1,2)B(3,4)R(5,6)WP(7,8)L(9,1)"
    assert options.check("h265", {"x265-params": light}, "x") is None
    with pytest.raises(UnreadableError, match="max-cll"):
        options.check("h265", {"x265-params": light.replace("1000,400", "1000,/tmp")}, "x")


def test_lists_and_pipes_are_not_footage(tmp_path, small_clip):
    """A playlist in a recording's clothes opens nothing that it names; a pipe that never ends does not hang."""
    (tmp_path / "secret.mp4").write_bytes(small_clip.read_bytes())
    hostile = {
        "a.mov": "#EXTM3U\n#EXT-X-TARGETDURATION:9\n#EXTINF:9,\nsecret.mp4\n#EXT-X-ENDLIST\n",
        "b.mp4": "ffconcat version 1.0\nfile 'secret.mp4'\n", "c.mkv": "<?xml version='1.0'?><MPD><BaseURL>secret.mp4</BaseURL></MPD>",
        "d.mov": "[playlist]\nFile1=secret.mp4\n", "e.mov": "some words that a text reader would play", "f.mp4": "v=0\nm=video 1 RTP/AVP 96\n",
    }  # fmt: skip
    for name, text in hostile.items():
        (tmp_path / name).write_text(text)
        if name == "b.mp4":
            continue
        with pytest.raises(UnreadableError, match=name):
            probe.probe(tmp_path / name)
    os.mkfifo(tmp_path / "pipe.mov")
    began = time.monotonic()
    with pytest.raises(UnreadableError, match="pipe or a device"):
        probe.probe(tmp_path / "pipe.mov")
    assert time.monotonic() - began < 5
    with av.open(str(tmp_path / "still.gif"), "w") as target:
        stream = target.add_stream("gif", rate=10)
        stream.width, stream.height, stream.pix_fmt = 64, 48, "rgb8"
        target.mux(stream.encode(av.VideoFrame.from_ndarray(np.zeros((48, 64, 3), np.uint8), "rgb24").reformat(format="rgb8")))
        target.mux(stream.encode(None))
    with pytest.raises(UnreadableError):
        probe.probe(tmp_path / "still.gif")


def test_another_programs_database_is_not_touched(tmp_path):
    path = tmp_path / "other.adzer"
    with sqlite3.connect(path) as db:
        db.execute("CREATE TABLE t (x)")
        db.execute("INSERT INTO t VALUES (1)")
    db.close()
    before = path.read_bytes()
    with pytest.raises(UnreadableError, match="not an Adzer job"):
        Job.open(path)
    assert path.read_bytes() == before and sorted(p.name for p in tmp_path.iterdir()) == ["other.adzer"]


# --- names ----------------------------------------------------------------------------------------------------------------
def test_a_name_is_given_only_if_nobody_has_it(tmp_path):
    part, target = tmp_path / "part", tmp_path / "target"
    part.write_text("mine")
    target.write_text("theirs")
    assert not disk.name(part, target) and target.read_text() == "theirs" and part.read_text() == "mine"
    target.unlink()
    assert disk.name(part, target) and target.read_text() == "mine" and not part.exists() and target.stat().st_nlink == 1


def test_a_name_taken_while_rendering_is_not_replaced_and_what_is_rendered_is_kept(order, monkeypatch):
    real, out = rendering.join, Path(order.out)

    def join(*args):
        said = real(*args)
        out.write_text("came meanwhile")
        return said

    monkeypatch.setattr(rendering, "join", join)
    with pytest.raises(AdzerError, match="has come there"):
        render(order)
    assert out.read_text() == "came meanwhile" and (parts_folder(out) / "00000.mp4").exists()
    out.unlink()
    monkeypatch.setattr(rendering, "join", real)
    assert render(order).passed


def test_a_copy_killed_between_two_names_does_not_write_through_the_first(tmp_path):
    """What an older offload left: a part that is another name of a finished file. A card with other content of that name
    leaves the finished file as it is."""
    from adzer.core.intake.copies import part_of

    for n in (1, 2):
        (tmp_path / f"card{n}").mkdir()
        (tmp_path / f"card{n}" / "A.MOV").write_bytes(bytes([n]) * 5000)
    done = offload(tmp_path / "card1", [tmp_path / "to"], "job", "cam", "{job}")
    held = done.roots[0] / "A.MOV"
    os.link(held, part_of(held))
    again = offload(tmp_path / "card2", [tmp_path / "to"], "job", "cam", "{job}")
    assert held.read_bytes() == b"\1" * 5000 and not again.safe and "A.MOV" in again.differing


def test_odd_names_on_a_card_all_come_home(tmp_path):
    card = tmp_path / "card"
    card.mkdir()
    names = [".x.adzer-part", "x", "n" * 255, MANIFEST, "plain.mov"]
    for n, name in enumerate(names):
        (card / name).write_bytes(bytes([n + 1]) * 4000)
    (tmp_path / "way").symlink_to(tmp_path / "to")
    done = offload(card, [tmp_path / "to", tmp_path / "way", tmp_path / "to" / ".." / "to"], "job", "cam", "{job}")
    assert len(done.roots) == 1 and done.safe
    for n, name in enumerate(names):
        assert (done.roots[0] / name).read_bytes() == bytes([n + 1]) * 4000
    assert done.manifest != MANIFEST
    check = subprocess.run(["xxhsum", "-c", done.manifest], cwd=done.roots[0], capture_output=True, text=True)
    assert check.returncode == 0, check.stdout
    (tmp_path / "inside").symlink_to(card)
    with pytest.raises(AdzerError, match="inside each other"):
        offload(card, [tmp_path / "inside"], "job", "cam", "{job}")


# --- jobs and queues ------------------------------------------------------------------------------------------------------
def test_many_who_add_at_once_all_get_a_number(tmp_path, small_clip):
    path = tmp_path / "busy.adzer"
    Job.create(path, "busy").close()
    facts = probe.probe(small_clip)

    def add(n):
        with Job.open(path) as job:
            for k in range(10):
                job.add_shot(facts, f"{n}-{k}")

    threads = [threading.Thread(target=add, args=(n,)) for n in range(5)]
    for t in threads:
        t.start()
    for t in threads:
        t.join()
    with Job.open(path) as job:
        assert len({s.name for s in job.shots()}) == 50


def test_an_undo_leaves_what_was_measured_later(tmp_path, small_clip):
    from adzer.core.deliver.advise import Trial

    with Job.create(tmp_path / "j.adzer", "j") as job:
        (shot,) = add_files(job, [small_clip])
        job.decide(shot, shot.route.with_("colour", exposure=1.0), "brighter")
        job.keep_trial(shot.id, Trial("web-wide", 25, 1.0, 1000, (64, 36)))
        job.undo()
        assert job.shot(shot.id).trials and job.shot(shot.id).route.colour.exposure == 0


def test_only_these_are_rendered_whatever_waits_before_them_and_a_dead_renderer_holds_nothing(tmp_path, small_clip):
    with Job.create(tmp_path / "j.adzer", "j") as job:
        (shot,) = add_files(job, [small_clip])
        made = [freeze("s", shot.facts, PLAIN, "web-wide", tmp_path / f"{n}.mp4", 0, 6) for n in range(3)]
        slips = [job.enqueue(shot.id, o) for o in made]
        assert queue.run(job, only={slips[1]}) == []
        assert [s.state for s in job.slips()] == ["waiting", "done", "waiting"] and (tmp_path / "1.mp4").exists()
        with sqlite3.connect(job.path) as db:  # killed, and its number is somebody else's now
            db.execute("UPDATE slips SET state = 'rendering', pid = ?, lease = ? WHERE id = ?", (os.getppid(), time.time() - 1, slips[0]))
        assert queue.run(job) == [] and all(s.state == "done" for s in job.slips())
        assert (tmp_path / "0.mp4").exists() and (tmp_path / "2.mp4").exists()


def test_a_slip_of_an_older_adzer_is_read(tmp_path, small_clip):
    with Job.create(tmp_path / "j.adzer", "j") as job:
        (shot,) = add_files(job, [small_clip])
        job.enqueue(shot.id, freeze("s", shot.facts, PLAIN, "web-wide", tmp_path / "x.mp4", 0, 6))
    with sqlite3.connect(tmp_path / "j.adzer") as db:
        ((body,),) = db.execute("SELECT body FROM slips").fetchall()
        plain = json.loads(body)
        plain["route"]["deliver"] = {"version": 1, "cards": ["web-wide"], "lines": None}
        db.execute("UPDATE slips SET body = ?", (json.dumps(plain),))
    with Job.open(tmp_path / "j.adzer") as job:
        job.trust()  # it was changed by hand
        assert queue.run(job) == [] and (tmp_path / "x.mp4").exists()


def test_the_same_recording_is_never_taken_twice(tmp_path, small_clip):
    path, copy = tmp_path / "j.adzer", tmp_path / "copy.mov"
    copy.write_bytes(small_clip.read_bytes())
    first = adzer("add", path, small_clip)
    assert first.returncode == 0 and "is new" in first.stderr
    again = adzer("add", path, small_clip, copy)
    assert again.stderr.count("in the job already") == 2
    with Job.open(path) as job:
        assert len(job.shots()) == 1


def test_a_jobs_questions_are_answered_by_command(tmp_path, small_clip):
    path = tmp_path / "mill.adzer"
    other = write_clip(tmp_path / "other.mov", 8)
    assert adzer("new", path, "--rate", "25").returncode == 0
    assert adzer("add", path, small_clip, other, "--camera", "log body").returncode == 0
    done = adzer("answer", path, "other", "read.curve=fen-log", "shape.squeeze=8/5", "colour.exposure=0.5")
    assert done.returncode == 0 and done.stdout.endswith("1 of 1 shots updated.\n")
    assert "other: curve: not set → fen-log; squeeze: 1× → 1.6×; exposure: 0 stops → 0.5 stops" in done.stdout
    with Job.open(path) as job:
        route = next(s for s in job.shots() if s.name == "other").route
        assert route.read.curve == "fen-log" and str(route.shape.squeeze) == "8/5" and route.colour.exposure == 0.5
    assert adzer("answer", path, "small", "colour", "--same-as", "other").returncode == 0
    with Job.open(path) as job:
        held = {s.name: s.route for s in job.shots()}
        assert held["small"].colour.exposure == 0.5 and held["small"].read.curve is None
    listed = json.loads(adzer("shots", path, "--json").stdout)
    assert [s["shot"] for s in listed["shots"]] == ["small", "other"]
    for bad, word in ((["other", "read.kurve=x"], "kurve"), (["nobody", "read.curve=bt709"], "nobody"), (["other", "colour.exposure=99"], "8"),
                      (["other"], "stage.field=value"), (["other", "lens.curve=bt709"], "no stage"), (["other", "read.curve=fenlog"], "fen-log"),
                      (["other", "shape.squeeze=2", "deliver.cards=web-wid,web-wide"], "web-wid'")):  # fmt: skip
        done = adzer("answer", path, *bad)
        assert done.returncode == 2 and word in done.stderr and "$." not in done.stderr, done.stderr
    with Job.open(path) as job:
        assert [s.route for s in job.shots()] == list(held.values()), "one wrong value changes nothing"
    assert adzer("answer", path, "other", "deliver.cards=web-square,archive", "shape.position=0.25,0.5", "shape.keep=none").returncode == 0
    with Job.open(path) as job:
        route = next(s.route for s in job.shots() if s.name == "other")
        assert route.deliver.cards == ("web-square", "archive") and route.shape.position == (0.25, 0.5)
    adzer("undo", path)
    assert "taken back" in adzer("undo", path).stdout and "done again" in adzer("redo", path).stdout
    assert adzer("judge", path, "drop", "o*").returncode == 0
    assert adzer("take", path, "small", "10", "30").stdout.strip() == "small · 2"
    rows = json.loads(adzer("log", path, "--json").stdout)["rows"]
    assert {"add", "decide"} <= {r["kind"] for r in rows}
    assert json.loads(adzer("queue", path, "--json").stdout) == {"version": 2, "slips": []}
    mended = json.loads(adzer("mend", path, "--all", "nothing-like-it", "--json").stdout)
    assert mended == {"version": 2, "mended": []}


def test_every_question_is_listed_with_what_it_takes_and_means():
    listed = json.loads(adzer("answers", "--json").stdout)["answers"]
    wanted = {f"{stage}.{f}" for stage in STAGES for f in getattr(Route(), stage).__struct_fields__ if f != "version"}
    assert {q["name"] for q in listed} == wanted and all(q["means"] and q["takes"] and q["default"] for q in listed)
    by = {q["name"]: q for q in listed}
    assert by["colour.exposure"]["takes"] == "number -8 to 8" and by["read.turn"]["takes"].startswith("0 | 90 | 180 | 270")
    assert adzer("answers", "steady").stdout.count("takes:") == sum(n.startswith("steady.") for n in wanted)
    assert adzer("answers", "sound").returncode == 2
    for stage in STAGES:  # what is said to hold until somebody answers is an answer, and the very one
        for question in questions.questions(stage):
            field = question.name.partition(".")[2]
            route = Route().with_(stage, **{field: questions.meant(stage, field, question.default)})
            assert route == Route(), question


def test_a_mend_contradicts_nobody_and_is_shown_first(tmp_path, small_clip):
    path = tmp_path / "mill.adzer"
    write_clip(tmp_path / "uneven.mov", 12, rate=Fraction(25), stamps=[0, 1, 2, 4, 5, 6, 9, 10, 11, 12, 13, 15])
    adzer("add", path, tmp_path / "uneven.mov")
    (told,) = json.loads(adzer("mend", path, "--dry-run", "--json").stdout)["would"]
    assert told["code"] == "variable-rate" and told["change"] == "rhythm: recorded → even; even rate: not set → 25 frames a second"
    with Job.open(path) as job:
        assert job.shots()[0].route == Route()
    assert adzer("answer", path, "read.timing=even", "read.even_rate=10").returncode == 0
    done = adzer("mend", path)
    assert "has an answer, which stays" in done.stderr and "--all rate-differs" in done.stderr and not done.stdout
    with Job.open(path) as job:
        assert job.shots()[0].route.read.even_rate == 10
    assert adzer("mend", path, "--all", "rate-differs").stdout.startswith("uneven: Keep its speed at 25")
    with Job.open(path) as job:
        assert job.shots()[0].route.read.even_rate == 25


def test_what_was_measured_of_a_jobs_shot_is_there_for_its_answers(tmp_path):
    """Not measured: said, with what to type; measured by adzer shake: the answer is solved, and walks without a word."""
    path, clip = tmp_path / "mill.adzer", tmp_path / "hand.mkv"
    grey = foreign.photograph("coffee").mean(axis=2)
    with av.open(str(clip), "w") as out:
        stream = out.add_stream("ffv1", rate=25)
        stream.width, stream.height, stream.pix_fmt = 256, 192, "gray"
        for n in range(30):
            x, y = 24 + round(9 * np.sin(n / 2.1)), 20 + round(7 * np.cos(n / 1.7))
            out.mux(stream.encode(av.VideoFrame.from_ndarray(grey[y : y + 192, x : x + 256].astype(np.uint8), format="gray")))
        out.mux(stream.encode(None))
    assert adzer("add", path, clip).returncode == 0
    early = adzer("answer", path, "hand", "steady.method=hold")
    assert "not been measured" in early.stderr and "adzer shake mill.adzer" in early.stderr
    assert adzer("undo", path).returncode == 0 and adzer("shake", path, "hand").returncode == 0
    assert adzer("answer", path, "hand", "steady.method=hold", "steady.budget=0.2").stderr == ""
    with Job.open(path) as job:
        (shot,) = job.shots()
        assert shot.route.steady.moves and not [f for f in job.walker()(shot)["steady"].findings if f.level == "stop"]


def test_the_queue_is_run_and_its_renders_cancelled_and_retried(tmp_path, small_clip):
    path = tmp_path / "mill.adzer"
    adzer("add", path, small_clip)
    with Job.open(path) as job:
        (shot,) = job.shots()
        for name in ("a", "b"):
            job.enqueue(shot.id, freeze(shot.name, shot.facts, shot.route, "web-square", tmp_path / f"{name}.mp4", 0, 6, job.seen(shot.id)))
    assert adzer("queue", path, "cancel").returncode == 2 and adzer("queue", path, "cancel", 9).returncode == 2
    assert adzer("queue", path, "cancel", 1).returncode == 0
    done = adzer("queue", path, "run")
    assert done.returncode == 0 and (tmp_path / "b.mp4").exists() and not (tmp_path / "a.mp4").exists(), done.stderr
    assert "already" in adzer("queue", path, "cancel", 2).stderr
    assert adzer("queue", path, "retry").returncode == 0 and adzer("queue", path, "run", 1).returncode == 0 and (tmp_path / "a.mp4").exists()
    rows = json.loads(adzer("log", path, "--most", 1, "--kind", "add", "--json").stdout)["rows"]
    assert [r["kind"] for r in rows] == ["add"], "filtered before it is cut"
    page = adzer("log", path, "--as", "html").stdout
    assert page.count("<tr>") == len(json.loads(adzer("log", path, "--most", 1000, "--json").stdout)["rows"]) + 1 and "<script" not in page


# --- time, tracks and frames that change ----------------------------------------------------------------------------------
def test_a_clock_goes_by_stamps(phone_clip):
    facts = probe.probe(phone_clip)
    held = clock.clock_of(facts)
    with Reader(phone_clip) as reader:
        truth = [float(reader.time(n)) for n in range(len(reader))]
    assert np.allclose([held.time(n) for n in range(len(truth))], truth, atol=1e-9)
    assert [held.frame(t) for t in truth] == list(range(len(truth)))
    assert max(abs(n / float(facts.rate) - t) for n, t in enumerate(truth)) > 0.5 / float(facts.rate)  # the rate would be off


def test_an_eye_or_track_that_would_be_lost_stops(tmp_path):
    path = tmp_path / "two.mkv"
    with av.open(str(foreign.clip("bikes"))) as source, av.open(str(path), "w") as target:
        tracks = [target.add_stream("libx264", rate=25) for _ in range(2)]
        for t in tracks:
            t.width, t.height, t.pix_fmt = 160, 90, "yuv420p"
        for n, frame in enumerate(source.decode(video=0)):
            if n == 4:
                break
            for t in tracks:
                small = frame.reformat(160, 90, "yuv420p")
                small.pts, small.time_base = n, Fraction(1, 25)
                target.mux(t.encode(small))
        for t in tracks:
            target.mux(t.encode(None))
    facts = probe.probe(path)
    stopped = walk(Route(), facts, None).stopped
    assert facts.tracks == 2 and stopped.code == "second-track"
    assert walk(Route().mended(stopped.fix), facts, None).stopped is None
    eye = msgspec.structs.replace(probe.probe(foreign.clip("bikes")), apart="/x/right.mp4")
    assert walk(Route(), eye, None).stopped.code == "second-eye"


def test_a_flat_pair_is_not_cut_across_its_middle():
    facts = probe.probe(foreign.clip("bikes"))
    pair = Route().with_("read", eyes="side by side", first="left", packing="half")
    assert walk(pair, facts, None).stopped is None
    cut = walk(pair.with_("shape", shape="1"), facts, None)
    assert cut.stopped.code == "pair-cropped" and walk(pair.mended(cut.stopped.fix), facts, None).stopped is None


def test_sound_with_a_hole_keeps_its_time(tmp_path):
    """A second of sound, two seconds of none, a second of sound again: it is heard where its stamps say."""
    from adzer.core.media import audio

    path = tmp_path / "hole.mkv"
    with av.open(str(path), "w") as target:
        video = target.add_stream("libx264", rate=5)
        video.width, video.height, video.pix_fmt = 64, 48, "yuv420p"
        sound = target.add_stream("pcm_s16le", rate=48000, layout="mono")
        for n in range(25):
            frame = av.VideoFrame(64, 48, "yuv420p")
            frame.pts = n
            target.mux(video.encode(frame))
        target.mux(video.encode(None))
        for start in (0, 144000):
            for k in range(0, 48000, 1000):
                t = np.arange(k, k + 1000) / 48000
                piece = av.AudioFrame.from_ndarray((8000 * np.sin(2 * np.pi * 500 * t)).astype(np.int16)[None], "s16", "mono")
                piece.sample_rate, piece.pts, piece.time_base = 48000, start + k, Fraction(1, 48000)
                target.mux(sound.encode(piece))
        target.mux(sound.encode(None))
    heard = audio.mono(path, Fraction(0), Fraction(4))
    loud = [float(np.abs(heard[a * 48000 + 2000 : (a + 1) * 48000 - 2000]).mean()) for a in range(4)]
    assert loud[0] > 0.05 and loud[1] < 1e-3 and loud[2] < 1e-3 and loud[3] > 0.05


