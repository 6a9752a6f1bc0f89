"""Typed entry, tapers and words, all from the declaration."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from stonekite.session.types import Leg
from stonekite.stages.compressor import CompressorSide
from stonekite.stages.describe import described
from stonekite.stages.eq import Band
from stonekite.stages.registry import KINDS
from stonekite.stages.settings import Setting, settings_of

BAND, LEG = settings_of(Band), settings_of(Leg)


@pytest.mark.parametrize(
    ("setting", "text", "value"),
    [
        (BAND["frequency_hz"], "1.2k", 1200),
        (BAND["frequency_hz"], "1,2 kHz", 1200),
        (BAND["frequency_hz"], " 440 Hz ", 440),
        (BAND["gain_db"], "-3", -3),
        (BAND["gain_db"], "−3.5 dB", -3.5),
        (BAND["gain_db"], "+.5", 0.5),
        (BAND["q"], "0.7", 0.7),
        (LEG["level_db"], "-inf", -120),
        (LEG["level_db"], "−∞ dB", -120),
        (LEG["level_db"], "off", -120),
    ],
)
def test_typed_values(setting, text, value):
    assert setting.typed(text) == pytest.approx(value)


@pytest.mark.parametrize(
    ("setting", "text", "said"),
    [
        (BAND["frequency_hz"], "loud", "not a number"),
        (BAND["frequency_hz"], "40k", "from 20.0 Hz to 20.0 kHz"),
        (BAND["frequency_hz"], "3 dB", "is in Hz"),
        (BAND["gain_db"], "3 ms", "not in"),
        (BAND["gain_db"], "", "not a number"),
        (LEG["level_db"], "13", "out of range"),
    ],
)
def test_what_is_not_a_value_is_refused_with_a_sentence(setting, text, said):
    with pytest.raises(ValueError, match=said):
        setting.typed(text)


@pytest.mark.parametrize("setting", [BAND["frequency_hz"], BAND["gain_db"], BAND["q"], LEG["level_db"]])
@given(travel=st.floats(0.05, 1))
def test_travel_and_value_are_inverse(setting, travel):
    assert setting.to_travel(setting.from_travel(travel)) == pytest.approx(travel, abs=1e-9)


@given(st.floats(-24, 24))
def test_what_is_shown_can_be_typed(gain):
    assert BAND["gain_db"].typed(BAND["gain_db"].shown(gain)) == pytest.approx(gain, abs=0.051)


def test_steps_and_limits():
    assert BAND["frequency_hz"].stepped(1000, 12) == pytest.approx(2000)
    assert BAND["gain_db"].stepped(23.9, 5) == 24
    assert LEG["level_db"].stepped(-60, -1) == -120
    assert LEG["level_db"].stepped(-120, 1) == -60


def test_every_kind_describes_every_setting():
    for kind in KINDS.values():
        table = described(kind)["settings"]
        assert table and all(row["label"] and row["help"] and row["range"] for row in table.values())


def test_ratios_and_times_are_shown_and_typed_as_people_do():
    ratio, attack, knee = (settings_of(CompressorSide)[n] for n in ("ratio", "attack_ms", "knee_db"))
    assert [ratio.shown(v) for v in (3.0, 100.0)] == ["3.00 : 1", "∞ : 1"]
    assert [ratio.typed(t) for t in ("4", "4:1", "2.5 : 1", "∞", "inf")] == [4, 4, 2.5, 100, 100]
    assert [attack.shown(v) for v in (0.5, 12.0, 250.0)] == ["0.50 ms", "12.0 ms", "250 ms"]
    assert attack.typed("20 ms") == 20 and knee.shown(6.0) == "6.0 dB"


def test_a_setting_that_goes_round_comes_in_on_the_other_side():
    phase = Setting(
        label="Phase", help="", unit="°", low=0.0, high=360.0, step=15.0, decimals=0, goes_round=True
    )
    assert phase.held(370.0) == 10.0 and phase.held(-90.0) == 270.0 and phase.held(360.0) == 360.0
    assert phase.stepped(350.0, 1) == 5.0
    assert phase.moved_with(300.0, 0.0, 90.0) == 30.0  # the offset to its partner stays
    assert phase.shown(90.0) == "90 °" and phase.typed("45") == 45.0


def test_decimals_can_be_declared():
    rate = Setting(label="Rate", help="", unit="Hz", low=0.05, high=20.0, taper="log", decimals=2)
    assert rate.shown(0.35) == "0.35 Hz"
