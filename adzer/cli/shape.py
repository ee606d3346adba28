"""Commands about shape: a flat view of a sphere, and the squeeze of a lens measured on the picture."""

from __future__ import annotations

import time
from collections.abc import Iterator
from pathlib import Path
from typing import Annotated, Literal

import typer

from ..core import records
from ..core.errors import AdzerError
from . import making, options
from .terminal import Json, Recording, app, loaded, numbers, parse_size, print_json, progress, ratio


@app.command(
    help="Deliver a flat view of a sphere or of round lenses.\n\n"
    'Example: adzer reframe sphere.mp4 --projection equirectangular --view "20,5,0,90" --size 1920x1080 --card web-wide --out view.mp4'
)
@options.declares
def reframe(
    declared: dict[str, object],
    file: Recording,
    card: making.Card,
    out: making.Out,
    size: Annotated[str, typer.Option(help="Delivered frame size in pixels, 16x16 to 16384x16384, e.g. 1920x1080.")],
    view: Annotated[str | None, typer.Option(help='"heading,tilt,roll,fov" in degrees: tilt −90 to 90; fov is how much it shows across.')] = None,
    laid: Annotated[
        Literal["straight", "conformal", "compromise", "equidistant", "planet"] | None,
        typer.Option(help="How the view is laid flat; straight if left out."),
    ] = None,
    keyframes: Annotated[Path | None, typer.Option(help="A path as JSON; docs/keyframes.md describes it.")] = None,
    across: options.Across = None,
    eye: Annotated[Literal["left", "right"], typer.Option(help="Of a pair of eyes.")] = "left",
    rear: options.Rear = None,
    match: options.Match = False,
    blend: Annotated[float, typer.Option(min=1, max=20, help="Degrees over which one of two lenses passes into the other.")] = 3.0,
    rate: making.Rate = None,
    speed: options.Speed = None,
    foot: options.Foot = None,
    over: options.Over = None,
    json_: Json = False,
) -> None:
    from ..core.intake.take import read_file
    from ..core.join.measure import answers
    from ..core.route import Route, walk
    from ..core.run.matching import match_lenses
    from ..core.shape.view import holds_directions

    if (view is None) == (keyframes is None):
        raise AdzerError("Give either --view or --keyframes.")
    path, raster, delivery = view_path(view, keyframes, laid), parse_size(size), making.card_for(card, out)
    fast = {"speed": str(ratio(speed, "speed"))} if speed else {}
    facts, seen = read_file(file, rear=rear)
    route = Route().with_("read", **(options.ROUND if rear is not None else {}) | making.evenly(declared, rate))
    shaped: dict[str, object] = {
        "view": records.to_plain(path),
        "shape": f"{raster[0]}/{raster[1]}",
        "hold": "native",
        "eye": eye,
    }
    route = route.with_("shape", **shaped | fast | ({"across": across} if across else {}))
    walked = walk(route, facts, seen, delivery)
    if not holds_directions(walked["shape"].before):
        guess = seen.projection if seen else None
        looks = (
            f" It looks {guess.value} ({guess.confidence:.0%} sure)."
            if guess and guess.value not in (None, "flat")
            else ""
        )
        raise AdzerError(
            f"{file} is flat, as far as anybody says; only a sphere or a round lens can be reframed.{looks} Say what it is with "
            "--projection, or use `adzer convert`."
        )
    route = options.covered(options.lain_over(route.with_("join", blend=blend), over), foot)
    if match:
        route = route.with_("join", **answers(match_lenses(facts, route, seen)))
    making.make(file.name, facts, seen, route, card, out, json_, raster=raster)


def view_path(view: str | None, keyframes: Path | None, projection: str | None) -> object:
    """A view from its words, or from a file of keyframes. AdzerError if it is not one."""
    from ..core.space import path as paths

    if keyframes is not None:
        held = loaded(keyframes, paths.load)
        if projection is not None:
            raise AdzerError("--laid belongs to --view; keyframes name their own.")
        return held
    assert view is not None
    key = numbers("view", view, "four numbers", ("heading", "tilt", "roll", "fov"))
    plain = {"projection": projection or "straight", "keys": [key]}
    made = records.from_plain(plain, paths.ViewPath, f'--view "{view}"')
    if problem := paths.trouble(made):
        raise AdzerError(f'--view "{view}": {problem}')
    return made


@app.command(
    help="The squeeze of a lens from round things marked on the picture as ellipses, or from things of known size.\n\n"
    "Example: adzer squeeze clip.mov --ellipse 640,360,82.5,132,0"
)
def squeeze(
    file: Recording,
    ellipse: Annotated[
        list[str] | None,
        typer.Option(
            help="x,y,a,b,angle: centre, half axes in recorded pixels, degrees of a from level. May come again."
        ),
    ] = None,
    lengths: Annotated[
        list[str] | None,
        typer.Option(
            help="across,down,really_across,really_down: recorded pixels, and how wide and high the thing is. May come again."
        ),
    ] = None,
    frame: Annotated[int, typer.Option(min=0, help="The frame it is marked on, counted from 0.")] = 0,
    json_: Json = False,
) -> None:
    from ..core.intake.take import read_file
    from ..core.shape import measure

    facts, _ = read_file(file)
    marks: list[measure.Mark] = []
    for text in lengths or ():
        fields = numbers("lengths", text, "four numbers", ("across", "down", "really_across", "really_down"))
        marks.append(records.from_plain(fields | {"frame": frame}, measure.Lengths, f'--lengths "{text}"'))
    for text in ellipse or ():
        fields = numbers("ellipse", text, "five numbers", ("x", "y", "a", "b", "angle"))
        marks.append(records.from_plain(fields | {"frame": frame}, measure.Ellipse, f'--ellipse "{text}"'))
    if not 0 <= frame < facts.frames:
        raise AdzerError(f"{file} has {facts.frames} frames; there is no frame {frame}.")
    found = measure.measure_squeeze(facts, marks)
    if json_:
        print_json(records.to_plain(found))
    else:
        print(f"squeeze {found.squeeze:.4f} ± {found.error:.4f}; {found.saw}")


@app.command(
    help="Follow a thing that is marked on one frame. Where it is hidden, or was lost, `sure` says so: at 0.3 and below nobody "
    "should believe the place. A flat picture, or a sphere as recorded.\n\n"
    "Example: adzer follow clip.mov --box 420,180,60,140 --frame 12 --json"
)
@options.declares
def follow(
    declared: dict[str, object],
    file: Recording,
    box: Annotated[str, typer.Option(help="x,y,w,h around it: left, top, width, height in recorded pixels.")],
    frame: Annotated[int, typer.Option(min=0, help="The frame it is marked on, counted from 0.")] = 0,
    to: Annotated[int | None, typer.Option(min=0, help="The last frame to follow it to; else the clip's last.")] = None,
    across: options.Across = None,
    json_: Json = False,
) -> None:
    from ..core.intake.take import read_file
    from ..core.look import track
    from ..core.media.decode import opened, upright
    from ..core.read.step import turn_of
    from ..core.route import Route, walk
    from ..core.run.render import Progress
    from ..core.shape.view import followed_over

    marked = numbers("box", box, "four numbers", ("x", "y", "w", "h"))
    facts, seen = read_file(file)
    last = facts.frames - 1 if to is None else to
    if not 0 <= frame <= last < facts.frames:
        raise AdzerError(
            f"{file} has {facts.frames} frames, 0 to {facts.frames - 1}: it cannot be followed from {frame} to {last}."
        )
    route = Route().with_("read", **declared)
    if across:
        route = route.with_("shape", across=across)
    walked = walk(route, facts, seen)
    options.told(list(walked["read"].findings))
    source = followed_over(walked["read"].result.picture, walked.route.shape, seen, walked.draft.rig)
    x, y, w, h = marked.values()
    wide, high = walked["read"].result.picture.raster
    over = w / 2 if source.whole else 0.0  # what a sphere's box may reach over the seam
    if w <= 0 or h <= 0 or x < 0 or y < 0 or x + w > wide + over or y + h > high:
        raise AdzerError(f'--box "{box}" does not lie within the recording, {wide}×{high}.')
    turn = turn_of(facts, walked.route.read)
    with opened(facts.sources, facts.fingerprint) as reader, progress(file.name) as show:

        def frames() -> Iterator[tuple[int, track.Planes]]:
            begun = time.monotonic()
            for n, f in enumerate(reader.frames(frame, last + 1)):
                show(Progress("following", n, last + 1 - frame, n / max(time.monotonic() - begun, 1e-6)))
                yield f.number, upright(f, turn)

        _, points = track.through(source.marked(x, y, w, h), frames())
    rows: list[dict[str, float]] = [
        {
            "frame": p.frame,
            **dict(zip("xywh", (round(v, 2) for v in source.box(p)), strict=True)),
            "sure": round(p.sure, 3),
        }
        for p in points
    ]
    if json_:
        print_json({"points": rows})
        return
    for row in rows:
        print("{frame:6.0f}  {x:8.1f} {y:8.1f} {w:7.1f} {h:7.1f}  {sure:4.0%}".format(**row))
