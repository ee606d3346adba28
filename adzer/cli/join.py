"""Commands about joining: two round lenses matched by what both see."""

from __future__ import annotations

from typing import Annotated

import typer

from ..core import records
from ..core.errors import AdzerError
from .job import Camera, chosen
from .terminal import JobFile, Json, app, print_json, say


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
