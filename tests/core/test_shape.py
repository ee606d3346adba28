"""The arithmetic of desqueezing and cropping."""

from __future__ import annotations

from fractions import Fraction

from hypothesis import assume, given
from hypothesis import strategies as st

from adzer.core.shape.advise import shape_text, why_shape
from adzer.core.shape.geometry import fit, panel, solve

rasters = st.tuples(st.integers(16, 8192), st.integers(16, 8192))
squeezes = st.fractions(Fraction(1, 2), Fraction(2), max_denominator=100)
shapes = st.none() | st.fractions(Fraction(1, 3), Fraction(4), max_denominator=100)
shares = st.floats(0, 1)


@given(
    rasters,
    squeezes,
    st.sampled_from(("shrink", "stretch")),
    shapes,
    shares,
    shares,
    st.sampled_from(("native", "frame")),
)
def test_crops_stay_inside_are_even_and_keep_things_round(raster, aspect, school, shape, x, y, hold):
    assume(min(raster) >= 16)
    framing = solve(raster, aspect, school, shape, (x, y))
    fitted = fit(framing.size, hold, (3840, 2160))
    made = panel(framing, fitted, raster)
    look = made.look
    for i in (0, 1):
        start, end = look.offset[i], look.offset[i] + made.size[i] * look.scale[i]
        if framing.size[i] > 2 and fitted.picture[i] > 2:
            assert start >= 0 and end <= raster[i]
        assert made.size[i] % 2 == fitted.raster[i] % 2 == made.place[i] % 2 == 0
        assert made.place[i] + made.size[i] <= fitted.raster[i]
    assert look.scale[1] / look.scale[0] == aspect  # exactly: a circle stays one
    assert (min(look.scale) >= 1) or school == "stretch"
    if hold == "frame":
        assert abs(Fraction(*fitted.raster) - Fraction(16, 9)) < Fraction(9, min(fitted.raster))


@given(rasters, squeezes, shapes)
def test_the_crop_fills_to_the_last_even_pixel(raster, aspect, shape):
    framing = solve(raster, aspect, "shrink", shape)
    whole = framing.desqueezed
    wanted = shape or whole[0] / whole[1]
    wide, high = (whole[0], whole[0] / wanted) if wanted >= whole[0] / whole[1] else (whole[1] * wanted, whole[1])
    assert 0 <= wide - framing.size[0] < 2 or framing.size[0] == 2
    assert 0 <= high - framing.size[1] < 2 or framing.size[1] == 2


def test_the_numbers_that_people_do_by_hand():
    framing = solve((1440, 1080), Fraction(8, 5), "shrink", Fraction(239, 100))
    assert framing.desqueezed == (1440, 675)
    assert framing.enlargement == Fraction(717, 640) and framing.size == (1440, 602)
    assert solve((1440, 1080), Fraction(8, 5), "stretch", Fraction(239, 100)).size == (2304, 964)
    assert shape_text(Fraction(16, 9)) == "16:9" and shape_text(Fraction(239, 100)) == "2.39:1"
    assert "1.120 times enlargement" in why_shape(framing, Fraction(239, 100))
    closer = solve((1440, 1080), Fraction(8, 5), "shrink", Fraction(239, 100), enlarged=1.2)
    assert "1.120 times enlargement, and 1.200 times closer makes 1.344" in why_shape(closer, Fraction(239, 100))
    assert fit((1440, 602), "frame", (1920, 1080)).raster == (1440, 810)
    assert fit((4096, 1716), "frame", (1920, 1080)).picture == (1920, 804)
