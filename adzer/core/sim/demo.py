"""The demo's clips and the demo job: the restoration of Gallowdrove Mill, one made-up week."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import platformdirs

CLIPS = Path(__file__).resolve().parents[2] / "demo"
SHOTS = (
    ("sails, wide", "scope-lens", "sails-wide.mov", 100),
    ("by the canal", "phone", "by-the-canal.mp4", 110),
    ("sails, close", "log-body", "sails-ground.mov", 60),
    ("all round", "sphere", "all-round.mp4", 60),
    ("cartwheel", "eyes", "cartwheel-eyes.mp4", 60),
    ("reeds at dusk", "raw-body", "reeds", 18),
)
DUSK = {"exposure": -2.6, "full_well": 5000.0, "read_noise": 7.0}  # of the raw body: little light, and a small well


def rebuild(folder: Path = CLIPS, say: Callable[[str], None] = lambda _: None) -> list[Path]:
    """Shoots the committed clips again, each with its truth beside it."""
    from . import camera, raw

    folder.mkdir(parents=True, exist_ok=True)
    made = []
    for title, kind, name, count in SHOTS:
        target = folder / name
        if kind == "raw-body":
            dusk = camera.load(kind)
            dusk = replace(dusk, recorder=replace(dusk.recorder, **DUSK))  # type: ignore[arg-type]
            raw.shoot_sequence(dusk, target, "reeds", "dng", range(1, count + 1), 2, raw.Body(kelvin=3950.0, hot=3e-5))
            made.append(target)
            continue
        camera.shoot(camera.load(kind), count, target, progress=lambda n, t=title: say(f"{t}: frame {n}"))  # type: ignore[misc]
        made.append(target)
    return made


def folder() -> Path:
    """Where the demo job lives: the person's data folder."""
    return platformdirs.user_data_path("adzer") / "demo"


def unpack(target: Path) -> list[Path]:
    """Copies of the clips in ``target``, left alone if they are there already."""
    target.mkdir(parents=True, exist_ok=True)
    made = []
    for _, _, name, _ in SHOTS:
        copy = target / name
        if (CLIPS / name).is_dir():
            shutil.copytree(CLIPS / name, copy, dirs_exist_ok=True)
        elif not copy.exists() or copy.stat().st_size != (CLIPS / name).stat().st_size:
            shutil.copyfile(CLIPS / name, copy)
        made.append(copy)
    return made


def demo_job(target: Path | None = None, look: bool = True) -> Path:
    """The demo job, made with its clips the first time, opened as it was left ever after. Returns its path. ``look``: at
    the footage, too; a window does that after it is shown."""
    from ..intake.take import facts_of, look_at
    from ..job import Job
    from ..route import Route

    target = target or folder()
    path = target / "Gallowdrove Mill.adzer"
    clips = unpack(target)
    if path.exists():
        return path
    made = target / "new.adzer"
    for old in target.glob("new.adzer*"):
        old.unlink()
    with Job.create(made, "Gallowdrove Mill") as job:
        for (title, kind, _, _), clip in zip(SHOTS, clips, strict=True):
            facts = facts_of(clip)
            seen = look_at(facts, Route()) if look else None
            route = Route().with_("deliver", cards=["web-wide", "native-wide"])
            if kind == "scope-lens":
                route = route.with_("shape", squeeze="8/5", shape="239/100")
            job.add_shot(facts, title, kind.replace("-", " "), route, camera=kind.replace("-", " "), seen=seen)
    made.replace(path)
    return path
