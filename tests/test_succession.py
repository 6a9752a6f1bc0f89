"""Recordings come, go and are moved while it plays: without a gap, and from then on as an export has it."""

import time
from concurrent.futures import ThreadPoolExecutor

import msgspec
import numpy as np
import pytest
from conftest import RATE, noise
from mixes import drawn_sound, recording

from stonekite.engine.graph.fading import ramp
from stonekite.engine.mix.layout import laid_out
from stonekite.engine.offline.made import feeds
from stonekite.engine.offline.render import open_source
from stonekite.engine.play.playback import SEAM_S, Playback
from stonekite.player.succession import Succession
from stonekite.session.types import Sound, Stem

BLOCK = 512


def sounds(folder) -> dict[str, tuple[Sound, Sound]]:
    sources = [recording(folder / f"{k}.wav", noise(3.0, seed=k + 1)) for k in range(3)]
    sound = drawn_sound(6, sources)
    one, two, three = sound.stems
    plain = Sound(stems=(Stem(id=1, name="one", source=sources[0]),))

    def with_stems(*stems):
        return msgspec.structs.replace(sound, stems=stems)

    def moved(stem, **times):
        return msgspec.structs.replace(stem, **times)

    return {
        "another comes": (
            plain,
            msgspec.structs.replace(plain, stems=(*plain.stems, moved(plain.stems[0], id=2))),
        ),
        "one goes": (sound, with_stems(one, three)),
        "one is moved": (sound, with_stems(one, moved(two, start_s=0.7), three)),
        "one is trimmed": (sound, with_stems(moved(one, from_s=0.1, length_s=1.9), two, three)),
        "one is repeated": (sound, with_stems(one, two, three, moved(one, id=900, start_s=1.5))),
    }


def made(sound, helper=None, turns=None):
    playback = Playback(feeds(sound, open_source), laid_out(sound), helper=helper, turns=turns)
    playback.update(laid_out(sound))
    playback.hear(laid_out(sound).last)
    return playback


def heard_from(sound, place, frames, loop=None):
    playback = made(sound)
    playback.loop = loop
    playback.seek(place)
    playback.play()
    return np.concatenate([playback.read(BLOCK) for _ in range(-(-frames // BLOCK))], axis=1)


def goes_over(old, new, helper, loop=None, slow_s=0.0, start=0):
    """What is heard of one sound that another follows; how much of it the first one gave, and where the second began."""

    def build(turns):
        time.sleep(slow_s)
        return made(new, helper, turns)

    playing = made(old)
    playing.loop = loop
    playing.seek(start)
    playing.play()
    out = [playing.read(BLOCK) for _ in range(6)]
    written = sum(one.shape[1] for one in out)
    succession = Succession(playing, laid_out(new), build, written, helper)
    until = time.monotonic() + 20.0
    while time.monotonic() < until:
        if (after := succession.take(written)) is not None:
            break
        out.append(playing.read(succession.until(written, BLOCK)))
        written += out[-1].shape[1]
        time.sleep(BLOCK / RATE)
        if not playing.playing:  # it is at its end: once more
            playing.seek(0)
            playing.play()
    assert after is not None
    place = after.heard_position
    assert place == playing.heard_position or loop is not None
    out += [after.read(BLOCK) for _ in range(60)]
    return np.concatenate(out, axis=1), written, place


@pytest.fixture
def helper():
    with ThreadPoolExecutor(1) as made:
        yield made


@pytest.mark.parametrize(("case", "start"), [(0, 0), (1, 20_000), (2, 0), (3, 20_000), (4, 0), (4, 20_000)])
def test_what_follows_goes_on_without_a_gap(case, start, tmp_path, helper):
    name, (old, new) = list(sounds(tmp_path).items())[case]
    heard, written, place = goes_over(old, new, helper, start=start)
    before, after = heard_from(old, start, written), heard_from(new, place, heard.shape[1] - written)
    assert np.array_equal(heard[:, :written], before[:, :written]), name
    fade = 300
    wanted = after[:, fade : heard.shape[1] - written]
    assert np.array_equal(heard[:, written + fade :], wanted), name
    length = int(SEAM_S * RATE)
    rise = ramp(length, 0, length)
    going = heard_from(old, start, written + length)[:, written : written + length]
    between = going * (1.0 - rise) + after[:, :length]  # which is faded in, as every start in the middle
    between = heard[:, written : written + length] - between
    assert np.abs(between).max() < 1e-9, name


def test_one_that_comes_too_late_takes_over_further_ahead(tmp_path, helper):
    old, new = sounds(tmp_path)["another comes"]
    heard, written, place = goes_over(old, new, helper, slow_s=0.6)
    assert written > 0.6 * RATE and place == written
    after = heard_from(new, place, heard.shape[1] - written)
    assert np.array_equal(heard[:, written + 300 :], after[:, 300 : heard.shape[1] - written])


def test_it_takes_over_inside_a_loop(tmp_path, helper):
    old, new = sounds(tmp_path)["another comes"]
    loop = 9000, 21_000
    heard, written, place = goes_over(old, new, helper, loop, start=9000)
    assert loop[0] <= place < loop[1]
    after = heard_from(new, place, heard.shape[1] - written, loop)
    assert np.array_equal(heard[:, written + 300 :], after[:, 300 : heard.shape[1] - written])
    assert place == loop[0] + written % (loop[1] - loop[0])


def test_what_is_dropped_lets_go_of_its_files(tmp_path, helper):
    old, new = sounds(tmp_path)["another comes"]
    closed = []

    def build(turns):
        playback = made(new, helper, turns)
        close = playback.reader.close
        playback.reader.close = lambda: (closed.append(1), close())
        return playback

    playing = made(old)
    playing.play()
    Succession(playing, laid_out(new), build, 0, helper).drop()
    until = time.monotonic() + 20.0
    while not closed and time.monotonic() < until:
        time.sleep(0.01)
    assert closed
