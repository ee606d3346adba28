"""Commands about joining: two round lenses calibrated and made a sphere; recordings that belong together, and in step."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, Literal

import typer

from ..core import records
from ..core.errors import AdzerError
from . import making, options
from .job import Camera, chosen
from .terminal import JobFile, Json, app, mention, numbers, parse_size, print_json, say

if TYPE_CHECKING:
    from ..core.job import Shot
    from ..core.media.probe import FileFacts
    from ..core.read.seen import Seen
    from ..core.route import Route, Walk
    from ..core.run.syncing import InStep

Front = Annotated[Path, typer.Argument(help="The front lens's recording, or one of both lenses.")]
Rear = Annotated[Path | None, typer.Argument(help="The rear lens's, if it has a file of its own.")]
Across = Annotated[float | None, typer.Option(min=60, max=280, help="Degrees that a lens sees; found where both see the same if left out.")]
Law = Annotated[
    Literal["equidistant", "equisolid", "stereographic", "orthographic"] | None,
    typer.Option(help="The law by which the lenses are built; measured where the camera turns, else equidistant, if left out."),
]
Base = Annotated[float | None, typer.Option(min=0.001, max=2, help="Metres between the two front glasses, by a ruler.")]


@app.command(
    "lenses",
    help="Measure the two round lenses of a job's shots by what both see: what they are, how the second stands against the first, how much "
    "darker it records, where they meet. What is found is their answer.\n\nExample: adzer lenses mill.adzer",
)
def lenses(
    job: JobFile,
    words: Annotated[list[str] | None, typer.Argument(help="Shots, by name or pattern; none: all that show two lenses.")] = None,
    camera: Camera = "",
    json_: Json = False,
) -> None:
    from ..core.join import measure, rig
    from ..core.run.matching import calibrate_lenses, match_lenses

    def measured(shot: Shot, seen: Seen | None) -> tuple[str, object, dict[str, object], str]:
        try:
            found = calibrate_lenses(shot.facts, shot.route, seen)
        except AdzerError:  # too little for the lenses themselves; how they stand may still be told
            plain = match_lenses(shot.facts, shot.route, seen)
            return "matched", plain, measure.answers(plain), plain.saw
        return "rig", found, rig.answers(found), found.saw

    def row(found: Any) -> dict[str, object]:
        told = records.to_plain(found)
        before = told.pop("matched", {})
        light = told.pop("light", {})
        return before | {"gain": light.get("gain", before.get("gain"))} | {k: told[k] for k in ("turn", "error")} | ({} if before else told)

    def words_of(found: Any) -> str:
        turn = ", ".join(f"{v:+.2f}°" for v in found.turn).replace("-", "−")
        return f"the second lens stands {turn} (heading, tilt, roll; ± {found.error:.2f}°) off;"

    _all_of(job, words, camera, json_, "lenses", lambda walk: walk.draft.rig is not None, measured, row, words_of)


def _all_of(
    path: Path, words: list[str] | None, camera: str, json_: bool, kind: str, fits: Callable[[Walk], bool],
    measured: Callable[[Shot, Seen | None], tuple[str, object, dict[str, object], str]], row: Callable[[Any], dict[str, object]],
    words_of: Callable[[Any], str],
) -> None:  # fmt: skip
    """Measures the two lenses, or eyes, of all shots of a job that show them; what is found is kept, and is their answer."""
    from ..core.job import Job

    rows: list[dict[str, object]] = []
    with Job.open(path) as held:
        walk = held.walker()
        shots = [s for s in chosen(held, words or [], camera) if fits(walk(s))]
        if not shots:
            what = "two round lenses" if kind == "lenses" else "two eyes"
            raise AdzerError(f"{path}: none of these shots shows {what}, as far as anybody says. Say so on Read first.")
        for shot in shots:
            try:
                name, found, answered, saw = measured(shot, held.seen(shot.id))
            except AdzerError as error:
                say(f"{shot.name}: {error}")
                continue
            if name != "matched":
                held.keep_measured(shot.facts.fingerprint, name, records.to_json(found).encode())
            held.decide(shot, shot.route.with_("join", **answered), f"{kind} matched" if kind == "lenses" else f"{kind} measured")
            rows.append({"shot": shot.name, **row(found)})
            if not json_:
                print(f"{shot.name}: {words_of(found)} {saw}")
    if json_:
        print_json(rows, kind)
    raise typer.Exit(0 if len(rows) == len(shots) else 1)


@app.command(
    "sync",
    help="How two recordings of one moment stand to each other in time: by timecode, by what both heard, or by how both moved. Plain sound "
    "files, too.\n\nExample: adzer sync left/clip.mp4 right/clip.mp4",
)
def sync(
    a: Annotated[Path, typer.Argument(help="A recording or a sound.")], b: Annotated[Path, typer.Argument(help="Another one.")], json_: Json = False
) -> None:
    from ..core.run.syncing import in_step

    found = in_step(a, b, mention)
    if json_:
        print_json(found)
    else:
        for by, words in found.says.items():
            say(f"{by}: {words}")
        if found.offset is None:
            print(f"{b.name} against {a.name}: cannot tell.")
        else:
            drift = f", its clock {found.drift_ppm:+.1f} ± {found.drift_uncertainty:.1f} millionths fast" if found.drift_ppm is not None else ""
            start = f"{found.offset:+.4f} s (± {found.uncertainty:.4f})".replace("-", "−")
            print(f"{b.name} starts {start} after {a.name}, by {found.by}, {found.confidence:.0%} sure{drift.replace('-', '−')}.")
    raise typer.Exit(0 if found.offset is not None else 1)


@app.command(
    "pairs",
    help="Which recordings of two folders belong together, whatever their names and clocks say: same mode and length, then what both heard, "
    "then how both moved.\n\nExample: adzer pairs left right",
)
def pairs(
    a: Annotated[Path, typer.Argument(help="A folder of recordings.")], b: Annotated[Path, typer.Argument(help="Another one.")], json_: Json = False
) -> None:
    from ..core.run import syncing

    found = syncing.pairs(a, b, mention)
    if json_:
        print_json(found)
        return
    for pair in found.pairs:
        first, second = Path(pair.first), Path(pair.second)
        print(f"{first.parent.name}/{first.name}  {second.parent.name}/{second.name}  {pair.offset:+.4f} s  by {pair.by}, {pair.confidence:.0%} sure")
    for file in found.alone:
        say(f"{file}: no partner, as far as can be told.")


def _two(front: Path, rear: Path | None, declared: dict[str, object], across: float | None, law: str | None) -> tuple[FileFacts, Seen | None, Route]:
    """Two lenses' recording, read, and the route that says that they are. AdzerError if it does not show two."""
    from ..core.intake.take import read_file
    from ..core.join.selfcalibration import bend_of
    from ..core.route import Route, walk
    from ..core.space.sphere import ROUND_ACROSS

    facts, seen = read_file(front, rear=rear)
    route = Route().with_("read", **options.ROUND | declared)
    route = route.with_("shape", across=across) if across else route
    if law is not None:
        route = route.with_("shape", bend=list(bend_of(law, across or ROUND_ACROSS)))
    if walk(route, facts, seen).draft.rig is None:
        if rear is not None:
            raise AdzerError(f"{front} and {rear} do not both show a round lens in a dark surround. Was one covered, or does it hold something else?")
        raise AdzerError(f"{front} does not show two round lenses, one beside the other. Give the rear lens's file, too, if it has one.")
    return facts, seen, route


@app.command(
    "rig",
    help="Calibrate the two round lenses of a camera on a shot, by what both see: centres, radii, bends, how the second stands, how much "
    "darker it records. --out writes a card that every shot of that camera can use.\n\nExample: adzer rig front.mp4 rear.mp4 --out mill-rig.toml",
)
@options.declares
def rig(
    declared: dict[str, object], front: Front, rear: Rear = None,
    out: Annotated[Path | None, typer.Option(help="The card to write, NAME.toml; a file that is there is not replaced.")] = None,
    title: Annotated[str, typer.Option(help="The card's title; the file's name if left out.")] = "",
    variant: Annotated[str, typer.Option(help="What makes other lenses of them, e.g. \"under water\" or \"in a case\".")] = "",
    across: Across = None, law: Law = None, base: Base = None, json_: Json = False,
) -> None:  # fmt: skip
    from ..core.join import rig as rigs
    from ..core.run.matching import calibrate_lenses
    from .cards import write

    if out is not None and out.exists():
        raise AdzerError(f"{out} is there already; it is never overwritten. Give another name.")
    facts, seen, route = _two(front, rear, declared, across, law)
    found = calibrate_lenses(facts, route, seen)
    if out is not None:
        write(out, rigs.text(rigs.card_of(found, title or out.stem, variant, base)))
    if json_:
        print_json({**records.to_plain(found), "base": base, "card": str(out) if out is not None else None})
        return
    turn = ", ".join(f"{v:+.2f}°" for v in found.turn).replace("-", "−")
    print(f"{front.name}: the second lens stands {turn} (heading, tilt, roll) off; where both see they agree to ± {found.error:.2f}°. {found.saw}")
    for e in found.errors:
        print(f"  {90 - e.height:5.1f}° from the front lens's axis: {e.degrees:.3f}°, {e.pixels:.2f} px, {e.pieces} pieces")
    if found.ground:
        print(f"  the ground straight below stands {found.ground:.2f}° apart" + _ground(found.ground))


def _ground(apart: float) -> str:
    return f": lenses {1.6 * apart / 57.2958 * 100:.1f} cm from each other, if they stood 1.6 m above it."


USUAL_BASE = 0.03


@app.command(
    "stitch",
    help="Make a sphere of two round lenses and deliver it whole, 2:1. Without a rig card the lenses are calibrated on this very shot.\n\n"
    "Example: adzer stitch front.mp4 rear.mp4 --rig mill-rig.toml --distance 2 --card web-sphere --out sphere.mp4",
)
@options.declares
@options.corrects
def stitch(
    declared: dict[str, object], corrected: dict[str, object], front: Front, card: making.Card, out: making.Out, rear: Rear = None,
    rig: Annotated[str | None, typer.Option(help="A rig card, by name or file; calibrated on this shot if left out.")] = None,
    distance: Annotated[float | None, typer.Option(min=0.1, help="Metres at which the two lenses meet; far away if left out.")] = None,
    base: Base = None,
    size: Annotated[str | None, typer.Option(help="Delivered frame size, twice as wide as high; as much as was recorded if left out.")] = None,
    across: Across = None, law: Law = None,
    blend: Annotated[float, typer.Option(min=1, max=20, help="Degrees over which one lens passes into the other.")] = 3.0,
    close: Annotated[bool, typer.Option("--close/--no-close", help="Bring together what stands apart where they meet.")] = True,
    foot: options.Foot = None, over: options.Over = None, json_: Json = False,
) -> None:  # fmt: skip
    from ..core.cards import RigCard, find
    from ..core.join import rig as rigs
    from ..core.run.matching import along_seam, calibrate_lenses

    raster = parse_size(size) if size else None
    if raster is not None and raster[0] != 2 * raster[1]:
        raise AdzerError(f"--size {size}: a whole sphere is twice as wide as high, e.g. {raster[0]}x{raster[0] // 2}.")
    facts, seen, route = _two(front, rear, declared, across, law)
    route = options.covered(route.with_("colour", **corrected).with_("join", laid="sphere", blend=blend, close=close), foot)
    ground = 0.0
    if rig is not None:
        route = route.with_("join", **rigs.by_card(find("rigs", rig, RigCard), rig))
    else:
        found = calibrate_lenses(facts, route, seen)
        route, ground = route.with_("join", **rigs.answers(found)), found.ground
        mention(found.saw)
    if distance is not None:
        base = base or route.join.base
        if base is None:
            base = round(1.6 * ground / 57.2958, 4) if ground > 0.2 else USUAL_BASE
            why = "as the ground seems to lie, 1.6 m below" if ground > 0.2 else "as is usual"
            say(f"warn: nobody said how far the lenses stand apart; {base * 100:.1f} cm are taken, {why}. Measure it, and give --base.")
        route = route.with_("join", base=base, distance=distance)
    if rig is not None:
        route = route.with_("join", met=records.to_plain(along_seam(facts, route, seen).met))
    told: dict[str, object] = {"rig": {k: v for k, v in records.to_plain(route.join).items() if k not in ("version", "laid")}}
    making.make(front.name, facts, seen, options.lain_over(route, over), card, out, json_, told, raster=raster)


@app.command(
    "eyes",
    help="Two recordings of two eyes: which is the left, how they lie in time and against each other, how deep they see. With --out both are "
    "brought in line and laid into one master.\n\n"
    "Examples: adzer eyes a.mp4 b.mp4 --json · adzer eyes a.mp4 b.mp4 --layout beside --half --card web-wide --out pair.mp4",
)
@options.declares
@options.corrects
def eyes(
    declared: dict[str, object], corrected: dict[str, object],
    a: Annotated[Path, typer.Argument(help="One eye's recording, or one of both.")],
    b: Annotated[Path | None, typer.Argument(help="The other's, if it has a file of its own.")] = None,
    layout: Annotated[
        Literal["beside", "over", "left", "right", "files"] | None,
        typer.Option(help="Side by side, one over the other, one eye alone, or two files; nothing is written if left out."),
    ] = None,
    half: Annotated[bool, typer.Option("--half", help="Each eye squeezed into half of a picture.")] = False,
    left: Annotated[Literal["a", "b"] | None, typer.Option(help="Which is the left eye; measured if left out.")] = None,
    offset: Annotated[
        float | None, typer.Option(min=-1e6, max=1e6, help="Seconds by which the second's start lies after the first's; measured if left out.")
    ] = None,
    pin: Annotated[str | None, typer.Option(help="x,y of a thing in the first file's pixels that is to lie on the screen.")] = None,
    card: Annotated[str | None, making.A_CARD] = None,
    out: Annotated[Path | None, making.A_MASTER] = None,
    size: Annotated[str | None, typer.Option(help="Largest frame size of both; the card's if left out.")] = None,
    across: options.Across = None, over: options.Over = None, json_: Json = False,
) -> None:  # fmt: skip
    from ..core.join.eyes import answers
    from ..core.route import walk
    from ..core.run.matching import depth_at, look_at_eyes

    if (layout is None) != (out is None) or (out is None) != (card is None):
        raise AdzerError("--layout, --card and --out go together: how both are laid out, by which card, into which file.")
    if a.suffix == ".adzer":
        if b is not None or out is not None or declared or offset is not None or across:
            raise AdzerError(f"{a}: of a job all eyes are measured; give nothing else. What is made of them is answered on its shots.")
        _eyes_of(a, json_)
    raster = parse_size(size) if size else None
    at = None if pin is None else numbers("pin", pin, "two numbers", ("x", "y"))
    leading = declared.pop("first", "left") if b is not None else declared.get("first", "left")  # of two files none is first yet
    facts, seen, route, step = _pair(a, b, declared, offset)
    route = route.with_("shape", across=across) if across else route
    found = look_at_eyes(facts, route, seen)
    first = {"a": "left", "b": "right"}[left] if left else {"first": "left", "second": "right"}.get(found.which.left or "", declared.get("first"))
    one_file = ("its first picture", "its second picture") if facts.tracks == 2 else ("the first half", "the second half")
    files = (str(a), str(b)) if b is not None else tuple(f"{a}, {which}" for which in one_file)
    file = None if first is None else files[0 if first == "left" else 1]
    told = {
        "left": file, "confidence": found.which.confidence, "offset": step.offset, "drift_ppm": step.drift_ppm,
        "alignment": {**records.to_plain(found.align), "before": found.before, "points": found.points},
        "depth": records.to_plain(found.depth), "colours": found.colours, "differ": found.differ,
        "says": {**step.says, "which": found.which.saw, "alignment": found.saw},
    }  # fmt: skip
    if out is None or card is None or layout is None:
        if json_:
            print_json(told)
        else:
            sure = f", {found.which.confidence:.0%} sure" if found.which.left is not None and not left else ""
            print(f"left: {file or 'cannot tell'}{sure}. {found.which.saw}")
            print(found.saw)
            d = found.depth
            print(f"depth: {d.near:+.2f} to {d.far:+.2f} % of the width (less than 0: before the screen)".replace("-", "−"))
        raise typer.Exit(0 if first is not None else 1)
    if first is None:
        raise AdzerError(f"{a}: which eye is left cannot be told ({found.which.saw}) Look, and say it with --left a or --left b.")
    route = route.with_("read", first=first).with_("colour", **corrected)
    route = route.with_("join", laid=layout, half=half, leading=leading, **answers(found))
    if at is not None:
        _, _, w, h = walk(route, facts, seen)["read"].after.region(str(first))
        inside = (at["x"] % w) / w, (at["y"] % h) / h
        route = route.with_("join", pin=round(-depth_at(facts, route, seen, *inside), 4))
        told["pin"] = route.join.pin
    making.make(a.name, facts, seen, options.lain_over(route, over), card, out, json_, told, raster=raster)


def _eyes_of(job: Path, json_: bool) -> None:
    """All pairs of a job."""
    from ..core.join.eyes import EYES, answers
    from ..core.run.matching import look_at_eyes

    def measured(shot: Shot, seen: Seen | None) -> tuple[str, object, dict[str, object], str]:
        found = look_at_eyes(shot.facts, shot.route, seen)
        return EYES, found, answers(found), found.saw

    def words_of(found: Any) -> str:
        return f"the {found.which.left} is the left eye." if found.which.left else "left or right cannot be told."

    def two(walk: Walk) -> bool:
        return walk["read"].after.eyes not in (None, "one")

    _all_of(job, None, "", json_, "eyes", two, measured, records.to_plain, words_of)


def _pair(a: Path, b: Path | None, declared: dict[str, object], offset: float | None) -> tuple[FileFacts, Seen | None, Route, InStep]:
    """Two eyes' recording put in step and read, and the route that says that they are."""
    from ..core.intake.take import read_file
    from ..core.media.probe import probe
    from ..core.route import Route
    from ..core.run.syncing import InStep, in_step

    says = {"eyes": "side by side"} if b is not None else {}
    if b is None:
        facts, seen = read_file(a)
        says = {"eyes": "side by side"} if facts.beside else {}
        step, slip = InStep(0.0, 0.0, None, None, None, 1.0, {}), 0.0
    else:
        rate = float(probe(a).rate or 25)
        step = InStep(offset, 0.0, None, None, None, 1.0, {"offset": "As was said."}) if offset is not None else in_step(a, b, mention)
        if step.offset is None:
            raise AdzerError(
                f"{a} and {b}: how they lie in time cannot be told. {' '.join(step.says.values())} Say it with --offset, in seconds, 0 if they "
                "started at once."
            )
        whole, _ = step.left_over(rate)
        facts, seen = read_file(a, rear=b, starts=(max(whole, 0), max(-whole, 0)))
        slip = whole / rate - step.offset
    route = Route().with_("read", **says | declared)
    drift = step.drift_ppm if step.drift_uncertainty is not None and abs(step.drift_ppm or 0) > step.drift_uncertainty else 0.0
    return facts, seen, route.with_("join", slip=round(slip, 6), drift=drift or 0.0), step
