"""Filter, EQ, gain and width at work, against scipy, theory and closed forms."""

import itertools

import msgspec
import numpy as np
import pytest
from conftest import RATE, noise, sine, write_wav
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import signal
from test_design import FREQUENCIES, prototype_db

from stonekite.engine.graph.chain import Chain
from stonekite.engine.mix.strip import StripPlayer
from stonekite.engine.offline.render import rendered
from stonekite.engine.play.audition import Audition, auditioned
from stonekite.engine.play.playback import Playback
from stonekite.files.audio import Reader
from stonekite.session.types import Split, Strip
from stonekite.signal.filters import long_designs
from stonekite.signal.matrix import MATRICES, encode
from stonekite.stages.compressor import Compressor, CompressorSide
from stonekite.stages.drive import Drive, DriveSide
from stonekite.stages.dynamic_eq import Band as DynamicBand
from stonekite.stages.dynamic_eq import DynamicEq, DynamicEqSide
from stonekite.stages.eq import SHAPES, WITH_SLOPE, Band, Eq, EqShared, EqSide, side_sections
from stonekite.stages.filter import Filter, FilterSide
from stonekite.stages.gain import Gain, GainSide
from stonekite.stages.gate import Gate, GateSide
from stonekite.stages.limiter import Limiter, LimiterSide
from stonekite.stages.registry import KINDS, heard_response
from stonekite.stages.width import Width, WidthShared, WidthSide, crossover

LEFT_RIGHT = Split(mode="left-right")
SLOPES = (6, 12, 18, 24, 36, 48)


def through(strip: Strip, sound: np.ndarray) -> np.ndarray:
    """Sound through a strip, its latency taken out."""
    chain = Chain(strip, RATE)
    out = chain.process(np.concatenate([sound, np.zeros((2, chain.latency))], axis=1), 0)
    return out[:, chain.latency :]


def bands(*many: Band, **more) -> EqSide:
    return EqSide(bands=many, **more)


def band_prototype_db(band: Band, f: np.ndarray) -> np.ndarray:
    """Magnitude in dB of a band's analogue prototype, by scipy."""
    if band.shape == "tilt":
        return prototype_db("high-shelf", band.frequency_hz, band.gain_db, band.q, f) - band.gain_db / 2
    if band.shape not in WITH_SLOPE:
        return prototype_db(band.shape, band.frequency_hz, band.gain_db, band.q, f)
    zeros, poles, gain = signal.butter(
        band.slope // 6, 1.0, band.shape.replace("-", ""), analog=True, output="zpk"
    )
    sharpest = np.isclose(np.abs(poles.real), np.abs(poles.real).min()) & (np.abs(poles.imag) > 1e-9)
    for k in np.flatnonzero(sharpest):  # Q 0.71 is the Butterworth filter, any other scales the sharpest pair
        real = poles[k].real * np.sqrt(0.5) / band.q
        poles[k] = real + 1j * np.sign(poles[k].imag) * np.sqrt(max(0.0, 1 - real * real))
    return 20 * np.log10(
        np.maximum(np.abs(signal.freqs_zpk(zeros, poles, gain, f / band.frequency_hz)[1]), 1e-12)
    )


RANGES_HZ = {"high-pass": (30, 300), "low-pass": (4000, 16_000)}


def random_eq(seed: int) -> tuple[Band, ...]:
    """Sixteen bands of all shapes; cuts stand where they leave something to look at."""
    rng = np.random.default_rng(seed)
    shapes = list(SHAPES)
    return tuple(
        Band(
            shape=shapes[k % len(shapes)],
            frequency_hz=float(
                np.exp(rng.uniform(*np.log(RANGES_HZ.get(shapes[k % len(shapes)], (50, 16_000)))))
            ),
            gain_db=float(rng.uniform(-12, 12)),
            q=0.7071
            if shapes[k % len(shapes)] in WITH_SLOPE
            else float(np.exp(rng.uniform(np.log(0.5), np.log(6)))),
            slope=SLOPES[int(rng.integers(len(SLOPES)))],
        )
        for k in range(16)
    )


def response_db(sections: np.ndarray, rate: float) -> np.ndarray:
    full = np.insert(sections, 3, 1.0, axis=1)
    return 20 * np.log10(np.maximum(np.abs(signal.sosfreqz(full, FREQUENCIES, fs=rate)[1]), 1e-12))


@pytest.mark.slow
@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
def test_sixteen_bands_of_all_shapes_and_slopes_follow_their_prototypes(rate):
    worst = 0.0
    for seed in range(12):
        many = random_eq(seed)
        wanted = sum(band_prototype_db(band, FREQUENCIES) for band in many)
        cuts = [band_prototype_db(b, FREQUENCIES) for b in many if b.shape in (*WITH_SLOPE, "notch")]
        heard = np.min(cuts, axis=0) > -24
        miss = np.abs(response_db(side_sections(bands(*many), rate), rate) - wanted)
        worst = max(worst, miss[heard].max())
    print(f"sixteen bands at {rate} Hz: worst {worst:.3f} dB")
    assert worst <= 0.1


@pytest.mark.parametrize("gain", [-24, -9, 5, 18])
def test_a_tilt_turns_about_its_frequency(gain):
    f = np.array([20.0, 1000.0, 20_000.0])
    side = bands(Band(shape="tilt", frequency_hz=1000, gain_db=gain, q=0.5))
    made = 20 * np.log10(np.abs(KINDS["eq"].response(Eq(id=1, upper=side), "upper", f, 96_000)))
    assert made == pytest.approx([-gain / 2, 0, gain / 2], abs=0.35)


PHASES = ("linear", "matched")
CURVE = bands(
    Band(frequency_hz=60, gain_db=8, q=1.5),
    Band(frequency_hz=1200, gain_db=-9, q=3),
    Band(shape="high-shelf", frequency_hz=7000, gain_db=6),
)


def impulse_spectrum(strip: Strip, size: int = 2**18) -> tuple[np.ndarray, np.ndarray]:
    """Frequencies and spectra (2, bins) of both legs' responses, latency taken out."""
    chain = Chain(strip, RATE)
    sound = np.zeros((2, size))
    sound[:, 0] = 1.0
    out = np.roll(chain.process(sound, 0), -chain.latency, axis=1)
    return np.fft.rfftfreq(size, 1 / RATE), np.fft.rfft(out, axis=1)


@pytest.mark.parametrize(
    "side",
    [
        CURVE,
        bands(Band(frequency_hz=50, gain_db=12, q=6)),
        bands(Band(frequency_hz=25, gain_db=-12, q=2), Band(shape="low-shelf", frequency_hz=50, gain_db=-12)),
        bands(
            Band(shape="high-pass", frequency_hz=50, slope=48),
            Band(shape="low-pass", frequency_hz=9000, slope=24),
        ),
        bands(*(b for b in random_eq(3) if b.shape != "notch")),
    ],
)
def test_linear_phase_has_the_magnitude_and_no_phase(side):
    strip = Strip(
        split=LEFT_RIGHT, stages=(Eq(id=2, upper=side, lower=side, shared=EqShared(phase="linear")),)
    )
    f, spectra = impulse_spectrum(strip)
    full = np.insert(side_sections(side, RATE), 3, 1.0, axis=1)
    wanted = np.abs(signal.sosfreqz(full, f, fs=RATE)[1])
    heard = (f >= 20) & (wanted > 10 ** (-24 / 20))
    miss = np.abs(20 * np.log10(np.abs(spectra[0][heard]) / wanted[heard])).max()
    print(f"linear phase: worst {miss:.4f} dB")
    assert miss <= 0.05
    assert np.abs(np.angle(spectra[0][heard])).max() < 2e-3


def test_linear_phase_rings_no_longer_than_its_latency_says():
    stage = Eq(id=2, upper=CURVE, lower=None, shared=EqShared(phase="linear"))
    chain = Chain(Strip(split=LEFT_RIGHT, stages=(stage,)), RATE)
    sound = np.zeros((2, 200_000))
    sound[:, 90_000] = 1.0
    out = chain.process(sound, 0)
    half = long_designs.reach((side_sections(CURVE, RATE), None), "linear", RATE)
    assert half < chain.latency
    first = np.flatnonzero(np.abs(out[0]) > 1e-14)[0]
    assert 90_000 + chain.latency - half <= first
    assert np.array_equal(out[1], np.roll(sound[1], chain.latency))  # the other leg passes, in time


def test_matched_legs_turn_alike_and_keep_their_magnitudes():
    stage = Eq(id=2, upper=None, lower=CURVE, shared=EqShared(phase="matched"))
    f, (upper, lower) = impulse_spectrum(Strip(split=LEFT_RIGHT, stages=(stage,)))
    heard = (f >= 20) & (f < 22_000)
    wanted = signal.sosfreqz(np.insert(side_sections(CURVE, RATE), 3, 1.0, axis=1), f, fs=RATE)[1]
    assert np.abs(20 * np.log10(np.abs(upper[heard]))).max() < 0.05
    assert np.abs(20 * np.log10(np.abs(lower[heard] / wanted[heard]))).max() < 0.05
    assert np.abs(np.angle(lower[heard] / upper[heard])).max() < 0.005
    assert np.abs(np.angle(lower[heard] / wanted[heard])).max() < 0.005


STEEP = {
    "low-pass 48": bands(Band(shape="low-pass", frequency_hz=200, slope=48)),
    "high-pass 48": bands(Band(shape="high-pass", frequency_hz=1000, slope=48)),
    "twice 48": bands(*[Band(shape="high-pass", frequency_hz=300, slope=48)] * 2),
    "high-pass 12": bands(Band(shape="high-pass", frequency_hz=100, slope=12)),
    "high-pass 6": bands(Band(shape="high-pass", frequency_hz=500, slope=6)),
    "high-pass 18": bands(Band(shape="high-pass", frequency_hz=1000, slope=18)),
    "notch": bands(Band(shape="notch", frequency_hz=1000, q=4)),
    "low notch": bands(Band(shape="notch", frequency_hz=60, q=12)),
    "deep bell": bands(Band(frequency_hz=100, q=12, gain_db=-24)),
    "many": bands(*(b for b in random_eq(4))),
}


@pytest.mark.slow
@pytest.mark.parametrize("name", list(STEEP))
def test_matched_legs_stay_flat_beside_steep_cuts_and_are_drawn_as_they_play(name):
    stage = Eq(id=2, upper=None, lower=STEEP[name], shared=EqShared(phase="matched"))
    f, spectra = impulse_spectrum(Strip(split=LEFT_RIGHT, stages=(stage,)))
    heard = (f >= 20) & (f < 20_000)
    flat = np.abs(20 * np.log10(np.abs(spectra[0][heard]))).max()
    wanted = signal.sosfreqz(np.insert(side_sections(STEEP[name], RATE), 3, 1.0, axis=1), f, fs=RATE)[1]
    loud = heard & (np.abs(wanted) > 10 ** (-20 / 20))
    off = np.abs(20 * np.log10(np.abs(spectra[1][loud] / wanted[loud]))).max()
    apart = np.abs(np.angle(spectra[1][loud] / spectra[0][loud])).max()
    some = heard & (np.arange(len(f)) % 37 == 0)
    drawn = KINDS["eq"].response(stage, "lower", f[some], RATE)
    drawn_off = np.abs(np.abs(drawn) - np.abs(spectra[1][some])).max()
    print(f"{name}: {flat:.3f} dB, its own {off:.2f} dB, apart by {apart:.4f}, drawn {drawn_off:.5f} off")
    assert flat < 0.1 and off < 0.5 and apart < 0.02
    assert drawn_off < 2e-3


@pytest.mark.parametrize("name", ["notch", "low notch", "many"])
def test_linear_phase_is_drawn_as_it_plays(name):
    stage = Eq(id=2, upper=STEEP[name], lower=None, shared=EqShared(phase="linear"))
    f, spectra = impulse_spectrum(Strip(split=LEFT_RIGHT, stages=(stage,)))
    some = (f >= 20) & (f < 20_000) & (np.arange(len(f)) % 37 == 0)
    drawn = KINDS["eq"].response(stage, "upper", f[some], RATE)
    assert np.abs(np.abs(drawn) - np.abs(spectra[0][some])).max() < 2e-3


@pytest.mark.parametrize("mix", [20, 50, 80])
def test_a_mix_of_matched_legs_has_no_comb(mix):
    """What is dry has turned as what is wet has: the sum of both magnitudes comes out, and the legs stay together."""
    side = msgspec.structs.replace(STEEP["high-pass 48"], mix=mix)
    stage = Eq(id=2, upper=side, lower=bands(Band(gain_db=6), mix=mix), shared=EqShared(phase="matched"))
    f, spectra = impulse_spectrum(Strip(split=LEFT_RIGHT, stages=(stage,)))
    heard = (f >= 20) & (f < 20_000)
    own = [
        np.abs(signal.sosfreqz(np.insert(side_sections(s, RATE), 3, 1.0, axis=1), f, fs=RATE)[1])
        for s in (side, stage.lower)
    ]
    for row in range(2):
        wanted = 1 + mix / 100 * (own[row] - 1)
        assert np.abs(20 * np.log10(np.abs(spectra[row][heard]) / wanted[heard])).max() < 0.1
        drawn = heard_response(stage, ("upper", "lower")[row], f[heard][::97], RATE)
        assert np.abs(np.abs(drawn) - wanted[heard][::97]).max() < 2e-3
    assert np.abs(np.angle(spectra[0][heard] / spectra[1][heard])).max() < 0.02


@pytest.mark.parametrize("slope", [12, 24, 48])
@pytest.mark.parametrize("mix", [10, 50, 90])
@pytest.mark.parametrize("split", [LEFT_RIGHT, Split()])
def test_a_centred_sound_stays_at_its_level_where_the_low_end_is_mono(slope, mix, split):
    stage = Width(
        id=2,
        upper=WidthSide(mix=mix),
        lower=WidthSide(mix=mix),
        shared=WidthShared(mono_below=True, mono_hz=120, slope=slope),
    )
    size = 1 << 16
    centre = np.zeros((2, size))
    centre[:, 0] = 1.0
    level = 20 * np.log10(np.abs(np.fft.rfft(through(Strip(split=split, stages=(stage,)), centre), axis=1)))
    assert np.abs(level[:, 20:]).max() < 0.01
    high = np.fft.rfft(through(Strip(split=split, stages=(stage,)), centre)[0])[12_000]
    assert abs(np.angle(high)) < 0.1  # and nothing above it is upside down


@pytest.mark.parametrize("phase", ["minimum", "matched"])
def test_a_side_eq_leaves_the_centre_and_moves_a_hard_left_source_as_theory_says(phase):
    boost = bands(Band(frequency_hz=1000, gain_db=12, q=1))
    strip = Strip(stages=(Eq(id=2, upper=None, lower=boost, shared=EqShared(phase=phase)),))
    centre = np.repeat(noise(0.5)[:1], 2, axis=0)
    out = through(strip, centre)
    assert np.array_equal(out[0], out[1])
    # A hard-left sine: the side grows by |H| and, in minimum phase, turns by its angle against the middle.
    for hertz in (700.0, 1000.0, 1500.0):
        tone = sine(hertz, 1.0, -12)
        tone[1] = 0.0
        left, right = np.sqrt(np.mean(through(strip, tone)[:, 16_000:40_000] ** 2, axis=1))
        h = signal.sosfreqz(np.insert(side_sections(boost, RATE), 3, 1.0, axis=1), [hertz], fs=RATE)[1][0]
        if phase == "matched":
            h = abs(h)
        wanted = 20 * np.log10(abs(1 + h) / abs(1 - h))
        print(
            f"{phase} legs at {hertz:.0f} Hz: left over right {20 * np.log10(left / right):.2f} dB, theory {wanted:.2f}"
        )
        assert 20 * np.log10(left / right) == pytest.approx(wanted, abs=0.05)


@pytest.mark.parametrize("phase", PHASES)
def test_a_flat_long_filter_on_one_leg_is_aligned_to_the_sample(phase, tmp_path):
    """+6 and -6 dB at one frequency cancel; only one leg is late, and the engine holds the other back."""
    flat = bands(Band(frequency_hz=800, gain_db=6), Band(frequency_hz=800, gain_db=-6))
    path = write_wav(tmp_path / "a.wav", noise(1.0))
    strip = Strip(stages=(Eq(id=2, upper=None, lower=flat, shared=EqShared(phase=phase)),))
    with Reader(path) as reader:
        residual = max(np.abs(a - b).max() for a, b in rendered(reader, strip))
    print(f"{phase}: null of a flat session {20 * np.log10(residual):.0f} dBFS")
    assert 20 * np.log10(residual) < -120


LONG = Strip(stages=(Eq(id=2, upper=CURVE, lower=None, shared=EqShared(phase="linear")),))


@given(st.lists(st.integers(1, 29_999), max_size=12))
@settings(max_examples=10, deadline=None)
def test_long_filters_do_not_depend_on_the_block_size(edges):
    sound = noise(30_000 / RATE)
    wanted = Chain(LONG, RATE).process(sound, 0)
    chain = Chain(LONG, RATE)
    places = sorted({0, 30_000, *edges})
    out = [chain.process(sound[:, a:b].copy(), a) for a, b in itertools.pairwise(places)]
    assert np.array_equal(np.concatenate(out, axis=1), wanted)


def test_playing_a_late_strip_gives_what_an_export_gives_and_starts_where_asked(recording):
    with Reader(recording) as reader:
        wanted = np.concatenate([out for _, out in rendered(reader, LONG)], axis=1)
        playback = Playback(reader, LONG)
        playback.play()
        assert playback.heard_position == 0
        out = np.concatenate([playback.read(512) for _ in range(200)], axis=1)
        assert np.array_equal(out[:, : wanted.shape[1]], wanted)
        playback.seek(50_000)
        playback.play()
        assert playback.heard_position == 50_000
        out = np.concatenate([playback.read(480) for _ in range(20)], axis=1)
        assert np.abs(out[:, 480:] - wanted[:, 50_480 : 50_000 + out.shape[1]]).max() < 1e-6
        playback.pause()
        assert playback.heard_position == 50_000 + 20 * 480


def test_switching_the_phase_glides_in_result_and_reference():
    tone = sine(100, 3.0, -6)
    player = StripPlayer(Strip(split=LEFT_RIGHT, stages=(Eq(id=2, upper=CURVE, lower=CURVE),)), RATE)
    steps, references = [], []
    for k, start in enumerate(range(0, tone.shape[1] - 512, 512)):
        if k > 100 and k % 20 == 10:
            phase = ("linear", "matched", "minimum")[k // 20 % 3]
            player.update(
                Strip(
                    split=LEFT_RIGHT,
                    stages=(Eq(id=2, upper=CURVE, lower=CURVE, shared=EqShared(phase=phase)),),
                ),
                start,
            )
        block = tone[:, start : start + 512]
        references.append(player.reference(block))
        steps.append(player.process(block, start))
    own = 0.5 * 2 * np.pi * 100 / RATE * 10 ** (6 / 20)
    late = 40_000  # the first word comes when the delay lines are full
    assert np.abs(np.diff(np.concatenate(steps, axis=1), axis=1)).max() < 3 * own
    assert np.abs(np.diff(np.concatenate(references, axis=1)[:, late:], axis=1)).max() < 3 * own


@pytest.mark.parametrize("kind", list(KINDS))
def test_half_a_mix_is_half_of_each_in_time(kind):
    sound = noise(1.0)
    full = STAGES.get(kind) or KINDS[kind].stage(id=2)
    sides = {leg: type(getattr(full, leg)) for leg in ("upper", "lower")}
    full = type(full)(**{**_fields(full), **{leg: _mixed(getattr(full, leg), 100) for leg in sides}})
    half = type(full)(**{**_fields(full), **{leg: _mixed(getattr(full, leg), 50) for leg in sides}})
    none = type(full)(**{**_fields(full), **{leg: _mixed(getattr(full, leg), 0) for leg in sides}})
    split = Split()
    wet = encode(through(Strip(split=split, stages=(full,)), sound))
    mixed = encode(through(Strip(split=split, stages=(half,)), sound))
    dry = encode(through(Strip(split=split, stages=(none,)), sound))
    assert np.abs(mixed - 0.5 * (wet + dry)).max() < 1e-12
    if kind == "width":  # it turns the phase of all that it lets through, and of what is dry with it
        _, both = crossover(120, 24, RATE)
        wanted = signal.sosfilt(np.insert(both, 3, 1.0, axis=1), encode(sound))
        assert np.abs(dry - wanted).max() < 1e-12
    elif KINDS[kind].dry is None:
        assert np.abs(dry - encode(sound)).max() < 1e-15
    change = type(full)(**{**_fields(full), "change_only": True})
    assert np.abs(encode(through(Strip(split=split, stages=(change,)), sound)) - (wet - dry)).max() < 1e-12


def _fields(stage) -> dict:
    return {name: getattr(stage, name) for name in stage.__struct_fields__}


def _mixed(side, percent):
    return type(side)(**{**{n: getattr(side, n) for n in side.__struct_fields__}, "mix": percent})


STAGES = {
    "compressor": Compressor(
        id=2,
        upper=CompressorSide(threshold_db=-40, look_ahead_ms=3),
        lower=CompressorSide(threshold_db=-30, makeup_db=3),
    ),
    "drive": Drive(
        id=2,
        upper=DriveSide(curve="hard", drive_db=20, asymmetry=40),
        lower=DriveSide(tone_before_db=6),
    ),
    "dynamic-eq": DynamicEq(
        id=2,
        upper=DynamicEqSide(
            bands=(DynamicBand(threshold_db=-60), None, DynamicBand(shape="low-shelf", range_db=6))
        ),
        lower=DynamicEqSide(bands=(DynamicBand(shape="high-shelf", threshold_db=-50),), look_ahead_ms=2),
    ),
    "limiter": Limiter(id=2, upper=LimiterSide(drive_db=12), lower=LimiterSide(drive_db=20, ceiling_db=-12)),
    "gate": Gate(id=2, upper=GateSide(threshold_db=-20), lower=GateSide(threshold_db=-15, look_ahead_ms=1)),
    "eq": Eq(id=2, upper=CURVE, lower=CURVE, shared=EqShared(phase="linear")),
    "filter": Filter(id=2, upper=FilterSide(high_pass=True), lower=FilterSide(low_pass=True)),
    "gain": Gain(id=2, upper=GainSide(gain_db=-3), lower=GainSide(gain_db=2, inverted=True)),
    "width": Width(id=2, shared=WidthShared(width=150, mono_below=True)),
}


def test_level_kept_gives_back_what_was_measured():
    sound = noise(0.2)
    stage = Gain(id=2, upper=GainSide(gain_db=6), lower=GainSide(gain_db=6), level_kept=True, kept_db=-6.0)
    assert np.abs(through(Strip(stages=(stage,)), sound) - sound).max() < 1e-12


@pytest.mark.parametrize("split", [LEFT_RIGHT, *(Split(matrix=m) for m in MATRICES)])
def test_width_is_the_same_image_in_every_split(split):
    sound = noise(0.3)
    out = through(Strip(split=split, stages=(Width(id=2, shared=WidthShared(width=40)),)), sound)
    assert np.abs(encode(out) - encode(sound) * [[1.0], [0.4]]).max() < 1e-12
    one = Width(id=2, lower=None, shared=WidthShared(width=0))
    out = through(Strip(split=LEFT_RIGHT, stages=(one,)), sound)
    assert np.abs(out[0] - encode(sound)[0]).max() < 1e-12 and np.array_equal(out[1], sound[1])


@pytest.mark.parametrize("slope", [12, 24, 48])
def test_mono_below_is_steep_and_true_in_phase(slope):
    f = np.geomspace(10, 20_000, 500)
    high, both = crossover(150.0, slope, RATE)
    h, a = (signal.sosfreqz(np.insert(rows, 3, 1.0, axis=1), f, fs=RATE)[1] for rows in (high, both))
    assert np.abs(np.abs(a) - 1).max() < 1e-9
    heard = np.abs(h) > 1e-4
    assert np.abs(np.angle(h[heard] / a[heard])).max() < 1e-6
    wanted = 1 / (1 + (np.tan(np.pi * 150 / RATE) / np.tan(np.pi * f / RATE)) ** (slope // 6))
    assert np.abs(h) == pytest.approx(wanted, abs=1e-9)
    wide = sine(30, 1.0, -6)
    wide[1] *= -1
    stage = Width(id=2, shared=WidthShared(mono_below=True, mono_hz=150, slope=slope))
    out = through(Strip(stages=(stage,)), wide)
    assert np.abs(out[:, 20_000:]).max() < 0.5 * (30 / 150) ** (slope / 6) * 1.1


def test_sides_that_are_off_pass():
    sound = noise(0.2)
    for stage in (
        Width(id=2, upper=WidthSide(), lower=None, shared=WidthShared(width=0)),
        Filter(id=2, upper=None, lower=None),
    ):
        assert np.abs(through(Strip(stages=(stage,)), sound) - sound).max() < 1e-15


def test_auditions_play_a_stage_out_its_change_and_the_range_of_a_band():
    sound = noise(0.5)
    stage = Eq(id=2, upper=bands(Band(frequency_hz=1000, gain_db=9, q=2)), lower=EqSide())
    strip = Strip(stages=(stage,))
    assert auditioned(strip, None) is strip and auditioned(strip, Audition(9, "out")) is strip
    assert np.array_equal(through(auditioned(strip, Audition(2, "out")), sound), sound)
    change = through(auditioned(strip, Audition(2, "change")), sound)
    assert np.abs(change - (through(strip, sound) - sound)).max() < 1e-12
    only = encode(through(auditioned(strip, Audition(2, "band", "upper", 0)), sound))
    f, power = signal.welch(only[0], RATE, nperseg=4096)
    around = (f > 800) & (f < 1250)
    assert power[around].mean() > 100 * power[(f < 350) | (f > 2900)].mean()
    assert np.abs(only[1]).max() < 0.05 * np.abs(only[0]).max()
