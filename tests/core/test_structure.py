"""The rules of the house: who may import whom."""

from __future__ import annotations

import ast
import re
import subprocess
import sys
from pathlib import Path

import pytest

ROOT = Path(__file__).resolve().parents[2] / "adzer"
STAGES = ("read", "join", "develop", "steady", "shape", "colour", "deliver")


def imports(path: Path) -> set[str]:
    """Absolute names of the modules that a file imports."""
    package = ["adzer", *path.relative_to(ROOT).parts[:-1]]
    found = set()
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Import):
            found |= {a.name for a in node.names}
        elif isinstance(node, ast.ImportFrom):
            base = package[: len(package) - node.level + 1] if node.level else []
            stem = ".".join([*base, *([node.module] if node.module else [])])
            found |= {stem} | {f"{stem}.{a.name}" for a in node.names}
    return found


def test_the_core_knows_no_window():
    for path in (ROOT / "core").rglob("*.py"):
        assert not any(n.startswith(("PySide6", "adzer.desk")) for n in imports(path)), path


@pytest.mark.parametrize("stage", STAGES)
def test_a_stage_knows_no_other_stage(stage):
    """They meet only in the route; curves, lenses and following are knowledge of the field, in rooms of their own."""
    for path in (ROOT / "core" / stage).glob("*.py"):
        for name in imports(path):
            for other in STAGES:
                assert other == stage or not (name + ".").startswith(f"adzer.core.{other}."), f"{path} imports {name}"


# Each room, and which others it may know; what lies beside the rooms (cards, errors, picture, route …) is no room.
ROOMS = {
    "space": set(), "media": set(), "kernels": set(), "light": {"kernels", "media"}, "look": {"light", "media", "space"},
    "intake": {"media", "read"}, **{stage: {"light", "look", "media", "space"} for stage in STAGES},
    "develop": {"kernels", "light", "look", "media", "space"},  # what works on recorded frames before the warp is this stage's own
}  # fmt: skip


@pytest.mark.parametrize("room", ROOMS)
def test_no_arrow_runs_up(room):
    rooms = {p.name for p in (ROOT / "core").iterdir() if (p / "__init__.py").exists()}
    for path in (ROOT / "core" / room).glob("*.py"):
        known = {name.split(".")[2] for name in imports(path) if name.startswith("adzer.core.") and name.count(".") > 1}
        assert known & rooms <= ROOMS[room] | {room}, f"{path} knows {known & rooms - ROOMS[room] - {room}}"


def test_opening_the_window_imports_no_compiler():
    code = "import sys, adzer.desk.window; print(sorted({'numba', 'scipy', 'llvmlite'} & set(sys.modules)))"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.strip() == "[]"


def test_types_are_read_one_at_a_time():
    """The library that reads records learns a type as it first reads it. Three threads at that at once ended the process,
    and with it, now and then, the first picture of a window: all reading goes through ``records``, which holds a lock."""
    code = """
import sys, threading, msgspec
from adzer.core import records
sys.setswitchinterval(1e-6)
read_well = []
for n in range(300):
    part = msgspec.defstruct(f"Part{n}", [(f"a{i}", float | None, None) for i in range(40)], frozen=True)
    whole = msgspec.defstruct(f"Whole{n}", [(f"b{i}", tuple[part, ...] | None, None) for i in range(20)], frozen=True)
    gate = threading.Barrier(3)
    def read():
        gate.wait()
        plain, text = records.from_plain({"b0": [{"a0": 1}]}, whole), records.from_json('{"b1": [{"a2": 3}]}', whole)
        read_well.append(plain.b0[0].a0 == 1 and text.b1[0].a2 == 3)
    threads = [threading.Thread(target=read) for _ in range(3)]
    [t.start() for t in threads], [t.join() for t in threads]
assert sum(read_well) == 900
"""
    assert subprocess.run([sys.executable, "-c", code], timeout=120).returncode == 0
    for path in (ROOT / "core").rglob("*.py"):
        if path.name != "records.py":
            assert not re.search(r"msgspec\.(convert|\w+\.(decode|Decoder))", path.read_text()), path
