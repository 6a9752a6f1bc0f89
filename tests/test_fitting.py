"""A stem fitted to another tempo: in tune, in time, its first beat where it was, both sides as one."""

import msgspec
import numpy as np
import pytest
import soundfile
from conftest import RATE, noise
from mixes import recording
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from scipy.ndimage import uniform_filter1d
from test_slowed import pitch

from stonekite.engine.offline.fitting import fit, free_beside
from stonekite.files.audio import AudioError
from stonekite.session.mix import mix_edits, places
from stonekite.session.types import Leg, Session, Sound, Stem, Strip
from stonekite.stages.riding import Point, Ride

SPEEDS = (0.5, 0.83, 1.07, 1.2, 1.5, 2.0)
BEATS_S = np.arange(0.4, 3.9, 0.5)


def strokes() -> np.ndarray:
    """A stroke on each beat, on the right half as loud and 12 samples later, over a quiet tone."""
    t = np.arange(4 * RATE) / RATE
    sound = 0.02 * np.sin(2 * np.pi * 441.0 * t)
    for at_s in BEATS_S:
        place = round(at_s * RATE)
        burst = np.random.default_rng(place).standard_normal(400) * np.exp(-np.arange(400) / 60)
        sound[place : place + 400] += 0.5 * burst
    return np.stack([sound, 0.5 * np.roll(sound, 12)])


def written(tmp_path, speed: float) -> np.ndarray:
    source = recording(tmp_path / "strokes.wav", strokes())
    path = tmp_path / "fitted.wav"
    *_, last = list(fit(source, speed, path))
    assert last == 1.0
    return soundfile.read(path)[0].T


@pytest.mark.parametrize("speed", SPEEDS)
def test_beats_are_where_the_other_tempo_has_them_and_the_sides_stay_together(speed, tmp_path):
    made = written(tmp_path, speed)
    assert made.shape == (2, round(4 * RATE / speed))
    for at_s in BEATS_S:
        there, around = round(at_s / speed * RATE), RATE // 16
        energy = uniform_filter1d(made[0, there - around : there + around] ** 2, RATE // 500)
        assert abs(int(energy.argmax()) - around) < 0.005 * RATE
    lags = np.arange(-30, 31)
    matches = [float(np.dot(made[0, 40:-40], np.roll(made[1], -lag)[40:-40])) for lag in lags]
    assert abs(int(lags[int(np.argmax(matches))]) - 12) <= 1
    assert abs(20 * np.log10(made[1].std() / made[0].std()) + 6.0206) < 0.1
    tone = np.sin(2 * np.pi * 441.0 * np.arange(3 * RATE) / RATE)
    source = recording(tmp_path / "tone.wav", 0.3 * np.stack([tone, tone]))
    list(fit(source, speed, tmp_path / "tone fitted.wav"))
    heard = soundfile.read(tmp_path / "tone fitted.wav")[0].T
    assert abs(1200 * np.log2(pitch(heard[0], RATE) / 441.0)) < 1.0
    assert np.array_equal(*heard)


def test_what_cannot_be_is_said_and_names_are_free(tmp_path):
    source = recording(tmp_path / "a.wav", noise(0.5))
    for speed in (0.2, 2.5):
        with pytest.raises(AudioError, match="twice"):
            list(fit(source, speed, tmp_path / "b.wav"))
    long = msgspec.structs.replace(source, frames=3600 * RATE)
    with pytest.raises(AudioError, match="half an hour"):
        list(fit(long, 0.9, tmp_path / "b.wav"))
    assert not (tmp_path / "b.wav").exists()
    one = free_beside(tmp_path / "a.wav", "fitted")
    one.touch()
    assert one.name == "a fitted.wav" and free_beside(tmp_path / "a.wav", "fitted").name == "a fitted 2.wav"
    one_sample = recording(tmp_path / "one.wav", noise(0.5)[:, :1])
    list(fit(one_sample, 0.9, tmp_path / "c.wav"))


@pytest.mark.parametrize("start_s", [0.0, 3.0])
@pytest.mark.parametrize("speed", [0.8, 1.25])
@pytest.mark.parametrize("cut", [False, True])
def test_the_beat_that_is_kept_stays_and_the_rest_moves_around_it(start_s, speed, cut, tmp_path):
    source = recording(tmp_path / "a.wav", noise(4.0))
    points = (Point(at_s=start_s + 1.0, value=-6.0), Point(at_s=start_s + 2.0, value=0.0, beat=7.0))
    strip = Strip(upper=Leg(rides=(Ride(path="level_db", points=points),)))
    times = {"from_s": 0.25, "length_s": 2.0} if cut else {}
    stem = Stem(id=1, name="a", source=source, strip=strip, start_s=start_s, **times)
    new = msgspec.structs.replace(source, frames=round(source.frames / speed))
    kept_s = 0.5
    made = mix_edits.fitted(Session(sound=Sound(stems=(stem,))), 1, new, speed, kept_s).sound.stems[0]
    there = start_s + kept_s - stem.from_s
    assert made.start_s + kept_s / speed - made.from_s == pytest.approx(there)
    end = made.start_s + places.length_s(made)
    was = start_s + places.length_s(stem)
    assert end == pytest.approx(there + (was - there) / speed, abs=1e-3)
    moved = made.strip.upper.rides[0].points
    assert moved[0].at_s == pytest.approx(max(0.0, there + (start_s + 1.0 - there) / speed))
    assert moved[1].at_s == start_s + 2.0 and made.start_s >= 0.0 and made.from_s >= 0.0


def test_a_stem_is_fitted_from_its_menu_in_one_step(window, qtbot, tmp_path):
    source = recording(tmp_path / "strokes.wav", strokes())
    window.start()
    window.opening.open_path(tmp_path / "strokes.wav")
    window.show_view("mix")
    document = window.document
    number = document.session.sound.stems[0].id
    entries = {action.text(): action for action in window.mixing.view.menu_of(number).actions()}
    assert "Fit to another tempo…" in entries
    dialog = window.mixing.ask_fit(number)
    ok = dialog._buttons.buttons()[0]
    assert not ok.isEnabled()
    for name, text in (("own_bpm", "120"), ("bpm", "96"), ("beat_s", "0.4")):
        field = dialog.fields[name]
        field.type_value()
        field._edit.setText(text)
        field._typed()
    assert "80.0 %" in dialog.words.text() and ok.isEnabled()
    QTest.mouseClick(ok, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: "fitted 80.0" in document.session.sound.stems[0].source.path, timeout=60_000)
    stem = document.session.sound.stems[0]
    assert stem.source.frames == round(source.frames / 0.8)
    assert stem.start_s + 0.4 / 0.8 - stem.from_s == pytest.approx(0.4)
    document.undo()
    assert document.session.sound.stems[0].source.frames == source.frames
