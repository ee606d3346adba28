"""What can be refused is refused before footage is read: every command of docs/commands.md with something wrong in it, made from the page itself."""

from __future__ import annotations

import hashlib
import json
import re
import shlex
import shutil
from pathlib import Path

import pytest

from adzer.core.intake import take
from adzer.core.sim.demo import CLIPS

from ..conftest import write_clip
from .test_cli import adzer
from .test_docs import _commands

NAMES = ("--curve", "--lens", "--squeeze", "--shape", "--view", "--size", "--white", "--method", "--card", "--range", "--siting", "--highlights")


@pytest.fixture(scope="module")
def home(tmp_path_factory):
    """A folder with small things under all names that the page's commands read."""
    home = tmp_path_factory.mktemp("home")
    write_clip(home / "clip.mov", 12, timecode="01:00:00:00", sound=True)
    for name in ("sphere.mp4", "walk.mp4", "whole.mp4", "court.mp4"):
        write_clip(home / name, 3, (256, 128))
    for folder, *names in (("court", "front", "rear"), ("wheel", "left", "right")):
        (home / folder).mkdir()
        for name in names:
            write_clip(home / folder / f"{name}.mp4", 2, (192, 192))
    for name in "abc":
        write_clip(home / f"{name}.mov", 2)
    shutil.copytree(CLIPS / "reeds", home / "reeds")
    for folder in ("card", "footage"):
        (home / folder).mkdir()
        shutil.copy(home / "clip.mov", home / folder / "x.mov")
    for name in ("mill-rig.toml", "my-log.toml"):
        (home / name).write_text("x = 1\n")
    with pytest.MonkeyPatch.context() as patch:
        patch.chdir(home)
        assert adzer("add", "mill.adzer", "clip.mov").returncode == 0
    return home


def _tree(home):
    files = (p for p in home.rglob("*") if p.is_file() and not p.name.endswith(("-wal", "-shm")))
    return {str(p.relative_to(home)): hashlib.md5(p.read_bytes()).hexdigest() for p in files}


def _wrong(home):
    """(what is wrong, the words, what has to be named) of each command of the page, each of its options and inputs once."""
    seen = set()
    for line in _commands():
        words = shlex.split(line)[1:]
        command = " ".join(words[: 2 if words[0] in ("sim", "cards") else 1])
        if command not in seen:
            yield "an option that there is none of", [*words, "--nosuch", "3"], "--nosuch"
        seen.add(command)
        for n, word in enumerate(words):
            before = words[n - 1] if n else ""
            place = f"{command} {before if before.startswith('--') else n}"
            if place in seen:
                continue
            seen.add(place)
            if re.fullmatch(r"-?[\d.]+", word) and before.startswith("--"):
                yield "a unit where a number belongs", [*words[:n], "12px", *words[n + 1 :]], before
            if before in NAMES and word[:1].isalnum():
                yield "a name that there is none of", [*words[:n], "fenlog", *words[n + 1 :]], "fenlog"
            if n and not before.startswith("--") and words[0] != "sim" and words[:2] != ["cards", "fit"] and (home / word).exists():
                yield "what is not there", [*words[:n], f"nowhere/there{Path(word).suffix}", *words[n + 1 :]], "nowhere"


def test_every_command_refuses_what_is_wrong_before_it_reads_footage(home, monkeypatch):
    monkeypatch.chdir(home)
    before, looked, faults, tried = _tree(home), [], [], 0
    real = take.identify
    monkeypatch.setattr(take, "identify", lambda *a, **k: (looked.append(1), real(*a, **k))[1])
    for wrong, words, named in _wrong(home):
        looked.clear()
        done, tried = adzer(*words), tried + 1
        said = done.stderr.strip()
        taken = "there already" in said  # the other thing that is wrong with it here
        if done.returncode != 2 or not (named in said or taken) or len(said.splitlines()) != 1 or looked or (done.stdout and "--json" not in words):
            faults.append((wrong, " ".join(words), done.returncode, bool(looked), said[:160]))
    assert not faults, "\n".join(map(str, faults))
    assert tried > 90 and _tree(home) == before, "nothing was done"


def test_help_is_where_it_is_looked_for_and_faults_are_json_too(home, monkeypatch):
    monkeypatch.chdir(home)
    whole = adzer("help").stdout
    assert "convert" in whole and adzer("-h").stdout == whole and adzer("--help").stdout == whole
    assert adzer("help", "cards", "fit").stdout == adzer("cards", "fit", "-h").stdout != whole
    assert adzer("help", "nothing").returncode == 2
    told = adzer("shots", "nowhere.adzer", "--json")
    plain = json.loads(told.stdout)
    assert told.returncode == plain["exit"] == 2 and f"adzer: {plain['error']}" == told.stderr.strip() and plain["version"] == 2
    late, early = adzer("add", "quiet.adzer", "clip.mov", "--quiet"), adzer("--quiet", "add", "early.adzer", "clip.mov")
    assert late.stderr == early.stderr == "" and late.returncode == 0
    for name in ("quiet.adzer", "early.adzer"):
        (home / name).unlink()


def test_a_name_that_is_taken_is_refused_before_footage_is_read(home, monkeypatch):
    monkeypatch.chdir(home)
    looked, tried = [], 0
    monkeypatch.setattr(take, "identify", lambda *a, **k: looked.append(1))
    for line in _commands():
        words = shlex.split(line)[1:]
        if "--out" not in words or not (out := home / words[words.index("--out") + 1]).suffix or out.exists():
            continue
        tried += 1
        out.write_bytes(b"kept")
        done = adzer(*words)
        assert done.returncode == 2 and out.name in done.stderr and not looked and out.read_bytes() == b"kept", (line, done.stderr)
        out.unlink()
    assert tried > 10
