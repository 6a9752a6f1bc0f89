"""What two tones become: names and levels of their products, against spectra computed by hand."""

import numpy as np
import pytest
from conftest import RATE, noise, session_on, write_wav
from test_stages import LEFT_RIGHT, through

from stonekite.engine.offline.tones import TEST_DB, TEST_HZ, programme
from stonekite.engine.offline.tones import test_pair as pair_through
from stonekite.measure.tones import Line, Product, Spectrum, added_db, gains, products, sum_db
from stonekite.session.types import Split, Strip
from stonekite.stages.drive import Drive, DriveSide
from stonekite.stages.gain import Gain, GainSide

SIDE = DriveSide(drive_db=20, asymmetry=35)
DRIVE = Drive(id=3, upper=SIDE, lower=SIDE, level_kept=False)
SPLITS = [LEFT_RIGHT, Split(), Split(matrix="equal-power"), Split(matrix="raised-side")]


def by_hand(sound: np.ndarray, hertz: float) -> np.ndarray:
    """Amplitudes (2,) in dB of a sine in the last second, by correlation."""
    part = sound[:, -RATE:]
    amplitude = 2 / RATE * np.abs(part @ np.exp(-2j * np.pi * hertz * np.arange(RATE) / RATE))
    return 20 * np.log10(np.maximum(amplitude, 1e-8))


@pytest.mark.parametrize(
    ("first", "second", "name"),
    [(1, 0, "A"), (0, 3, "3B"), (2, -1, "2A−B"), (-1, 1, "B−A"), (1, 2, "A+2B"), (-2, 3, "3B−2A")],
)
def test_products_are_written_as_sums(first, second, name):
    assert Product(100.0, first, second).name == name


def test_products_of_low_order_are_all_there_once():
    found = products(*TEST_HZ, 20_000)
    assert len({p.hertz for p in found}) == len(found)
    assert {p.name for p in found} >= {"A", "B", "2A", "5B", "A+B", "B−A", "2A−B", "3A+2B", "2B−2A"}
    assert all(20 <= p.hertz < 20_000 and p.order <= 5 for p in found)
    # Of what falls together only the simplest is named: here 2A is B.
    assert [p.name for p in products(100, 200, 201)] == ["A", "B"]


@pytest.mark.slow
@pytest.mark.parametrize("split", SPLITS)
def test_the_numbers_are_those_of_a_spectrum_by_hand(split):
    found = pair_through(DRIVE, split, RATE)
    t = np.arange(2 * RATE) / RATE
    sound = 10 ** (TEST_DB / 20) * np.sin(2 * np.pi * np.array([[TEST_HZ[0]], [TEST_HZ[1]]]) * t)
    made = through(Strip(split=split, stages=(DRIVE,)), sound)
    for line in found.lines:
        assert (
            line.after == pytest.approx(by_hand(made, line.product.hertz), abs=0.05) or max(line.after) < -110
        )
        assert (
            line.before == pytest.approx(by_hand(sound, line.product.hertz), abs=0.05)
            or max(line.before) < -110
        )


def test_left_and_right_bent_apart_keep_their_tones_apart_and_mid_and_side_do_not():
    apart, together = (pair_through(DRIVE, split, RATE).lines for split in (LEFT_RIGHT, Split()))
    for line in apart:
        if line.product.mixed:
            assert max(line.after) < -110
        elif line.product.first:
            assert line.after[1] < -110
    mixed = [max(line.after) for line in together if line.product.mixed]
    assert sum(level > -50 for level in mixed) >= 6


def test_the_raised_side_is_driven_as_hard_as_the_middle():
    # Twice the side before the curve, half of it after: with a quiet side, more of it is bent.
    plain, raised = (
        pair_through(
            Drive(id=3, upper=None, lower=DriveSide(drive_db=6), level_kept=False), Split(matrix=matrix), RATE
        ).lines
        for matrix in ("half-sum", "raised-side")
    )

    def bent(lines: list[Line]) -> float:
        mixed = sum_db([line.after[0] for line in lines if line.product.order > 1])
        return mixed - sum_db([line.after[0] for line in lines if line.product.order == 1])

    assert bent(raised) > bent(plain) + 3


def test_what_was_there_before_is_not_taken_for_something_new():
    line = Line(Product(300.0, 3, 0), before=(-30.0, -160.0), after=(-24.0, -40.0))
    tone = Line(Product(100.0, 1, 0), before=(-20.0, -160.0), after=(-14.0, -160.0))
    grown = gains([line, tone])
    assert grown[0] == pytest.approx(10**0.6)
    assert added_db(line, grown) == pytest.approx((-160.0, -40.0))


def test_the_strongest_tones_of_the_programme_are_found_where_it_plays(tmp_path):
    t = np.arange(4 * RATE) / RATE
    left, right = (np.where(t < 2, first, second) for first, second in ((440.0, 523.0), (311.0, 700.0)))
    sound = 0.2 * np.sin(2 * np.pi * np.cumsum(np.stack([left, right]), axis=1) / RATE) + noise(
        4.0, level=1e-4
    )
    stem = session_on(write_wav(tmp_path / "quay.wav", sound)).sound.stems[0]
    stages = (Gain(id=2, upper=GainSide(gain_db=6), lower=GainSide(gain_db=6)), DRIVE)
    stem = type(stem)(id=1, name="quay", source=stem.source, strip=Strip(split=Split(), stages=stages))
    found = programme(stem, DRIVE.id, RATE)
    assert (found.first_hz, found.second_hz) == pytest.approx((440, 311), abs=0.3)
    grown = gains(found.lines)
    mixed = [added_db(line, grown)[0] for line in found.lines if line.product.mixed]
    assert max(mixed) > -40
    assert found.lines[0].before[0] < -60
    found = programme(stem, DRIVE.id, 3 * RATE)
    assert (found.first_hz, found.second_hz) == pytest.approx((523, 700), abs=0.3)


def test_silence_has_no_tones(tmp_path):
    path = write_wav(tmp_path / "still.wav", np.zeros((2, RATE)))
    stem = session_on(path, Strip(stages=(DRIVE,))).sound.stems[0]
    found = programme(stem, DRIVE.id, 0)
    assert found.lines == [] and found.first_hz == 0


def test_a_windowed_spectrum_tells_levels_between_its_bins():
    t = np.arange(RATE) / RATE
    sound = np.stack([0.5 * np.sin(2 * np.pi * 1000.37 * t), 0.01 * np.sin(2 * np.pi * 777.7 * t)])
    spectrum = Spectrum(sound, RATE)
    assert spectrum.levels_db(1000.37)[0] == pytest.approx(20 * np.log10(0.5), abs=0.02)
    assert spectrum.levels_db(777.7)[1] == pytest.approx(-40, abs=0.02)
    assert spectrum.levels_db(3000.0)[0] < -110
    assert spectrum.strongest(0) == pytest.approx(1000.37, abs=0.05)
