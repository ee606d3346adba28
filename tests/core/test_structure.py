"""The rules of the house: who may import whom."""

from __future__ import annotations

import ast
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
    """Colour's curves and names are shared knowledge of the field; its step, settings and advice are its own."""
    shared = ("adzer.core.colour.curves", "adzer.core.colour.cards", "adzer.core.colour.primaries")
    for path in (ROOT / "core" / stage).glob("*.py"):
        for name in imports(path):
            for other in STAGES:
                if other != stage and (name + ".").startswith(f"adzer.core.{other}."):
                    assert name == f"adzer.core.{other}" or name.startswith(shared), f"{path} imports {name}"


def test_opening_the_window_imports_no_compiler():
    code = "import sys, adzer.desk.window; print(sorted({'numba', 'scipy', 'llvmlite'} & set(sys.modules)))"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.strip() == "[]"
