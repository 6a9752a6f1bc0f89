"""The drive: what it adds against closed forms, what folds back, and what the split makes of two tones."""

import numpy as np
import pytest
from conftest import RATE, noise
from scipy import special
from scipy.signal import windows
from test_stages import LEFT_RIGHT, through

from stonekite.engine.graph.chain import Chain
from stonekite.session.types import Split, Strip
from stonekite.stages.base import At, Context
from stonekite.stages.drive import Drive, DriveShared, DriveSide, bend
from stonekite.stages.planning import still_rows
from stonekite.stages.registry import KINDS


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


COUNT = 1 << 14


def folded_back_db(side: DriveSide, quality: str, hertz: float, rate: int) -> float:
    """The strongest product up to 20 kHz that is no overtone of a sine of full level, in dB of all that comes out.

    The sine has a whole, odd number of periods in COUNT samples, and so has all that is made of it: no window is needed,
    and what folds back never falls on an overtone.
    """
    turns = round(hertz * COUNT / rate) | 1
    tone = np.sin(2 * np.pi * turns * np.arange(COUNT + rate) / COUNT)
    kind = KINDS["drive"]
    stage = Drive(id=1, upper=side, lower=None, shared=DriveShared(quality=quality))
    coefficients = kind.coefficients(stage, Context(rate))
    block = np.stack([tone, tone])
    kind.process(kind.start(coefficients), coefficients, block, At(0, **still_rows(stage, Context(rate))))
    found = np.abs(np.fft.rfft(block[0, -COUNT:]))
    found[0] = 0.0
    whole = np.sqrt(np.sum(found**2))
    heard = found[: int(20_000 * COUNT / rate) + 1]
    heard[::turns] = 0.0
    return float(20 * np.log10(heard.max() / whole + 1e-15))


@pytest.mark.slow
@pytest.mark.parametrize(("quality", "allowed_db"), [("standard", -75.0), ("high", -95.0)])
@pytest.mark.parametrize("curve", ["soft", "hard", "folded"])
def test_what_folds_back_is_far_down(quality, allowed_db, curve):
    """Over the whole family: tones to 14 kHz, every drive, every asymmetry, three rates."""
    rng = np.random.default_rng(7)
    worst, where = -300.0, ""
    for drive_db in (0.0, 9.0, 14.0, 14.5, 18.0, 18.5, 20.0, 20.5, 24.0, 24.5, 30.0, 36.0):
        for rate in (44_100, 48_000, 96_000):
            for hertz in (float(np.exp(rng.uniform(np.log(100), np.log(14_000)))), 12_000.0, 14_000.0):
                side = side_of(curve=curve, drive_db=drive_db, asymmetry=float(rng.uniform(0, 100)))
                found = folded_back_db(side, quality, hertz, rate)
                if found > worst:
                    worst, where = found, f"{hertz:.0f} Hz, {drive_db} dB, {rate} Hz"
    print(f"{curve}, {quality}: {worst:.1f} dB at the most, {where}")
    assert worst <= allowed_db


@pytest.mark.parametrize("curve", ["soft", "hard", "folded"])
@pytest.mark.parametrize("quality", ["standard", "high"])
def test_what_is_quiet_comes_out_as_drawn(curve, quality):
    for drive_db, rate in ((0.0, 44_100), (16.0, 44_100), (30.0, 48_000), (16.0, 96_000)):
        side = side_of(curve=curve, drive_db=drive_db, asymmetry=30.0, tone_after_db=3.0)
        strip = drive(side, quality=quality)
        chain = Chain(strip, rate)
        impulse = np.zeros((2, 2 * rate))
        quiet = 1e-3 / 10 ** (drive_db / 20)
        impulse[:, rate // 2] = quiet
        spectrum = np.fft.rfft(chain.process(impulse, 0)[0]) / quiet
        f = np.array([30.0, 1000.0, 10_000.0, 15_000.0, 20_000.0])
        drawn = np.abs(KINDS["drive"].response(strip.stages[0], "upper", f, rate))
        made = np.abs(spectrum[np.rint(f * 2).astype(int)])
        assert 20 * np.log10(made / drawn) == pytest.approx(0.0, abs=0.01), (drive_db, rate)


def test_a_folded_curve_is_drawn_as_far_as_it_is_driven():
    most, less = (side_of(curve="folded", drive_db=db) for db in (36.0, 30.0))
    x = np.linspace(-1, 1, 50)
    assert np.array_equal(bend(most, x), bend(less, x))
    tone = 0.5 * pure(200.0)
    made = [through(drive(side), np.stack([tone, tone])) for side in (most, less)]
    assert np.array_equal(*made)


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
