"""Versions: kept, used, told apart in words, and stages taken over from them; references and tests in the file."""

import msgspec
import pytest
from conftest import noise, session_on, write_wav

from stonekite.session import edits, storage, tree
from stonekite.session.differences import described, differences
from stonekite.session.types import (
    BlindTest,
    Desk,
    Intake,
    IntakeSide,
    Leg,
    Loop,
    Output,
    Place,
    Reference,
    Session,
    Sound,
    Source,
    Split,
    Stem,
    Strip,
)
from stonekite.stages.compressor import Compressor, CompressorSide
from stonekite.stages.eq import Band, Eq, EqShared, EqSide
from stonekite.stages.gain import Gain, GainSide
from stonekite.stages.registry import KINDS

BEFORE = Strip(
    stages=(
        Eq(id=2, lower=EqSide(bands=(Band(), Band(gain_db=3.0)))),
        Compressor(id=3, lower=None),
    )
)
AFTER = Strip(
    split=Split(matrix="raised-side"),
    intake=Intake(left=IntakeSide(delay_ms=1.0)),
    upper=Leg(level_db=-3.0),
    output=Output(left=Place(position=-50)),
    stages=(
        Compressor(id=3, upper=CompressorSide(threshold_db=-30.0)),
        Eq(
            id=2,
            linked=True,
            lower=EqSide(bands=(None, Band(gain_db=5.0), Band(frequency_hz=3000.0, gain_db=2.0))),
            shared=EqShared(phase="linear"),
        ),
        Gain(id=9),
    ),
)


def session(strip: Strip = BEFORE) -> Session:
    source = Source(path="quay.wav", rate=48_000, frames=48_000)
    return Session(sound=Sound(stems=(Stem(id=1, name="quay", source=source, strip=strip),)))


def test_every_difference_is_a_sentence():
    assert [difference.sentence for difference in differences(BEFORE, AFTER)] == [
        "Intake, left, delay: 0.00 ms → 1.00 ms",
        "Split: Mid / side, half-sum → Mid / side, raised side",
        "Mid Compressor, threshold: −24.0 dB → −30.0 dB",
        "Side Compressor: on",
        "Side EQ, band 1: removed",
        "Side EQ, band 2, gain: +3.0 dB → +5.0 dB",
        "Side EQ, band 3: added, Bell, 3.00 kHz, +2.0 dB",
        "EQ, phase: Minimum → Linear",
        "EQ, linked: off → on",
        "Gain: added",
        "Order of stages: EQ, Compressor → Compressor, EQ",
        "Mid leg, level: 0.0 dB → −3.0 dB",
        "Output, left, place: −100 % → −50 %",
    ]
    assert differences(AFTER, AFTER) == []


@pytest.mark.parametrize("kind", list(KINDS))
def test_no_setting_of_any_kind_can_differ_unseen(kind):
    """Each number of each side, moved by a hair, is told."""
    stage, _ = tree.renumbered(KINDS[kind].stage(id=2), 2)
    for field in type(stage.upper).__struct_fields__:
        value = getattr(stage.upper, field)
        if isinstance(value, float):
            moved = msgspec.structs.replace(stage.upper, **{field: value - 1e-5 if value else value + 1e-5})
            found = differences(
                Strip(stages=(stage,)), Strip(stages=(msgspec.structs.replace(stage, upper=moved),))
            )
            assert len(found) == 1 and found[0].stage == 2 and found[0].before != found[0].after, field


def test_two_stages_of_a_kind_are_numbered():
    old = Strip(stages=(Gain(id=2), Gain(id=3)))
    new = Strip(stages=(Gain(id=2), Gain(id=3, upper=GainSide(gain_db=2.0))))
    assert differences(old, new)[0].sentence == "Mid Gain 2, gain: 0.0 dB → +2.0 dB"


def test_what_a_strip_does_is_told_in_full():
    told = dict(described(AFTER))
    assert list(told) == ["Intake", "Split", "Compressor", "EQ", "Gain", "Mid leg", "Output"]
    assert told["Compressor"][0].startswith("Mid: threshold −30.0 dB, ratio 3.00 : 1, knee 6.0 dB")
    assert (
        "Side, band 2: shape Bell, frequency 1.00 kHz, gain +5.0 dB, Q 0.71, slope per octave 12, on on"
        in told["EQ"]
    )


def test_versions_are_kept_replaced_removed_and_used():
    kept = edits.keep_version(session(), "dry")
    kept = edits.keep_version(edits.put(kept, ("sound", "stems", 0, "strip"), AFTER))
    assert [(v.number, v.note) for v in kept.versions] == [(1, "dry"), (2, "")]
    assert edits.use_version(kept, 1).sound.stems[0].strip == BEFORE
    again = edits.keep_version(edits.remove_version(kept, 1), "third")
    assert [v.number for v in again.versions] == [1, 2] and again.version(1).sound.stems[0].strip == AFTER
    assert edits.keep_version(kept, "new", number=2).version(2).note == "new"
    full = session()
    for _ in range(9):
        full = edits.keep_version(full)
    with pytest.raises(ValueError, match="All 9 versions"):
        edits.keep_version(full)
    with pytest.raises(LookupError):
        edits.use_version(session(), 4)


def test_a_new_stage_never_gets_the_number_of_one_in_a_version():
    kept = edits.keep_version(session(AFTER))
    kept = edits.remove_stage(kept, tree.FIRST, 9)
    _, number = edits.add_stage(kept, tree.FIRST, "gain")
    assert number == 10


def test_single_stages_are_taken_over():
    kept = edits.keep_version(session(AFTER))
    now = edits.put(kept, ("sound", "stems", 0, "strip"), BEFORE)
    taken = edits.take_stage(now, tree.FIRST, 1, 3)
    assert taken.sound.stems[0].strip.stages == (BEFORE.stages[0], AFTER.stages[0])
    added = edits.take_stage(now, tree.FIRST, 1, 9)  # behind all that it stands behind there
    assert [stage.id for stage in added.sound.stems[0].strip.stages] == [2, 3, 9]
    only = edits.put(kept, ("sound", "stems", 0, "strip", "stages"), (*AFTER.stages, Gain(id=11)))
    assert [stage.id for stage in edits.take_stage(only, tree.FIRST, 1, 11).sound.stems[0].strip.stages] == [
        3,
        2,
        9,
    ]
    with pytest.raises(LookupError):
        edits.take_stage(now, tree.FIRST, 1, 77)


def test_versions_references_and_tests_are_saved_and_found_again(tmp_path):
    path = write_wav(tmp_path / "quay.wav", noise(0.2))
    (tmp_path / "hall").mkdir()
    other = session_on(write_wav(tmp_path / "hall" / "hall.wav", noise(0.3))).sound.stems[0].source
    test = BlindTest(
        kind="abx", first="Version 1", second="Unprocessed", planned=3, order=(0, 1, 1), answers=(0, 1, 0)
    )
    whole = msgspec.structs.replace(
        edits.keep_version(session_on(path, AFTER), "a note"),
        desk=Desk(
            references=(Reference(name="hall", source=other, loop=Loop(start_s=0.1, end_s=0.2)),),
            blind_tests=(test,),
        ),
    )
    storage.save(whole, tmp_path / "quay.kite")
    assert b"hall/hall.wav" in (tmp_path / "quay.kite").read_bytes()
    moved = tmp_path / "elsewhere"
    moved.mkdir()
    for name in ("quay.wav", "quay.kite", "hall"):
        (tmp_path / name).rename(moved / name)
    found = storage.load(moved / "quay.kite")
    assert [(v.number, v.note, v.sound.stems[0].strip) for v in found.versions] == [(1, "a note", AFTER)]
    assert found.versions[0].sound.stems[0].source == found.sound.stems[0].source
    assert found.desk.blind_tests == whole.desk.blind_tests
    assert found.desk.references[0].source.path == str((moved / "hall" / "hall.wav").resolve())
    assert test.right == 2 and test.count == 3


@pytest.mark.parametrize(
    ("change", "place"),
    [
        (lambda s: {"versions": s.versions * 2}, "versions"),
        (
            lambda s: {
                "desk": Desk(
                    blind_tests=(BlindTest(kind="abx", first="a", second="b", planned=1, order=(0,)),)
                )
            },
            "blind_tests",
        ),
        (
            lambda s: {
                "desk": Desk(
                    references=(
                        Reference(name="x", source=s.sound.stems[0].source, loop=Loop(start_s=2, end_s=1)),
                    )
                )
            },
            "references",
        ),
    ],
)
def test_hostile_versions_references_and_tests_are_refused(change, place):
    whole = edits.keep_version(session())
    bad = msgspec.structs.replace(whole, **change(whole))
    with pytest.raises(storage.SessionError, match=place):
        storage.decode(storage.encode(bad))
