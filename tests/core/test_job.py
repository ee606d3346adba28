"""The job file: every edit one transaction, undo that survives a restart, hostile files refused."""

from __future__ import annotations

import contextlib
import shutil
import signal
import sqlite3
import subprocess
import sys
import time
from fractions import Fraction
from pathlib import Path

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from adzer.core import cards
from adzer.core.compile import freeze
from adzer.core.deliver.advise import Trial
from adzer.core.deliver.outlook import outlook
from adzer.core.errors import RenderFailed, UnreadableError
from adzer.core.intake.take import add_files, read_file
from adzer.core.job import Job, Mark, Taken
from adzer.core.media import probe
from adzer.core.read.seen import Guess
from adzer.core.route import Route, walk
from adzer.core.run import queue
from adzer.core.run import render as rendering
from adzer.core.run.render import render
from adzer.core.sim.demo import CLIPS


@pytest.fixture
def job(tmp_path, small_clip):
    made = Job.create(tmp_path / "mill.adzer", "Mill", Fraction(25))
    add_files(made, [small_clip])
    yield made
    made.close()


def state(job):
    return [(s.id, s.name, s.route, s.start, s.stop) for s in job.shots()], job.meta("out")


def test_undo_and_redo_survive_a_restart(job):
    states = [state(job)]
    shot = job.decide(job.shots()[0], job.shots()[0].route.with_("colour", exposure=0.5), "brighter")
    states.append(state(job))
    job.set_range(shot, 5, 50)
    states.append(state(job))
    job.set_meta("output folder", out="/elsewhere")
    states.append(state(job))
    job.remove_shots([shot])
    path = job.path
    job.close()
    with Job.open(path) as again:
        assert again.shots() == []
        for expected in reversed(states):
            again.undo()
            assert state(again) == expected
    with Job.open(path) as again:
        for expected in states[1:]:
            again.redo()
            assert state(again) == expected
        again.redo()
        assert again.shots() == [] and again.redo() is None
        kinds = [r.kind for r in again.log_rows()]
        assert kinds.count("undo") == 4 and kinds.count("redo") == 4 and "remove" in kinds


@given(st.lists(st.sampled_from(("edit", "undo", "redo")), max_size=25))
def test_undo_is_a_line_that_new_edits_cut(tmp_path_factory, small_clip, steps):
    facts, _ = read_file(small_clip)
    with Job.create(tmp_path_factory.mktemp("j") / "x.adzer", "x") as job:
        job.add_shot(facts)
        history, at = [0.0], 0
        for n, step in enumerate(steps, 1):
            shot = job.shots()[0]
            if step == "edit":
                job.decide(shot, shot.route.with_("colour", exposure=n / 10), "x")
                history, at = [*history[: at + 1], n / 10], at + 1
            elif step == "undo" and at > 0:
                assert job.undo() is not None
                at -= 1
            elif step == "redo":
                assert (job.redo() is None) == (at == len(history) - 1)
                at = min(at + 1, len(history) - 1)
            assert job.shots()[0].route.colour.exposure == history[at]


_WRITER = """
import sys
from adzer.core.job import Job, Trial
from adzer.core.run.render import render
job = Job.open(sys.argv[1])
n = 0
while True:
    n += 1
    shot = job.shots()[0]
    job.decide(shot, shot.route.with_("colour", exposure=(n % 80) / 10), str(n))
    print(n, flush=True)
"""


def test_a_kill_loses_no_committed_edit(job):
    process = subprocess.Popen([sys.executable, "-c", _WRITER, str(job.path)], stdout=subprocess.PIPE, text=True)
    assert process.stdout is not None
    for line in process.stdout:
        if int(line) >= 20:
            break
    process.send_signal(signal.SIGKILL)
    told = [int(v) for v in process.stdout.read().split()] or [20]
    process.wait()
    with Job.open(job.path) as again:
        words = again.undo()
        assert words is not None and int(words) >= max(told)


def test_two_processes_take_the_same_recording_once(job):
    """Both looked before either added: the second adds nothing, and leaves no edit that would undo nothing."""
    (shot,) = job.shots()
    with Job.open(job.path) as other:
        new = Taken(msgspec.structs.replace(shot.facts, fingerprint="another"), "another")
        assert [s.name for s in other.add_new([new])] == ["another"]
    before = job.edited
    assert job.add_new([new]) == [] and job.edited == before and len(job.shots()) == 2
    assert job.undo() == "add another" and len(job.shots()) == 1


_MAKER = """
import sys
from pathlib import Path
from adzer.core.job import Job
for n in range(100_000):
    Job.create(Path(sys.argv[1]) / f"{n}.adzer", "n").close()
    print(n, flush=True)
"""


def test_a_job_is_whole_or_not_there_when_its_maker_is_killed(tmp_path):
    for at in range(4):
        folder = tmp_path / str(at)
        folder.mkdir()
        process = subprocess.Popen([sys.executable, "-c", _MAKER, str(folder)], stdout=subprocess.PIPE, text=True)
        assert process.stdout is not None
        for line in process.stdout:
            if int(line) == 3:
                break
        time.sleep(0.004 * at)
        process.send_signal(signal.SIGKILL)
        process.wait()
        made = list(folder.glob("*.adzer"))
        assert len(made) >= 4
        for path in made:
            Job.open(path).close()


def test_decisions_are_logged_with_their_numbers(job):
    shot = job.shots()[0]
    job.decide(shot, shot.route.with_("shape", squeeze="8/5"), "desqueeze")
    row = job.log_rows()[0]
    assert row.kind == "decide" and row.numbers == {"shape.squeeze": ["1/1", "8/5"]}


def test_slips_are_frozen_and_the_queue_renders_them(job):
    shot = job.shots()[0]
    shot = job.set_range(shot, 0, 20)
    out = job.master_path(shot.name, cards.delivery("web-wide"))
    job.enqueue(
        shot.id, freeze(shot.name, shot.facts, shot.route, "web-wide", out, shot.start, shot.stop, job.seen(shot.id))
    )
    assert job.master_path(shot.name, cards.delivery("web-wide")) != out
    job.decide(shot, shot.route.with_("colour", exposure=2.0), "after queueing")
    assert job.slips()[0].order.route == Route()
    was = job.seen(shot.id)
    job.enqueue(shot.id, freeze(shot.name, shot.facts, shot.route, "archive", out.with_suffix(".mkv"), 0, 9, was))
    job.keep_seen(shot.id, msgspec.structs.replace(was, range=Guess("full", 0.9)))
    assert [s.order.seen for s in job.slips()] == [was, was] and job.seen(shot.id) != was  # what was measured is frozen, too
    with sqlite3.connect(job.path) as db:  # once for both
        assert db.execute("SELECT count(*), length(min(body)) > 1000 FROM frozen").fetchall() == [(1, 1)]
        assert db.execute("SELECT max(length(json_extract(body, '$.seen'))) FROM slips").fetchone() == (64,)
    job.set_slip(2, state="cancelled")
    heard = []
    assert queue.run(job, lambda slip, p: heard.append(p.doing)) == []
    slip = job.slips()[0]
    assert slip.state == "done" and out.exists() and slip.report["frames"] == 20 and "checking" in heard
    row = job.log_rows()[0]
    assert row.kind == "render" and row.numbers["xxh128"] == slip.report["checksum"]


def test_a_slip_whose_process_died_waits_again_and_a_stopped_one_does_not(job):
    shot = job.shots()[0]
    for n in (1, 2, 3):
        job.enqueue(
            shot.id,
            freeze(shot.name, shot.facts, Route(), "web-wide", job.out_folder / f"{n}.mp4", 0, 10, job.seen(shot.id)),
        )
    dead = subprocess.Popen([sys.executable, "-c", ""])
    dead.wait()
    job.set_slip(1, state="rendering", pid=dead.pid)
    job.set_slip(2, state="cancelled")
    (job.out_folder).mkdir()
    (job.out_folder / "3.mp4").write_text("taken meanwhile")
    assert queue.run(job) == [3]
    assert [s.state for s in job.slips()] == ["done", "cancelled", "failed"]
    assert "never overwritten" in job.slips()[2].why


def test_the_queue_stops_when_told_from_elsewhere(job):
    shot = job.shots()[0]
    job.enqueue(
        shot.id,
        freeze(
            shot.name,
            shot.facts,
            Route().with_("shape", hold="native"),
            "native-wide",
            job.out_folder / "x.mp4",
            seen=job.seen(shot.id),
        ),
    )
    process = subprocess.Popen([sys.executable, "-m", "adzer.core.run.queue", str(job.path)], stdout=subprocess.PIPE)
    end = time.monotonic() + 60
    while job.slip_state(1) != "rendering" and time.monotonic() < end:
        time.sleep(0.01)
    job.set_slip(1, state="cancelled")
    assert process.wait(60) == 0
    assert job.slip_state(1) == "cancelled" and not (job.out_folder / "x.mp4").exists()


def hostile(path, folder):
    """Job files that lie, each a copy of a good one with something wrong."""

    def changed(name, *statements):
        copy = folder / f"{name}.adzer"
        shutil.copyfile(path, copy)
        db = sqlite3.connect(copy)
        for s in statements:
            db.execute(s)
        db.commit()
        db.close()

    changed("trigger", "CREATE TRIGGER t AFTER INSERT ON log BEGIN DELETE FROM shots; END")
    changed("newer", "PRAGMA user_version = 99")
    changed("route", 'UPDATE shots SET route = \'{"shape": {"squeeze": "1/0"}}\'')
    changed("facts", "UPDATE shots SET facts = 'null'")
    changed("range", "UPDATE shots SET start = 50, stop = -1")
    changed("rate", "UPDATE meta SET value = '0' WHERE key = 'rate'")
    changed("log", "INSERT INTO log (at, kind, text, numbers) VALUES (1, 'x', 'x', '{')")
    changed("tables", "DROP TABLE changes")
    changed("slip", "INSERT INTO slips (at, state, shot_id, body) VALUES (1, 'waiting', 1, '[1, 2]')")
    changed("newer slip", "INSERT INTO slips (at, state, shot_id, body) VALUES (1, 'waiting', 1, '{\"version\": 99}')")
    changed("unmeasured", "DROP TABLE measured")
    changed("frozen", "INSERT INTO slips (at, state, shot_id, body) VALUES (1, 'waiting', 1, '{\"route\": {}, \"seen\": \"00\"}')")
    changed("trial", "INSERT INTO measured SELECT json_extract(facts, '$.fingerprint'), 'trial', 1, id || ' web-wide', 'x' FROM shots")
    changed("other", "PRAGMA application_id = 7")
    (folder / "text.adzer").write_text("not a database")
    (folder / "empty.adzer").write_bytes(b"")
    (folder / "torn.adzer").write_bytes(path.read_bytes()[:5000])
    (folder / "folder.adzer").mkdir()


def test_hostile_job_files_are_refused_with_their_name(job, tmp_path):
    path = job.path
    job.close()
    db = sqlite3.connect(path)
    db.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    db.close()
    folder = tmp_path / "hostile"
    folder.mkdir()
    hostile(path, folder)
    for bad in [*sorted(folder.glob("*.adzer")), folder / "gone.adzer"]:
        with pytest.raises(UnreadableError) as caught:
            Job.open(bad).close()
        assert bad.name in str(caught.value), bad
    Job.open(path).close()


def test_files_that_cannot_be_read_are_said_and_the_rest_is_added(job, tmp_path, phone_clip):
    bad = tmp_path / "bad.mov"
    bad.write_text("nothing")
    said = []
    added = add_files(job, [bad, phone_clip], said.append)
    assert [s.name for s in added] == ["by-the-canal"] and len(said) == 1 and "bad.mov" in said[0]
    assert job.seen(added[0].id) is not None


def test_a_queue_says_when_it_is_done_and_a_render_stops_before_its_disk_is_full(job, tmp_path, monkeypatch):
    (shot,) = job.shots()
    for n in range(3):
        job.enqueue(shot.id, freeze("x", shot.facts, shot.route, "web-wide", tmp_path / "out" / f"{n}.mp4", 0, 50))
    trials = {(shot.id, "web-wide"): Trial("web-wide", 25, 2.0, 1_000_000, (192, 108))}
    blind = outlook(job.slips(), {})
    assert (blind.seconds, blind.size, blind.unknown, blind.disks) == (0, 0, 3, ())
    seen = outlook(job.slips(), trials)
    assert (seen.seconds, seen.size, seen.unknown) == (12.0, 6e6, 0)  # 150 frames, 0.08 s and 40 kB each
    (disk,) = seen.disks
    assert disk.needs == 6e6 and disk.free > 0 and disk.folder == tmp_path
    job.set_slip(1, state="rendering", done=30, total=50, progress={"doing": "rendering", "rate": 10.0, "size": 3_000_000})
    seen = outlook(job.slips(), {})  # what lies in unfinished segments says nothing of its size
    assert seen.seconds == pytest.approx(12.0) and (seen.size, seen.unknown, seen.disks) == (0, 3, ())
    seen = outlook(job.slips(), trials)  # 20 frames at 0.1 s, 100 at 0.08; 40 kB each, and what is joined lies there twice
    assert seen.seconds == pytest.approx(10.0) and seen.size == pytest.approx(4.8e6) and seen.disks[0].needs == pytest.approx(6.8e6)
    job.set_slip(2, state="done", done=50, total=50, report={"size": 5_000_000})
    seen = outlook(job.slips(), {})  # 70 frames, 0.1 s and 100 kB each
    assert seen.seconds == pytest.approx(7.0) and seen.size == pytest.approx(7e6) and seen.unknown == 0
    real = shutil.disk_usage(tmp_path)
    monkeypatch.setattr(rendering.shutil, "disk_usage", lambda _: real._replace(total=10**12, free=150_000_000))
    with pytest.raises(RenderFailed, match="stopped before the disk was full: 150 MB are free"):
        render(freeze("x", shot.facts, shot.route, "web-wide", tmp_path / "y.mp4", 0, 10))
    assert not (tmp_path / "y.mp4").exists()


def test_a_job_of_an_earlier_day_opens_as_it_was_and_its_slips_render(tmp_path):
    """A job of schema 3 that was made in November 2026, answered in many ways, with two slips frozen then."""
    path = tmp_path / "old.adzer"
    path.write_bytes((Path(__file__).parents[1] / "fixtures" / "schema-3.adzer").read_bytes())
    with contextlib.closing(sqlite3.connect(path)) as db, db:
        for table, column in (("shots", "facts"), ("slips", "body")):
            db.execute(f"UPDATE {table} SET {column} = replace({column}, '/footage/masters', ?)", (str(tmp_path / "out"),))
            db.execute(f"UPDATE {table} SET {column} = replace({column}, '/footage', ?)", (str(CLIPS),))
    with Job.open(path) as job:
        assert len(job.untrusted()) == 2 and [s.name for s in job.shots()] == ["sails, wide", "by the canal", "by the canal · 2", "all round"]
        wide, canal, take, sphere = job.shots()
        assert (wide.start, wide.stop, wide.verdict, wide.marks) == (4, 12, "keep", (Mark(12, "kite"),))
        assert (wide.route.read.curve, wide.route.colour.whites, wide.route.colour.ceiling) == ("fen-log", "keep hue", 105)
        assert wide.route.shape.squeeze == Fraction(8, 5) and wide.route.shape.enlarged == 1.2 and wide.route.shape.marks[0].b == 100
        assert canal.route.shape.speed == Fraction(1, 2) and canal.route.shape.moves.keys[1].enlarged == 1.5 and take.start == 40
        assert [k.heading for k in sphere.route.shape.view.keys] == [20, 80] and sphere.route.shape.level == (1.0, -2.0)
        for shot in job.shots():
            assert walk(shot.route, shot.facts, job.seen(shot.id)).stopped is None, shot.name
        assert all(job.seen(s.id) is not None for s in job.shots()), "what was measured is known by its recording now"
        job.keep_measured(wide.facts.fingerprint, "seen", b"{}", version=2)
        assert job.seen(wide.id) is None and job.seen(canal.id) is not None, "another version is measured anew"
        assert job.undo() and job.shots()[0].notes == ""
        job.trust()
        assert queue.run(job) == [] and [s.state for s in job.slips()] == ["done", "done"]
        assert [probe.probe(s.order.out).frames for s in job.slips()] == [8, 6]
