"""Commands that read: offload, add, play, proxy, relink, rename. ``cli`` brings them in."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Annotated, Literal

import typer

from ..core import records
from ..core.errors import AdzerError
from . import options, terminal
from .terminal import (
    JobFile,
    Json,
    OnlyShots,
    Recording,
    Recordings,
    app,
    made_if_absent,
    moving,
    print_json,
    say,
    shot_named,
)


@app.command(
    help="Copy a card, verified, into folders by year, month, job and camera.\n\n"
    "Example: adzer offload /media/card --to footage --also /media/second --job mill --camera 'log body'"
)
def offload(
    cards: Annotated[list[Path], typer.Argument(help="The cards' folders.")],
    to: Annotated[Path, typer.Option(help="The folder below which the copies go.")],
    also: Annotated[list[Path] | None, typer.Option(help="Further folders, best on other disks.")] = None,
    job: Annotated[str, typer.Option(help="The job's name, or a job file: what is safe is then added to it.")] = "job",
    camera: Annotated[
        list[str] | None,
        typer.Option(help="The camera's name; once for all cards, or once for each, in their order. The card folder's name if left out."),
    ] = None,
    folders: Annotated[
        str,
        typer.Option(help="The folders' pattern, of {year}, {month}, {day}, {job}, {camera}, {card}."),
    ] = "{year}/{month}/{job}/{camera}",
    json_: Json = False,
) -> None:
    from ..core.intake import offload as engine
    from ..core.intake.take import add_files
    from ..core.job import Job

    cameras = _each(camera, cards)
    made_if_absent(Path(job))
    held = Job.open(job) if job.endswith(".adzer") else None
    outcomes = []
    try:
        for card, name in zip(cards, cameras, strict=True):
            for caution in engine.cautions(card, [to, *(also or [])]):
                terminal.mention(caution)
            with moving(card.name) as show:
                outcome = engine.offload(
                    card, [to, *(also or [])], held.name if held else job, name, folders, report=show
                )
            outcomes.append(outcome)
            if not json_:
                print(outcome.words)
                for text in (*outcome.differing.values(), *outcome.failed.values()):
                    print(f"  {text}")
                for odd in outcome.oddities:
                    print(f"  {engine.shown(odd.place)} {odd.why}.")
            if held:
                held.log("offload", None, outcome.words, {"bytes": outcome.size})
                add_files(held, [outcome.roots[0] / p for p in outcome.copied], say, name or card.name)
    finally:
        if held:
            held.close()
    if json_:
        print_json([engine.as_json(o) for o in outcomes], "cards")
    sys.exit(0 if all(o.safe for o in outcomes) else 1)


def _each(cameras: list[str] | None, paths: list[Path]) -> list[str]:
    """A camera for each of the paths."""
    held = cameras or [""]
    if len(held) not in (1, len(paths)):
        raise AdzerError(f"--camera is given {len(held)} times for {len(paths)} files or folders. Give it once, or once for each.")
    return held if len(held) == len(paths) else held * len(paths)


@app.command(
    help="Take files and folders into a job as shots, and look at each.\n\nExample: adzer add mill.adzer footage --camera eyes"
)
def add(
    job: JobFile,
    files: Annotated[list[Path], typer.Argument(help="Recordings and folders of them.")],
    camera: Annotated[
        list[str] | None,
        typer.Option(help="The camera's name; once for all, or once for each file or folder, in their order. None if left out."),
    ] = None,
    json_: Json = False,
) -> None:
    from ..core.intake.take import add_files
    from ..core.job import Job

    cameras, said, missing = _each(camera, files), list[str](), [f for f in files if not f.exists()]
    if len(missing) == len(files):
        raise AdzerError(f"{missing[0]} is not there. Look at the name, or plug its disk in.")
    made_if_absent(job)
    with Job.open(job) as held:
        shots = add_files(held, files, said.append, cameras)
    for text in said:
        say(text)
    if json_:
        print_json([
            {"shot": s.name, "kind": s.kind, "frames": s.frames, "files": list(s.facts.files or (s.facts.path,)),
             "parts": [{"role": p.role, "path": p.path} for p in s.parts], "questions": [d.ask for d in s.doubts]}
            for s in shots
        ], "shots")  # fmt: skip
    else:
        for s in shots:
            print(f"{s.name}: {s.kind}, {s.frames} frames" + "".join(f"\n  {p.role}: {p.path}" for p in s.parts)
                  + "".join(f"\n  ? {d.ask}" for d in s.doubts))  # fmt: skip
    sys.exit((1 if missing else 0) if shots else 2)


@app.command(
    help="Measure whether this machine plays a recording, and judge it by the player cards.\n\nExample: adzer play clip.mov"
)
def play(files: Recordings, json_: Json = False) -> None:
    from ..core import cards
    from ..core.media import probe
    from ..core.read import play as playing

    out = []
    for path in files:
        facts = probe.probe(path)
        found = playing.measure(facts)
        judged = {n: playing.judge(facts, cards.find("players", n, cards.PlayerCard)) for n in cards.paths("players")}
        out.append(
            {"file": str(path), **records.to_plain(found), "keeps_up": found.keeps_up(facts.rate), "players": judged}
        )
        if not json_:
            print(
                f"{path}: {playing.codec_title(facts)}; {found.rate:.0f} frames a second decoded, a jump takes {found.seek_ms:.0f} ms"
            )
            for name, why in judged.items():
                print(f"  {cards.find('players', name, cards.PlayerCard).title}: {why or 'decoded in hardware'}")
    if json_:
        print_json(out, "recordings")


@app.command(
    help="Make proxies or intermediates of a job's shots and link them.\n\nExample: adzer proxy mill.adzer --size quarter"
)
def proxy(
    job: JobFile,
    shot: OnlyShots = None,
    size: Annotated[Literal["full", "half", "quarter"], typer.Option(help="Full, half or a quarter of the recording's width and height.")] = "half",
    card: Annotated[str, typer.Option(help="proxy or intermediate, or a card of your own.")] = "proxy",
    json_: Json = False,
) -> None:
    from ..core.intake import proxies
    from ..core.job import Job

    with Job.open(job) as held:
        chosen = [shot_named(held, name) for name in shot] if shot else held.shots()
        findings: list[dict[str, object]] = []
        walk = held.walker()
        for s in chosen:  # a copy is as recorded: only what Read says of it matters
            found = walk(s)["read"].findings
            findings += [{"shot": s.name, **f} for f in options.told(list(found), s.name)]
        made = terminal.rendered(held, ((s.id, proxies.copy_order(held, s, card, size)) for s in chosen), "proxies")
    if json_:
        rows = [{"copy": s.order.out, "state": s.state, "why": s.why, "report": s.report} for s in made]
        print_json({"copies": rows, "findings": findings})
    else:
        for slip in made:
            print(f"{slip.state}: {slip.order.out}" + (f": {slip.why}" if slip.why else ""))
    sys.exit(0 if all(s.state == "done" for s in made) else 1)


@app.command(
    help="Find masters and proxies of a job's shots in a folder, whatever they are called now.\n\n"
    "Example: adzer relink mill.adzer /media/masters --link"
)
def relink(
    job: JobFile, folders: Annotated[list[Path], typer.Argument(help="Where to look, folders below included.")],
    link: Annotated[bool, typer.Option(help="Link what is matched; else only report.")] = False,
    json_: Json = False,
) -> None:  # fmt: skip
    from ..core.intake import proxies
    from ..core.intake.relink import report_text
    from ..core.intake.take import look_at_new
    from ..core.job import Job

    for folder in folders:
        if not folder.exists():
            raise AdzerError(f"{folder} is not there. Look at the name, or plug its disk in.")
    with Job.open(job) as held:
        shots = held.shots()
        found, said = proxies.offered(folders)
        matches = proxies.match(shots, found)
        if link:
            changed = proxies.apply(held, shots, matches, found)
            look_at_new(held, changed)
            proxies.look_at_parts(held, changed, say)
    for text in said:
        say(text)
    if json_:
        print_json(matches, "matches")
    else:
        print(report_text(matches))
    sys.exit(0 if all(m.state in ("matched", "linked") for m in matches) else 1)


@app.command(
    help="Name a job's shots by a pattern; files keep their names.\n\nExample: adzer rename mill.adzer '{camera} {n:3}' --do"
)
def rename(
    job: JobFile,
    pattern: Annotated[str, typer.Argument(help="Words and fields, as {camera} {n:3}; an unknown one is answered with all there are.")],
    do: Annotated[bool, typer.Option("--do", help="Rename; else only show.")] = False,
    shot: OnlyShots = None,
) -> None:
    from ..core.intake import naming
    from ..core.job import Job

    with Job.open(job) as held:
        made = naming.rename([shot_named(held, n) for n in shot] if shot else held.shots(), pattern)
        for s, name in made:
            print(f"{s.name} → {name}")
        if do:
            held.describe({s.id: {"name": name} for s, name in made}, f"rename {len(made)} shots")


@app.command(
    "tags",
    help="What a file tells players of sphere and eyes, as two readers find it that share nothing; and what players show that heed it, and that "
    "do not.\n\nExample: adzer tags sphere.mp4",
)
def tags(file: Recording, json_: Json = False) -> None:
    from ..core.media.told import told

    found = told(file)
    if json_:
        print_json({"file": str(file), **records.to_plain(found)})
        return
    print(f"{file}: says {'; '.join(found.words) or 'nothing of sphere or eyes'}.")
    print(f"  A player that heeds it shows {found.knowing}; one that does not, {found.others}.")
