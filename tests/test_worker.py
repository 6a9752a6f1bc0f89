"""The worker on whatever arrives, with every kind of stage at work."""

import json

import msgspec
import numpy as np
import pytest
import soundfile
from conftest import noise, session_on, write_wav

from stonekite.demos.demo import demo_path
from stonekite.engine.offline.subjects import Subject
from stonekite.processes.jobs import (
    Analyse,
    Analysed,
    Compare,
    Compared,
    Done,
    Failed,
    Separate,
    Spectra,
    SpectraFound,
    Written,
)
from stonekite.processes.worker import Worker
from stonekite.reports.table import scalars
from stonekite.session.types import Intake, IntakeSide, Output, Place, Strip
from stonekite.stages.compressor import Compressor, CompressorSide
from stonekite.stages.drive import Drive, DriveSide
from stonekite.stages.dynamic_eq import Band as DynamicBand
from stonekite.stages.dynamic_eq import DynamicEq, DynamicEqSide
from stonekite.stages.eq import Band, Eq, EqShared, EqSide
from stonekite.stages.filter import Filter, FilterSide
from stonekite.stages.gain import Gain, GainSide
from stonekite.stages.gate import Gate, GateSide
from stonekite.stages.limiter import Limiter, LimiterSide
from stonekite.stages.width import Width, WidthShared

HIGH = EqSide(
    bands=(Band(gain_db=5, frequency_hz=18_000), Band(shape="low-pass", frequency_hz=16_000, slope=48))
)
EVERYTHING = Strip(
    intake=Intake(remove_dc=True, left=IntakeSide(delay_ms=0.37)),
    stages=(
        Eq(id=5, upper=HIGH, shared=EqShared(phase="linear")),
        Filter(id=6, upper=FilterSide(high_pass=True, high_pass_slope=48, low_pass=True, low_pass_hz=15_000)),
        Width(id=7, shared=WidthShared(width=150, mono_below=True)),
        Compressor(id=8),
        Gain(id=9, upper=GainSide(gain_db=6), lower=GainSide(gain_db=6), level_kept=True, kept_db=-6),
        Drive(id=10, upper=DriveSide(curve="hard", drive_db=30)),
        DynamicEq(id=11, upper=DynamicEqSide(bands=(DynamicBand(frequency_hz=19_000, threshold_db=-70),))),
        Limiter(id=12),
    ),
    output=Output(width=50, law="linear", left=Place(position=-30), limited=True),
)


def damaged() -> np.ndarray:
    sound = noise(1.0)
    sound[:, 100] = np.nan
    sound[0, 200] = np.inf
    return sound


ARRIVED = {
    "8 kHz": (noise(1.0, rate=8000), 8000),
    "192 kHz": (noise(1.0, rate=192_000), 192_000),
    "one sample": (np.array([[0.5], [0.2]]), 48_000),
    "silence": (np.zeros((2, 48_000)), 48_000),
    "mono": (noise(1.0)[:1], 44_100),
    "damaged": (damaged(), 48_000),
    "short": (noise(0.01), 44_100),
    "loud": (100 * noise(1.0), 48_000),
}


def answer(request):
    return list(Worker().run(request))[-1]


@pytest.mark.slow
@pytest.mark.parametrize("name", list(ARRIVED))
def test_everything_that_arrives_is_measured(name, tmp_path):
    sound, rate = ARRIVED[name]
    path = write_wav(tmp_path / "a.wav", sound, rate, subtype="FLOAT")
    for strip in (Strip(), EVERYTHING):
        stem = session_on(path, strip).sound.stems[0]
        found = answer(Analyse(1, stem, str(tmp_path)))
        assert isinstance(found, Analysed), found
        subjects = [Subject(stem.source), Subject(stem.source, strip)]
        compared = list(Worker().run(Compare(2, subjects)))
        assert isinstance(compared[-1], Done)
        known = [one for one in compared if isinstance(one, Compared)]
        assert {one.identity for one in known} == {subject.identity for subject in subjects}
        assert all(one.measures is not None for one in known)
        assert "NaN" not in json.dumps(msgspec.to_builtins([scalars(one.measures) for one in known]))
        assert "NaN" not in json.dumps(
            [found.before, found.after, msgspec.to_builtins(found.findings), found.changes]
        )
        assert found.repaired == (3 if name == "damaged" else 0)
        assert np.isfinite(np.load(found.after_overview)).all()
    spectra = answer(Spectra(2, stem, 7, stem.source))
    assert (
        isinstance(spectra, SpectraFound)
        and np.isfinite(spectra.legs).all()
        and spectra.reference is not None
    )


def test_the_change_in_loudness_of_a_stage_is_measured_without_what_it_gives_back(tmp_path):
    path = write_wav(tmp_path / "a.wav", noise(3.0))
    gain = EVERYTHING.stages[4]
    found = answer(Analyse(1, session_on(path, Strip(stages=(gain,))).sound.stems[0], str(tmp_path)))
    assert found.changes == {9: pytest.approx(6.0, abs=0.01)}
    assert found.after["integrated_lufs"] == pytest.approx(found.before["integrated_lufs"], abs=0.01)


def test_a_missing_recording_is_told(tmp_path):
    path = write_wav(tmp_path / "gone.wav", noise(0.1))
    stem = session_on(path).sound.stems[0]
    path.unlink()
    for request in (Analyse(1, stem, str(tmp_path)), Separate(2, stem.source, str(tmp_path))):
        told = answer(request)
        assert isinstance(told, Failed) and "gone.wav" in told.sentence


def test_separating_writes_both_sides_and_never_over_what_is_there(tmp_path):
    path = write_wav(tmp_path / "two.wav", noise(0.2))
    source = session_on(path).sound.stems[0].source
    done = answer(Separate(1, source, str(tmp_path)))
    assert isinstance(done, Written)
    both = np.stack([soundfile.read(p)[0] for p in done.paths])
    assert np.array_equal(both, soundfile.read(path)[0].T)
    assert isinstance(answer(Separate(2, source, str(tmp_path))), Failed)


@pytest.mark.slow
@pytest.mark.parametrize(
    "stage",
    [
        Compressor(
            id=3, upper=CompressorSide(threshold_db=-35, ratio=6), lower=CompressorSide(threshold_db=-35)
        ),
        Gate(id=3, upper=GateSide(threshold_db=-22), lower=GateSide(threshold_db=-22)),
        Eq(id=3, upper=EqSide(bands=(Band(frequency_hz=2000, gain_db=9, q=0.6),))),
        Width(id=3, shared=WidthShared(width=180)),
        Drive(id=3, upper=DriveSide(curve="folded", drive_db=24)),
        DynamicEq(
            id=3, upper=DynamicEqSide(bands=(DynamicBand(frequency_hz=400, threshold_db=-60, range_db=-18),))
        ),
        Limiter(id=3, upper=LimiterSide(drive_db=18)),
    ],
)
def test_on_the_demo_a_stage_that_keeps_its_level_is_as_loud_in_as_out(stage, tmp_path):
    source = session_on(demo_path()).sound.stems[0]
    change = answer(Analyse(1, _with(source, stage), str(tmp_path))).changes[3]
    kept = msgspec.structs.replace(stage, level_kept=True, kept_db=round(-change, 2))
    found = answer(Analyse(2, _with(source, kept), str(tmp_path)))
    apart = found.after["integrated_lufs"] - found.before["integrated_lufs"]
    print(f"{type(stage).__name__}: {change:+.2f} LU, with the level kept {apart:+.3f} LU")
    assert abs(apart) <= 0.3


def _with(stem, stage):
    return msgspec.structs.replace(stem, strip=Strip(stages=(stage,)))
