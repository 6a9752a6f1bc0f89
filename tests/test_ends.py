"""Intake and output: what happens before the split and after the join."""

import itertools

import numpy as np
import pytest
from conftest import RATE, noise, sine, write_wav
from hypothesis import given, settings
from hypothesis import strategies as st
from test_dynamics import overs, true_peak_db
from test_stages import through

from stonekite.engine.graph.chain import Chain
from stonekite.engine.graph.ends import output_matrix, shares
from stonekite.engine.mix.strip import StripPlayer
from stonekite.engine.offline.render import rendered
from stonekite.files.audio import Reader
from stonekite.session.types import Intake, IntakeSide, Output, Place, Strip
from stonekite.signal.alignment import Alignment

SOUND = noise(0.5)
LEFT, RIGHT = SOUND


def taken_in(sound: np.ndarray = SOUND, **intake) -> np.ndarray:
    """Sound through an intake, its latency taken out."""
    chain = Chain(Strip(intake=Intake(**intake)), RATE)
    out = chain.process(np.concatenate([sound, np.zeros((2, chain.latency))], axis=1), 0)
    return out[:, chain.latency :]


def put_out(sound: np.ndarray = SOUND, **output) -> np.ndarray:
    return Chain(Strip(output=Output(**output)), RATE).process(sound, 0)


def test_channel_choice():
    assert np.array_equal(taken_in(use="swapped"), SOUND[::-1])
    assert np.array_equal(taken_in(use="left"), [LEFT, LEFT])
    assert np.array_equal(taken_in(use="right"), [RIGHT, RIGHT])
    assert np.array_equal(taken_in(use="mono"), np.repeat(0.5 * (LEFT + RIGHT)[None], 2, axis=0))


def test_trims_and_polarity_come_after_the_choice():
    out = taken_in(use="swapped", left=IntakeSide(trim_db=-6), right=IntakeSide(inverted=True))
    assert np.allclose(out, [RIGHT * 10 ** (-6 / 20), -LEFT], atol=1e-15)


def test_a_delay_of_whole_samples_moves_them_untouched():
    out = taken_in(left=IntakeSide(delay_ms=1000 * 48 / RATE))
    assert np.array_equal(out[0], np.concatenate([np.zeros(48), LEFT[:-48]]))
    assert np.array_equal(out[1], RIGHT)


@pytest.mark.parametrize("delay", [0.25, 0.5, 82.6, 123.999])
@pytest.mark.parametrize("hertz", [50.0, 3000.0, 19_000.0])
def test_a_fractional_delay_is_exact_up_to_19_khz(delay, hertz):
    t = np.arange(9000) / RATE
    tone = np.sin(2 * np.pi * hertz * t)
    out = taken_in(np.stack([tone, tone]), right=IntakeSide(delay_ms=1000 * delay / RATE))
    wanted = np.sin(2 * np.pi * hertz * (t - delay / RATE))
    assert np.abs(out[1] - wanted)[500:-500].max() < 1e-4
    assert np.array_equal(out[0][:-100], tone[:-100])


def test_dc_goes_and_lows_stay():
    rumble = sine(20, 4.0, -6) + np.array([[0.1], [-0.02]])
    out = taken_in(rumble, remove_dc=True)[:, 2 * RATE :]
    assert np.abs(out.mean(axis=1)).max() < 1e-4
    assert 20 * np.log10(np.sqrt(2) * out.std(axis=1)) == pytest.approx([-6, -6], abs=0.06)


@given(st.lists(st.integers(1, 9999), max_size=12))
@settings(max_examples=15, deadline=None)
def test_the_ends_do_not_depend_on_the_block_size(edges):
    strip = Strip(
        intake=Intake(
            remove_dc=True, left=IntakeSide(delay_ms=0.33, trim_db=3), right=IntakeSide(delay_ms=2.0)
        ),
        output=Output(
            width=140,
            left=Place(position=-70),
            law="linear",
            balance=20,
            trim_db=-2,
            limited=True,
            ceiling_db=-12,
        ),
    )
    other = Strip(intake=Intake(use="swapped", right=IntakeSide(delay_ms=1.1)), output=Output(width=20))
    sound = SOUND[:, :10_000]

    def played(places: list[int]) -> np.ndarray:
        player = StripPlayer(strip, RATE)
        out = []
        for start, stop in itertools.pairwise(sorted({0, 4000, 10_000, *places})):
            if start == 4000:
                player.update(other, start)
            out.append(player.process(sound[:, start:stop], start))
        return np.concatenate(out, axis=1)

    assert np.array_equal(played(edges), played([]))


def test_a_late_side_is_aligned_by_its_measured_offset(tmp_path):
    rng = np.random.default_rng(5)
    common = rng.standard_normal(3 * RATE)
    spectrum = np.fft.rfft(common) * np.exp(-2j * np.pi * np.fft.rfftfreq(len(common)) * 82.6)
    late = np.stack([common, np.fft.irfft(spectrum, len(common))]) * 0.1
    late += 0.01 * rng.standard_normal(late.shape)
    path = write_wav(tmp_path / "late.wav", late, subtype="FLOAT")
    found = _offset(late)
    assert found == pytest.approx(82.6, abs=0.05)
    strip = Strip(intake=Intake(left=IntakeSide(delay_ms=1000 * found / RATE)))
    with Reader(path) as reader:
        repaired = np.concatenate([out for _, out in rendered(reader, strip)], axis=1)
    assert repaired.shape == late.shape
    assert _offset(repaired) == pytest.approx(0, abs=0.05)


def _offset(sound: np.ndarray) -> float:
    meter = Alignment(RATE)
    meter.add(sound)
    return meter.offset().samples


@pytest.mark.parametrize("law", ["constant-power", "linear"])
def test_placement_follows_its_law(law):
    for position in np.linspace(-100, 100, 41):
        left, right = shares(float(position), law)
        if law == "linear":
            assert left + right == pytest.approx(1, abs=1e-12)
            assert right == pytest.approx((position + 100) / 200, abs=1e-12)
        else:
            assert left**2 + right**2 == pytest.approx(1, abs=1e-12)
            assert np.arctan2(right, left) == pytest.approx((position + 100) / 200 * np.pi / 2, abs=1e-12)
    assert shares(-100, law) == (1.0, 0.0) and shares(100, law) == (0.0, 1.0)


@pytest.mark.parametrize("law", ["constant-power", "linear"])
def test_each_side_placed_alone_leaks_nothing(law):
    for end, row in ((-100, 0), (100, 1)):
        only_left = put_out(
            np.stack([LEFT, 0 * RIGHT]), left=Place(position=end), right=Place(position=end), law=law
        )
        assert np.array_equal(only_left[row], LEFT)
        assert np.array_equal(only_left[1 - row], np.zeros_like(LEFT))
    swapped = put_out(left=Place(position=100), right=Place(position=-100), law=law)
    assert np.array_equal(swapped, SOUND[::-1])


def test_narrowing_to_nothing_is_the_mono_fold():
    fold = np.repeat(0.5 * (LEFT + RIGHT)[None], 2, axis=0)
    assert np.abs(put_out(left=Place(position=0), right=Place(position=0), law="linear") - fold).max() < 1e-15
    assert np.abs(put_out(width=0) - fold).max() < 1e-15


def test_balance_turns_down_one_side_and_moves_nothing():
    assert np.allclose(put_out(balance=40), [LEFT * 0.6, RIGHT], atol=1e-15)
    assert np.allclose(put_out(balance=-100), [LEFT, 0 * RIGHT], atol=1e-15)


def test_width_and_level_of_the_output():
    wide = put_out(width=200)
    assert np.allclose(wide[0] - wide[1], 2 * (LEFT - RIGHT)) and np.allclose(
        wide.sum(axis=0), SOUND.sum(axis=0)
    )
    assert np.array_equal(output_matrix(Output()), np.eye(2))
    assert np.allclose(put_out(trim_db=-6), SOUND * 10 ** (-6 / 20))
    assert np.array_equal(put_out(trim_db=-120), np.zeros_like(SOUND))


@pytest.mark.parametrize("name", list(overs()))
def test_nothing_passes_the_outputs_ceiling_and_both_sides_are_turned_down_alike(name):
    sound = np.stack([overs()[name], 0.5 * overs()[name]])
    out = through(Strip(output=Output(limited=True, ceiling_db=-3.0)), sound)
    assert true_peak_db(out) <= -3.0 + 0.1
    assert np.array_equal(out[1], 0.5 * out[0])


def test_the_ceiling_is_exactly_nothing_below_it():
    quiet = noise(0.5, level=0.02)
    assert np.array_equal(through(Strip(output=Output(limited=True)), quiet), quiet)


def test_a_ceiling_put_in_while_it_plays_does_not_click_and_holds():
    tone = sine(100, 1.5, 0.0)
    player = StripPlayer(Strip(), RATE)
    out = []
    for start in range(0, tone.shape[1], 512):
        if start == 512 * 40:
            player.update(Strip(output=Output(limited=True, ceiling_db=-6.0)), start)
        out.append(player.process(tone[:, start : start + 512], start))
    joined = np.concatenate(out, axis=1)
    own = 2 * np.pi * 100 / RATE
    assert np.abs(np.diff(joined, axis=1)).max() < 2.5 * own
    assert np.abs(joined[:, RATE:]).max() == pytest.approx(10 ** (-6 / 20), abs=0.01)
    assert player.chain.ceiling_db == pytest.approx(6.0, abs=0.2)
