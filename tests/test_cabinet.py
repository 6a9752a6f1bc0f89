"""Cabinets: microphones where geometry puts them, two of them aligned or not, responses of one's own."""

import math

import msgspec
import numpy as np
import pytest
from conftest import RATE, write_wav
from scipy import signal

from stonekite.engine.graph.chain import Chain
from stonekite.engine.offline.responses import ResponseError, read_response
from stonekite.files.audio import AudioError
from stonekite.session.types import Split, Strip
from stonekite.signal import cabinets
from stonekite.signal.cabinets import CAPSULES, SOUND, Cabinet, Placed
from stonekite.signal.filters.partitions import part_size
from stonekite.stages import cabinet
from stonekite.stages.base import At, Context
from stonekite.stages.cabinet import KIND
from stonekite.stages.cabinet.kinds import BOXES
from stonekite.stages.cabinet.settings import CabinetShared, CabinetSide, CabinetStage
from stonekite.stages.planning import still_rows

LEFT_RIGHT = Split(mode="left-right")
PISTON = Cabinet(0.13, ((0.0, 0.0),), False, 0.3, 50.0, 1.0, 0.7, 1e9, 1e9, ())
"""A stiff disc that plays everything, far over the floor."""


def through(stage, sound: np.ndarray, rate: float = RATE) -> np.ndarray:
    """Sound (2, n) through the stage alone, in time again."""
    chain = Chain(Strip(split=LEFT_RIGHT, stages=(stage,)), rate)
    late = chain.latency
    return chain.process(np.pad(sound, ((0, 0), (0, late))), 0)[:, late:]


def test_level_and_time_in_front_of_a_disc_are_those_of_geometry():
    """On the axis of a stiff disc the pressure is 2 |sin(k (sqrt(r^2 + a^2) - r) / 2)| (Kinsler and Frey, chapter 7), and
    far away it falls as 1 / r; microphones moved by 1 cm from 1 cm to 60 cm."""
    hz = np.array([200.0, 400.0, 800.0, 1600.0])
    flat = CAPSULES["omni"]._replace(low_hz=1e-3, high_hz=1e9)
    worst_db, worst_ms = 0.0, 0.0
    tones = np.linspace(14_000.0, 15_000.0, 21)
    for k in range(60):
        r = 0.01 * (k + 1)
        made = np.abs(cabinets.direct(PISTON, flat, Placed(0.0, r, 0.0), hz))
        closed = np.abs(np.sin(np.pi * hz / SOUND * (np.hypot(r, 0.13) - r)))
        closed /= np.pi * hz / SOUND * (np.hypot(0.1, 0.13) - 0.1)
        worst_db = max(worst_db, float(np.abs(20 * np.log10(made / closed)).max()))
        # What comes from the middle alone, as high tones do above the break-up: its time is that of the way.
        small = PISTON._replace(radius=0.002)
        turned = np.unwrap(np.angle(cabinets.direct(small, flat, Placed(0.03, r, 0.0), tones)))
        delay = -np.polyfit(2 * np.pi * tones, turned, 1)[0]
        worst_ms = max(worst_ms, 1000 * abs(delay - math.hypot(0.03, r) / SOUND))
    print(f"level within {worst_db:.4f} dB, time within {worst_ms:.5f} ms of geometry")
    assert worst_db < 0.1 and worst_ms < 0.01


def test_position_changes_tone_as_it_does():
    """Towards the edge highs fall; near a gradient microphone lows rise, and a pressure one has none of it; an open back
    takes the lows away from afar, and not up close."""
    hz = np.array([100.0, 4000.0])

    def level(side: CabinetSide) -> np.ndarray:
        return 20 * np.log10(np.abs(cabinet.microphone(side, 1, hz)))

    edges = [level(CabinetSide(mic_1_across_cm=x, mic_1_away_cm=3.0)) for x in (0.0, 4.0, 8.0)]
    tilt = [float(e[1] - e[0]) for e in edges]
    assert tilt[0] > tilt[1] + 2.0
    lows = {}
    for kind in ("dynamic", "ribbon", "omni"):
        close, far = (level(CabinetSide(mic_1=kind, mic_1_away_cm=d, cabinet="closed")) for d in (3.0, 40.0))
        lows[kind] = float(close[0] - far[0] - (close[1] - far[1]))
    print(f"lows up close, against far: {lows}")
    assert lows["ribbon"] > lows["dynamic"] + 1.0 > lows["omni"] + 2.0
    for d, least in ((2.0, -2.0), (60.0, 3.0)):
        shut, open_ = (
            level(CabinetSide(mic_1="omni", mic_1_away_cm=d, mic_1_across_cm=0.0, cabinet=c))[0]
            - 20 * math.log10(abs(cabinets.cone(BOXES[c].cabinet, hz[:1])[0]))
            for c in ("closed", "single")
        )
        assert shut - open_ > least
    apart = level(CabinetSide(mic_1_inverted=True)) - level(CabinetSide())
    assert np.allclose(apart, 0.0)


@pytest.mark.slow
def test_two_microphones_comb_unless_they_are_aligned():
    """13 cm apart in depth: aligned no dip of more than 1 dB from 100 Hz to 5 kHz, whatever type and distance, before
    one speaker (several make dips of their own for each microphone); unaligned where half a wave fits into the way."""
    hz = np.geomspace(100.0, 5000.0, 600)
    worst, where = 0.0, ""
    for box in (name for name, box in BOXES.items() if len(box.cabinet.places) == 1):
        for kind in CAPSULES:
            for away in (2.0, 4.0, 10.0, 25.0, 45.0):
                for across in (0.0, 5.0):
                    side = CabinetSide(
                        cabinet=box, mic_1=kind, mic_2=kind, mic_2_db=0.0, mic_1_across_cm=across,
                        mic_2_across_cm=across, mic_1_away_cm=away, mic_2_away_cm=away + 13.0, aligned=True,
                    )  # fmt: skip
                    one, two = (cabinet.microphone(side, k, hz) for k in (1, 2))
                    dip = float((20 * np.log10(np.abs(one + two) / (np.abs(one) + np.abs(two)))).min())
                    if dip < worst:
                        worst, where = dip, f"{box}, {kind}, {away} cm away, {across} cm across"
    print(f"aligned: deepest dip {worst:.2f} dB: {where}")
    assert worst > -1.0
    side = CabinetSide(mic_1="omni", mic_2="omni", mic_2_db=0.0, mic_1_across_cm=0.0, mic_2_across_cm=0.0,
                       mic_1_away_cm=45.0, mic_2_away_cm=58.0)  # fmt: skip
    one, two = (cabinet.microphone(side, k, hz) for k in (1, 2))
    sums = 20 * np.log10(np.abs(one + two) / (np.abs(one) + np.abs(two)))
    dips = hz[1:-1][(sums[1:-1] < sums[:-2]) & (sums[1:-1] < sums[2:]) & (sums[1:-1] < -6.0)]
    theory = SOUND / 0.13 * np.array([0.5, 1.5])
    print(f"unaligned: dips at {dips.round()} Hz, by theory {theory.round()}")
    assert dips[:1] == pytest.approx(theory[:1], rel=0.07)
    assert "aligned" in cabinet.words(side) and "0.38 ms" in cabinet.words(side)


@pytest.mark.slow
@pytest.mark.parametrize("rate", [8000, 44_100, 96_000])
def test_what_comes_out_is_the_convolution_and_as_drawn(rate):
    rng = np.random.default_rng(2)
    sound = rng.standard_normal((2, 2 * rate))
    stage = CabinetStage(
        id=1,
        upper=CabinetSide(mic_2_db=-3.0, room_db=-10.0, low_cut_hz=90.0),
        lower=CabinetSide(cabinet="stack", high_cut_hz=5000.0),
    )
    out = through(stage, sound, rate)
    for row, leg in enumerate(("upper", "lower")):
        taps = cabinet._routes(stage, rate)[row][0][1]
        wanted = signal.oaconvolve(sound[row], taps)[cabinet.LEAD :][: sound.shape[1]]
        off = 20 * np.log10(np.abs(out[row] - wanted).max() / np.abs(wanted).max())
        hz = np.geomspace(30, 0.4 * rate, 300)
        w = np.exp(-2j * np.pi * np.outer(hz, np.arange(len(taps)) - cabinet.LEAD) / rate)
        drawn = cabinet.response(stage, leg, hz, rate)
        shown = float(np.abs(drawn - w @ taps).max() / np.abs(drawn).max())
        print(f"{rate}, {leg}: {off:.0f} dB of oaconvolve; drawn within {shown:.1e}")
        assert off < -120.0 and shown < 2e-3


def test_a_curve_is_the_same_at_every_rate_and_that_of_the_model():
    hz = np.geomspace(60, 6000, 200)
    side = CabinetSide(cabinet="pair", mic_1="condenser", mic_1_away_cm=10.0)
    model = 20 * np.log10(np.abs(cabinet.microphone(side, 1, hz)))
    worst = 0.0
    for rate in (44_100, 48_000, 96_000, 192_000):
        made = 20 * np.log10(np.abs(cabinet.response(CabinetStage(id=1, upper=side), "upper", hz, rate)))
        worst = max(worst, float(np.abs(made - model).max()))
    print(f"made within {worst:.2f} dB of the model at every rate")
    assert worst < 0.3


def test_the_room_pair_goes_to_its_leg_or_across():
    sound = np.zeros((2, RATE // 2))
    sound[0, 100] = 1.0
    side = CabinetSide(mic_1_db=-120.0, room_db=0.0)
    for room, crosses in (("own", False), ("across", True)):
        stage = CabinetStage(id=1, upper=side, lower=side, shared=CabinetShared(room=room))
        out = through(stage, sound)
        assert bool(np.abs(out[1]).max() > 1e-3) == crosses and np.abs(out[0]).max() > 1e-3
        arrives = int(np.argmax(np.abs(out[0]) > 0.05 * np.abs(out[0]).max())) - 100
        assert abs(arrives / RATE - math.hypot(1.8, 0.5) / SOUND) < 0.001


def test_a_response_of_ones_own_is_made_ready_and_sounds_alike_at_every_rate(tmp_path):
    t = np.arange(int(0.2 * 96_000)) / 96_000
    ringing = np.exp(-t * 60) * np.sin(2 * np.pi * 700 * t)
    late = np.concatenate([np.zeros(9600), ringing, np.zeros(96_000)])
    path = write_wav(tmp_path / "box.wav", np.stack([late, late]), 96_000, subtype="FLOAT")
    own = read_response(path)
    assert own.rows == 1 and own.rate == 48_000.0 and own.fingerprint
    rows = cabinet.own_rows(own, 48_000)
    assert rows.shape[1] < 0.3 * 48_000 and int(np.argmax(np.abs(rows[0]))) < 0.002 * 48_000
    stage = CabinetStage(id=1, upper=CabinetSide(cabinet="own", own=own), lower=None)
    assert msgspec.json.decode(msgspec.json.encode(stage), type=CabinetStage) == stage
    hz = np.geomspace(200, 4000, 200)
    responses = [np.abs(cabinet.response(stage, "upper", hz, rate)) for rate in (44_100, 48_000, 192_000)]
    for one in responses:
        assert np.abs(20 * np.log10(one / responses[1])).max() < 0.1
    assert 20 * np.log10(np.sqrt(np.mean(responses[1] ** 2))) == pytest.approx(0.0, abs=0.5)
    louder = write_wav(tmp_path / "loud.wav", np.stack([0.01 * late, 0.02 * late]), 96_000, subtype="FLOAT")
    stereo = read_response(louder)
    assert stereo.rows == 2
    # What two sides give together is as loud as what goes in, however alike they are; what cancels is refused.
    other = np.concatenate([np.zeros(9600), np.exp(-t * 60) * np.sin(2 * np.pi * 1900 * t), np.zeros(96_000)])
    apart = read_response(write_wav(tmp_path / "two.wav", np.stack([late, other]), 96_000, subtype="FLOAT"))
    two = CabinetStage(id=1, upper=CabinetSide(cabinet="own", own=apart), lower=None)
    power = np.abs(cabinet.response(two, "upper", hz, 48_000)) ** 2
    assert 10 * np.log10(power.mean()) == pytest.approx(0.0, abs=0.5)
    for share in (1.0, 0.9):
        upside = write_wav(tmp_path / "down.wav", np.stack([late, -share * late]), 96_000, subtype="FLOAT")
        with pytest.raises(ResponseError, match="cancel each other"):
            read_response(upside)
    long = write_wav(
        tmp_path / "long.wav", np.random.default_rng(0).standard_normal((2, 6 * 44_100)) * 0.1, 44_100
    )
    assert len(read_response(long).samples) == 2 * 4 * 2 * 44_100
    for sound, words in ((np.zeros((2, 1000)), "silent"), (np.full((2, 50_000), 0.5), "nothing from 200 Hz")):
        bad = write_wav(tmp_path / "bad.wav", sound, 44_100)
        if words == "silent":
            with pytest.raises(ResponseError, match=words):
                read_response(bad)
    (tmp_path / "no.wav").write_bytes(b"RIFF nothing")
    with pytest.raises(AudioError):
        read_response(tmp_path / "no.wav")
    click = write_wav(tmp_path / "one.wav", np.ones((2, 1)), 44_100)
    assert read_response(click).rows == 1


def test_a_side_without_its_response_lets_everything_through():
    sound = np.random.default_rng(0).standard_normal((2, RATE))
    out = through(CabinetStage(id=1, upper=CabinetSide(cabinet="own"), lower=None), sound)
    assert out == pytest.approx(sound, abs=1e-12)


def test_latency_is_that_of_the_plan():
    stage = CabinetStage(id=1, upper=CabinetSide(), lower=None)
    context = Context(RATE)
    late = KIND.plan(stage, context).latency
    assert late == (cabinet.LEAD + part_size(cabinet._count(stage.upper, RATE)), 0)
    coefficients = KIND.coefficients(stage, context)
    block = np.zeros((2, RATE))
    block[0, 0] = 1.0
    KIND.process(KIND.start(coefficients), coefficients, block, At(0, **still_rows(stage, context)))
    first = int(np.argmax(np.abs(block[0]) > 1e-3 * np.abs(block[0]).max()))
    flight = cabinets.flight_s(cabinet.placed(stage.upper, 1)) * RATE
    assert abs(first - late[0] - flight) < 25  # the fine band has no sharper beginning
