"""The simulated world's commands: footage of which all is known."""

from __future__ import annotations

import sys
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Annotated, Literal

import typer

from ..core.errors import AdzerError
from . import terminal
from .terminal import Json, parse_size, print_json, ratio, sim_app


def _counter() -> Callable[[str], None]:
    def say(text: str) -> None:
        if sys.stderr.isatty():
            print(f"\r{text}   ", end="", file=sys.stderr, flush=True)

    return say


@sim_app.command("demo", help="Shoot the committed demo clips again.\n\nExample: adzer sim demo")
def sim_demo(into: Annotated[Path | None, typer.Option(help="Another folder than the shipped one.")] = None) -> None:
    from ..core.sim import demo as world_demo

    for path in world_demo.rebuild(into or world_demo.CLIPS, _counter()):
        print(path)


@sim_app.command(
    "card", help="Write a card as it comes home, with everything odd on it.\n\nExample: adzer sim card /tmp/card"
)
def sim_card(
    folder: Annotated[Path, typer.Argument(help="A new folder.")],
    frames: Annotated[int, typer.Option(min=6, max=2000, help="Of each clip.")] = 12,
) -> None:
    from ..core.sim import card

    if folder.exists() and any(folder.iterdir()):
        raise AdzerError(f"{folder} is not empty; a card is written into a new folder.")
    print(card.make(folder, frames, _counter()))


@sim_app.command("cameras", help="List the simulated cameras.\n\nExample: adzer sim cameras")
def sim_cameras(json_: Json = False) -> None:
    from ..core.sim import camera as cameras

    known = {name: cameras.load(name) for name in cameras.known()}
    rows = [{"name": n, "raster": list(c.raster), "rate": str(c.rate)} for n, c in known.items()]
    if json_:
        print_json(rows, "cameras")
        return
    for row in rows:
        print(f"{row['name']:12} {row['raster'][0]}×{row['raster'][1]}, {row['rate']} frames a second")


@sim_app.command(
    "shoot",
    help="Shoot a clip with a simulated camera; the truth is written beside it.\n\n"
    "Example: adzer sim shoot scope-lens --frames 50 --size 720x540 --out clip.mov",
)
def sim_shoot(
    camera: Annotated[str, typer.Argument(help="The camera's name; `adzer sim cameras` lists them.")],
    out: Annotated[Path, typer.Option(help="The clip; of a body that records sensor values, a folder of frames.")],
    frames: Annotated[int, typer.Option(min=1, max=100_000, help="How many.")] = 50,
    size: Annotated[str | None, typer.Option(help="Frame size in pixels, e.g. 720x540; the camera's own if left out.")] = None,
    samples: Annotated[int, typer.Option(min=1, max=8, help="Rays a pixel, each way.")] = 2,
    stops: Annotated[float, typer.Option(min=-8, max=8, help="Brighter by so many stops than it would be exposed.")] = 0.0,
    body: Annotated[
        Literal["hand", "walk", "drive", "ride", "fly"] | None, typer.Option(help="What carries it and shakes it; else as its kind usually is.")
    ] = None,
    rate: Annotated[str | None, typer.Option(help="Frames a second; the camera's own if left out.")] = None,
    shutter: Annotated[float, typer.Option(min=0, max=360, help="Degrees of each frame's time that its shutter is open; 0: no time at all.")] = 0.0,
    readout: Annotated[float, typer.Option(min=-100, max=100, help="Milliseconds from the first row read out to the last.")] = 0.0,
    smooths: Annotated[float, typer.Option(min=0, max=4, help="Pixels over which the camera smooths its noise (standard deviation).")] = 0.0,
    mixes: Annotated[float, typer.Option(min=0, max=1, help="How much of a frame's noise the camera leaves in the next.")] = 0.0,
    motion: Annotated[
        Path | None, typer.Option(help="Also the camera's own record of how it turned, by another clock, with bias and noise (docs/motion.md).")
    ] = None,
) -> None:
    from ..core.media.encode import container_for
    from ..core.sim import bodies, raw
    from ..core.sim import camera as cameras

    made = cameras.load(camera)
    if body is not None:
        made = replace(made, pose=bodies.BODIES[body].pose(made.pose(0.0)))
    made = replace(made, recorder=replace(made.recorder, exposure=made.recorder.exposure + stops, smooths=smooths, mixes=mixes))
    if size is not None:
        made = made.sized(parse_size(size))
    if rate is not None:
        made = replace(made, rate=ratio(rate, "rate"))
        if not 1 <= made.rate <= 1000:
            raise AdzerError(f"--rate {rate}: give frames a second from 1 to 1000, e.g. 25 or 24000/1001.")
    made = replace(made, open=shutter / 360 / float(made.rate), readout=readout / 1000)
    if motion is not None:
        bodies.write_rates(motion, made.pose, frames / float(made.rate))
    if made.container == "dng":
        raw.shoot_sequence(made, out, out.name, "dng", range(1, frames + 1), samples)
        print(out)
        return
    try:
        container_for(out)
    except KeyError:
        raise AdzerError(f"{out}: end the name in .mp4, .mov or .mkv.") from None
    say = _counter()
    print(cameras.shoot(made, frames, out, samples, progress=lambda n: say(f"{camera}: frame {n} of {frames}")))


@sim_app.command(
    "play",
    help="What a file shows, by a player that heeds what it says of sphere and eyes, or, with --ignores, by one that does not: a picture, both eyes' "
    "beside each other.\n\nExample: adzer sim play sphere.mp4 seen.png --look 30,10",
)
def sim_play(
    file: terminal.Recording,
    out: Annotated[Path, typer.Argument(help="The picture, NAME.png; one that is there is not replaced.")],
    ignores: Annotated[bool, typer.Option("--ignores", help="By a player that knows nothing of spheres and eyes.")] = False,
    look: Annotated[str, typer.Option(help="Degrees that somebody looks to the right and up, in what can be looked around in.")] = "0,0",
) -> None:
    import cv2
    import numpy as np

    from ..core.sim import player

    if out.suffix.lower() != ".png":
        raise AdzerError(f"{out}: end the name in .png.")
    if out.exists():
        raise AdzerError(f"{out} is there already; it is never overwritten. Give another name.")
    at = terminal.numbers("look", look, "two numbers", ("right", "up"))
    seen = player.shown(file, not ignores, at["right"], at["up"])
    left, right = seen["left"], seen["right"]
    both = left if np.array_equal(left, right) else np.concatenate([left, right], axis=1)
    done, png = cv2.imencode(".png", both[..., ::-1])
    if not done:
        raise AdzerError(f"{out} could not be made.")
    try:
        out.write_bytes(png.tobytes())
    except OSError as error:
        raise AdzerError(f"{out} cannot be written ({error.strerror}).") from None
    print(f"{out}: {'one picture for both eyes' if both is left else 'the left eye, and the right'}")


@sim_app.command(
    "pair",
    help="Shoot two recordings of one moment: front and rear of two round lenses, or left and right eye. How the second stands is said, so that "
    "what finds it can be tried; the truth is written beside each.\n\nExample: adzer sim pair eyes eyes --frames 6 --size 480x270 --roll 0.8",
)
def sim_pair(
    kind: Annotated[Literal["lenses", "eyes"], typer.Argument(help="Two lenses back to back, or two eyes.")],
    folder: Annotated[Path, typer.Argument(help="Where the two files go; made if it is not there.")],
    frames: Annotated[int, typer.Option(min=1, max=100_000, help="How many of each.")] = 10,
    size: Annotated[str | None, typer.Option(help="Frame size of each in pixels, square for lenses; the camera's own if left out.")] = None,
    apart: Annotated[float | None, typer.Option(min=0, max=2, help="Metres between them; 0.03 for lenses, 0.065 for eyes if left out.")] = None,
    heading: Annotated[float, typer.Option(min=-10, max=10, help="Degrees that the second looks to the right.")] = 0.0,
    tilt: Annotated[float, typer.Option(min=-10, max=10, help="Degrees that it looks up.")] = 0.0,
    roll: Annotated[float, typer.Option(min=-10, max=10, help="Degrees that it leans.")] = 0.0,
    larger: Annotated[float, typer.Option(min=-20, max=20, help="Per cent by which its picture is larger, of eyes.")] = 0.0,
    stops: Annotated[float, typer.Option(min=-4, max=4, help="Brighter by so many stops.")] = 0.0,
    late: Annotated[float, typer.Option(min=-3600, max=3600, help="Seconds that it begins later.")] = 0.0,
    samples: Annotated[int, typer.Option(min=1, max=8, help="Rays a pixel, each way.")] = 2,
) -> None:
    from ..core.sim import pairs

    held = pairs.Held(apart if apart is not None else 0.03 if kind == "lenses" else 0.065, heading, tilt, roll, larger, stops, late)
    raster = parse_size(size) if size is not None else None
    if kind == "lenses" and raster is not None and raster[0] != raster[1]:
        raise AdzerError(f"--size {size}: a round lens's picture is square, e.g. {raster[1]}x{raster[1]}.")
    folder.mkdir(parents=True, exist_ok=True)
    pair = pairs.lenses(held, raster and raster[0]) if kind == "lenses" else pairs.eyes(held, raster)
    names = ("front", "rear") if kind == "lenses" else ("left", "right")
    for file in pairs.shoot(pair, frames, (folder / f"{names[0]}.mp4", folder / f"{names[1]}.mp4"), samples):
        print(file)
