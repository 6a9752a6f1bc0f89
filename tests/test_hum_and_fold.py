"""Hum that is found, followed and taken out; and two sides folded into one by what each is worth."""

import numpy as np
import pytest
from conftest import RATE, THOROUGH, excerpt_of
from hands import click
from PySide6.QtCore import QPointF
from scipy import signal
from test_noise import LEFT_RIGHT, voice
from voices import clean_log, tonal_piece, wheelhouse_log

from stonekite.demos.wheelhouse import mixed
from stonekite.desktop.model.demo_session import wheelhouse_session
from stonekite.engine.graph.chain import Chain
from stonekite.measure.quality import si_sdr
from stonekite.session.types import Split, Strip
from stonekite.signal import humming, matrix
from stonekite.stages import fold, hum
from stonekite.stages.base import Context
from stonekite.stages.fold import Fold, FoldShared
from stonekite.stages.hum import Hum, HumShared, HumSide

NOISE = np.random.default_rng(3)


def humming_at(
    base: float, rate: float, seconds: float, wander: float = 0.0, speed: float = 0.05
) -> np.ndarray:
    """A hum with 30 overtones, whose pitch wanders by a share, so many times a second."""
    t = np.arange(int(seconds * rate)) / rate
    turn = 2 * np.pi * np.cumsum(base * (1 + wander * np.sin(2 * np.pi * speed * t))) / rate
    return sum(0.05 * np.sin(k * turn + 2.1 * k * k) / k**0.8 for k in range(1, 31) if base * k < 0.4 * rate)  # type: ignore[return-value]


def through(stage, sound: np.ndarray, rate: float = RATE, split: Split = LEFT_RIGHT) -> np.ndarray:
    """Sound through a stage alone, in time again."""
    chain = Chain(Strip(split=split, stages=(stage,)), rate)
    late = chain.latency
    return chain.process(np.pad(sound, ((0, 0), (0, late))), 0)[:, late:]


def power_db(sound: np.ndarray) -> float:
    return float(10 * np.log10(np.mean(sound**2) + 1e-30))


@pytest.mark.slow
@pytest.mark.parametrize("rate", [8000, 44_100, 48_000, 96_000, 192_000])
def test_hum_is_found_whatever_its_pitch_and_the_rate(rate):
    worst = 0.0
    for base in (23.7, 27.3, 50.0, 59.94, 100.0, 180.0):
        sound = humming_at(base, rate, 5.0)
        hz, harmonics = humming.found(sound + 0.01 * NOISE.standard_normal(len(sound)), rate)
        worst = max(worst, abs(hz / base - 1.0))
        assert harmonics >= 5
    print(f"{rate}: hum found within {100 * worst:.3f} %")
    assert worst < 0.002


@pytest.mark.slow
def test_no_hum_is_found_in_a_voice_or_in_noise_and_the_engine_is_found_beside_one():
    assert humming.found(clean_log()[: 8 * RATE], RATE) == (0.0, 0)
    assert humming.found(NOISE.standard_normal(6 * RATE), RATE) == (0.0, 0)
    learned = hum.learns(wheelhouse_log()[:, : 9 * RATE], Context(RATE), 0.0)
    assert learned.hz[0] == pytest.approx(27.0, rel=0.003) and learned.hz[1] == 0.0
    stage = hum.taken(Hum(id=1, lower=HumSide(base_hz=60.0)), learned)
    assert stage.upper.base_hz == learned.hz[0] and stage.lower.base_hz == 60.0
    assert "27.0" in hum.learned_words(stage) and "none on the other leg" in hum.learned_words(stage)
    with pytest.raises(ValueError, match="No hum was found"):
        hum.learns(np.stack([clean_log()[: 9 * RATE]] * 2), Context(RATE), 0.0)
    with pytest.raises(ValueError, match="2 s at least"):
        hum.learns(np.ones((2, 100)), Context(RATE), 0.0)


@pytest.mark.slow
def test_no_hum_is_found_in_tonal_music_and_all_that_is_planted_in_it():
    """Also over a bass note that comes again on every beat, which is as steady as a hum but for its phase."""
    rate, seconds = 24_000, 16.0
    for seed in range(40 if THOROUGH else 7):
        rng = np.random.default_rng([seed, 5])
        music = tonal_piece(seed, seconds, rate)
        assert humming.found(music, rate) == (0.0, 0), f"piece {seed}"
        base = float(rng.choice([50.0, 60.0, rng.uniform(35.0, 120.0)])) * (1 + rng.uniform(-0.003, 0.003))
        planted = humming_at(base, rate, seconds)
        planted *= 10 ** (-18 / 20) * np.std(music) / np.std(planted)
        hz, _ = humming.found(music + planted, rate)
        assert abs(hz / base - 1.0) < 0.003, f"piece {seed}: {base:.2f} Hz, found {hz:.2f}"


@pytest.mark.parametrize("rate", [8000, 44_100, 96_000])
def test_the_notches_are_as_drawn(rate):
    """By the response to an impulse, each leg with settings of its own."""
    side = HumSide(base_hz=48.7, harmonics=12, depth_db=25.0, width_hz=7.0)
    other = HumSide(base_hz=220.0, harmonics=5, depth_db=60.0, width_hz=12.0)
    stage = Hum(id=1, upper=side, lower=other, shared=HumShared(follow=False))
    sound = np.zeros((2, rate))
    sound[:, 10] = 1.0
    made = np.fft.rfft(through(stage, sound, rate)[:, 10:], 4 * rate, axis=1)
    hz = np.fft.rfftfreq(4 * rate, 1 / rate)
    for row, leg in enumerate(("upper", "lower")):
        drawn = hum.response(stage, leg, hz, rate)
        assert np.max(np.abs(made[row] - drawn)) < 1e-3
    at = np.argmin(np.abs(hz - 48.75))
    assert 20 * np.log10(abs(made[0][at])) == pytest.approx(-25.0, abs=0.5)


@pytest.mark.slow
def test_wandering_hum_is_followed():
    """Pitch that goes up and down by so much, so fast; what is left of the hum alone, and beside a voice."""
    spoken = clean_log()[: 9 * RATE]
    for wander, speed, least in (
        (0.0, 1.0, 30.0),
        (0.003, 0.3, 15.0),
        (0.01, 0.05, 28.0),
        (0.02, 0.02, 26.0),
    ):
        sound = humming_at(27.0, RATE, 9.0, wander, speed)
        gone = {}
        for follow in (False, True):
            side = HumSide(base_hz=27.0, harmonics=32, width_hz=2.0)
            stage = Hum(id=1, upper=side, lower=None, shared=HumShared(follow=follow))
            out = through(stage, np.stack([sound, sound]))
            assert np.array_equal(out[1], sound)
            gone[follow] = power_db(sound[3 * RATE :]) - power_db(out[0, 3 * RATE :])
        beside = np.resize(spoken * np.std(sound) / np.std(spoken), len(sound))
        out = through(stage, np.stack([sound + beside, sound]))
        left = power_db(sound[3 * RATE :]) - power_db((out[0] - beside)[3 * RATE :])
        print(
            f"wander {100 * wander:.1f} % {speed} times a second: down by {gone[True]:.1f} dB, "
            f"not followed {gone[False]:.1f}; with a voice as loud, error {left:.1f} dB under the hum"
        )
        assert gone[True] > least and left > 7.0
        assert wander == 0.0 or gone[True] > gone[False] + 4.0


def learned_fold(sound: np.ndarray, encoding=None) -> Fold:
    return fold.taken(Fold(id=1), fold.learns(sound, Context(RATE, encoding), 0.0))


@pytest.mark.parametrize("late", [-0.0071, -0.00013, 0.0, 0.0033, 0.0191])
@pytest.mark.parametrize("inverted", [False, True])
def test_a_fold_brings_both_sides_into_time_so_that_nothing_combs(late, inverted):
    """White noise, the same on both sides but for a delay and its polarity: the fold has its spectrum."""
    sound = np.random.default_rng(1).standard_normal(4 * RATE)
    spectrum = np.fft.rfft(sound)
    hz = np.fft.rfftfreq(len(sound), 1 / RATE)
    later = np.fft.irfft(spectrum * np.exp(-2j * np.pi * hz * late)) * (-1 if inverted else 1)
    stage = learned_fold(np.stack([sound, later]))
    assert stage.shared.late_ms == pytest.approx(1000 * late, abs=0.003)
    assert stage.shared.inverted == inverted
    out = through(stage, np.stack([sound, later]))
    assert np.array_equal(out[0], out[1])
    f, was = signal.welch(sound, RATE, nperseg=4096)
    _, made = signal.welch(out[0, RATE : 3 * RATE], RATE, nperseg=4096)
    off = 10 * np.log10(made / was)[(f > 60) & (f < 18_000)]
    print(f"late {1000 * late:.2f} ms: {off.min():.2f} to {off.max():.2f} dB of the sound alone")
    assert np.abs(off[np.isfinite(off)]).mean() < 0.5 and off.min() > -2.5


def test_a_fold_takes_each_frequency_from_the_side_that_is_worth_more():
    """A voice with 20 dB less noise on the left than on the right, which is late and upside down; and with noise on
    the left below 1 kHz only and on the right above it: better than the better side, and than the sum."""
    clean = voice(0)
    noise = mixed(clean, "white", 0.0, 0) - clean
    late = int(0.0033 * RATE)
    right = -np.roll(0.5 * clean, late) + 0.5 * noise[1]
    sound = np.stack([clean + 0.1 * noise[0], right])
    out = through(learned_fold(sound), sound)[0]
    # Both in time are as late as the later one; the better side alone is heard as it came.
    made = max(si_sdr(clean, out), si_sdr(clean, np.roll(out, -late)))
    left, plain = si_sdr(clean, sound[0]), si_sdr(clean, sound[0] - np.roll(right, -late))
    print(f"fold {made:.1f} dB, left alone {left:.1f}, sum in time {plain:.1f}")
    assert made > left - 1.0 and made > plain + 9.0
    low, high = (signal.butter(8, 1000, kind, fs=RATE, output="sos") for kind in ("low", "high"))
    shaped = np.stack([signal.sosfilt(low, noise[0]), signal.sosfilt(high, noise[1])])
    sound = clean + shaped * np.std(clean) / np.std(shaped, axis=1, keepdims=True)
    out = through(learned_fold(sound), sound)[0]
    best = max(si_sdr(clean, side) for side in sound)
    print(f"noise low left, high right: fold {si_sdr(clean, out):.1f} dB, better side {best:.1f}")
    assert si_sdr(clean, out) > best + 6.0 and si_sdr(clean, out) > si_sdr(clean, sound.mean(axis=0)) + 4.0


@pytest.mark.slow
@pytest.mark.parametrize("encoding", matrix.MATRICES)
def test_a_fold_is_the_same_in_every_split(encoding):
    clean = voice(1)[: 3 * RATE]
    sound = mixed(clean, "engine, wind", 5.0, 1)
    stage = learned_fold(sound)
    wanted = through(stage, sound)
    encoded = matrix.encode(sound, encoding)
    assert fold.learns(encoded, Context(RATE, encoding), 0.0).left_db == pytest.approx(
        stage.shared.learned.left_db, abs=0.05
    )
    assert through(stage, sound, split=Split(mode="mid-side", matrix=encoding)) == pytest.approx(
        wanted, abs=1e-9
    )


def test_a_fold_that_cannot_be_learned_says_why():
    noise = np.random.default_rng(0).standard_normal((2, 3 * RATE))
    for sound, words in (
        (noise[:, :2000], "1 s at least"),
        (noise * np.array([[1.0], [0.0]]), "silent"),
        (noise, "nothing in common"),
    ):
        with pytest.raises(ValueError, match=words):
            fold.learns(sound, Context(RATE), 0.0)
    plain = Fold(id=1, shared=FoldShared(late_ms=1.0))
    assert fold.learned_words(plain) == "Half of each side, as it comes"
    out = through(plain, noise)
    wanted = 0.5 * (np.concatenate([np.zeros(48), noise[0, :-48]]) + noise[1])
    assert np.abs(out[0] - wanted)[4800:-4800].max() < 1e-3


def test_a_fold_is_never_under_its_better_side():
    """Of voices and of tones that come and go, one side 30 dB noisier; the difference of what the noise leaves."""
    t, worst = np.arange(8 * RATE) / RATE, 100.0
    tones = sum(
        np.sin(2 * np.pi * 110 * 2 ** (k / 12) * t) * (np.sin(2 * np.pi * (0.2 + 0.05 * k) * t) > 0)
        for k in (0, 4, 7, 12, 16)
    )
    for sound in (clean_log()[: 8 * RATE], tones):
        for quieter_db, swapped in ((30.0, False), (35.0, True), (20.0, False)):
            rng = np.random.default_rng(3)
            noises = rng.standard_normal((2, len(sound))) * np.std(sound)
            noises *= 10 ** (-np.array([[quieter_db], [quieter_db - 30.0]]) / 20)
            sides = (sound + noises)[::-1] if swapped else sound + noises
            stage = fold.taken(Fold(id=1), fold.learns(sides, Context(RATE), 0.0))
            out = through(stage, sides)[0]
            better = sides[1] if swapped else sides[0]
            worst = min(worst, si_sdr(sound, out) - si_sdr(sound, better))
    print(f"fold against its better side: {worst:+.2f} dB at the worst")
    assert worst > -0.1


def test_hum_and_worth_are_learned_in_the_window(window, qtbot, tmp_path):
    """Without a loop from the whole recording; the notches go where the engine is, and the fold makes it mono."""
    window.document.open(excerpt_of(wheelhouse_session(), 9.0, tmp_path))
    window.start()
    window.document.set_loop(None)
    window.stages.remove(2)
    window.stages.add("hum")
    editor = window.panel.editors["hum"]
    qtbot.waitUntil(editor.isVisible)
    click(qtbot, editor.learn, QPointF(editor.learn.rect().center()))
    qtbot.waitUntil(lambda: window.stages.stage.shared.learned is not None, timeout=90_000)
    stage = window.stages.stage
    assert stage.upper.base_hz == pytest.approx(27.0, rel=0.004) and stage.lower.base_hz == 50.0
    assert editor.learned.text().startswith("Found from 0.00")
    drawn = editor.picture._curves["upper"]
    assert np.sum((drawn[1:-1] < drawn[:-2]) & (drawn[1:-1] < drawn[2:]) & (drawn[1:-1] < -35.0)) == 16
    window.stages.add("fold")
    editor = window.panel.editors["fold"]
    click(qtbot, editor.learn, QPointF(editor.learn.rect().center()))
    qtbot.waitUntil(lambda: window.stages.stage.shared.learned is not None, timeout=90_000)
    assert "in time" in editor.learned.text() and window.document.next_undo == "Fold: learned"
    window.document.undo()
    assert window.stages.stage.shared.learned is None


def test_the_curves_of_a_fold_are_named_after_the_sides_in_every_split(opened):
    for mode in ("mid-side", "left-right"):
        opened.set_split(mode, "half-sum")
        opened.stages.add("fold")
        picture = opened.panel.editors["fold"].picture
        words = picture.help_at(picture.plot().center())
        assert "Left" in words and "Right" in words and "Mid" not in words, (mode, words)
        opened.document.undo()
