"""Curves as few polynomials: against the curves themselves, and the vector loop against the same sums one by one."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from adzer.core.kernels import registers
from adzer.core.light import names as cards
from adzer.core.light.chain import ColourChain
from adzer.core.light.pieces import EVEN, chain_pieces

DOMAIN = (-0.2, 1.12)
CURVES = ("fen-log", "reed-log", "tar-toe", "acescct", "bt709", "srgb", "hlg", "pq", "linear")
PASS = np.column_stack([np.eye(3), np.zeros(3)]).astype(np.float32)


@st.composite
def chains(draw):
    return ColourChain(
        cards.curve(draw(st.sampled_from(CURVES))), np.eye(3) * 2.0 ** draw(st.floats(-3, 3)),
        cards.curve(draw(st.sampled_from(("bt709", "bt1886", "srgb", "gamma26", "hlg", "pq")))),
        draw(st.sampled_from(("let go", "roll off", "keep all"))), contrast=draw(st.floats(0.7, 1.5)),
        black=draw(st.floats(-0.05, 0.05)), peak=draw(st.floats(0.5, 40)),
    )  # fmt: skip


def delivered(chain, pieces, signal, loop):
    """Delivered signal of neutral ``signal`` by a compiled loop."""
    terms, bounds = pieces.arrays
    inner = PASS.copy()
    inner[:, 3] -= DOMAIN[0]
    inner *= EVEN / (DOMAIN[1] - DOMAIN[0])
    work = np.zeros((3, len(signal) + registers.LANES), np.float32)
    work[:, : len(signal)] = signal
    middle = np.column_stack([chain.matrix, np.zeros(3)]).astype(np.float32)
    loop(work, len(signal), inner, middle, PASS, terms, bounds)
    return work[:, : len(signal)]


@settings(max_examples=60)
@given(chains(), st.sampled_from((8, 10)), st.integers(0, 2**32 - 1))
def test_pieces_are_the_curves_to_a_fraction_of_a_code(chain, bits, seed):
    """Both curves together are off by a quarter of a code at most, the darkest octave of light by its own bound."""
    pieces = chain_pieces(chain, DOMAIN, chain.saturates_at, bits)
    if pieces is None:
        return
    signal = np.random.default_rng(seed).uniform(*DOMAIN, 5000).astype(np.float32)
    want = chain.apply(np.repeat(signal[:, None].astype(np.float64), 3, axis=1)).T
    got = delivered(chain, pieces, signal, registers.pieces_row)
    dark = chain.decode(signal.astype(np.float64)) * chain.gain < 2 * pieces.floor
    off = np.abs(got - want)
    assert off[:, ~dark].max(initial=0) < 0.25 / 2**bits
    assert off[:, dark].max(initial=0) < 1.1e-3


@pytest.mark.parametrize("target", ["bt709", "bt1886", "srgb", "pq", "hlg"])
def test_every_smooth_curve_has_pieces(target):
    """What a camera records and a delivery asks for is not left to the tables by some small unevenness."""
    for source in CURVES:
        for whites, peak, contrast in (("let go", 1.0, 1.0), ("roll off", 8.0, 1.0), ("roll off", 20.0, 1.3)):
            chain = ColourChain(
                cards.curve(source), np.eye(3), cards.curve(target), whites, peak=peak, contrast=contrast
            )
            made = chain_pieces(chain, DOMAIN, chain.saturates_at, 10)
            assert made is not None or source == "pq", (source, whites)  # its inverse OOTF bends too sharply for some, and stays a table


def test_a_table_of_points_stays_a_table():
    chain = ColourChain(cards.curve("brick-table"), np.eye(3), cards.curve("bt709"))
    assert chain_pieces(chain, DOMAIN, chain.saturates_at, 10) is None


@pytest.mark.skipif(not registers.WIDE, reason="this processor has no registers wide enough: there is one loop only")
def test_sixteen_at_a_time_are_the_same_as_one_by_one():
    rng = np.random.default_rng(3)
    chain = ColourChain(
        cards.curve("tar-toe"), rng.uniform(-0.3, 1.2, (3, 3)), cards.curve("bt709"), "roll off", peak=9.0
    )
    pieces = chain_pieces(chain, DOMAIN, chain.saturates_at, 10)
    signal = rng.uniform(-0.5, 1.4, 1003).astype(np.float32)  # beyond the domain too, and no multiple of sixteen
    wide = delivered(chain, pieces, signal, registers.pieces_row)
    single = delivered(chain, pieces, signal, registers.one_by_one)
    assert np.abs(wide - single).max() < 2e-6
