"""Commands about how shots were held."""

from __future__ import annotations

from typing import Annotated, Any

import typer

from ..core import records
from ..core.errors import AdzerError
from .job import Camera, chosen
from .terminal import JobFile, Json, app, mention, print_json, progress, say


@app.command(
    "shake",
    help="Measure how a job's shots shake. What is measured is kept in the job; when it is stopped, it goes on from there.\n\n"
    "Example: adzer shake mill.adzer",
)
def shake(
    job: JobFile,
    words: Annotated[list[str] | None, typer.Argument(help="Shots, by name or pattern; none: all flat pictures.")] = None,
    camera: Camera = "",
    json_: Json = False,
) -> None:
    from ..core.job import Job
    from ..core.run import analysing
    from ..core.steady import measure
    from ..core.steady.step import shaken

    rows: list[dict[str, Any]] = []
    with Job.open(job) as held:
        walk = held.walker()
        shots = chosen(held, words or [], camera)
        for shot in shots:
            wants, facts = walk(shot)["steady"].result.wants, shot.facts
            if not wants and shaken(held.found(facts.fingerprint)) is None:
                mention(f"{shot.name}: only a flat picture's motion can be measured so far.")
                continue
            try:
                with progress(shot.name) as show:
                    analysing.through(held, "motion", facts, shot.route, show)
            except AdzerError as error:
                say(f"{shot.name}: {error}")
                continue
            found = shaken(held.found(facts.fingerprint))
            assert found is not None
            rows.append({"shot": shot.name, **records.to_plain(found)})
            if not json_:
                print(f"{shot.name}: {measure.words(found)}")
    if json_:
        print_json(rows, "shots")
    raise typer.Exit(0 if rows else 1)
