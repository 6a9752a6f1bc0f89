"""The drive: what it adds against closed forms, what folds back, and what the split makes of two tones."""

import numpy as np
import pytest
from conftest import RATE, noise
from scipy import special
from scipy.signal import windows
from test_stages import LEFT_RIGHT, through

from stonekite.engine.chain import Chain
from stonekite.session.types import Split, Strip
from stonekite.stages.drive import Drive, DriveShared, DriveSide, bend


def side_of(**settings) -> DriveSide:
    """A side that is not turned down."""
    return DriveSide(**{"level_db": 0.0, **settings})


def drive(side: DriveSide, split: Split = LEFT_RIGHT, quality: str = "standard") -> Strip:
    return Strip(
        split=split, stages=(Drive(id=2, upper=side, lower=side, shared=DriveShared(quality=quality)),)
    )


def lines(sound: np.ndarray) -> np.ndarray:
    """Amplitudes of a sound's spectrum, by a window whose leakage is far under what is looked for."""
    window = windows.kaiser(sound.shape[-1], 30, sym=False)
    return np.abs(np.fft.rfft(sound * window)) / window.sum() * 2


def line(sound: np.ndarray, hertz: float, rate: float = RATE) -> float:
    """Amplitude of a tone in dB."""
    place = round(hertz * sound.shape[-1] / rate)
    return float(20 * np.log10(lines(sound)[place - 3 : place + 4].max() + 1e-15))


def pure(hertz: float) -> np.ndarray:
    """Two seconds of a sine at full scale."""
    return np.sin(2 * np.pi * hertz * np.arange(2 * RATE) / RATE)


@pytest.mark.parametrize("rate", [44_100, 48_000])
@pytest.mark.parametrize(("quality", "allowed_db"), [("standard", -80.0), ("high", -100.0)])
@pytest.mark.parametrize("curve", ["soft", "hard", "folded"])
@pytest.mark.parametrize("asymmetry", [0.0, 50.0])
def test_what_folds_back_is_far_down(rate, quality, allowed_db, curve, asymmetry):
    count = 1 << 15
    tone = np.sin(2 * np.pi * 5000.0 * np.arange(count + rate) / rate)
    side = side_of(curve=curve, drive_db=24.0, asymmetry=asymmetry)
    out = Chain(drive(side, quality=quality), rate).process(np.stack([tone, tone]), 0)[0, rate:]
    found, hertz = lines(out), np.fft.rfftfreq(count, 1 / rate)
    overtone = np.abs(hertz - 5000.0 * np.round(hertz / 5000.0)) < 60.0
    folded = found[~overtone & (hertz <= 20_000.0)].max()
    fundamental = found[np.abs(hertz - 5000.0) < 60.0].max()
    assert 20 * np.log10(folded / fundamental) <= allowed_db


@pytest.mark.parametrize("curve", ["soft", "hard", "folded"])
@pytest.mark.parametrize("asymmetry", [0.0, 70.0])
def test_nothing_of_it_is_direct_current(curve, asymmetry):
    saw = np.tile(np.linspace(-0.2, 0.9, 96) ** 3, 2000)  # unequal halves of its own
    out = through(drive(side_of(curve=curve, drive_db=18, asymmetry=asymmetry)), np.stack([saw, saw]))
    assert abs(out[0, 96_000:][: 96 * 900].mean()) < 1e-6


@pytest.mark.parametrize("drive_db", [0.0, 12.0, 24.0])
def test_overtones_of_the_soft_curve_are_those_of_theory(drive_db):
    """erf(a sin x) = sum over odd n of 2 a exp(-a^2/2) / (n sqrt(pi)) (I_(n-1)/2 + I_(n+1)/2)(a^2/2) sin n x."""
    a = 0.5 * np.sqrt(np.pi) * 10 ** (drive_db / 20)
    tone = pure(750.0)
    out = through(drive(side_of(drive_db=drive_db)), np.stack([tone, tone]))[0, RATE:]
    for n in (1, 3, 5, 7, 9):
        z = a * a / 2
        wanted = 2 * a / (n * np.sqrt(np.pi)) * (special.ive((n - 1) / 2, z) + special.ive((n + 1) / 2, z))
        if wanted > 1e-6:
            assert abs(line(out, 750.0 * n) - 20 * np.log10(wanted)) < 0.2, n
        assert line(out, 750.0 * (n + 1)) < -120.0


@pytest.mark.parametrize("curve", ["hard", "folded"])
def test_overtones_of_the_other_curves_are_their_fourier_series(curve):
    """By the trapezoid rule over one period, which is exact for what is periodic."""
    phase = np.arange(1 << 16) / (1 << 16) * 2 * np.pi
    side = side_of(curve=curve, drive_db=9.0, asymmetry=30.0)
    period = bend(side, np.sin(phase))
    tone = pure(750.0)
    out = through(drive(side), np.stack([tone, tone]))[0, RATE:]
    for n in range(1, 8):
        wanted = 2 * np.abs(np.mean(period * np.exp(-1j * n * phase)))
        assert abs(line(out, 750.0 * n) - 20 * np.log10(wanted + 1e-15)) < 0.2 or wanted < 1e-6


def test_a_tone_on_each_side_stays_there_or_mixes_as_the_split_has_it():
    sound = np.stack([pure(1000.0), pure(1300.0)]) * 0.5
    apart = through(drive(side_of(drive_db=18)), sound)[:, RATE:]
    together = through(drive(side_of(drive_db=18), Split()), sound)[:, RATE:]
    # Of an odd curve: what has two parts of the left tone comes out on the right, and the other way round.
    for row, hertz in ((1, 2 * 1000 - 1300), (1, 2 * 1000 + 1300), (0, 2 * 1300 - 1000)):
        assert line(apart[0], hertz) < -110 and line(apart[1], hertz) < -110
        assert line(together[row], hertz) > -50 and line(together[1 - row], hertz) < -110
    assert line(apart[0], 3000.0) > -30 and line(apart[1], 3900.0) > -30


def test_raised_side_drives_the_side_as_hard_as_the_middle():
    middle, side = pure(1000.0), 0.5 * pure(1300.0)
    sound = np.stack([middle + side, middle - side]) * 0.3
    overtones = {}
    for matrix in ("half-sum", "raised-side"):
        out = through(drive(side_of(drive_db=12), Split(matrix=matrix)), sound)[:, RATE:]
        folded = 0.5 * (out[0] - out[1])
        overtones[matrix] = line(folded, 3900.0) - line(folded, 1300.0)
        if matrix == "raised-side":  # bent as hard as the middle, and given back at half
            own = 0.5 * (out[0] + out[1])
            assert abs(line(own, 3000.0) - line(own, 1000.0) - overtones[matrix]) < 0.1
    assert overtones["raised-side"] > overtones["half-sum"] + 6


def test_tones_before_and_after_turn_round_the_middle_and_undo_each_other():
    quiet = noise(1.0) * 1e-5
    plain = through(drive(side_of(drive_db=0.0)), quiet)
    tilted = through(drive(side_of(drive_db=0.0, tone_before_db=9.0, tone_after_db=-9.0)), quiet)
    assert np.abs(tilted - plain).max() < 1e-3 * np.abs(plain).max()
    low, high = pure(60.0) * 1e-5, pure(8000.0) * 1e-5
    for tone, wanted in ((low, -4.5), (high, 4.5)):
        out = through(drive(side_of(drive_db=0.0, tone_before_db=9.0)), np.stack([tone, tone]))[0]
        rise = 20 * np.log10(np.abs(out[RATE // 4 : RATE // 2]).max() / np.abs(tone).max())
        assert abs(rise - wanted) < 0.6
