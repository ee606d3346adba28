"""What the person decides about colour."""

from __future__ import annotations

from typing import Annotated, Literal

from msgspec import Meta

from ..stage import Settings

NEUTRAL_KELVIN = 6504.0


class ColourSettings(Settings, frozen=True, forbid_unknown_fields=True):
    """``exposure`` stops; ``kelvin`` and ``tint`` of the light that is to become neutral (6504, 0: as recorded);
    ``black`` share of the signal; ``contrast`` a power about middle grey; ``peak`` light that everything but *let go*
    still holds, before exposure (None: the brightest that was measured on the shot, else all that the curve can hold);
    ``ceiling`` percent of the signal that nothing delivered passes; ``beyond`` what happens to colours the display cannot show.
    """

    OWN = frozenset({"peak"})
    version: int = 1
    exposure: Annotated[float, Meta(ge=-8, le=8)] = 0.0
    kelvin: Annotated[float, Meta(ge=1700, le=25000)] = NEUTRAL_KELVIN
    tint: Annotated[float, Meta(ge=-50, le=50)] = 0.0
    black: Annotated[float, Meta(ge=-0.2, le=0.2)] = 0.0
    contrast: Annotated[float, Meta(ge=0.3, le=3)] = 1.0
    saturation: Annotated[float, Meta(ge=0, le=3)] = 1.0
    whites: Literal["let go", "roll off", "keep hue", "keep all"] = "roll off"
    ceiling: Literal[100, 105, 109] = 100
    peak: Annotated[float, Meta(gt=0, le=1e5)] | None = None
    beyond: Literal["cut", "draw in"] = "cut"
    adaptation: Literal["cat02", "bradford"] = "cat02"

    @property
    def corrects(self) -> bool:
        """Is anything corrected, apart from the conversion itself?"""
        rest = (self.exposure, self.kelvin, self.tint, self.black, self.contrast, self.saturation)
        return rest != (0.0, NEUTRAL_KELVIN, 0.0, 0.0, 1.0, 1.0)
