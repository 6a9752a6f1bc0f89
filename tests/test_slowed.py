"""Slowed listening: in tune, in time, and what is between the sides stays; in the window never exported."""

import itertools

import numpy as np
import pytest
import soundfile
from conftest import RATE, THOROUGH, noise, write_wav
from mixes import recording
from scipy.ndimage import uniform_filter1d

from stonekite.engine.offline.slowing import FIRST_S, LONGEST_S, Beginning, slow_range, slowed
from stonekite.session.types import Leg, Loop, Stem, Strip

SPEEDS, RATES = (0.25, 0.33, 0.5, 0.75, 0.9), (44_100, 48_000, 96_000)
PITCHED = list(itertools.product(SPEEDS, RATES))
if not THOROUGH:
    PITCHED = PITCHED[::2]


def pitch(signal: np.ndarray, rate: int) -> float:
    """The strongest frequency in Hz, from the peak of a windowed spectrum."""
    part = signal[len(signal) // 4 : 3 * len(signal) // 4] * np.hanning(
        3 * len(signal) // 4 - len(signal) // 4
    )
    spectrum = np.abs(np.fft.rfft(part, 1 << 21))
    k = int(spectrum.argmax())
    a, b, c = np.log(spectrum[k - 1 : k + 2])
    return (k + 0.5 * (a - c) / (a - 2 * b + c)) * rate / (1 << 21)


@pytest.mark.parametrize(("speed", "rate"), PITCHED)
def test_tones_keep_their_pitch_or_have_the_one_that_is_asked_for(speed, rate):
    t = np.arange(3 * rate) / rate
    for hertz, semitones in ((110.0, 0), (441.0, 0), (441.0, -5), (1760.0, 7), (5000.0, 0)):
        tone = np.sin(2 * np.pi * hertz * t)
        made = slowed(np.stack([tone, 0.5 * tone]), rate, speed, semitones)
        assert made.shape == (2, round(3 * rate / speed))
        wanted = hertz * 2 ** (semitones / 12)
        assert abs(1200 * np.log2(pitch(made[0], rate) / wanted)) < 0.1
        middle = made[:, made.shape[1] // 4 : 3 * made.shape[1] // 4]
        assert abs(20 * np.log10(np.std(middle[1]) / np.std(middle[0])) + 6.0206) < 0.1


@pytest.mark.parametrize("speed", SPEEDS)
def test_strokes_stay_where_they_belong_and_the_centre_stays_the_centre(speed):
    strokes = np.zeros(4 * RATE)
    places = [RATE // 4 + k * RATE // 2 for k in range(7)]
    for place in places:
        strokes[place : place + 400] = np.random.default_rng(place).standard_normal(400) * np.exp(
            -np.arange(400) / 60
        )
    later = np.roll(0.5 * strokes, 20)  # the right comes 20 samples later
    made = slowed(np.stack([strokes, later]), RATE, speed)
    for place in places:
        there = round(place / speed)
        energy = uniform_filter1d(made[0, there - RATE // 8 : there + RATE // 8] ** 2, RATE // 500)
        assert abs(int(energy.argmax()) - RATE // 8) < 0.005 * RATE
        grown = np.cumsum(energy) / energy.sum()
        assert np.searchsorted(grown, 0.9) - np.searchsorted(grown, 0.1) < 0.008 * RATE  # not smeared
    lags = np.arange(-40, 41)
    matches = [float(np.dot(made[0, 50:-50], np.roll(made[1], -lag)[50:-50])) for lag in lags]
    assert abs(int(lags[int(np.argmax(matches))]) - 20) <= 1
    t = np.arange(2 * RATE) / RATE
    for one in (noise(2.0)[0], np.sin(2 * np.pi * 441.0 * t)):
        mono = slowed(np.stack([one, one]), RATE, speed)
        assert np.array_equal(*mono) and mono.any()
        side = slowed(np.stack([np.zeros_like(one), one]), RATE, speed)
        assert not side[0].any() and np.array_equal(side[1], mono[1])


def test_a_range_of_the_result_is_written_and_a_long_one_up_to_a_minute(tmp_path):
    source = recording(tmp_path / "a.wav", noise(3.0))
    stem = Stem(id=1, name="a", source=source, strip=Strip(lower=Leg(muted=True)))
    steps = slow_range(stem, (RATE, 2 * RATE), 0.5, 0.0, tmp_path / "slow.wav")
    assert list(steps)[-1] == 1.0
    written = soundfile.read(tmp_path / "slow.wav")[0].T
    assert written.shape[1] == 2 * RATE and np.abs(written[0] - written[1]).max() < 1e-4  # only Mid is heard
    assert LONGEST_S == 60.0


@pytest.mark.parametrize(
    ("speed", "semitones"), [(0.5, 0.0), (0.25, 0.0), (0.8, 0.0), (0.9, 3.0), (1.0, -4.0)]
)
def test_what_is_made_first_is_the_beginning_of_all_of_it(tmp_path, speed, semitones):
    """So that playing can go over from one to the other anywhere: the same samples where a range is slowed down in whole
    steps, otherwise the same strokes at the same times."""
    strokes = noise(8.0, level=0.1) * (np.arange(8 * RATE) % (RATE // 4) < RATE // 50)
    source = recording(tmp_path / "a.wav", strokes)
    stem = Stem(id=1, name="a", source=source)
    found = [
        one for one in slow_range(stem, (RATE, 8 * RATE), speed, semitones, tmp_path / "slow.wav")
        if isinstance(one, Beginning)
    ]  # fmt: skip
    whole = soundfile.read(tmp_path / "slow.wav")[0].T
    assert [one.frames for one in found] == pytest.approx([seconds * RATE for seconds in FIRST_S], abs=5)
    for one in found:
        part = soundfile.read(one.path)[0].T
        assert part.shape[1] == one.frames
        there = whole[:, : one.frames]
        if speed == 0.5 and not semitones:
            assert np.abs(part - there).max() < 1e-6
        heard, wanted = (uniform_filter1d(both[0] ** 2, 960) for both in (part, there))
        assert np.corrcoef(heard, wanted)[0, 1] > 0.98


@pytest.mark.processes
def test_slowed_listening_begins_soon_and_goes_on_without_a_gap(window, tmp_path, qtbot):
    window.opening.open_path(write_wav(tmp_path / "a.wav", noise(20.0, level=0.05)))
    transport, slow = window.transport, window.timing.slow
    window.start()
    qtbot.waitUntil(lambda: bool(transport.status["beat"]), timeout=60_000)
    slow.choose(50, None)  # the worker is there from now on
    qtbot.waitUntil(lambda: transport.sound.stems[0].name == "1", timeout=60_000)
    slow.choose(100, None)
    recorded = tmp_path / "heard.wav"
    transport.disturb("record", path=str(recorded))
    transport.play()
    qtbot.waitUntil(lambda: transport.playing and transport.position_s > 0.2, timeout=30_000)
    slow.choose(66, None)
    qtbot.waitUntil(lambda: transport.sound.stems[0].name.startswith("2-"), timeout=30_000)
    begun = transport.sound.stems[0]
    transport.disturb("record", path=str(recorded))
    qtbot.waitUntil(lambda: transport.sound.stems[0].name == "2", timeout=30_000)
    qtbot.wait(3000)
    transport.pause()
    qtbot.waitUntil(lambda: not transport.status["playing"], timeout=5000)
    transport.disturb("record")
    qtbot.waitUntil(lambda: recorded.exists() and soundfile.info(recorded).frames > 2 * RATE, timeout=5000)
    heard = soundfile.read(recorded)[0].T
    assert begun.source.frames < transport.sound.stems[0].source.frames
    if not int(transport.status["underruns"]):  # otherwise other work took both cores
        there = np.flatnonzero(np.abs(heard).max(axis=0) > 0.0)
        assert np.diff(there).max() < 30 and len(there) > 2 * RATE


def test_the_loop_is_heard_slowed_with_its_edits_and_nothing_of_it_is_exported(window, tmp_path, qtbot):
    window.opening.open_path(write_wav(tmp_path / "a.wav", noise(6.0)))
    document, transport, slow = window.document, window.transport, window.timing.slow
    document.set_loop(Loop(start_s=2.0, end_s=3.0))
    before = document.session
    next(action for action in slow.menu_of().actions() if action.text() == "50 %").trigger()
    assert slow.text() == "50 %"
    qtbot.waitUntil(
        lambda: transport.sound is not None and transport.sound.stems[0].name == "1", timeout=30_000
    )
    assert transport.sound.stems[0].source.frames == 2 * RATE and transport._loop == (0, 2 * RATE)
    assert document.session is before and window.hearing.handed_over
    transport.status["position"] = 1.0  # of two seconds: in the middle of the loop
    assert transport.position_s == pytest.approx(2.5)
    document.put(("upper", "level_db"), -6.0, "softer")
    qtbot.waitUntil(lambda: transport.sound.stems[0].name == "2", timeout=30_000)
    slow.choose(100, 0)
    assert transport.sound is document.session.sound and not window.hearing.handed_over
    assert not slow.on and slow.text() == "100 %"
    slow.choose(None, -3)
    qtbot.waitUntil(lambda: transport.sound.stems[0].name == "3", timeout=30_000)
    assert "−3 st" in slow.text() and transport.sound.stems[0].source.frames == RATE
    window.opening.open_path(write_wav(tmp_path / "b.wav", noise(2.0)))
    assert not slow.on and transport.sound is window.document.session.sound


def test_one_component_or_the_unprocessed_is_heard_slowed(window, tmp_path, qtbot):
    window.opening.open_path(write_wav(tmp_path / "a.wav", noise(4.0)))
    document, transport, slow = window.document, window.transport, window.timing.slow
    document.set_loop(Loop(start_s=1.0, end_s=2.0))
    document.put(("upper", "level_db"), -12.0, "softer")
    slow.choose(50, None)
    qtbot.waitUntil(lambda: transport.sound.stems[0].name == "1", timeout=30_000)
    window.listen.toggle_only("side")
    assert transport.listening.only == "side" and transport.sound.stems[0].name == "1"
    loud = soundfile.read(transport.sound.stems[0].source.path)[0].std()
    window.listen.choose("unprocessed")
    qtbot.waitUntil(lambda: transport.sound.stems[0].name == "2", timeout=30_000)
    assert soundfile.read(transport.sound.stems[0].source.path)[0].std() > 1.5 * loud
    window.listen.choose("processed")
    slow.choose(100, None)
    assert transport.sound is document.session.sound and transport.listening.only == "side"
