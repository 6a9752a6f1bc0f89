"""What every kind of stage has in common, and what the engine asks of a kind."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Annotated, Any, Literal

import msgspec
import numpy as np

from stonekite.signal.loops import Course
from stonekite.signal.matrix import Matrix
from stonekite.stages.machinery.banded import Bands
from stonekite.stages.machinery.handles import Handle
from stonekite.stages.machinery.rows import Rows, standing
from stonekite.stages.riding import Rides
from stonekite.stages.settings import Settings, flag, number
from stonekite.words import said

LegName = Literal["upper", "lower"]
LEGS: tuple[LegName, LegName] = ("upper", "lower")


HIGHEST_ID = 2**31 - 1
Identity = Annotated[int, msgspec.Meta(ge=0, le=HIGHEST_ID)]
"""The number by which a stage or stem is known."""

LevelKept = Annotated[
    bool,
    flag(
        "Keep level",
        help="Give back the loudness that the stage adds or takes, so that in and out are equally loud",
    ),
]


Mix = Annotated[
    float,
    number(
        "Mix",
        "%",
        0.0,
        100.0,
        step=1.0,
        help="How much of the stage is in the leg; the untouched part is in time with it to the sample",
    ),
]


Heard = Literal["leg", "own", "left", "right", "mid", "side"]
HEARD = {
    "leg": said("the same leg"),
    "own": said("its own leg"),
    "left": said("Left"),
    "right": said("Right"),
    "mid": said("Mid"),
    "side": said("Side"),
}
"""What of another strip the detector of a leg can hear."""


class Key(Settings, frozen=True, kw_only=True):
    """What the detectors of a stage hear in place of their own legs: what comes out of a stem or a bus of that id, before
    its fader. Where that is not there, they hear their own."""

    strip: Annotated[int, msgspec.Meta(ge=1, le=HIGHEST_ID)]
    upper: Heard = "leg"
    lower: Heard = "leg"


def keys_in(stage: "Stage") -> tuple[Key, ...]:
    """All keys of a stage, each once: its own, and those of its bands."""
    found = [stage.key, *(key for leg in LEGS for key in _keys_of_bands(stage, leg))]
    return tuple(dict.fromkeys(key for key in found if key is not None))


def hears_another(stage: "Stage", leg: LegName) -> bool:
    """Whether a detector of a leg hears another strip."""
    own = stage.key is not None and getattr(stage.key, leg) != "own"
    return own or any(_keys_of_bands(stage, leg))


def _keys_of_bands(stage: "Stage", leg: LegName) -> "list[Key | None]":
    bands = getattr(getattr(stage, leg), "bands", ())
    return [getattr(band, "key", None) for band in bands if band is not None]


class Side(Settings, frozen=True, kw_only=True):
    """One side of a stage: a kind adds its settings."""

    mix: Mix = 100.0


class Stage(
    msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, weakref=True, tag_field="kind"
):
    """One process laid across both legs.

    A kind subclasses this with a tag and two fields `upper` and `lower`, each a Side or None (then that leg
    passes through untouched and in time), and with a field `shared` where it has settings that are not of
    one side. `unlinked` names the settings that a linked stage does not carry across. `change_only` is how
    the stage is heard while listening to what it does: wet less dry. `key` is what the detectors of a kind that
    `hears_key` hear in place of their own legs.
    """

    id: Identity
    inserted: Annotated[bool, flag("In", help="Whether the stage is heard")] = True
    linked: Annotated[
        bool,
        flag(
            "Linked",
            help="An edit of one side goes to the other",
            still="It is about editing and is not heard.",
        ),
    ] = False
    unlinked: Annotated[
        tuple[Annotated[str, msgspec.Meta(max_length=100)], ...], msgspec.Meta(max_length=200)
    ] = ()
    level_kept: LevelKept = False
    kept_db: Annotated[
        float,
        number("Given back", "dB", -36.0, 36.0, step=0.1, help="Gain that keeps the level, as measured"),
    ] = 0.0
    rings_on: Annotated[
        bool,
        flag(
            "Rings on",
            help="When the stage is taken out, what is in it rings on; otherwise it stops",
            still="It is about taking the stage out by hand.",
        ),
    ] = False
    change_only: Annotated[bool, flag("Change only", help="Hear only what the stage takes away or adds")] = (
        False
    )
    rides: Rides = ()
    key: Key | None = None


@dataclass(frozen=True)
class Context:
    """Where a stage works: at a rate in Hz, on the legs of a mid/side split with this matrix (None: left and right). Rows
    are made for these times (n,) of the recording, if anything moves."""

    rate: float
    matrix: Matrix | None = None
    seconds: np.ndarray | None = None


@dataclass(frozen=True)
class Plan:
    """What the engine has to know of a stage before it works, in samples.

    `latency` of the upper and the lower leg. `memory` is how far back it remembers: after so much of the same sound
    two states that were different have become the same, to a millionth (-120 dB). `tail` is how long it sounds on after
    its input has ended, until it is 90 dB down.
    """

    latency: tuple[int, int] = (0, 0)
    memory: int = 0
    tail: int = 0
    glide: int = 0
    """How long it is on the way from other settings at the most, before its memory counts."""


NOTHING = standing(np.zeros(0))
"""The rows of what has no numbers that may move."""


class At(msgspec.Struct, frozen=True, gc=False):
    """When and beside what a block is processed.

    The clock counts what went in, unbroken; it is no place in the recording. `lines` are the branches of a stage that
    has some, each of which processes a block (2, frames) in place, all of them `lines_late` samples late; a line that is
    called several times goes on where it was. `places` are where the block belongs in the recording: pairs of the first
    frame of a run and its place. `rows` are the numbers of the stage, as its kind makes them, where the block
    comes in; `out` are those for what comes out of each leg, where the kind holds it back. `key` (2, frames) is what the
    detectors hear, where that is not the block itself; `keys` is what those hear that have keys of their own.
    """

    clock: int
    lines: tuple[Callable[[np.ndarray], None], ...] = ()
    lines_late: int = 0
    places: tuple[tuple[int, int], ...] = ()
    rows: Rows = NOTHING
    out: tuple[Rows, Rows] = (NOTHING, NOTHING)
    key: np.ndarray | None = None
    keys: dict[Key, np.ndarray] = {}

    def piece(self, first: int, last: int) -> "At":
        """Of a part of the block, from a frame up to another one, for kinds that ask for no places."""
        key = None if self.key is None else self.key[:, first:last]
        rows = self.rows.within(first, last)
        keys = {of: heard[:, first:last] for of, heard in self.keys.items()}
        return msgspec.structs.replace(self, clock=self.clock + first, rows=rows, key=key, keys=keys)

    @property
    def runs(self) -> tuple[tuple[int, int], ...]:
        """The places; those of the clock where nobody said."""
        return self.places or ((0, self.clock),)


@dataclass(frozen=True)
class Branching:
    """What a kind says whose stages hold branches, which the engine runs for it."""

    plan: Callable[[Any, Plan, tuple[Plan, ...]], Plan]
    """Of (stage, its own plan, those of its branches): that of the whole."""
    response: Callable[[Any, LegName, np.ndarray, float, tuple[np.ndarray, ...]], np.ndarray]
    """As a kind's, of (stage, leg, frequencies in Hz, rate, responses of what stands in the branches)."""
    only: Callable[[Any, int], Any]
    """Of (stage, which branch): the stage as it is when nothing but that branch is heard, undamped by its mix."""
    names: Callable[[Any, LegName], tuple[str, ...]]
    """Of (stage, leg): what the branches are called there; an empty name where the leg does not go through one."""
    heard: Callable[[Any, Any, int, int, int], np.ndarray] | None = None
    """Of (coefficients, state, which branch, by how much it is late, frames): what went into a branch lately, (2, up to
    so many frames), of a kind that remembers it. Then what is new in the branch hears that, and the rest goes on."""
    refuses: Callable[[Any, tuple[Plan, ...], float], str] | None = None
    """Of (stage, plans of its branches, rate): why what stands in them cannot, in a sentence; empty if it can."""


Group = Literal["Tone", "Level", "Colour", "Time", "Image"]
GROUPS: tuple[Group, ...] = ("Tone", "Level", "Colour", "Time", "Image")

WORKED = 6
"""So many parts that work are shown at the most."""

SETTLED = 13.8
"""A time constant so many times over is the memory of what decays with it: e to the minus this is a millionth."""
RINGS = 10.4 / SETTLED
"""So much of the memory of what rings does it take until it is 90 dB down."""


@dataclass(frozen=True)
class Echoes:
    """What a kind says to pictures whose stages repeat sound; its sides have `time_ms`, `time_note` and `level_db`, what
    its sides share has `taps` with the same (None where one was removed; `there` are those that are left), `dry_db`, and
    `held`."""

    course: Callable[[Any, float], Course]
    """Of (stage, rate): the echoes of an impulse, and how long they fall."""
    gains: Callable[[Any, np.ndarray, float], np.ndarray]
    """Of (stage, frequencies, rate): the greatest gains (2, 2, n) of one turn."""
    margin_db: Callable[[Any, float], float]
    """Of (stage, rate): how far it is from growing."""
    bounded: Callable[[Any, float], bool]
    """Of (stage, rate): whether what is in the loop is held under full scale."""


class LearnedRange(Settings, frozen=True, kw_only=True):
    """What a stage knows from a range of the recording; a kind adds what that is."""

    start_s: Annotated[float, msgspec.Meta(ge=0.0)]
    end_s: Annotated[float, msgspec.Meta(ge=0.0)]


def keep(stage: Any, learned: LearnedRange | None) -> Any:
    """The stage with what it has learned in the place for it."""
    return msgspec.structs.replace(stage, shared=msgspec.structs.replace(stage.shared, learned=learned))


@dataclass(frozen=True)
class Learning:
    """What a kind says whose stages learn from a range of the recording, and keep it as `shared.learned`."""

    type: type[LearnedRange]
    from_sound: Callable[[np.ndarray, Context, float], Any]
    """Of (sound (2, frames) as the stage hears it, where it works, time in seconds at which it begins): what it tells, of
    `type`. Raises ValueError with a sentence."""
    told: Callable[[Any], str]
    """Of a stage: what it has learned, in words."""
    what: str
    """What is learned, in a word."""
    hint: str
    """What Learn does."""
    forget: str
    """What is done without having learned anything."""
    loop: str = ""
    """What to say where nothing is looped; empty where all of the recording will do as well."""
    at_once: bool = False
    """Whether a stage learns as soon as it is added in a window."""
    taken: Callable[[Any, Any], Any] = keep
    """Of (stage, what was learned or None): the stage that knows it."""

    def __post_init__(self) -> None:
        for name in ("what", "hint", "forget", "loop"):
            object.__setattr__(self, name, said(getattr(self, name)))


@dataclass(frozen=True)
class Placing:
    """What a kind says to pictures whose sides have microphones in front of a loudspeaker: fields MIC_across_cm,
    MIC_away_cm, MIC_angle_deg and MIC_db of each of `mics`; ROOM_m, ROOM_wide_m and ROOM_db of a pair in the `room`."""

    mics: tuple[str, ...]
    room: str
    radius_cm: Callable[[Any], float]
    """Of a side: the radius of the cone; 0 where there is none."""
    open_back: Callable[[Any], bool]
    words: Callable[[Any], str]
    """Of a side: what is to be told about it."""


@dataclass(frozen=True)
class Offers:
    """What a kind offers to pictures and to listening, besides its sound; None for what it does not."""

    curve: Callable[[Any, LegName, np.ndarray], np.ndarray] | None = None
    """Of (stage, leg, levels in dB): the steady levels that come out, in dB."""
    curve_handle: Handle | None = None
    makeup_db: Callable[[Any], float] | None = None
    """Gain of a side after its reduction, in dB."""
    meter: Callable[[Any], np.ndarray] | None = None
    """Of a state: the greatest reduction (2,) of the last block, in dB."""
    detector: Callable[[Any], "Stage"] | None = None
    """The stage of another kind that sounds like what the detector hears; the kind's `response` is then its."""
    bend: Callable[[Any, np.ndarray], np.ndarray] | None = None
    """Of (side, values): the steady values that come out."""
    bend_handle: Handle | None = None
    handles: tuple[Handle, ...] = ()
    """Points of the picture of the response to drag."""
    parts_worked: Callable[[Any, LegName], tuple[str, ...]] | None = None
    """Of (stage, leg): the names of the parts that it works through."""
    worked_db: Callable[[Any], np.ndarray] | None = None
    """Of a state: how hard these parts work (2, WORKED), in dB over the knee of their curves."""
    drawn: Callable[[Any, LegName, np.ndarray, float], np.ndarray] | None = None
    """Of (stage, leg, frequencies, rate): what pictures show in place of the response, where that is of little use."""
    sharp: Callable[[Any, LegName, float], np.ndarray] | None = None
    """Of (stage, leg, rate): frequencies (n,) in Hz by which a response is drawn, too, that is too sharp otherwise."""
    greatest: Callable[[Any, np.ndarray, float], np.ndarray] | None = None
    """Of (stage, frequencies, rate): the greatest gains (2, 2, n) that its wet part can have from the legs (second axis)
    to the legs (first); of a kind for which that is neither its response nor the steepest part of its curve."""
    guarded: Callable[[Any], bool] | None = None
    """Of a state: whether its guard has made it silent."""
    of_sides: bool = False
    """Whether its legs' responses are those of left and right, whatever the split is."""
    parts: Callable[[Any, LegName, np.ndarray, float], list[np.ndarray]] | None = None
    """Of (stage, leg, frequencies, rate): the responses of the parts that its own is the sum of."""
    learning: Learning | None = None
    remark: Callable[[Any, LegName, float], str] | None = None
    """Of (stage, leg, rate): what of its settings cannot be had quite as they are, in a few words; empty for nothing."""
    placing: Placing | None = None
    noise: Callable[[Any, Context], np.ndarray | None] | None = None
    """Of (stage, where it works): the power (2, bins) of the noise that is known beforehand, by frequency from 0 Hz to
    half the rate, where the bins of a sine of amplitude 1 sum to 1."""
    noise_now: Callable[[Any, Any, float], np.ndarray] | None = None
    """Of (coefficients, state, rate): such power (3, 2, bins) of the noise that is known, of what came in lately and of
    what of it went out."""
    echoes: Echoes | None = None
    bands: Bands | None = None
    """Of a kind whose sides are lists of bands."""
    bands_now: Callable[[Any], tuple[np.ndarray, np.ndarray]] | None = None
    """Of a state: the levels that the bands hear and the gains that they have now, both (2, most) in dB."""
    follows: Callable[[Any], np.ndarray] | None = None
    """Of a state: the note that each leg is followed at (2,), in Hz; 0 for none."""
    response_with: Callable[[Any, LegName, list[float], np.ndarray, float], np.ndarray] | None = None
    """Of (stage, leg, gains in dB, frequencies, rate): the response while the bands have these gains."""


@dataclass(frozen=True)
class Dry:
    """How the dry part of a mix is made to add up with a wet part that has turned in phase as a whole."""

    coefficients: Callable[[Any, Context], Any]
    """Of a stage: what the kind's `process` makes the dry part with; None where the sound as it came will do."""
    response: Callable[[Any, LegName, np.ndarray, float], np.ndarray]
    """Of (stage, leg, frequencies in Hz, rate): the complex response of the dry part, without its latency."""
    rows: Callable[[Any, Context], np.ndarray] | None = None
    """As a kind's, of the dry part."""


def never(old: Any, state: Any, new: Any) -> Any:
    """For kinds whose states do not go on under other settings: they hear what was before anew."""
    return None


@dataclass(frozen=True)
class Kind:
    """What a module in `stonekite.stages` declares as its KIND. `stage` below is a value of its stage type.

    The mix, the level kept and what brings the legs back into time are the engine's, not the kind's.
    """

    stage: type[Stage]
    side: type[Side]
    label: str
    help: str
    group: Group
    """What it is for: menus list groups, and kinds in them, in the order of work."""
    rank: int
    """Its place in the group: the lowest comes first."""
    response: Callable[[Any, LegName, np.ndarray, float], np.ndarray]
    """Of (stage, leg, frequencies in Hz, rate): complex response of one side without its latency, wet only; ones where
    the leg passes."""
    neutral: Callable[[Any], bool]
    """Whether the stage gives back its input bit for bit."""
    plan: Callable[[Any, Context], Plan]
    coefficients: Callable[[Any, Context], Any]
    """What `process` works with, from settings and context, besides the rows. Never changed afterwards."""
    start: Callable[[Any], Any]
    """Of coefficients: the state of a stage that has heard nothing. The engine may copy it deeply."""
    carry: Callable[[Any, Any, Any], Any]
    """Of (old coefficients, their state, new coefficients): a new state that goes on from the old one, which is left
    alone; None where that would be another sound than the new settings make: then they hear what was before."""
    process: Callable[[Any, Any, np.ndarray, At], None]
    """Of (state, coefficients, block, at): process block (2, frames) in place, exactly alike however the sound is cut
    into blocks."""
    rows: Callable[[Any, Context], np.ndarray] | None = None
    """Of (stage, where it works): the numbers that `process` gets in `at.rows`, as rows (n, numbers). Of the stage, any
    number that may move can be an array (n,); then there is a row for each of them. The coefficients are the rest, and
    made of the stage as it is where the recording begins. None for a kind of which no setting but the mix can move."""
    stands: Callable[[Any, str], str] | None = None
    """Of (stage, path of a setting): why it cannot move as the stage is, in a sentence; empty if it can."""
    still: str = ""
    """Of a kind without rows: why its settings cannot move, in a sentence."""
    switches: tuple[str, ...] = ()
    """The switches that move as its numbers do, from 0 to 1: their fields. Of any other one that rides, the stage works
    in both ways beside each other, from the beginning of the recording on, and is heard in the one that is on."""
    fine: bool = False
    """Whether its rows are so far from straight that they are taken closer to each other: those of filters."""
    placed: int = 0
    """So many of the last numbers of a row follow from the place, as where a swing stands, and jump where it jumps. The
    `seconds` of the context tell the place of each row, where anything moves."""
    follows_place: bool = False
    """Whether it asks for the places of its blocks."""
    hears_key: bool = False
    """Whether it has detectors that can hear another strip (At.key)."""
    joins: Callable[[Any, Any, int], None] | None = None
    """Of (new state, old state, frames): of a kind that writes down sound which comes back much later: for so many
    frames the old state works beside the new one, and what the new one writes has to go over from what the old one does;
    otherwise the change would click when it comes back."""
    dry: "Dry | None" = None
    """For a kind whose stages can turn the phase of all that they let through; None where the sound as it came adds up
    with what was processed."""
    offers: Offers = Offers()
    branching: Branching | None = None
    """Of a kind whose stages hold branches, in a field `branches`."""

    def __post_init__(self) -> None:
        for name in ("label", "help", "still"):
            object.__setattr__(self, name, said(getattr(self, name)))
