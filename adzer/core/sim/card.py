"""A card as it comes home: the folders of several cameras, with everything on it that Read must cope with."""

from __future__ import annotations

import os
from collections.abc import Callable
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

from ..media.encode import VideoSpec, VideoTags, Writer
from . import camera as cameras
from . import raw, sound
from .camera import Camera

BEGAN = 1_780_000_000.0  # a June morning
Say = Callable[[str], None]


def _shoot(made: Camera, path: Path, frames: int, at: float) -> Path:
    """A clip without its truth beside it, dated as a camera dates it: when the recording began."""
    path.parent.mkdir(parents=True, exist_ok=True)
    cameras.shoot(made, frames, path, samples=1).unlink()
    os.utime(path, (at, at))
    return path


def _small(master: Path, path: Path, scale: int, at: float) -> None:
    """A copy at a fraction of the size, as cameras write beside their masters."""
    from ..media import probe
    from ..media.decode import Reader

    facts = probe.probe(master)
    w, h = facts.raster[0] // scale // 2 * 2, facts.raster[1] // scale // 2 * 2
    tags = VideoTags(facts.curve, facts.primaries, facts.matrix, facts.range)
    rate = facts.rate or Fraction(25)
    spec = VideoSpec("h264", (w, h), 8, "4:2:0", rate, 1 / rate, tags, 12, {"crf": "26", "preset": "veryfast"})
    path.parent.mkdir(parents=True, exist_ok=True)
    with Reader(master) as reader, Writer(path, spec, timecode=facts.timecode) as writer:
        for frame in reader.frames():
            blank, planes = writer.blank()
            shift = frame.format.bits - 8
            for i in range(3):
                sub_x, sub_y = (2 // frame.format.sub[0], 2 // frame.format.sub[1]) if i else (1, 1)
                source = frame.cropped(i)[:: scale * sub_y, :: scale * sub_x] >> shift
                ph, pw = (h // 2, w // 2) if i else (h, w)
                planes[i][:ph, :pw] = source[:ph, :pw]
            writer.write(blank, frame.number)
    os.utime(path, (at, at))


def make(folder: Path, frames: int = 12, say: Say = lambda _: None) -> Path:
    """Writes a card below ``folder``: spheres, a lens pair, an eye pair, chapters, sequences, proxies, sound, and oddities."""
    folder.mkdir(parents=True, exist_ok=True)
    dcim, t = folder / "DCIM", BEGAN
    say("log body, with its small copies")
    log = cameras.load("log-body")
    for n in (1, 2):
        body = replace(log.sized((640, 360)), timecode=f"10:4{n}:00:00")
        master = _shoot(body, dcim / f"100LOG/C{n:04d}.mov", frames, t + 60 * n)
        _small(master, dcim / f"100LOG/Sub/C{n:04d}_low.mp4", 2, t + 60 * n)
    say("a recording in two chapters")
    chapter = 2 * frames
    body = cameras.load("phone").sized((320, 180))
    plain = replace(body, stamps=lambda n: list(range(n)), time_base=Fraction(1, 25), rate=Fraction(25))
    for part in (1, 2):
        begun = t + 300 + (part - 1) * chapter / 25
        moved = replace(plain, timecode=f"10:50:0{(part - 1) * chapter // 25}:{(part - 1) * chapter % 25:02d}")
        _shoot(moved, dcim / f"101PHONE/P0007_{part:02d}.mp4", chapter, begun)
    say("lenses, eyes and a sphere")
    from .cameras.eyes import CAMERA as PAIR
    from .cameras.lens_pair import CAMERA as FRONT
    from .cameras.lens_pair import REAR

    for name, lens in (("front", FRONT), ("rear", REAR)):
        _shoot(lens.sized((320, 320)), dcim / f"102SPHERE/V0003_{name}.mp4", frames, t + 600)
    for name in ("left", "right"):
        eye = replace(PAIR.eye(name, (320, 180)), sound=name == "left")
        _shoot(eye, dcim / f"103EYES/E0011_{name[0].upper()}.mp4", frames, t + 700 + 0.4 * (name == "right"))
    _shoot(cameras.load("sphere").sized((640, 320)), dcim / "102SPHERE/V0004.mp4", frames, t + 800)
    say("sensor values and frames")
    raw.shoot_sequence(
        cameras.load("raw-body").sized((240, 136)), dcim / "104RAW/A001", "A001", "dng", (*range(1, 6), 7, 8)
    )
    raw.shoot_sequence(
        cameras.load("scope-lens").sized((240, 180)), folder / "RENDER", "plate", "dpx", range(998, 1003)
    )
    sound_path = folder / "SOUND/C0001.wav"
    sound_path.parent.mkdir(exist_ok=True)
    sound.write_wav(sound_path, frames / 25)
    say("and what else there is on cards")
    (dcim / "100LOG/C0003.mov").write_bytes(b"")
    whole = (dcim / "100LOG/C0002.mov").read_bytes()
    (dcim / "100LOG/C0004.mov").write_bytes(whole[: len(whole) // 3])
    (dcim / "100LOG/INDEX.XML").write_text("<clips/>")
    (dcim / "100LOG/ canal, late.mov").write_bytes(whole)
    os.utime(dcim / "100LOG/ canal, late.mov", (t + 5000, t + 5000))
    return folder
