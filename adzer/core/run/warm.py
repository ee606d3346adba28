"""Runs a small picture of every kind through the kernels, so that they are compiled into their cache.

``./run`` does it at set-up; nobody then waits for a compiler at the first picture. Plain pictures and views are compiled at
once, on a core each; a last round compiles what both wanted and one of them lost.
"""

from __future__ import annotations

import subprocess
import sys
from fractions import Fraction

import numpy as np

from ..develop.cleaning import Cleaned
from ..develop.grain import Grain
from ..develop.settings import DevelopSettings
from ..develop.values import developed
from ..kernels import screen
from ..light.chain import ColourChain
from ..light.curves import STANDARD
from ..light.samples import Samples
from ..media.formats import PixelFormat
from ..media.sensor import Sensor
from ..plan import Panel, Patch, Plan, on_axes
from ..space.looks import ViewLook
from ..space.path import Key, ViewPath
from ..space.sphere import Equirect, Lens, Round
from .pixels import Processor

KINDS = ("plain", "views", "values")


def run(kinds: tuple[str, ...] = KINDS) -> None:
    """``kinds``: what is warmed, pictures on plain axes, views of spheres and round lenses, sensor values."""
    raster, whole = (64, 36), (0, 0, 64, 54)
    plain = on_axes((64, 32), (Fraction(1), Fraction(3, 2)), (Fraction(0), Fraction(0)), (64, 54), (0, 2))
    chain = ColourChain(STANDARD["bt709"], np.eye(3), STANDARD["bt709"])
    if "values" in kinds:
        _values()
    for bits_in in (8, 10):
        source = Samples(PixelFormat(bits_in, "4:2:0"), "bt709", True)
        planes = tuple(np.zeros(source.format.plane_size((64, 54), i)[::-1], source.format.dtype) for i in range(3))
        for bits_out, chroma in ((8, "4:2:0"), (10, "4:4:4")):
            target = Samples(PixelFormat(bits_out, chroma), "bt709", True)
            out = tuple(np.zeros(target.format.plane_size(raster, i)[::-1], target.format.dtype) for i in range(3))
            plans: list[Plan] = []
            if "plain" in kinds:
                plans += [Plan.single(source, (64, 54), plain, c, target, raster) for c in (chain, None)]
            if "views" in kinds:
                look = ViewLook((64, 32), ViewPath(keys=(Key(fov=150),)), (1.0, 0.5))
                for lens in (Equirect((64, 54)), Round((64, 54), (Lens(32, 27, 27),))):
                    light = ((1.0, 0.0, 0.0), (0.0, 1.0, 0.0), (0.0, 0.0, 1.0)) if isinstance(lens, Round) else None
                    patch = Patch(lens, whole, light=light)  # with some light of its own it goes the way of mixed ones
                    plans.append(Plan.single(source, (64, 54), Panel(look, (patch,), (0, 2)), chain, target, raster))
            for plan in plans:
                with Processor(plan, 1) as processor:
                    processor.run([planes], out)
            if chroma == "4:4:4" and "plain" in kinds:
                shown = np.zeros((36, 64, 4), np.uint8)
                screen.screen_rgb(out[0], out[1], out[2], target.to_signal().astype(np.float32), shown, 0, 36)
                screen.waveform(out[0], 1023, 32, 64, np.zeros((64, 32), np.int32))


def _values() -> None:
    """Sensor values developed, and cleaned with what is fewer colours."""
    for how in ("neutral", "rebuild"):
        sensor = Sensor((64, 54), (0, 0), "rggb", 12, (0.0,) * 4, (4095.0,) * 4)
        made = developed(sensor, DevelopSettings(highlights=how))
        for each in (made, made.quick()):
            each.run([(np.full((54, 64), 4095, np.uint16),)], 0)
    grain = Grain((0.0, 255.0), ((3.0, 3.0),))
    samples = Samples(PixelFormat(8, "4:2:0"), "bt709", True)
    planes = tuple(np.zeros(samples.format.plane_size((64, 54), i)[::-1], np.uint8) for i in range(3))
    Cleaned(samples, (64, 54), grain).run([planes] * 3, 1)


def run_apart() -> None:
    """The same, each kind in a process of its own. What fails there fails here again, where it is seen."""
    command = [sys.executable, "-m", "adzer.core.run.warm"]
    for process in [subprocess.Popen([*command, kind], stderr=subprocess.DEVNULL) for kind in KINDS]:
        process.wait()
    run()


if __name__ == "__main__":
    run((sys.argv[1],)) if len(sys.argv) > 1 else run_apart()
