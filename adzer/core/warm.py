"""Runs a small picture of every kind through the kernels, so that they are compiled into their cache.

``./run`` does it at set-up; nobody then waits for a compiler at the first picture.
"""

from __future__ import annotations

from fractions import Fraction

import numpy as np

from .colour.chain import ColourChain
from .colour.curves import STANDARD
from .kernels import screen
from .media.formats import PixelFormat
from .pixels import AxisWarp, PixelPlan, Processor, Samples
from .shape.path import Key, ViewPath
from .shape.sphere import Equirect, Lens, Round
from .warp import ViewWarp


def run() -> None:
    warp = AxisWarp((64, 32), (Fraction(1), Fraction(3, 2)), (Fraction(0), Fraction(0)), (64, 36), (0, 2))
    chain = ColourChain(STANDARD["bt709"], np.eye(3), STANDARD["bt709"])
    for bits_in in (8, 10):
        source = Samples(PixelFormat(bits_in, "4:2:0"), "bt709", True)
        planes = [np.zeros(source.format.plane_size((64, 54), i)[::-1], source.format.dtype) for i in range(3)]
        for bits_out, chroma in ((8, "4:2:0"), (10, "4:4:4")):
            target = Samples(PixelFormat(bits_out, chroma), "bt709", True)
            out = [np.zeros(target.format.plane_size(warp.raster, i)[::-1], target.format.dtype) for i in range(3)]
            with Processor(PixelPlan(source, (64, 54), warp, chain, target), 1) as processor:
                processor.run(tuple(planes), tuple(out))
            with Processor(PixelPlan(source, (64, 54), warp, None, target), 1) as processor:
                processor.run(tuple(planes), tuple(out))
            for lens in (Equirect((64, 54)), Round((64, 54), (Lens(32, 27, 27),))):
                view = ViewWarp(
                    (64, 32), lens, ViewPath(keys=(Key(fov=150),)), (0, 0, 64, 54), (1.0, 0.5), (64, 36), (0, 2)
                )
                with Processor(PixelPlan(source, (64, 54), view, chain, target), 1) as processor:
                    processor.run(tuple(planes), tuple(out))
            if chroma == "4:4:4":
                shown = np.zeros((36, 64, 4), np.uint8)
                screen.screen_rgb(out[0], out[1], out[2], target.to_signal().astype(np.float32), shown, 0, 36)
                screen.waveform(out[0], 1023, 32, 64, np.zeros((64, 32), np.int32))


if __name__ == "__main__":
    run()
