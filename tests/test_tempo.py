"""The tempo of made-up grooves, typed notes and what follows them."""

import numpy as np
import pytest
from conftest import RATE, session_on, write_wav

from stonekite import notes
from stonekite.measure.tempo import estimated
from stonekite.session import storage
from stonekite.session.differences import described, differences
from stonekite.session.edits import put, put_linked
from stonekite.session.timing import beat_at, nearest_beat, retimed
from stonekite.session.types import Session, Stem, Strip, Tempo
from stonekite.stages.branch import Branch
from stonekite.stages.chorus import Chorus, ChorusSide
from stonekite.stages.echo.settings import Echo, EchoShared, EchoSide, Tap

PATTERNS = (
    ("X...X...X...X...", "..x...x...x...x.", "x.x.x.x.x.x.x.x."),
    ("X.....X...X.....", "....x.......x...", "x.x.x.x.x.x.x.x."),
    ("X..X..X...X.X...", "....x.......x..x", "xxx.xxx.xxx.xxx."),
    ("X.X...X.X.X...X.", "....X.......X...", "..x...x...x...x."),
    ("X.....x.....", "...x.....x..", "x.xx.xx.xx.x"),
)
"""Low, middle and high strokes in sixteenths; the last one in triplets of eighths."""


def struck(hz: float, seconds: float, seed: int) -> np.ndarray:
    t = np.arange(int(seconds * RATE)) / RATE
    rng = np.random.default_rng(seed)
    return np.sin(2 * np.pi * hz * t) * np.exp(-t / (0.25 * seconds)) + 0.4 * rng.standard_normal(
        len(t)
    ) * np.exp(-t / 0.01)


def groove(seed: int) -> tuple[np.ndarray, float, float]:
    """A groove of 20 seconds, its tempo and where its first beat is: strokes, a drone and noise; hands are not exact."""
    rng = np.random.default_rng(seed)
    bpm = float(rng.uniform(66, 176))
    offset = float(rng.uniform(0.05, 0.6))
    rows = PATTERNS[seed % len(PATTERNS)]
    step = 60.0 / bpm / (3 if len(rows[0]) == 12 else 4)
    sound = 0.01 * rng.standard_normal(20 * RATE)
    sound += 0.05 * np.sin(2 * np.pi * 146.8 * np.arange(20 * RATE) / RATE)
    for row, (hz, loud) in zip(rows, ((70.0, 0.7), (220.0, 0.4), (5000.0, 0.2)), strict=True):
        for k in range(int((19.5 - offset) / step)):
            mark = row[k % len(row)]
            if mark == ".":
                continue
            at = int((offset + k * step + rng.normal(0, 0.004)) * RATE)
            hit = (
                loud
                * (1.0 if mark == "X" else 0.6)
                * rng.uniform(0.8, 1.1)
                * struck(hz, 0.15, int(rng.integers(1e6)))
            )
            sound[max(0, at) : max(0, at) + len(hit)] += hit[: len(sound) - max(0, at)]
    return sound, bpm, offset


@pytest.mark.slow
def test_the_tempo_of_twenty_grooves():
    right = related = 0
    off, places = [], []
    for seed in range(20):
        sound, bpm, offset = groove(seed)
        found = estimated(sound, RATE)
        assert found is not None
        ratio = found.bpm / bpm
        if abs(ratio - 1.0) < 0.01:
            right += 1
            off.append(abs(ratio - 1.0))
            beat = 60.0 / bpm
            places.append(abs((found.first_beat_s - offset + beat / 2) % beat - beat / 2))
        elif min(abs(ratio - f) / f for f in (0.5, 2.0)) < 0.01:
            related += 1
        print(f"{bpm:.2f}: {found.bpm:.2f}, sure {found.confidence:.2f}, other {found.other_bpm:.1f}")
    print(f"within 1 %: {right} of 20, half or double: {related}; off by {100 * max(off):.3f} % at the most, "
          f"first beat by {1e3 * max(places):.0f} ms")  # fmt: skip
    assert right >= 15 and right + related >= 18


def test_what_has_no_beat_is_not_sure_or_nothing():
    rng = np.random.default_rng(1)
    noise = estimated(0.1 * rng.standard_normal(10 * RATE), RATE)
    assert noise is None or noise.confidence < 0.3
    assert estimated(np.zeros(10 * RATE), RATE) is None
    assert estimated(np.zeros(100), RATE) is None


def session_with(stage, tempo: Tempo, tmp_path) -> Session:
    path = write_wav(tmp_path / "a.wav", np.zeros((2, RATE)))
    if isinstance(stage, Echo):
        stage = put(stage, ("branches", 0, "id"), 90)
    session = put(session_on(path), ("sound", "stems", 0, "strip"), Strip(stages=(stage,)))
    return put(session, ("sound", "tempo"), tempo)


def test_a_tempo_moves_all_times_given_in_notes_and_none_given_in_ms(tmp_path):
    side = EchoSide(time_ms=1.0, time_note="1.5 beats")
    taps = (Tap(time_ms=100.0), Tap(time_note="1/8 triplet"))
    echo = Echo(id=3, upper=side, lower=EchoSide(time_ms=333.0), shared=EchoShared(taps=taps))
    chorus = Chorus(id=4, upper=ChorusSide(rate_note="2 beats"))
    for bpm, beat in ((96.0, 625.0), (132.0, 454.5454545)):
        session = session_with(echo, Tempo(bpm=bpm), tmp_path)
        session = put(
            session, ("sound", "stems", 0, "strip", "stages"), (*session.sound.stems[0].strip.stages, chorus)
        )
        loaded = storage.decode(storage.encode(session))
        made, swings = loaded.sound.stems[0].strip.stages
        assert made.upper.time_ms == pytest.approx(1.5 * beat, abs=1e-6)
        assert made.lower.time_ms == 333.0
        assert made.shared.taps[0].time_ms == 100.0
        assert made.shared.taps[1].time_ms == pytest.approx(beat / 3, abs=1e-6)
        assert swings.upper.rate_hz == pytest.approx(1000 / (2 * beat))
        assert retimed(loaded) is loaded


def test_linked_notes_keep_their_ratio_and_numbers_theirs():
    stage = Echo(
        id=3,
        linked=True,
        upper=EchoSide(time_note="1 beat", time_ms=500.0),
        lower=EchoSide(time_note="1.5 beats", time_ms=750.0),
    )
    halved = put_linked(stage, "upper", ("time_ms",), "1/8")
    assert (halved.upper.time_note, halved.lower.time_note) == ("1/8", notes.named(0.75))
    typed = put_linked(halved, "upper", ("time_ms",), 400.0)
    assert (typed.upper.time_note, typed.lower.time_note) == ("", "")
    assert typed.lower.time_ms / typed.upper.time_ms == pytest.approx(1.5)


def test_beats_of_the_timeline():
    tempo = Tempo(bpm=96.0, first_beat_s=0.25)
    assert beat_at(tempo, 0.25 + 0.625) == pytest.approx(1.0)
    assert nearest_beat(tempo, 1.0) == pytest.approx(0.875)
    assert nearest_beat(Tempo(bpm=60, first_beat_s=0.9), 0.1) == pytest.approx(0.9 - 1.0 + 1.0)


@pytest.mark.parametrize(
    "text", ["1/3", "1/128", "beats", "-1 beats", "1/4 dotted triplet", "1/4;", "x" * 60]
)
def test_a_session_with_a_note_that_is_none_is_refused(text, tmp_path):
    session = session_with(Echo(id=3), Tempo(), tmp_path)
    raw = storage.encode(session).decode().replace('"time_note": ""', f'"time_note": "{text}"', 1)
    with pytest.raises(storage.SessionError):
        storage.decode(raw.encode())
    assert isinstance(session.sound.stems[0], Stem)


def test_notes_and_taps_differ_in_words():
    side = EchoSide(time_note="1 beat", time_ms=500.0)
    shared = EchoShared(taps=(Tap(time_ms=100.0),))
    one = Echo(id=3, upper=side, lower=side, shared=shared, branches=(Branch(id=90),))
    other = put(one, ("upper", "time_note"), "1.5 beats")
    other = put(
        other, ("shared", "taps"), (Tap(time_ms=100.0, level_db=-9.0), Tap(time_note="1/8", time_ms=250.0))
    )
    found = [d.sentence for d in differences(Strip(stages=(one,)), Strip(stages=(other,)))]
    assert "Mid Echo, time: 1 beat (500 ms) → 1.5 beats (500 ms)" in found
    assert any(words.startswith("Echo, tap 1, level:") for words in found)
    assert "Echo, tap 2: added, 1/8 (250 ms), −6.0 dB" in found
    # Another tempo alone is no difference of a time that is given by a note.
    slower = put(one, ("upper", "time_ms"), 600.0)
    assert not [d for d in differences(Strip(stages=(one,)), Strip(stages=(slower,))) if "time" in d.place]
    told = dict(described(Strip(stages=(other,))))["Echo"]
    assert any("time 1.5 beats (500 ms)" in line for line in told) and any(
        line.startswith("Tap 2") for line in told
    )
