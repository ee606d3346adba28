"""The command line as a person runs it: exit codes, JSON, sentences."""

from __future__ import annotations

import io
import json
import subprocess
import sys
from contextlib import redirect_stderr, redirect_stdout
from inspect import signature
from typing import get_args, get_type_hints

import av
import pytest
import typer

from adzer.cli import main, terminal  # noqa: F401 - main registers the commands
from adzer.core.job import Job
from adzer.core.media import prints, probe
from adzer.core.sim.demo import demo_job

from ..conftest import write_clip
from .test_media import bad_files


def alone(*words):
    """In a process of its own."""
    done = subprocess.run([sys.executable, "-m", "adzer", *map(str, words)], capture_output=True, text=True, timeout=200)
    assert "Traceback" not in done.stderr, done.stderr
    return done


def adzer(*words):
    """The same in this process, which has its loops loaded."""
    out, err, code = (*(io.TextIOWrapper(io.BytesIO(), "utf-8", write_through=True) for _ in "12"), 0)
    with pytest.MonkeyPatch.context() as patch, redirect_stdout(out), redirect_stderr(err):
        patch.setattr(sys, "argv", ["adzer", *map(str, words)])
        try:
            main.main()
        except SystemExit as left:
            code = left.code
    said = [held.buffer.getvalue().decode() for held in (out, err)]
    return subprocess.CompletedProcess(words, code or 0, *said)


def test_read_gives_every_field_with_evidence(scope_clip, phone_clip):
    done = adzer("read", scope_clip, phone_clip, "--json")
    assert done.returncode == 0
    scope, phone = json.loads(done.stdout)["recordings"]
    picture = scope["picture"]
    expected = {"raster": [1440, 1080], "pixel_aspect": "1/1", "projection": "flat", "eyes": "one", "curve": "bt709", "range": "limited",
                "matrix": "bt709", "bits": 10, "chroma": "4:2:2", "rate": "25/1", "constant_rate": True, "timecode": "10:14:22:00",
                "frames": 100, "duration": 4.0}  # fmt: skip
    assert {k: picture[k] for k in expected} == expected
    assert set(picture) - {"siting"} <= set(scope["evidence"]) and all(scope["evidence"].values())
    assert scope["findings"][0]["code"] == "log-tagged-display" and scope["findings"][0]["fix"] is None
    assert all(set(f) == {"level", "code", "stage", "text", "fix"} for f in scope["findings"] + phone["findings"])
    assert phone["picture"]["timecode"] is None and not phone["picture"]["constant_rate"]


def test_exit_codes_tell_bad_input_from_stop_findings(tmp_path, small_clip):
    from adzer.core.media.encode import VideoTags

    untagged = write_clip(
        tmp_path / "untagged.mp4", 6, tags=VideoTags(None, None, None, None), raster=(8, 8), options={}
    )
    assert alone("read", untagged).returncode == 1
    for words in (["read", tmp_path / "none.mov"], ["convert", small_clip, "--card", "nothing", "--out", "x.mp4"], ["nonsense"], ["read"],
                  ["convert", small_clip, "--card", "web-wide", "--out", tmp_path / "x.mov"], ["route", small_clip, "x"],
                  ["convert", small_clip, "--card", "web-wide", "--out", tmp_path / "x.mp4", "--squeeze", "0"],
                  ["convert", small_clip, "--card", "web-wide", "--out", tmp_path / "x.mp4", "--from", "02:00:00:00"],
                  ["sim", "shoot", "kettle", "--out", tmp_path / "x.mp4"], ["cards", "kettles"]):  # fmt: skip
        done = adzer(*words)
        assert done.returncode == 2 and done.stderr.strip(), words
        assert done.stdout == ""
    assert alone("route", small_clip, "x").returncode == 2
    done = alone("convert", untagged, "--card", "web-wide", "--out", tmp_path / "x.mp4")
    assert done.returncode == 1 and not (tmp_path / "x.mp4").exists()


def test_bad_files_never_end_in_a_traceback(tmp_path, small_clip):
    files = bad_files(tmp_path, small_clip)
    done = adzer("read", *files, "--json")
    assert done.returncode == 2 and done.stderr.count("adzer: ") >= 5
    assert all(f.name in done.stderr or f.name in done.stdout for f in files)


def test_convert_makes_a_checked_master(scope_clip, tmp_path):
    out = tmp_path / "m.mp4"
    done = adzer("convert", scope_clip, "--card", "native-wide", "--out", out, "--squeeze", "1.6", "--shape", "2.39", "--curve", "fen-log",
                 "--exposure", "0.3", "--whites", "let-go", "--from", "10:14:23:00", "--to", "10:14:23:10", "--json")  # fmt: skip
    assert done.returncode == 0, done.stderr
    told = json.loads(done.stdout)
    facts = probe.probe(out)
    assert facts.raster == (1440, 602) and facts.frames == 10 and facts.timecode == "10:14:23:00"
    assert told["checksum"] == prints.checksum(out) and all(c["passed"] for c in told["checks"])


@pytest.fixture(scope="module")
def job(tmp_path_factory):
    path = demo_job(tmp_path_factory.mktemp("demo"))
    with Job.open(path) as held:
        for shot in held.shots():
            held.set_range(shot, 0, 8)
    return path


def test_route_shows_each_stage_before_and_after(job):
    done = adzer("route", job, "sails, wide", "--card", "archive", "--json")
    stages = json.loads(done.stdout)["stages"]
    assert done.returncode == 0 and [s["stage"] for s in stages][4] == "shape"
    assert stages[4]["before"]["raster"] == [1440, 1080] and stages[4]["after"]["raster"] == [1440, 602]
    assert "2.39" in adzer("route", job, "1").stdout


def test_render_makes_the_chosen_deliveries(job, tmp_path):
    done = adzer("render", job, "--out", tmp_path, "--shot", "by the canal", "--json")
    told = json.loads(done.stdout)
    assert done.returncode == 0, done.stderr
    assert any(f["level"] == "warn" and f["text"] in done.stderr for f in told["findings"])
    assert told["version"] == 2 and [m["state"] for m in told["masters"]] == ["done", "done"] and len(list(tmp_path.glob("*.mp4"))) == 2
    again = adzer("render", job, "--out", tmp_path, "--shot", "by the canal", "--card", "web-wide")
    assert again.returncode == 0 and "16-9 2.mp4" in again.stdout and "was made like this before" in again.stderr
    hushed = adzer("--quiet", "render", job, "--out", tmp_path, "--shot", "by the canal", "--card", "web-wide")
    assert hushed.returncode == 0 and "made like this" not in hushed.stderr and "warn" in hushed.stderr


def test_cards_are_listed_and_checked(tmp_path):
    assert "fen-log" in adzer("cards", "curves").stdout
    bad = tmp_path / "mine.toml"
    bad.write_text('title = "x"\nform = "lin-log"\na = -1.0\n')
    done = adzer("cards", "check", bad)
    assert done.returncode == 2 and "mine" in done.stderr
    bad.write_text('title = "mine"\nform = "mirrored-log"\na = 30.0\nc = 0.25\nd = 0.1\n')
    assert "stops above grey" in adzer("cards", "check", bad).stdout


def test_sim_shoots_a_clip_with_its_truth(tmp_path):
    out = tmp_path / "c.mov"
    done = adzer("sim", "shoot", "scope-lens", "--frames", 3, "--size", "160x120", "--out", out, "--samples", 1)
    assert done.returncode == 0 and probe.probe(out).frames == 3
    assert json.loads((tmp_path / "c.mov.json").read_text())["squeeze"] == 1.6


def test_every_command_explains_itself():
    for words in ([], ["read"], ["convert"], ["route"], ["render"], ["cards"], ["sim", "shoot"], ["demo"], ["open"]):
        done = adzer(*words, "--help")
        assert done.returncode == 0 and ("Example" in done.stdout or not words)


def test_a_card_comes_home_by_command(tmp_path):
    """From the card to named shots with proxies, and masters put back from another disk."""
    card, job = tmp_path / "card", tmp_path / "mill.adzer"
    assert adzer("sim", "card", str(card), "--frames", "6").returncode == 0
    assert adzer("sim", "card", str(card)).returncode == 2
    Job.create(job, "mill").close()
    done = adzer(
        "offload", str(card), "--to", str(tmp_path / "a"), "--also", str(tmp_path / "b"), "--job", str(job), "--json"
    )
    (outcome,) = json.loads(done.stdout)["cards"]
    assert done.returncode == 0 and outcome["safe_to_erase"] and len(outcome["destinations"]) == 2, done.stderr
    assert "C0003.mov" in done.stderr, "the empty one is said"
    with Job.open(job) as held:
        kinds = {s.name: s.kind for s in held.shots()}
        assert all(held.seen(s.id) is not None for s in held.shots() if s.name not in ("A001", "C0004"))
    assert kinds["V0003_front"] == "lens pair" and kinds["P0007_01"] == "2 chapters"
    assert adzer("proxy", str(job), "--shot", "V0004", "--size", "quarter").returncode == 0
    refused = adzer("proxy", str(job), "--shot", "A001")
    assert refused.returncode == 1 and "developed" in refused.stderr
    states = []
    for folder in ("a", "gone"):  # a copy elsewhere is of use only where the first is gone
        (tmp_path / "a").rename(tmp_path / folder)
        found = adzer("relink", str(job), outcome["destinations"][1], "--json")
        states.append({m["state"] for m in json.loads(found.stdout)["matches"]})
    (tmp_path / "gone").rename(tmp_path / "a")
    assert "matched" not in states[0] and states[1] == {"matched"}
    shown = adzer("rename", str(job), "mill {n:2}")
    assert "V0004 → mill" in shown.stdout
    assert adzer("rename", str(job), "mill {n:2}", "--do").returncode == 0
    assert adzer("rename", str(job), "{nothing}").returncode == 2
    with Job.open(job) as held:
        assert all(s.name.startswith("mill ") for s in held.shots())
    judged = json.loads(adzer("play", str(card / "DCIM/100LOG/C0001.mov"), "--json").stdout)["recordings"][0]
    assert judged["rate"] > 0 and "4:2:2" in judged["players"]["desktop"]
    (card / "odd").symlink_to(tmp_path)
    again = adzer("offload", str(card), "--to", str(tmp_path / "a"), "--job", "mill")
    assert again.returncode == 1 and "NOT safe to erase" in again.stdout


def test_it_says_which_it_is():
    from importlib.metadata import version

    assert adzer("--version").stdout.strip() == f"adzer {version('adzer')}"


def test_folders_give_their_footage_each_with_its_own_camera(small_clip, tmp_path):
    """Scripts, logos and scraps in a folder are no shots and no faults; a clip with an odd ending is one."""
    for folder, name in (("east", "clip.mp4"), ("west", "other.bak")):
        (tmp_path / folder).mkdir()
        (tmp_path / folder / name).write_bytes(small_clip.read_bytes() + folder.encode())
    with av.open(str(tmp_path / "east" / "logo.gif"), "w") as gif:
        stream = gif.add_stream("gif", rate=10)
        stream.width, stream.height, stream.pix_fmt = 16, 16, "rgb8"
        gif.mux(stream.encode(av.VideoFrame(16, 16, "rgb8")))
        gif.mux(stream.encode(None))
    (tmp_path / "east" / "app.js").write_text("let x = 1")
    (tmp_path / "east" / "torn.mov").write_bytes(b"torn")
    done = adzer("add", tmp_path / "j.adzer", tmp_path / "east", tmp_path / "west", "--camera", "phone", "--camera", "eyes", "--json")
    assert done.returncode == 0 and len(json.loads(done.stdout)["shots"]) == 2
    assert "No footage, and left where it is: app.js, logo.gif." in done.stderr and "torn.mov is text, not footage" in done.stderr
    with Job.open(tmp_path / "j.adzer") as held:
        assert {s.facts.name: s.camera for s in held.shots()} == {"clip.mp4": "phone", "other.bak": "eyes"}
    odd = adzer("add", tmp_path / "j.adzer", tmp_path / "east", "--camera", "a", "--camera", "b")
    assert odd.returncode == 2 and "--camera is given 2 times for 1" in odd.stderr


def test_a_timecode_outside_a_clip_is_answered_with_the_clips_own(scope_clip, tmp_path):
    done = adzer("convert", scope_clip, "--card", "native-wide", "--out", tmp_path / "m.mp4", "--from", "09:00:00:00")
    assert done.returncode == 2 and "it goes from 10:14:22:00 to 10:14:26:00 by its own timecode" in done.stderr


def test_every_option_says_what_it_takes():
    """Each parameter of each command has help; each number has its bounds, or none is possible (they stand in the help)."""

    def commands(app):
        yield from (c.callback for c in app.registered_commands)
        for group in app.registered_groups:
            yield from commands(group.typer_instance)

    looked = 0
    for command in commands(terminal.app):
        hints = get_type_hints(command, include_extras=True)
        for name, parameter in signature(command).parameters.items():
            if hints.get(name) is typer.Context:
                continue  # is not typed
            said = getattr(hints.get(name, parameter.annotation), "__metadata__", (None,))[0]
            assert said is not None and said.help and len(said.help) > 8, (command.__name__, name)
            kinds = {hints[name].__origin__, *get_args(hints[name].__origin__)} if name in hints else set()
            assert not kinds & {int, float} or said.min is not None, (command.__name__, name, "has no bounds")
            looked += 1
    assert looked > 150
