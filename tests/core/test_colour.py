"""Curves, cards, matrices and the chain, against an independent reference and their own definitions."""

from __future__ import annotations

import warnings

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

warnings.filterwarnings("ignore")
import colour  # noqa: E402

from adzer.core import cards  # noqa: E402
from adzer.core.errors import UnreadableError  # noqa: E402
from adzer.core.light import curves  # noqa: E402
from adzer.core.light import names as colour_cards  # noqa: E402
from adzer.core.light.chain import ColourChain, contrast, draw_in, shoulder  # noqa: E402
from adzer.core.light.primaries import adaptation, code_scale, daylight, rgb_to_rgb, rgb_to_xyz, rgb_to_ycbcr  # noqa: E402

LIGHT = np.concatenate([[0.0], np.geomspace(1e-5, 1.0, 500)])


def test_standard_curves_agree_with_the_reference():
    c = colour.models
    constants = c.rgb.transfer_functions.itur_bt_2020.CONSTANTS_BT2020
    precise = type(constants)(alpha=lambda _=None: 1.09929682680944, beta=lambda _=None: 0.018053968510807)
    pairs = {
        "bt709": c.oetf_BT2020(LIGHT, is_12_bits_system=False, constants=precise),
        "srgb": c.eotf_inverse_sRGB(LIGHT),
        "bt1886": LIGHT ** (1 / 2.4),
        "gamma22": LIGHT ** (1 / 2.2),
        "acescct": c.log_encoding_ACEScct(LIGHT * 16),
        "hlg": c.rgb.transfer_functions.arib_std_b67.oetf_ARIBSTDB67(
            LIGHT * 12, r=0.5, constants=c.rgb.transfer_functions.arib_std_b67.CONSTANTS_ARIBSTDB67
        ),
    }  # fmt: skip
    for name in ("bt709", "srgb", "bt1886", "gamma22"):
        assert np.abs(curves.STANDARD[name].encode(LIGHT) - pairs[name]).max() < 1e-6, name
    assert np.abs(curves.acescct_encode(LIGHT * 16) - pairs["acescct"]).max() < 1e-6
    assert np.abs(curves.hlg_oetf(LIGHT) - pairs["hlg"]).max() < 1e-6
    nits = LIGHT * 10000
    assert np.abs(curves.pq_signal(nits) - c.eotf_inverse_ST2084(nits)).max() < 1e-6
    assert np.abs(curves.pq_nits(LIGHT) - c.eotf_ST2084(LIGHT)).max() < 1e-6 * 10000


def test_reference_white_sits_where_bt2408_puts_it():
    assert abs(curves.STANDARD["hlg"].encode(np.array([1.0]))[0] - 0.75) < 1e-9
    assert abs(curves.STANDARD["pq"].encode(np.array([1.0]))[0] - 0.58) < 0.001


@pytest.mark.parametrize("name", colour_cards.names())
def test_every_curve_rises_and_comes_back(name):
    curve = colour_cards.curve(name)
    signal = np.linspace(0.02, 1.0, 2000)
    light = curve.decode(signal)
    assert np.all(np.diff(light) > 0)
    assert np.abs(curve.encode(light) - signal).max() < 1e-9


@given(st.floats(2, 40), st.floats(0.01, 0.2), st.floats(0.1, 0.4), st.floats(0.1, 0.5), st.floats(0.002, 0.02))
def test_a_lin_log_card_made_smooth_passes_and_a_torn_one_does_not(a, b, c, grey, cut):
    d = grey + 0.1 - c * np.log10(a * 0.18 + b)
    e = c * a / (np.log(10) * (a * cut + b))
    f = c * np.log10(a * cut + b) + d - e * cut
    card = cards.CurveCard("x", "lin-log", a=a, b=b, c=c, d=d, e=e, f=f, cut=cut)
    built = colour_cards.build("x", card)
    assert abs(colour_cards.facts(built, cut).jump) < 1e-9
    torn = cards.CurveCard("x", "lin-log", a=a, b=b, c=c, d=d, e=e, f=f + 0.02, cut=cut)
    with pytest.raises(UnreadableError, match="miss each other"):
        colour_cards.build("x", torn)


def test_code_value_cards_are_restated_for_limited_files():
    on_codes = curves.from_code_values(colour_cards.curve("fen-log"), 10, limited=True)
    light = np.array([0.18])
    code = on_codes.encode(light)[0] * 876 + 64
    assert abs(code / 1023 - colour_cards.curve("fen-log").encode(light)[0]) < 1e-12


HOSTILE = {
    "nan": 'title = "x"\nform = "lin-log"\na = nan\n',
    "negative": 'title = "x"\nform = "lin-log"\na = -4.0\nc = 0.2\ne = 1.0\n',
    "missing": 'form = "lin-log"\n',
    "huge": 'title = "x"\nform = "table"\nlinear = [' + "0.1, " * 300_000 + "]\n",
    "not toml": "\x00\x01 title ===",
    "unknown key": 'title = "x"\nform = "lin-log"\nrun = "rm"\n',
    "falling table": 'title = "x"\nform = "table"\nlinear = [0.0, 1.0]\nsignal = [0.9, 0.1]\n',
    "flat": 'title = "x"\nform = "power-toe"\nc = 0.0\n',
}


@pytest.mark.parametrize("kind", HOSTILE)
def test_hostile_cards_get_a_sentence(tmp_path, kind):
    path = tmp_path / "curves" / "bad.toml"
    path.parent.mkdir()
    path.write_text(HOSTILE[kind])
    with pytest.raises(UnreadableError) as caught:
        colour_cards.build("bad", cards.read_card(path))
    assert "bad" in str(caught.value) and str(caught.value).endswith((".", "\n"))


def test_every_shipped_card_passes_its_own_check():
    checked = [colour_cards.check(k, n, cards.read_card(p, k)) for k in cards.KINDS for n, p in cards.paths(k).items()]
    assert len(checked) >= 18 and all(checked)


SETS = {"bt709": "ITU-R BT.709", "bt2020": "ITU-R BT.2020", "p3-d65": "P3-D65", "ap0": "ACES2065-1", "ap1": "ACEScg"}


def test_grey_is_as_bright_by_either_high_range_curve_and_goes_to_bt709_by_the_display():
    """BT.2408-7, table 1: grey at 26 nits and 38 % of either signal; BT.2100-2, tables 4 and 5, written anew and by another library."""
    x = np.array([0.02, 0.18, 0.5, 1.0, 3.0])
    pq, hlg = (curves.STANDARD[n].encode(x) for n in ("pq", "hlg"))
    nits = {"pq": colour.models.eotf_ST2084(pq)}
    scene = np.where(hlg <= 0.5, hlg**2 / 3, (np.exp((hlg - 0.55991073) / 0.17883277) + 0.28466892) / 12)
    nits["hlg"] = 1000 * scene**1.2
    assert nits["pq"][1] == pytest.approx(26, abs=0.6) and nits["hlg"][1] == pytest.approx(26, abs=0.6)
    assert nits["pq"][3] == pytest.approx(203, abs=0.5) and nits["hlg"][3] == pytest.approx(203, abs=1)
    assert pq[1] == pytest.approx(0.38, abs=0.005) and hlg[1] == pytest.approx(0.38, abs=0.005)
    assert np.abs(np.log2(nits["pq"] / nits["hlg"]))[1:].max() < 0.12  # two standards' renderings of one scene, white and grey alike
    white = ((2.03 ** (1 / 2.4) + 0.09929682680944) / 1.09929682680944) ** (1 / 0.45)
    shown = 100 * (1.09929682680944 * (white * x) ** 0.45 - 0.09929682680944) ** 2.4
    assert np.abs(nits["pq"] / shown - 1).max() < 1e-3
    assert np.abs(curves.STANDARD["pq"].decode(pq) - x).max() < 1e-6
    # What a PQ display shows becomes what a BT.709 display shows, white at 100: grey within a tenth, and not by a camera's inverse.
    sdr = 100 * curves.STANDARD["bt709"].encode(curves.STANDARD["pq"].decode(pq)) ** 2.4
    assert sdr[1] / 100 == pytest.approx(nits["pq"][1] / 203, rel=0.1) and sdr[3] == pytest.approx(100, rel=1e-3)


def reference_primaries(name):
    space = colour.RGB_COLOURSPACES[SETS[name]]
    return colour.normalised_primary_matrix(space.primaries, space.whitepoint)


@pytest.mark.parametrize("name", SETS)
def test_primaries_agree_with_the_reference(name):
    assert np.abs(rgb_to_xyz(colour_cards.primaries(name)) - reference_primaries(name)).max() < 1e-6


@pytest.mark.parametrize(("method", "theirs"), [("cat02", "CAT02"), ("bradford", "Bradford")])
def test_conversion_between_whites_agrees_with_the_reference(method, theirs):
    a, b = colour_cards.primaries("ap1"), colour_cards.primaries("bt709")
    whites = [colour.xy_to_XYZ(np.array(p.white)) for p in (a, b)]
    cat = colour.adaptation.matrix_chromatic_adaptation_VonKries(*whites, transform=theirs)
    expected = np.linalg.inv(reference_primaries("bt709")) @ cat @ reference_primaries("ap1")
    assert np.abs(rgb_to_rgb(a, b, method) - expected).max() < 1e-6
    assert np.allclose(rgb_to_rgb(a, b, method) @ np.ones(3), 1, atol=1e-9)


@given(st.floats(2000, 20000))
def test_white_balance_makes_its_light_neutral(kelvin):
    matrix = adaptation(daylight(kelvin), daylight(6504))
    x, y = daylight(kelvin)
    moved = matrix @ np.array([x / y, 1, (1 - x - y) / y])
    assert np.allclose(moved[:2] / moved.sum(), daylight(6504), atol=1e-9)
    if kelvin >= 4100:
        assert np.allclose(daylight(kelvin), colour.temperature.CCT_to_xy_CIE_D(kelvin), atol=1e-9)


def test_tint_goes_to_green_and_back():
    plain, green, pink = (np.array(colour.xy_to_UCS_uv(daylight(5600, t))) for t in (0, 10, -10))
    assert green[1] > plain[1] > pink[1]
    assert np.isclose(np.hypot(*(green - plain)), 0.010) and np.allclose(green + pink, 2 * plain)


@pytest.mark.parametrize("matrix", ["bt709", "bt2020", "bt601"])
def test_luma_matrices_and_code_ranges(matrix):
    m = rgb_to_ycbcr(matrix)
    assert np.allclose(m @ np.ones(3), [1, 0, 0])
    assert np.allclose([m[1, 2], m[2, 0]], 0.5)
    scale, offset = code_scale(10, True, matrix)
    assert (offset[0], scale[0] + offset[0], scale[1] / 2 + offset[1]) == (64, 940, 960)


@given(st.floats(1.0, 200.0), st.floats(0.4, 2.5))
def test_the_shoulder_keeps_grey_rises_and_ends_at_white(peak, amount):
    x = np.linspace(0, peak, 3000)
    y = shoulder(x, peak)
    assert np.all(np.diff(y) > -1e-12) and abs(y[-1] - min(peak, 1.0)) < 1e-9
    assert shoulder(np.array([0.18]), peak)[0] == 0.18
    assert abs(contrast(np.array([0.18]), amount)[0] - 0.18) < 1e-12


def chain(**changes):
    linear = curves.STANDARD["linear"]
    return ColourChain(linear, np.eye(3), curves.STANDARD["bt709"], **changes)


def test_whites_do_what_they_say():
    x = np.array([0.18, 1.0, 4.0])
    let_go, roll_off, keep = (chain(whites=w, peak=4.0).tone(x) for w in ("let go", "roll off", "keep all"))
    assert np.allclose(let_go[1:], 1.0) and let_go[0] == roll_off[0]
    assert roll_off[1] < 0.95 and np.isclose(roll_off[2], 1.0)
    assert np.isclose(keep[0], curves.bt709_encode(np.array([0.18 / 4]))[0]) and np.isclose(keep[2], 1.0)


@given(st.lists(st.floats(-0.5, 2.0), min_size=3, max_size=3))
def test_drawing_in_leaves_nothing_negative_and_keeps_luminance(rgb):
    luma = np.array([0.2126, 0.7152, 0.0722])
    out = draw_in(np.array([rgb]), luma)[0]
    assert out.min() >= -1e-9
    if np.array(rgb) @ luma >= 0:
        assert abs(out @ luma - np.array(rgb) @ luma) < 1e-9
    if min(rgb) >= 0:
        assert np.allclose(out, rgb)
