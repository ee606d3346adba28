"""Commands about joining: two round lenses matched by what both see."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from ..core import records
from ..core.errors import AdzerError
from .job import Camera, chosen
from .terminal import JobFile, Json, app, mention, print_json, say


@app.command(
    "lenses",
    help="Match the two round lenses of a job's shots by what both see: how the second stands against the first, and how much darker it "
    "records. What is found is their answer.\n\nExample: adzer lenses mill.adzer",
)
def lenses(
    job: JobFile,
    words: Annotated[list[str] | None, typer.Argument(help="Shots, by name or pattern; none: all that show two lenses.")] = None,
    camera: Camera = "",
    json_: Json = False,
) -> None:
    from ..core.job import Job
    from ..core.join.measure import answers
    from ..core.run.matching import match_lenses

    rows: list[dict[str, object]] = []
    with Job.open(job) as held:
        walk = held.walker()
        shots = [s for s in chosen(held, words or [], camera) if walk(s).draft.rig is not None]
        if not shots:
            raise AdzerError(f"{job}: none of these shots shows two round lenses, as far as anybody says. Say so on Read first.")
        for shot in shots:
            try:
                found = match_lenses(shot.facts, shot.route, held.seen(shot.id))
            except AdzerError as error:
                say(f"{shot.name}: {error}")
                continue
            held.decide(shot, shot.route.with_("join", **answers(found)), "lenses matched")
            rows.append({"shot": shot.name, **records.to_plain(found)})
            if not json_:
                turn = ", ".join(f"{v:+.2f}°" for v in found.turn).replace("-", "−")
                print(f"{shot.name}: the second lens stands {turn} (heading, tilt, roll; ± {found.error:.2f}°) off; {found.saw}")
    if json_:
        print_json(rows, "lenses")
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
