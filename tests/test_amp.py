"""Amplifiers: what folds back, the tone network against its circuit, the times of sag and bias shift, and levels."""

import itertools
import time

import msgspec
import numpy as np
import pytest
from conftest import RATE, THOROUGH

from stonekite.signal import amplifying
from stonekite.signal.filters import tone_network
from stonekite.stages import amp
from stonekite.stages.amp import KIND, Amp, AmpShared, AmpSide
from stonekite.stages.amp.voices import VOICES
from stonekite.stages.base import At, Context
from stonekite.stages.planning import still_rows


def through(side: AmpSide, sound: np.ndarray, rate: float = RATE, quality: str = "standard") -> np.ndarray:
    """Sound (n,) through the upper leg's amplifier, as late as it is."""
    stage = Amp(id=1, upper=side, lower=None, shared=AmpShared(quality=quality))
    coefficients = KIND.coefficients(stage, Context(rate))
    block = np.stack([sound, np.zeros_like(sound)])
    at = At(0, **still_rows(stage, Context(rate)))
    KIND.process(KIND.start(coefficients), coefficients, block, at)
    return block[0]


def folded_db(side: AmpSide, hz: float, level_db: float, rate: float, quality: str) -> float:
    """The loudest line up to 20 kHz that is no overtone of a sine, in dB of all that comes out."""
    n = 1 << 14
    k = round(hz * n / rate) | 1
    t = np.arange(3 * n)
    out = through(side, 10 ** (level_db / 20) * np.sin(2 * np.pi * k * t / n), rate, quality)[2 * n :]
    power = np.abs(np.fft.rfft(out * np.hanning(n))) ** 2
    own = np.zeros(len(power), dtype=bool)
    for at in range(0, len(power) + k, k):  # with the skirts of the window
        own[max(0, at - 8) : at + 9] = True
    heard = int(20_000 * n / rate)
    return float(10 * np.log10(np.where(own, 0.0, power)[:heard].max() / power.sum()))


@pytest.mark.slow
@pytest.mark.parametrize(("quality", "goal"), [("standard", -75.0), ("high", -90.0)])
@pytest.mark.parametrize("voice", list(VOICES))
def test_what_folds_back_stays_far_under_the_tone(voice, quality, goal):
    """Each voice at its greatest gain, at any level up to full scale, whatever the input and the tone controls."""
    rates = (44_100, 48_000, 96_000)
    tones = (100, 440, 1000, 2500, 4100, 6600, 9100, 11_400, 12_500, 13_300, 14_000)
    levels, inputs = (0.0, -20.0, -40.0), (0.0, 6.0, 18.0, 24.0)
    colours = ((50.0, 100.0, 100.0), (100.0, 0.0, 100.0), (0.0, 100.0, 30.0))
    cases = list(itertools.product(rates, tones, levels, inputs, colours))
    rng = np.random.default_rng(len(voice))
    picked = cases if THOROUGH else [cases[k] for k in rng.permutation(len(cases))[:14]]
    hardest = [(44_100, hz, 0.0, 0.0, colours[k]) for hz in (12_500, 14_000) for k in (0, 1)]
    worst, where = -300.0, None
    for case in [*hardest, *picked]:
        rate, hz, level, into, (bass, middle, treble) = case
        side = AmpSide(
            voice=voice, gain=100.0, master=100.0, presence=100.0, bass=bass, middle=middle, treble=treble,
            input_db=into, sag=100.0, shift=200.0, level_db=0.0,
        )  # fmt: skip
        found = folded_db(side, hz, level, rate, quality)
        if found > worst:
            worst, where = found, case
    print(f"{voice}, {quality}: worst product {worst:.1f} dB at (rate, Hz, dBFS, input, tone) {where}")
    assert worst <= goal


def nodal(parts: tone_network.Parts, bass: float, middle: float, treble: float, hz: np.ndarray) -> np.ndarray:
    """The circuit's response by its node equations, an end of a control 1 milliohm."""
    top, out, bottom, node, joint, wiper = range(6)
    found = []
    for w in 2j * np.pi * hz:
        g, i = np.zeros((6, 6), dtype=complex), np.zeros(6, dtype=complex)

        def joined(a, b, y, g=g):
            g[a, a] += y
            if b is not None:
                g[b, b] += y
                g[a, b] -= y
                g[b, a] -= y

        for a, y in ((top, w * parts.c1), (node, 1 / parts.r4)):  # to the source of 1 V
            joined(a, None, y)
            i[a] += y
        joined(top, out, 1 / max(1e-3, (1 - treble) * parts.r1))
        joined(out, bottom, 1 / max(1e-3, treble * parts.r1))
        joined(node, bottom, w * parts.c2)
        joined(node, wiper, w * parts.c3)
        joined(bottom, joint, 1 / max(1e-3, bass * parts.r2))
        joined(joint, wiper, 1 / max(1e-3, (1 - middle) * parts.r3))
        joined(wiper, None, 1 / max(1e-3, middle * parts.r3))
        found.append(np.linalg.solve(g, i)[out])
    return np.array(found)


@pytest.mark.parametrize("voice", list(VOICES))
def test_the_tone_network_is_that_of_its_circuit(voice):
    """At 27 settings: the formula against the node equations, and what is computed with against the formula."""
    hz = np.geomspace(20, 20_000, 50)
    parts, worst, worst_digital = VOICES[voice].network, 0.0, 0.0
    for bass, middle, treble in itertools.product((0.0, 0.5, 1.0), repeat=3):
        wanted = 20 * np.log10(np.abs(nodal(parts, bass, middle, treble, hz)))
        formula = 20 * np.log10(np.abs(tone_network.response(parts, bass, middle, treble, hz)))
        worst = max(worst, float(np.abs(formula - wanted)[wanted > -60].max()))
        b, a = tone_network.digital(parts, bass, middle, treble, 8 * 44_100)
        z = np.exp(-2j * np.pi * hz / (8 * 44_100))
        made = 20 * np.log10(np.abs(np.polyval(b[::-1], z) / np.polyval(a[::-1], z)))
        worst_digital = max(worst_digital, float(np.abs(made - wanted)[wanted > -60].max()))
    print(f"{voice}: formula within {worst:.5f} dB, as computed within {worst_digital:.3f} dB")
    assert worst < 0.01 and worst_digital < 0.2


@pytest.mark.parametrize("rate", [44_100, 96_000])
@pytest.mark.parametrize("voice", list(VOICES))
def test_what_is_quiet_comes_out_as_the_response_says(voice, rate):
    side = AmpSide(voice=voice, gain=35.0, bass=30.0, middle=60.0, treble=70.0, presence=50.0, master=40.0)
    sound = np.zeros(2 * rate)
    sound[100] = 1e-5
    made = np.fft.rfft(through(side, sound, rate)) / 1e-5
    hz = np.fft.rfftfreq(len(sound), 1 / rate)
    heard = (hz > 30) & (hz < 15_000)
    wanted = amp.response(Amp(id=1, upper=side), "upper", hz[heard], rate)
    off = 20 * np.log10(np.abs(made[heard]) / np.abs(wanted))
    print(f"{voice} at {rate}: {off.min():.3f} to {off.max():.3f} dB of the drawn response")
    assert np.abs(off[hz[heard] < 1500]).max() < 0.1 and np.abs(off).max() < 0.5


def settled(values: np.ndarray, rate: float) -> float:
    """The time constant in s of a value that goes exponentially from its first to its last one."""
    gone = np.abs(values - values[-1]) / abs(values[0] - values[-1])
    first, last = int(np.argmax(gone < 0.7)), int(np.argmax(gone < 0.2))
    return (last - first) / rate / np.log(gone[first] / gone[last])


@pytest.mark.slow
@pytest.mark.parametrize("voice", list(VOICES))
def test_bias_and_supply_move_in_the_times_that_are_documented(voice):
    """A tone that drives everything hard comes and goes: the followers within 5 % of the voice's times."""
    known = VOICES[voice]
    t = np.arange(int(7.0 * RATE)) / RATE
    sound = np.where(t < 3.0, 6.0 * np.sin(2 * np.pi * 9000 * t), 0.0)
    on, skip, step = int(3.0 * RATE / 16), int(0.008 * RATE / 16), 16  # until what is followed is steady
    for name, shift, row, times in (
        ("bias", 100.0, 0, known.shift_s),
        ("supply", 0.0, amplifying.STAGES, known.sag_s),
    ):
        side = AmpSide(voice=voice, gain=100.0, master=100.0, sag=100.0, shift=shift)
        made = KIND.coefficients(Amp(id=1, upper=side, lower=None), Context(RATE))
        leg = amplifying.Amplifier(made.legs[0])
        values = []
        for k in range(0, len(sound), step):
            heard = sound[k : k + step].copy()
            amplifying.amplify((leg, leg), (heard, heard), k, made.alone[0])
            values.append(leg.states[row, 5])
        found = np.array(values)
        up, down = settled(found[skip:on], RATE / step), settled(found[on + skip :], RATE / step)
        print(
            f"{voice}, {name}: {1000 * up:.1f} ms ({1000 * times[0]:.0f}), "
            f"back {1000 * down:.0f} ({1000 * times[1]:.0f})"
        )
        assert found[on - 1] > 0.02
        assert up == pytest.approx(times[0], rel=0.05) and down == pytest.approx(times[1], rel=0.05)


@pytest.mark.parametrize("voice", list(VOICES))
def test_nothing_steady_comes_out_and_silence_stays_silent(voice):
    side = AmpSide(voice=voice, gain=100.0, master=100.0, level_db=0.0)
    assert not through(side, np.zeros(RATE)).any()
    t = np.arange(4 * RATE) / RATE
    tone = through(side, 0.3 * np.sin(2 * np.pi * 220 * t))[RATE:]
    assert np.std(tone) > 0.2 and abs(tone.mean()) < 1e-4
    pushed = through(side, np.full(4 * RATE, 0.5))
    assert np.abs(pushed[3 * RATE :]).max() < 1e-6


@pytest.mark.slow
def test_silence_after_sound_costs_no_more_than_sound():
    side = AmpSide(voice="obsidian", gain=100.0)
    sound = 0.1 * np.random.default_rng(0).standard_normal(2 * RATE)
    faded = np.concatenate([sound[: RATE // 10], np.zeros(20 * RATE)])
    through(side, sound)
    begun = time.perf_counter()
    through(side, np.resize(sound, len(faded)))
    loud = time.perf_counter() - begun
    begun = time.perf_counter()
    out = through(side, faded)
    assert time.perf_counter() - begun < 2.0 * loud
    assert np.abs(out[-RATE:]).max() < 1e-15


def test_the_input_is_set_to_what_plays():
    """Half a minute of nothing, then a tone: how loud it is while it plays; on a silent leg nothing is set."""
    t = np.arange(3 * RATE) / RATE
    sound = np.stack([np.where(t > 1.5, 0.1 * np.sin(2 * np.pi * 300 * t), 0.0), np.zeros(len(t))])
    learned = amp.learning.learns(sound, Context(RATE), 2.0)
    assert learned.levels_db[0] == pytest.approx(20 * np.log10(0.1 / np.sqrt(2)), abs=0.1)
    stage = amp.taken(Amp(id=1), learned)
    assert stage.upper.input_db == pytest.approx(amp.NOMINAL_DB - learned.levels_db[0], abs=0.06)
    assert stage.lower.input_db == 0.0
    assert "−23.0 dBFS and silent" in amp.learned_words(stage)
    assert msgspec.json.decode(msgspec.json.encode(learned), type=amp.Learned) == learned
    for quiet, words in ((np.zeros((2, RATE)), "silent"), (np.ones((2, 100)), "0.5 s at least")):
        with pytest.raises(ValueError, match=words):
            amp.learning.learns(quiet, Context(RATE), 0.0)


def test_how_hard_the_parts_work_is_told():
    side = AmpSide(voice="basalt", gain=100.0, input_db=12.0)
    stage = Amp(id=1, upper=side, lower=AmpSide(voice="slate", gain=0.0))
    assert amp.parts_worked(stage, "upper") == ("1", "2", "3", "power")
    coefficients = KIND.coefficients(stage, Context(RATE))
    state = KIND.start(coefficients)
    t = np.arange(RATE) / RATE
    at = At(0, **still_rows(stage, Context(RATE)))
    KIND.process(state, coefficients, np.stack([0.3 * np.sin(2 * np.pi * 500 * t)] * 2), at)
    worked = amp.worked_db(state)
    assert worked[0, 0] == pytest.approx(20 * np.log10(0.3 * 10 ** (26 / 20)), abs=1.5)
    assert worked[0, :3].min() > 6.0 and worked[1, :2].max() < -3.0 and worked[1, 3] < -100
