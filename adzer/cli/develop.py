"""Commands about sensor values and noise."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Literal

import typer

from ..core import records
from ..core.errors import AdzerError
from . import making, options
from .terminal import Json, Recording, Recordings, app, numbers, print_json

Frames = Annotated[Path, typer.Argument(help="The recording: a DNG file, a folder of a DNG sequence, or a Bayer video.")]


def white_answers(text: str) -> dict[str, object]:
    """``as-shot``, ``K,tint`` or ``x,y`` as answers of Develop."""
    from ..core.develop import camera

    if text == "as-shot":
        return {"white": "as shot"}
    first, second = numbers("white", text, "two numbers", ("K or x", "tint or y")).values()
    if first <= 1:
        if not (0.15 <= first <= 0.7 and 0.15 <= second <= 0.7):
            raise AdzerError(f'--white "{text}": x and y of a light lie between 0.15 and 0.7.')
        first, second = camera.correlated((first, second))
    if not (camera.KELVIN[0] <= first <= camera.KELVIN[1] and camera.TINT[0] <= second <= camera.TINT[1]):
        raise AdzerError(f'--white "{text}": kelvin from {camera.KELVIN[0]:.0f} to {camera.KELVIN[1]:.0f}, tint from −50 to 50.')
    return {"white": "light", "kelvin": first, "tint": second}


def into_answers(text: str) -> dict[str, object]:
    """``CURVE/PRIMARIES``, either of which may be left out."""
    from ..core.light import names as colour_cards

    curve, _, primaries = text.partition("/")
    curve = curve or "light"
    if curve not in ("light", "linear"):
        colour_cards.curve(curve, 16, False)
    else:
        curve = "light"
    primaries = primaries or colour_cards.paired_primaries(curve) or "ap1"
    colour_cards.primaries(primaries)
    return {"into": curve, "primaries": primaries}


@app.command(
    help="Develop sensor values, and deliver them.\n\n"
    "Example: adzer develop A001/ --card web-wide --out mill.mp4 --white 5600,0 --exposure 0.5 --highlights rebuild"
)
@options.declares
def develop(
    declared: dict[str, object],
    file: Frames,
    card: making.Card,
    out: making.Out,
    white: Annotated[str, typer.Option(help="What was white: as-shot; kelvin and tint, 5600,0; or the light's CIE x,y.")] = "as-shot",
    exposure: Annotated[float, typer.Option(min=-8, max=8, help="Stops brighter, on sensor values.")] = 0.0,
    highlights: Annotated[
        Literal["neutral", "rebuild", "as-is"] | None, typer.Option(help="What is full in the sensor; neutral if left out.")
    ] = None,
    into: Annotated[str, typer.Option(help="CURVE/PRIMARIES: light, or a log curve's card for what expects one.")] = "light/ap1",
    order: Annotated[
        Literal["rggb", "bggr", "grbg", "gbrg"] | None,
        typer.Option(help="The colour filter, row by row, where the file does not say it, or wrongly."),
    ] = None,
    black: Annotated[float | None, typer.Option(min=0, max=65535, help="The sensor's code of black; as the file says if left out.")] = None,
    full: Annotated[float | None, typer.Option(min=1, max=65535, help="The code at which it is full; as the file says if left out.")] = None,
    json_: Json = False,
) -> None:
    from ..core.develop import camera, measure, values
    from ..core.intake.take import read_file
    from ..core.route import Route

    answers = white_answers(white) | into_answers(into) | {"exposure": exposure, "order": order, "black": black, "white_level": full}
    facts, seen = read_file(file)
    if order is not None and facts.mosaic is None:
        declared = {"curve": "linear", "range": "full"} | declared
    if highlights is not None:
        answers["highlights"] = highlights.replace("-", " ")
    route = Route().with_("read", **declared).with_("develop", **answers)
    sensor = values.sensor_of(facts, route.develop)
    if sensor is None:
        raise AdzerError(f"{file} holds pictures, not sensor values: the camera developed it already. Use `adzer convert`.")
    found = measure.held(facts, route.develop)
    neutral = values.neutral_of(sensor, route.develop)
    shot, now = (dict(zip(("kelvin", "tint"), (round(v, 1) for v in camera.correlated(camera.white_of(sensor, n))), strict=True))
                 for n in (values.as_shot(sensor), neutral))  # fmt: skip
    more: dict[str, object] = {"values": records.to_plain(found), "as_shot": shot, "white": now, "neutral": list(neutral)}
    more["next_time"] = measure.next_time(found)
    making.make(file.name, facts, seen, route, card, out, json_, more, measured={"values": records.to_json(found).encode()})
    if not json_:
        print(f"{file}: {measure.words(found)}. {measure.next_time(found)}")


@app.command(
    help="Measure a recording's noise: how wide it is at every level, what of it will be seen as delivered, and where it is worst.\n\n"
    "Example: adzer noise clip.mov --curve fen-log --card web-wide"
)
@options.declares
def noise(
    declared: dict[str, object],
    file: Recording,
    card: Annotated[str, typer.Option(help="The delivery that it is judged for.", callback=making.fitting)] = "web-wide",
    json_: Json = False,
) -> None:
    from ..core import cards
    from ..core.develop import noise as measuring
    from ..core.intake.take import read_file
    from ..core.route import Route
    from ..core.run import developing

    facts, looked = read_file(file)
    route = Route().with_("read", **declared)
    held, seen = developing.delivered_noise(facts, looked, route, cards.delivery(card))
    told = measuring.verdict(seen, held.within)
    if json_:
        needed = None if held.within and seen.needed else seen.needed
        plain = records.to_plain(held) | {"delivered": records.to_plain(seen), "needed": needed, "verdict": told}
        print_json(plain)
        return
    print(f"level and standard deviation in codes of {facts.bits} bits")
    print(f"{'level':>9}" + "".join(f"{name:>10}" for name in held.planes) + f"{'blocks':>9}")
    for k, level in enumerate(held.grain.levels):
        if held.counts[k]:
            print(f"{level:9.1f}" + "".join(f"{line[k]:10.3f}" for line in held.grain.sigma) + f"{held.counts[k]:9d}")
    if held.stops:
        print(f"usable: {held.stops:.1f} stops, from where light equals its noise up to full")
    if held.grain.keep < 1:
        print(f"the camera or its codec has smoothed over time: neighbouring frames differ by {held.grain.keep:.0%} of the noise")
    if max(held.beside) > 0.15:
        print(f"the camera has smoothed it: neighbours agree to {max(held.beside):.0%}")
    if held.dots:
        places = ", ".join(f"{x},{y}" for x, y, _ in held.dots[:6]) + (" …" if len(held.dots) > 6 else "")
        print(f"dots that stay where they are, whatever the camera looks at: {len(held.dots)}, at {places}")
    print(f"{file}: {told}")


@app.command(
    help="Take noise off, as much as was measured, and deliver.\n\nExample: adzer clean clip.mov --card web-wide --out clean.mp4"
)
@options.declares
def clean(
    declared: dict[str, object],
    file: Recording,
    card: making.Card,
    out: making.Out,
    amount: Annotated[
        str, typer.Option(help="How much: measured, the most that takes no structure with it; or a number, 1 what was measured.")
    ] = "measured",
    colour: Annotated[float | None, typer.Option(min=0, max=4, help="The same of colour; as --amount if left out.")] = None,
    detail: Annotated[float, typer.Option(min=0, max=1, help="Share of what was taken off luma that is given back.")] = 0.0,
    smooth: Annotated[
        str | None, typer.Option(help="X,Y in recorded pixels on the middle frame: what has its tone, as skin, is made smoother than the rest.")
    ] = None,
    even: Annotated[
        bool, typer.Option("--even", help="Take no noise off: make bare steps of codes in smooth parts even, within half a code.")
    ] = False,
    json_: Json = False,
) -> None:
    from ..core.intake.take import read_file
    from ..core.route import Route
    from ..core.run import developing

    if even:
        facts, seen = read_file(file)
        making.make(file.name, facts, seen, Route().with_("read", **declared).with_("develop", even=True), card, out, json_)
        return
    wanted: float | None = None
    if amount != "measured":
        (wanted,) = numbers("amount", amount, "a number, or measured", ("amount",)).values()
        if not 0 <= wanted <= 4:
            raise AdzerError(f"--amount {amount}: from 0 to 4, 1 what was measured.")
    facts, seen = read_file(file)
    route = Route().with_("read", **declared)
    held = developing.noise_of(facts, route)
    route, tried = developing.cleaned_route(facts, route, held, wanted, colour, detail)
    if smooth is not None:
        x, y = numbers("smooth", smooth, "two numbers", ("x", "y")).values()
        if not (0 <= x < facts.raster[0] and 0 <= y < facts.raster[1]):
            raise AdzerError(f"--smooth {smooth}: {file.name} is {facts.raster[0]}×{facts.raster[1]} pixels.")
        route = route.with_("develop", smooth=list(developing.tone_at(facts, route, facts.frames // 2, (x, y))))
    more: dict[str, object] = {"amount": route.develop.clean, "tried": records.to_plain(tried), "noise": records.to_plain(held)}
    making.make(file.name, facts, seen, route, card, out, json_, more)
    if not json_:
        print(f"{file}: taken off {route.develop.clean:g} times what was measured")


@app.command(
    "range",
    help="RAW or log? Test recordings of one scene compared: stops from full down to where light is as strong as its noise, and twice as strong; "
    "size; does this machine play it? With --job it is kept there, as its camera's baseline.\n\nExample: adzer range raw/ log.mov --curve fen-log",
)
@options.declares
def range_(
    declared: dict[str, object], files: Recordings,
    job: Annotated[Path | None, typer.Option(help="A job that has these recordings, to keep what is found.")] = None,
    json_: Json = False,
) -> None:  # fmt: skip
    from ..core.intake.take import read_file
    from ..core.job import Job
    from ..core.route import Route
    from ..core.run import developing

    rows: list[dict[str, object]] = []
    kept: list[developing.Range] = []
    for file in files:
        facts, _ = read_file(file)
        route = Route().with_("read", **({k: v for k, v in declared.items() if k != "curve"} if facts.mosaic else declared))
        if job is not None:
            with Job.open(job) as held:
                if not any(s.facts.fingerprint == facts.fingerprint for s in held.shots()):
                    raise AdzerError(f"{job} has no shot of {file}. Add it first, as `adzer add` does.")
        kept.append(developing.range_of(facts, route))
        rows.append({"file": str(file), **records.to_plain(kept[-1])})
        if job is not None:
            with Job.open(job) as held:
                held.keep_measured(facts.fingerprint, "range", records.to_json(kept[-1]).encode())
    if json_:
        print_json(rows, "recordings")
        return
    print(f"{'stops, SNR 1':>13}{'SNR 2':>8}{'Mbit/s':>9}{'plays':>8}  recording")
    for r in rows:
        bound = "" if r["seen_to_black"] else "≥"
        one, two = (f"{bound}{r[name]:.1f}" for name in ("stops", "stops_at_2"))
        print(f"{one:>13}{two:>8}{r['megabits']:9.1f}{'yes' if r['keeps_up'] else 'no':>8}  {r['file']}")
    if says := developing.either(kept)[1]:
        print(says)
