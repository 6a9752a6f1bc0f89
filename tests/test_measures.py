"""All that is compared of a signal, against closed forms and independent libraries."""

import msgspec
import numpy as np
import pyloudnorm
import pytest
import soxr
from conftest import RATE, noise, session_on, sine, write_wav
from scipy import signal

from stonekite.engine.offline.render import rendered
from stonekite.engine.offline.subjects import Subject, measured, sound
from stonekite.engine.play.live import Live
from stonekite.files.audio import AudioError, Reader
from stonekite.files.resampled import Resampled
from stonekite.measure.image_meter import OCTAVES_HZ
from stonekite.measure.measures import Measures
from stonekite.measure.meters import Meters
from stonekite.measure.spectrum import centres
from stonekite.session.types import Strip
from stonekite.signal.generators import pink_noise
from stonekite.stages.compressor import Compressor, CompressorSide
from stonekite.stages.eq import Band, Eq, EqSide


def of(stereo: np.ndarray, rate: float = RATE, block: int = 5000) -> Measures:
    meters = Meters(rate)
    for start in range(0, stereo.shape[1], block):
        meters.add(stereo[:, start : start + block])
    return meters.measures()


def done(steps):
    """What a measurement returns."""
    while True:
        try:
            next(steps)
        except StopIteration as end:
            return end.value


def mid_side(mid: np.ndarray, side: np.ndarray) -> np.ndarray:
    return np.stack([mid + side, mid - side])


T = np.arange(8 * RATE) / RATE


def test_a_sine_in_mid_and_a_cosine_in_side():
    found = of(mid_side(0.4 * np.sin(2 * np.pi * 1000 * T), 0.1 * np.cos(2 * np.pi * 1000 * T)))
    assert found.side_to_mid_db == pytest.approx(-12.04, abs=0.01)
    assert found.mono_loss_db == pytest.approx(10 * np.log10(1 + 1 / 16), abs=1e-3)
    # Left and right are equally loud; their correlation is (M2 - S2) / (M2 + S2).
    assert found.correlation_mean == pytest.approx(15 / 17, abs=1e-3)
    assert found.correlation_least == pytest.approx(15 / 17, abs=2e-3)
    assert found.correlation_below_zero == 0
    assert found.centre == pytest.approx(0, abs=0.05) and found.centre_spread == pytest.approx(0, abs=0.05)
    assert found.components["mid"]["rms_dbfs"] == pytest.approx(20 * np.log10(0.4 / np.sqrt(2)), abs=1e-3)
    assert found.components["side"]["crest_db"] == pytest.approx(3.01, abs=0.01)
    octave = found.octaves[OCTAVES_HZ.index(1000.0)]
    assert octave.side_to_mid_db == pytest.approx(-12.04, abs=0.01)
    assert octave.mono_loss_db == pytest.approx(10 * np.log10(1 + 1 / 16), abs=1e-3)
    assert found.octaves[0].side_to_mid_db is None
    at = int(np.argmin(np.abs(centres() - 1000)))
    assert np.array(found.spectra_db)[2:, at] == pytest.approx([20 * np.log10(0.4), -20], abs=0.05)


@pytest.mark.slow
@pytest.mark.parametrize("correlation", [-0.6, 0.0, 0.5, 0.9])
def test_pink_noise_of_a_chosen_correlation(correlation):
    found = of(0.1 * pink_noise(0, 30 * RATE, RATE, correlation))
    assert found.correlation_mean == pytest.approx(correlation, abs=0.05)
    assert found.side_to_mid_db == pytest.approx(
        10 * np.log10((1 - correlation) / (1 + correlation)), abs=0.4
    )
    assert found.tilt_db_per_octave == pytest.approx(0, abs=0.15)
    for octave in found.octaves[2:-1]:
        assert octave.mono_loss_db == pytest.approx(10 * np.log10(2 / (1 + correlation)), abs=1.0)
    if correlation >= 0.5:
        assert found.correlation_below_zero < 1.5


def test_white_noise_rises_by_three_decibels_an_octave_and_a_brick_of_it_by_nine():
    white = np.random.default_rng(3).standard_normal((2, 20 * RATE)) * 0.05
    assert of(white).tilt_db_per_octave == pytest.approx(3.01, abs=0.1)
    steep = signal.lfilter([1.0, -1.0], [1.0], white, axis=1)
    assert of(steep).tilt_db_per_octave == pytest.approx(9.03, abs=0.3)


def test_silence_has_no_figures_and_no_faults():
    found = of(np.zeros((2, 3 * RATE)))
    assert (
        found.integrated_lufs is found.true_peak_dbtp is found.mono_loss_db is found.correlation_mean is None
    )
    assert found.centre is found.tilt_db_per_octave is found.offset_samples is None
    assert all(octave.mono_loss_db is None for octave in found.octaves)
    msgspec.json.encode(found)


def test_one_side_only():
    tone = sine(700, 3.0, -12.0)
    tone[1] = 0.0
    found = of(tone)
    assert found.centre == -100 and found.correlation_mean is None
    assert found.side_to_mid_db == pytest.approx(0, abs=1e-6)
    assert found.mono_loss_db == pytest.approx(3.01, abs=0.01)
    assert found.components["right"]["rms_dbfs"] is None


@pytest.mark.slow
@pytest.mark.parametrize("angle", [10.0, 30.0, 45.0, 70.0])
def test_a_placed_source_stands_where_it_was_placed(angle):
    tone = np.sin(2 * np.pi * 800 * T)
    placed = np.stack([np.cos(np.radians(angle)) * tone, np.sin(np.radians(angle)) * tone]) * 0.3
    found = of(placed)
    assert found.centre == pytest.approx(-100 * np.cos(np.radians(2 * angle)), abs=0.1)
    moving = np.concatenate([placed, placed[::-1]], axis=1)
    spread = of(moving).centre_spread
    assert spread == pytest.approx(100 * abs(np.cos(np.radians(2 * angle))), abs=1.5)


def test_loudness_is_that_of_another_library():
    sounded = noise(12.0, level=0.05) * np.linspace(0.3, 1.5, 12 * RATE)
    assert of(sounded).integrated_lufs == pytest.approx(
        pyloudnorm.Meter(RATE).integrated_loudness(sounded.T), abs=0.05
    )


def test_a_late_and_inverted_side_is_told():
    white = noise(4.0)[0]
    late = np.concatenate([np.zeros(31), -white])[: len(white)]
    found = of(np.stack([white, late]))
    assert (found.offset_samples, found.offset_polarity) == (pytest.approx(31, abs=0.05), -1)


def test_curves_over_time_stand_where_things_happen():
    quiet, loud = 0.01 * noise(5.0), 0.5 * noise(5.0)
    loud[1] = -loud[0]
    curves = of(np.concatenate([quiet, loud], axis=1)).curves
    times = curves.start_s + curves.step_s * np.arange(len(curves.correlation))
    correlation = np.array([np.nan if v is None else v for v in curves.correlation])
    assert np.nanmin(correlation[(times > 0.5) & (times < 4.9)]) > 0.5
    assert np.nanmax(correlation[times > 5.5]) < -0.99
    short = np.array([np.nan if v is None else v for v in curves.short_term_lufs])
    assert np.isnan(short[times < 2.9]).all()
    assert short[times > 8.2][0] - short[times < 4.9][-1] == pytest.approx(34, abs=3)


def test_a_short_sound_is_measured_too():
    for frames in (1, 100, 3000):
        found = of(0.1 * noise(1.0)[:, :frames])
        assert found.true_peak_dbtp is not None and found.side_to_mid_db is not None
        msgspec.json.encode(found)
    assert of(sine(1000, 0.2, -6.0)).octaves[OCTAVES_HZ.index(1000.0)].mono_loss_db == pytest.approx(
        0, abs=1e-3
    )


STRIP = Strip(
    stages=(
        Eq(id=2, upper=EqSide(bands=(Band(frequency_hz=90, gain_db=6),))),
        Compressor(id=3, upper=CompressorSide(threshold_db=-30, look_ahead_ms=3)),
    )
)


@pytest.mark.parametrize(
    "span", [(0, 40_000), (70_001, 90_000), (RATE * 3, RATE * 4), (3 * RATE + 100, 4 * RATE - 3)]
)
def test_a_span_sounds_as_it_does_in_the_whole(tmp_path, span):
    path = write_wav(tmp_path / "a.wav", noise(4.0), subtype="FLOAT")
    with Reader(path) as reader:
        whole = [np.concatenate(part, axis=1) for part in zip(*rendered(reader, STRIP), strict=True)]
        part = [
            np.concatenate(part, axis=1) for part in zip(*rendered(reader, STRIP, span=span), strict=True)
        ]
    assert np.array_equal(part[0], whole[0][:, slice(*span)])
    assert part[1].shape == part[0].shape
    assert np.abs(part[1] - whole[1][:, slice(*span)]).max() < 1e-6


def test_subjects_are_measured_as_what_is_heard(tmp_path):
    session = session_on(write_wav(tmp_path / "a.wav", noise(5.0)), STRIP)
    source = session.sound.stems[0].source
    span = (RATE, 4 * RATE)
    before = done(measured(Subject(source, span=span)))
    after = done(measured(Subject(source, STRIP, span)))
    raw = np.concatenate([block for block, _ in sound(Subject(source, span=span))], axis=1)
    assert before == of(raw) or before.integrated_lufs == pytest.approx(of(raw).integrated_lufs, abs=1e-9)
    assert before.seconds == after.seconds == 3.0
    gains = (before.integrated_lufs - after.integrated_lufs, 0.0)
    nothing = done(measured(Subject(source, Strip(), span, difference_db=(0.0, 0.0))))
    assert nothing.true_peak_dbtp is None
    difference = done(measured(Subject(source, STRIP, span, difference_db=gains)))
    assert -60 < difference.integrated_lufs < before.integrated_lufs
    with pytest.raises(AudioError, match="nothing in this range"):
        done(measured(Subject(source, span=(9 * RATE, 10 * RATE))))


def test_identities_are_those_of_content(tmp_path):
    one = session_on(write_wav(tmp_path / "a.wav", noise(1.0))).sound.stems[0].source
    one = msgspec.structs.replace(one, fingerprint="f")
    moved = msgspec.structs.replace(one, path="elsewhere.wav")
    assert Subject(one, STRIP).identity == Subject(moved, STRIP).identity
    others = [
        Subject(one),
        Subject(one, Strip()),
        Subject(one, STRIP, (0, 9)),
        Subject(one, STRIP, rate=44_100),
    ]
    assert len({subject.identity for subject in [*others, Subject(one, STRIP)]}) == 5


@pytest.mark.parametrize("rate", [44_100, 96_000, 22_050])
def test_another_rate_is_read_from_any_place(tmp_path, rate):
    stereo = noise(2.0, rate=rate)
    path = write_wav(tmp_path / "b.wav", stereo, rate=rate, subtype="DOUBLE")
    wanted = soxr.resample(stereo.T, rate, RATE, quality="VHQ").T
    reader = Resampled(Reader(path), RATE)
    assert reader.facts.rate == RATE and abs(reader.facts.frames - 2 * RATE) <= 1
    for start, frames in ((0, 3000), (3000, 500), (50_001, 7000), (10, 4000), (2 * RATE - 700, 5000)):
        part = reader.read(start, frames)
        assert np.abs(part - wanted[:, start : start + part.shape[1]]).max() < 1e-6
    assert sum(block.shape[1] for block in reader.blocks()) == reader.facts.frames
    reader.close()


def test_what_plays_says_where_the_image_stands_and_how_far_it_moves():
    """A noise that constant power places at an angle a stands at -cos 2a; one that goes to and fro moves by as much."""
    rate = 48_000
    noise = np.random.default_rng(3).standard_normal(4 * rate) * 0.1

    def placed(degrees: np.ndarray) -> np.ndarray:
        return np.stack([np.cos(np.radians(degrees)), np.sin(np.radians(degrees))]) * noise

    still = placed(np.full(4 * rate, 60.0))
    swings = placed(np.where(np.arange(4 * rate) // (rate // 2) % 2 == 0, 30.0, 60.0))
    live = Live(rate)
    assert np.isnan(live.look_at_image()).all()
    for start in range(0, 4 * rate, 1600):
        block = slice(start, start + 1600)
        live.hear(still[:, block], swings[:, block], still[:, block], still[:, block])
        (stands, moves), (centre, to_and_fro) = live.look_at_image()
    assert abs(stands - 50.0) < 0.5 and moves < 0.5
    assert abs(centre) < 5.0 and abs(to_and_fro - 50.0) < 3.0
    live.fade()
    assert not live._places
