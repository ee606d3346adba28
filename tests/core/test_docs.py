"""What is written is so: each command line of docs/commands.md runs in its order from an empty folder, and each example runs."""

from __future__ import annotations

import doctest
import importlib
import json
import re
import shlex
from pathlib import Path
from typing import Any

import pytest
from typer.testing import CliRunner

from adzer.cli.terminal import app

ROOT = Path(__file__).resolve().parents[2]
STOPS = ("adzer route", "adzer relink")  # what they find is 1, and may be
JSON = (
    "read clip.mov", "play clip.mov", "squeeze clip.mov --lengths 100,320,1,2", "follow clip.mov --box 200,80,40,54 --to 2",
    "shots mill.adzer", "queue mill.adzer", "log mill.adzer", "route mill.adzer 1", "relink mill.adzer footage",
    "add other.adzer clip.mov", "mend mill.adzer --all nothing", "convert clip.mov --card web-wide --out told.mp4",
    "render mill.adzer --shot 1 --card web-square --out masters", "proxy other.adzer",
)  # fmt: skip
FINDING = {"level", "code", "stage", "text", "fix", "shot"}  # of any command, described once


def _held_by_the_page(command: str, told: dict[str, Any]) -> None:
    """Every name that a command prints, and those of what its lists hold, stand in its row of docs/json.md."""
    page = (ROOT / "docs" / "json.md").read_text()
    row = next(line for line in page.splitlines() if line.startswith("|") and f"`{command}`" in line.split("|")[1])
    assert told["version"] == 2
    names = set(told) - {"version"}
    for held in told.values():
        if isinstance(held, list) and held and isinstance(held[0], dict):
            names |= set(held[0]) - FINDING if set(held[0]) >= {"level", "code"} else set(held[0])
    assert names and not [n for n in names if f"`{n}`" not in row], (command, names)


def _commands() -> list[str]:
    """Of the page's list, without what is said beside them."""
    text = (ROOT / "docs" / "commands.md").read_text()
    lines = [line[4:] for line in text.splitlines() if line.startswith("    adzer ")]
    return [re.split(r"\s{3,}", line)[0] for line in lines]


@pytest.mark.timeout(500)  # some fifty commands, one after another
def test_every_command_of_the_page_runs_as_written_from_an_empty_folder(tmp_path, monkeypatch):
    from adzer.cli import main  # noqa: F401 - it registers the commands

    monkeypatch.chdir(tmp_path)
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    commands = _commands()
    assert len(commands) > 30
    for line in commands:
        done = CliRunner().invoke(app, shlex.split(line)[1:])
        fine = (0, 1) if line.startswith(STOPS) else (0,)
        assert done.exit_code in fine and (done.exception is None or isinstance(done.exception, SystemExit)), (line, done.output, done.exception)
        if "--json" in line:
            assert json.loads(done.stdout)["version"] == 2
    for line in JSON:
        done = CliRunner().invoke(app, shlex.split(line) + ["--json"])
        _held_by_the_page(line.split()[0], json.loads(done.stdout))
    for name in ("master.mp4", "upright.mp4", "slow.mp4", "view.mp4", "mill.adzer", "my-log.toml", "masters"):
        assert (tmp_path / name).exists(), name


def test_the_examples_of_the_python_page_run(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    text = (ROOT / "docs" / "python.md").read_text()
    space: dict[str, object] = {}
    for block in re.findall(r"```python\n(.*?)```", text, re.DOTALL):
        exec(compile(block, "docs/python.md", "exec"), space)
    assert space["report"].passed and (tmp_path / "mill.mp4").exists() and space["luma"].shape == (360, 480)


def test_the_readme_is_short_and_every_link_leads_somewhere():
    """A gallery of all pictures; each page that is linked is there, and each part of a page that is named."""
    readme = (ROOT / "README.md").read_text()
    assert len(readme.splitlines()) < 130
    assert {f"docs/screenshots/{p.name}" for p in (ROOT / "docs" / "screenshots").glob("*.png")} <= set(re.findall(r"\]\(([^)]+)\)", readme))
    for page in [ROOT / "README.md", *(ROOT / "docs").glob("*.md")]:
        for target in re.findall(r"\]\(([^)\s]+)\)", page.read_text()):
            file, _, part = target.partition("#")
            there = page.parent / file if file else page
            assert there.exists(), (page.name, target)
            if part:
                heads = re.findall(r"^#+ (.*)$", there.read_text(), re.MULTILINE)
                assert part in {re.sub(r"[^\w\- ]", "", h.lower()).replace(" ", "-") for h in heads}, (page.name, target)


def test_the_examples_of_space_and_light_run():
    """Each formula's example holds; their values are those of the standards, not what the code was seen to give."""
    tried = 0
    for room in ("space", "light"):
        for path in sorted((ROOT / "adzer" / "core" / room).glob("[a-z]*.py")):
            result = doctest.testmod(importlib.import_module(f"adzer.core.{room}.{path.stem}"))
            assert result.failed == 0, path
            tried += result.attempted
    assert tried >= 35
