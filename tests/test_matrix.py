"""Mid/side encoding is exact where arithmetic lets it be."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from stonekite.engine.graph.chain import Chain
from stonekite.engine.graph.probing import END, Tap
from stonekite.session.types import Leg, Split, Strip
from stonekite.signal.decibels import gain_of
from stonekite.signal.matrix import MATRICES, component, decode, encode

integers = st.lists(
    st.tuples(st.integers(-(2**23), 2**23 - 1), st.integers(-(2**23), 2**23 - 1)), min_size=1, max_size=40
)


@given(integers, st.sampled_from(MATRICES))
def test_round_trip_of_24_bit_integers(pairs, matrix):
    stereo = np.array(pairs, dtype=float).T / 2**23
    back = decode(encode(stereo, matrix), matrix)
    if matrix == "equal-power":
        back = np.rint(back * 2**23) / 2**23
    assert np.array_equal(back, stereo)


@given(integers, st.sampled_from(["half-sum", "raised-side"]))
def test_components_of_24_bit_integers_fit_32_bit_floats(pairs, matrix):
    components = encode(np.array(pairs, dtype=float).T / 2**23, matrix)
    assert np.array_equal(components.astype(np.float32).astype(float), components)


@pytest.mark.parametrize(
    ("matrix", "mid", "side"),
    [("half-sum", 0.4, 0.2), ("equal-power", 0.8 / np.sqrt(2), 0.4 / np.sqrt(2)), ("raised-side", 0.4, 0.4)],
)
def test_gain_convention(matrix, mid, side):
    assert encode(np.array([[0.6], [0.2]]), matrix).ravel() == pytest.approx([mid, side])


@given(st.floats(-1, 1), st.floats(-1, 1))
@settings(max_examples=50)
def test_equal_power_keeps_power_and_is_its_own_inverse(left, right):
    stereo = np.array([[left], [right]])
    components = encode(stereo, "equal-power")
    assert np.sum(components**2) == pytest.approx(np.sum(stereo**2), abs=1e-12)
    assert encode(components, "equal-power") == pytest.approx(stereo, abs=1e-12)


def test_component_by_name():
    stereo = np.array([[1.0], [0.5]])
    assert [component(stereo, n)[0] for n in ("left", "right", "mid", "side")] == [1.0, 0.5, 0.75, 0.25]
    with pytest.raises(ValueError, match="centre"):
        component(stereo, "centre")


@pytest.mark.parametrize("matrix", MATRICES)
def test_a_strip_without_stages_is_encoding_levels_and_decoding_bit_by_bit(matrix):
    """Whether it is done in one pass, or looked into half-way, or damaged somewhere."""
    stereo = np.random.default_rng(1).standard_normal((2, 700))
    strip = Strip(
        split=Split(matrix=matrix), upper=Leg(level_db=-4.3), lower=Leg(level_db=2.1, inverted=True)
    )
    gains = np.array([[gain_of(-4.3)], [-gain_of(2.1)]])
    damaged = stereo.copy()
    damaged[0, 100], damaged[1, 300] = np.nan, 1e30
    for sound in (stereo, damaged, stereo[::-1], np.asfortranarray(stereo)):
        whole = np.where(np.abs(sound) < 1e3, sound, 0.0)
        expected = decode(encode(whole, matrix) * gains, matrix)
        assert np.array_equal(Chain(strip, 48_000).process(sound, 0), expected)
        looked_into = Chain(strip, 48_000).process(sound, 0, Tap(END))
        assert np.array_equal(looked_into, expected)
