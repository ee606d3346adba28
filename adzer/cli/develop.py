"""Commands about sensor values and noise."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any, Literal

import typer

from ..core import records
from ..core.errors import AdzerError
from . import making, options
from .terminal import Json, app, numbers

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
    json_: Json = False,
) -> None:
    from ..core.develop import camera, measure, values
    from ..core.intake.take import read_file
    from ..core.route import Route

    facts, seen = read_file(file)
    if facts.mosaic is None:
        raise AdzerError(f"{file} holds pictures, not sensor values: the camera developed it already. Use `adzer convert`.")
    answers = white_answers(white) | into_answers(into) | {"exposure": exposure}
    if highlights is not None:
        answers["highlights"] = highlights.replace("-", " ")
    route = Route().with_("read", **declared).with_("develop", **answers)
    sensor = values.sensor_of(facts, route.develop)
    assert sensor is not None
    found = measure.held(facts, route.develop)
    neutral = values.neutral_of(sensor, route.develop)
    shot, now = (dict(zip(("kelvin", "tint"), (round(v, 1) for v in camera.correlated(camera.white_of(sensor, n))), strict=True))
                 for n in (values.as_shot(sensor), neutral))  # fmt: skip
    more: dict[str, Any] = {"values": records.to_plain(found), "as_shot": shot, "white": now, "neutral": list(neutral)}
    making.make(file.name, facts, seen, route, card, out, json_, more)
    if not json_:
        print(f"{file}: {measure.words(found)}")
