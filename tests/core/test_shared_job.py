"""One job in several processes, and jobs and folders that come from strangers: nothing lost, nobody in."""

from __future__ import annotations

import fcntl
import json
import os
import shutil
import signal
import sqlite3
import subprocess
import sys
import time
from contextlib import closing
from pathlib import Path

import pytest
from msgspec.structs import replace

from adzer.core import compile as compile_
from adzer.core.compile import freeze
from adzer.core.errors import AdzerError, Cancelled, UnreadableError
from adzer.core.intake import proxies
from adzer.core.intake.take import add_files, read_file
from adzer.core.job import Job, Mark
from adzer.core.ledger import EditConflict
from adzer.core.media.decode import Reader
from adzer.core.route import Route
from adzer.core.run import queue
from adzer.core.run.parts import folders
from adzer.core.run.render import render
from adzer.numbers.soak import soak

from ..conftest import parts_folder, write_clip
from .test_cli import adzer

PLAIN = Route().with_("shape", hold="native")


@pytest.fixture
def job(tmp_path, small_clip):
    with Job.create(tmp_path / "mill.adzer", "Mill") as made:
        add_files(made, [small_clip])
        yield made


@pytest.fixture
def order(small_clip, tmp_path):
    facts, seen = read_file(small_clip)
    return freeze("s", facts, PLAIN, "web-wide", tmp_path / "out.mp4", 0, 12, seen)


# --- several processes at once --------------------------------------------------------------------------------------------
def test_many_processes_in_one_job_lose_nothing_and_take_nothing_back(tmp_path):
    found = soak(tmp_path, write_clip(tmp_path / "clip.mov", 30), 10.0, 3)
    assert not [what for what in found if what.startswith("FAULT")], found
    assert found["edits"] > 20 and found["undone"] and found["masters"] and found["kills"] >= 3


def test_opening_a_job_again_leaves_this_processs_locks_on_it(job):
    """POSIX locks belong to the process: closing any handle on the file would drop them all, and whoever closes the job next
    would take its write-ahead log away under the one who still writes."""
    def locks():
        inode = job.path.stat().st_ino
        return [line for line in Path("/proc/locks").read_text().splitlines() if f":{inode} " in line and f" {os.getpid()} " in line]

    job.shots()
    before = locks()
    assert before
    with Job.open(job.path) as again:
        assert again.shots()
    assert locks() == before
    for _ in range(3):
        job.decide(job.shots()[0], job.shots()[0].route.with_("colour", exposure=0.5), "brighter")
        looking = subprocess.run([sys.executable, "-c", "import sys; from adzer.core.job import Job; Job.open(sys.argv[1]).close()", str(job.path)])
        assert looking.returncode == 0 and job.path.with_name(job.path.name + "-wal").exists()
    with closing(sqlite3.connect(job.path)) as db:
        assert db.execute("PRAGMA integrity_check").fetchone() == ("ok",)
        assert db.execute("SELECT json_extract(route, '$.colour.exposure') FROM shots").fetchone() == (0.5,)


def test_an_edit_is_this_answer_from_this_to_that(job):
    (old,) = job.shots()
    with Job.open(job.path) as other:
        other.decide(old, old.route.with_("colour", exposure=1.0).with_("shape", enlarged=2.0), "theirs")
        other.set_marks(old, [Mark(3), Mark(9)])
        other.set_range(old, 0, 40)
    job.decide(old, old.route.with_("colour", contrast=1.5), "mine")  # from what was read before theirs
    job.set_marks(old, [Mark(5)])
    job.set_range(old, 2, old.stop)
    now = job.shot(old.id)
    assert (now.route.colour.exposure, now.route.colour.contrast, now.route.shape.enlarged) == (1.0, 1.5, 2.0)
    assert [m.frame for m in now.marks] == [3, 5, 9] and (now.start, now.stop) == (2, 40)
    before = job.edited
    for clash in (lambda: job.decide(old, old.route.with_("colour", exposure=-1.0), "x"), lambda: job.set_range(old, 0, 30)):
        with pytest.raises(EditConflict, match="changed elsewhere"):
            clash()
    assert job.shot(old.id) == now and job.edited == before
    job.remove_shots([now])
    with pytest.raises(UnreadableError, match="not in the job any more"):
        job.decide(now, now.route.with_("colour", contrast=1.0), "x")


def test_an_undo_and_an_edit_are_seen_by_who_looks_on(job):
    """The number of an edit that was taken back is used again by the next one."""
    (shot,) = job.shots()
    job.decide(shot, shot.route.with_("colour", exposure=1.0), "one")
    seen = job.edited
    job.undo()
    job.decide(shot, shot.route.with_("colour", contrast=2.0), "two")
    assert job.edited != seen


# --- what is begun goes on, what is wrong is one slip's ----------------------------------------------------------------------
@pytest.mark.parametrize("what", ["render", "proxy"])
def test_the_same_command_after_a_kill_goes_on_and_makes_one_file(tmp_path, what):
    clip = write_clip(tmp_path / "clip.mov", 260, raster=(320, 180), sound=True)
    path, out = tmp_path / "mill.adzer", tmp_path / ("out" if what == "render" else "proxies")
    with Job.create(path, "mill") as job:
        add_files(job, [clip])
    command = [sys.executable, "-m", "adzer", what, str(path), *(["--out", str(out), "--card", "native-wide"] if what == "render" else [])]
    process = subprocess.Popen(command, stderr=subprocess.DEVNULL, stdout=subprocess.DEVNULL)
    end = time.monotonic() + 60
    while process.poll() is None and not list(out.glob("*.parts/00000.m*")) and time.monotonic() < end:
        time.sleep(0.005)
    process.send_signal(signal.SIGKILL)
    assert process.wait() == -signal.SIGKILL and not [p for p in out.iterdir() if p.is_file()]
    (parts,) = out.iterdir()
    kept = {p.name: p.stat().st_mtime_ns for p in parts.glob("00000.m*")}
    done = subprocess.run(command, capture_output=True, text=True)
    assert done.returncode == 0, done
    assert "goes on" in done.stderr and kept
    (made,) = out.iterdir()
    with Job.open(path) as job:
        (slip,) = job.slips()
        assert slip.state == "done" and Path(slip.order.out) == made and " 2" not in made.name
        assert what == "render" or [Path(p.path) for p in job.shots()[0].parts] == [made]


def test_an_error_of_a_slip_is_the_slips_and_a_failed_command_leaves_no_ghost(job, tmp_path, monkeypatch):
    (shot,) = job.shots()

    def queued(out):
        return job.enqueue(shot.id, freeze("s", shot.facts, PLAIN, "web-wide", Path(out), 0, 6))

    bad = [queued(f"{tmp_path}/{'n' * 300}.mp4"), queued("/proc/nowhere/x.mp4"), queued(tmp_path / "file" / "x.mp4")]
    (tmp_path / "file").write_text("in the way")
    good = queued(tmp_path / "good.mp4")
    assert queue.run(job) == bad and job.slip_state(good) == "done" and (tmp_path / "good.mp4").exists()
    assert all(s.why for s in job.slips() if s.id in bad)

    def fails(*_):
        raise RuntimeError("a fault of our own")

    monkeypatch.setattr(queue, "render", fails)
    one, two = queued(tmp_path / "1.mp4"), queued(tmp_path / "2.mp4")
    assert queue.run(job) == [one, two] and "fault of our own" in job.slips()[-1].why
    done = adzer("render", job.path, "--card", "web-wide", "--card", "no such card", "--out", tmp_path / "out")
    assert done.returncode == 2 and not [s for s in job.slips() if s.state in ("waiting", "rendering")]


_DIES = """
import os, sys
from adzer.core.job import Job
from adzer.core.media import audio
from adzer.core.run import queue, render
def dies(*_, **__):
    os.kill(os.getpid(), 11)
render.join = dies
with Job.open(sys.argv[1]) as job:
    queue.run(job)
"""


def test_an_encoder_that_ends_its_process_does_not_hold_up_the_queue(job, tmp_path):
    """Three processes end at the first slip; the fourth gives it up and renders what comes after it."""
    (shot,) = job.shots()
    slips = [job.enqueue(shot.id, freeze("s", shot.facts, PLAIN, "web-wide", tmp_path / f"{n}.mp4", 0, 6)) for n in range(2)]
    for _ in range(3):
        assert subprocess.run([sys.executable, "-c", _DIES, str(job.path)]).returncode == -signal.SIGSEGV
        assert job.abandoned() == {slips[0]}
    assert queue.run(job) == [] and [job.slip_state(s) for s in slips] == ["failed", "done"]
    assert "ended by itself 3 times" in job.slips()[0].why and (tmp_path / "1.mp4").exists()


def test_a_command_outlives_a_library_that_ends_its_process(job, small_clip, tmp_path):
    """Once: it goes on by itself. Each time: that render is given up, the others are made. Without a queue it is a sentence."""
    out = tmp_path / "out"

    def run(always, *words):
        (tmp_path / "died").unlink(missing_ok=True)
        words = [sys.executable, Path(__file__).with_name("dying_command.py"), tmp_path / "died", always, *words]
        done = subprocess.run(list(map(str, words)), capture_output=True, text=True)
        assert (tmp_path / "died").exists() and "signal 11" in done.stderr, done
        return done

    done = run("none", "--quiet", "render", job.path, "--card", "web-wide", "--out", out)
    assert done.returncode == 0 and "goes on after the last finished segment" in done.stderr and len(list(out.iterdir())) == 1
    done = run("web wide 16:9", "render", job.path, "--card", "web-wide", "--card", "web-square", "--out", out)
    assert done.returncode == 1 and "ended by itself 3 times" in done.stderr
    assert [s.state for s in job.slips()] == ["done", "failed", "done"]
    done = run("web wide 16:9", "convert", small_clip, "--card", "web-wide", "--out", tmp_path / "x.mp4")
    assert done.returncode == 1 and "no file was replaced" in done.stderr and not (tmp_path / "x.mp4").exists()


@pytest.mark.parametrize("sent", [signal.SIGINT, signal.SIGTERM, signal.SIGKILL])
def test_what_is_sent_to_a_command_ends_what_works_for_it(sent):
    text = "import os, time\nfrom adzer import __main__ as s\ns.command = lambda _: (print(os.getpid(), flush=True), time.sleep(60))\ns.main()"
    with subprocess.Popen([sys.executable, "-c", text], stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True) as command:
        worker = Path("/proc") / command.stdout.readline().strip()
        assert worker.exists()
        command.send_signal(sent)
        assert command.wait(10) == -sent
        end = time.monotonic() + 10
        while worker.exists() and time.monotonic() < end:
            time.sleep(0.01)
        assert not worker.exists()


# --- strangers ------------------------------------------------------------------------------------------------------------
def _of_a_stranger(job, tmp_path, monkeypatch):
    """A slip that waits, and a home that did not freeze it."""
    (shot,) = job.shots()
    target = tmp_path / "elsewhere" / "x.mp4"
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "their home"))
    job.enqueue(shot.id, freeze("s", shot.facts, PLAIN, "web-wide", target, 0, 6))
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "my home"))
    return target


@pytest.mark.parametrize("lie", ["", "schema", "mine", "rendering"])
def test_a_strangers_renders_run_only_when_they_are_trusted(job, tmp_path, monkeypatch, lie):
    """Whatever the file says of itself: that it is of an older schema, or that its home, or another slip's seal, is mine."""
    target = _of_a_stranger(job, tmp_path, monkeypatch)
    path = job.path
    if lie == "schema":
        job.close()
        with closing(sqlite3.connect(path)) as db, db:
            db.execute("ALTER TABLE slips DROP COLUMN seal")
            db.execute("ALTER TABLE slips DROP COLUMN holder")
            db.execute("PRAGMA user_version = 5")
    elif lie:
        (shot,) = job.shots()
        own = job.enqueue(shot.id, freeze("s", shot.facts, PLAIN, "web-wide", tmp_path / "own.mp4", 0, 6))
        with closing(sqlite3.connect(path)) as db, db:
            db.execute("UPDATE slips SET seal = (SELECT seal FROM slips WHERE id = ?) WHERE id <> ?", (own, own))
            if lie == "rendering":
                db.execute("UPDATE slips SET state = 'rendering', lease = NULL WHERE id <> ?", (own,))
    with Job.open(path) as job:
        for only in (None, {1}):
            with pytest.raises(AdzerError, match="elsewhere") if only is None else closing(Path("/dev/null").open()):
                queue.run(job, only=only)
        assert not target.exists() and job.slips()[0].state in ("waiting", "rendering")
        assert len(job.untrusted()) == 1
    assert str(target) in adzer("trust", path).stdout
    with Job.open(path) as job:
        assert queue.run(job) == [] and target.exists()


def test_a_strangers_folder_of_segments_is_neither_used_nor_touched(order, tmp_path, monkeypatch):
    """One that a render of theirs left, one that is made up, one behind a link, and one in which a link lies."""
    out = Path(order.out)

    def begun():
        with pytest.raises(Cancelled):
            render(order, cancelled=lambda: True)
        return parts_folder(out)

    (secret := tmp_path / "secret").mkdir()
    (secret / "diary.txt").write_text("precious")
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "their home"))
    theirs = begun()
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "my home"))
    made_up = out.with_name(f"{out.name}.{'0' * 16}.parts")
    made_up.mkdir()
    (made_up / "order.json").write_text(json.dumps({"digest": order.digest, "seal": "0" * 64}))
    linked = out.with_name(f"{out.name}.{'1' * 16}.parts")
    linked.symlink_to(secret)
    (plain := out.with_name(out.name + ".parts")).mkdir()
    (plain / "diary.txt").write_text("precious")
    theirs_before = {p.name: p.read_bytes() for p in theirs.iterdir()}
    mine = next(p for p in [begun(), *folders(out)] if p not in (theirs, made_up, linked))
    (mine / "00000.part.mp4").symlink_to(secret / "diary.txt")  # through which the next segment would be written
    assert render(order).passed
    assert {p.name: p.read_bytes() for p in theirs.iterdir()} == theirs_before and linked.is_symlink() and made_up.exists()
    assert [p.read_text() for p in (secret / "diary.txt", plain / "diary.txt")] == ["precious"] * 2 and mine.exists()


def test_a_segment_of_another_picture_is_not_used(order, tmp_path, monkeypatch):
    """Put in the place of a finished one, with all that was witnessed of it, seal and all."""
    monkeypatch.setattr(compile_, "SEGMENT_SECONDS", 0.2)

    def begun(one):
        with pytest.raises(Cancelled):
            render(one, cancelled=lambda: bool(list(parts_folder(Path(one.out)).glob("00000.mp4"))))
        return parts_folder(Path(one.out))

    order = replace(order, card=replace(order.card, gop_seconds=0.2), stop=40)
    brighter = replace(order, route=order.route.with_("colour", exposure=2.0), out=str(tmp_path / "brighter.mp4"))
    theirs, mine = begun(brighter), begun(order)
    for path in theirs.glob("00000.*"):
        shutil.copyfile(path, mine / path.name)
    assert render(order).passed
    with Reader(order.out) as made:
        first, later = (made.frame(n).planes[0].mean() for n in (0, 30))
    assert abs(first - later) < 5, "the first segment was rendered again"


def test_two_renders_to_one_name_are_told_of_each_other(order):
    with pytest.raises(Cancelled):
        render(order, cancelled=lambda: True)
    handle = os.open(parts_folder(Path(order.out)), os.O_RDONLY)
    fcntl.flock(handle, fcntl.LOCK_EX)
    with pytest.raises(AdzerError, match="rendered already"):
        render(order)
    os.close(handle)
    assert render(order).passed and not folders(Path(order.out))


def test_what_lies_beside_a_master_is_never_replaced(tmp_path, small_clip, order):
    """A report of a failure, and the sheet of a sphere, where files and links of these names are there already."""
    (precious := tmp_path / "precious").write_text("mine")
    for ending in (".failed.json", ".failed 2.json"):
        Path(order.out + ending).symlink_to(precious) if ending == ".failed.json" else Path(order.out + ending).write_text("mine, too")
    with pytest.raises(AdzerError):
        render(replace(order, facts=replace(order.facts, fingerprint="another")))
    assert precious.read_text() == "mine" and Path(order.out + ".failed 2.json").read_text() == "mine, too"
    assert "why" in json.loads(Path(order.out + ".failed 3.json").read_text())


def test_a_new_job_leaves_what_others_keep_beside_it(tmp_path):
    others = [tmp_path / name for name in (".diary.adzer-new", ".x.12.adzer-new-wal", ".mill.adzer.1.adzer-new")]
    for path in others:
        path.write_text("precious")
        os.utime(path, (1, 1))
    Job.create(tmp_path / "mill.adzer", "mill").close()
    assert all(p.read_text() == "precious" for p in others)
    assert sorted(p.name for p in tmp_path.iterdir()) == sorted([*(p.name for p in others), "mill.adzer"])
    (tmp_path / "link.adzer").symlink_to(tmp_path / "nowhere")
    with pytest.raises(UnreadableError, match="there already"):
        Job.create(tmp_path / "link.adzer", "x")


def test_what_is_no_file_is_refused_at_once(tmp_path):
    os.mkfifo(tmp_path / "pipe.adzer")
    (tmp_path / "zero.adzer").symlink_to("/dev/zero")
    for name in ("pipe.adzer", "zero.adzer"):
        with pytest.raises(UnreadableError, match="pipe or a device"):
            Job.open(tmp_path / name)


def test_a_copy_is_linked_only_to_what_it_was_made_of(job, tmp_path):
    (shot,) = job.shots()
    slip = job.enqueue(shot.id, proxies.copy_order(job, shot, "proxy", "half"))
    job.remove_shots([shot])
    assert queue.run(job) == [] and job.slip_state(slip) == "done"
