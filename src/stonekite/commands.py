"""Every command of the window with its words and its key. Menus, tooltips, the list of keys and the README follow.

Knows no Qt. Keys are written as Qt's portable text: Ctrl+Shift+S, F5, Space.
"""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Literal

from stonekite.words import NAMES, said

Menu = Literal["file", "demos", "edit", "listen", "view", "help", ""]
Needs = Literal["nothing", "session", "stage"]


@dataclass(frozen=True)
class Command:
    """`menu` is where it stands, nothing for one that is only a key; `apart` draws a line above it; `needs` is without
    what it can do nothing."""

    id: str
    words: str
    menu: Menu
    keys: tuple[str, ...] = ()
    help: str = ""
    apart: bool = False
    needs: Needs = "nothing"
    checkable: bool = False

    def __post_init__(self) -> None:
        for name in ("words", "help"):
            object.__setattr__(self, name, said(getattr(self, name)))


VERSIONS = 9

COMMANDS: tuple[Command, ...] = (
    Command("open", "Open…", "file", ("Ctrl+O",), "open a recording or a session"),
    Command(
        "open-demo",
        "Landing stage",
        "demos",
        help="harp and whistle: an EQ for what both sides share, one for the rest",
    ),
    Command(
        "open-zither",
        "Cable zither",
        "demos",
        help="pickup left, amplifier right: four paths, ridden over three sections",
    ),
    Command(
        "open-amps",
        "Three amplifiers",
        "demos",
        help="the zither's pickup through three of them, left, centre, right",
    ),
    Command(
        "open-calls-96",
        "Calls, slow",
        "demos",
        help="echoes thrown after single words, in time at 96 beats a minute",
    ),
    Command(
        "open-calls-132",
        "Calls, fast",
        "demos",
        help="the same at 132 beats a minute: the notes stay, the times follow",
    ),
    Command(
        "open-lantern",
        "Lantern",
        "demos",
        help="echoes of both legs that feed each other, with stages in the loop",
    ),
    Command(
        "open-wheelhouse",
        "Wheelhouse",
        "demos",
        help="a voice in the noise of an engine and of wind, cleaned of both",
    ),
    Command(
        "open-reel",
        "The reel",
        "demos",
        help="five stems, a bus for the tune, and two compressors beside the mix",
    ),
    Command("open-generator", "Open the test generator", "file"),
    Command("add-stems", "Add stems…", "file", (), "recordings beside those of now", needs="session"),
    Command("save", "Save", "file", ("Ctrl+S",), "save the session", apart=True, needs="session"),
    Command("save-as", "Save as…", "file", ("Ctrl+Shift+S",), "save it under another name", needs="session"),
    Command(
        "saves", "Earlier saves…", "file", (), "look at, hear and take back what was saved", needs="session"
    ),
    Command("gather", "Gather…", "file", (), "the session with its recordings in one place", needs="session"),
    Command("export", "Export…", "file", ("Ctrl+E",), "write the result to a file", needs="session"),
    Command(
        "export-sets", "Export sets…", "file", ("Ctrl+Shift+E",), "several files in one go", needs="session"
    ),
    Command("batch", "Batch…", "file", (), "the strip over many recordings", needs="session"),
    Command("quit", "Quit", "file", ("Ctrl+Q",), "end", apart=True),
    Command("undo", "Undo", "edit", ("Ctrl+Z",), "take back the last step"),
    Command("redo", "Redo", "edit", ("Ctrl+Shift+Z", "Ctrl+Y"), "do it again"),
    Command("remove", "Remove the stage", "edit", needs="stage"),
    Command("in-out", "Stage in or out", "edit", ("B",), "the open stage in or out", needs="stage"),
    Command(
        "other-leg", "Edit the other leg", "edit", ("O",), "bring the other leg to the front", needs="stage"
    ),
    Command("link", "Link its two sides", "edit", ("K",), "link the sides of the open stage", needs="stage"),
    Command("reset", "Reset the stage", "edit", needs="stage"),
    Command("copy-across", "Copy settings to the other leg", "edit", needs="stage"),
    Command("swap", "Swap legs", "edit", needs="stage"),
    Command("copy", "Copy the stage", "edit", ("Ctrl+C",), "copy the open stage", needs="stage"),
    Command("paste", "Paste a stage", "edit", ("Ctrl+V",), "paste a stage behind it"),
    Command("new-spur", "New spur…", "edit", ("N",), "a path beside the legs", apart=True, needs="session"),
    Command(
        "press-copy",
        "Press a copy",
        "edit",
        help="both legs compressed beside themselves, to be eased in",
        needs="session",
    ),
    Command(
        "match-levels", "Match levels…", "edit", help="legs and spurs to equal loudness", needs="session"
    ),
    Command(
        "tempo",
        "Tempo…",
        "edit",
        ("T",),
        "how fast it goes: type, tap, find, notes",
        needs="session",
        apart=True,
    ),
    Command("presets", "Presets…", "edit", ("P",), "presets for the open stage", apart=True),
    Command("play", "Play or pause", "listen", ("Space",), "play, pause"),
    Command(
        "rewind", "Back to the start", "listen", ("Home",), "back to the start, or to the start of the loop"
    ),
    Command("loop", "Loop", "listen", ("L",), "loop on or off"),
    Command("processed", "Processed", "listen", ("1",), "hear the result", apart=True),
    Command("unprocessed", "Unprocessed", "listen", ("2",), "hear the recording as it came"),
    Command("difference", "Difference", "listen", ("3",), "hear what the processing adds and takes away"),
    Command("strip", "Strip on or off", "listen", ("X",), "the whole strip out and in, as loud"),
    Command("match", "Level-matched", "listen", ("M",), "level match on or off"),
    Command(
        "turn",
        "Unprocessed turned in phase as the result",
        "listen",
        help="through the dry parts of stages that turn the phase, such as bands: so that only levels differ",
        checkable=True,
    ),
    Command("keep", "Keep the state now as a version", "listen", ("V",), "keep a version", apart=True),
    Command("add-reference", "Add a reference…", "listen"),
    Command("next-reference", "Next reference", "listen", ("R",), "hear the next reference"),
    Command("blind", "Blind test…", "listen"),
    Command(
        "keep-results",
        "Keep what stems sound like",
        "listen",
        help="compute it while hands rest, and play it from the disk",
        apart=True,
        checkable=True,
    ),
    Command("forget-results", "Remove all that is kept", "listen"),
    *(
        Command(
            f"{name}-alone",
            said("{name} alone").format(name=word),
            "listen",
            (f"Shift+{word[0]}",),
            said("hear {name} alone").format(name=word),
            name == "left",
        )
        for name, word in NAMES.items()
    ),
    Command("view-source", "Source check", "view", ("F5",), "what arrived"),
    Command("view-stage", "Stages", "view", ("F6",), "the open stage"),
    Command("view-output", "Output", "view", ("F7",), "width, places, level and ceiling"),
    Command("view-compare", "Compare", "view", ("F8",), "the comparison"),
    Command("view-mix", "Mix", "view", ("F10",), "all stems and buses"),
    Command("view-pair", "Two files", "view", ("F9",), "the two components as files, and back"),
    Command("next-strip", "Next strip", "view", ("Ctrl+PgDown",), "open the next strip"),
    Command("last-strip", "Strip before", "view", ("Ctrl+PgUp",), "open the strip before"),
    Command("section", "Loop as a section", "edit", ("Ctrl+L",), "name the looped range", apart=True),
    Command("find-sections", "Find sections", "edit", (), "where level and spectrum change", needs="session"),
    Command("strike", "Section from here", "edit", ("S",), "a section begins at the play position"),
    Command("next-section", "Loop the next section", "listen", ("]",), "loop the next section"),
    Command("last-section", "Loop the section before", "listen", ("[",), "loop the section before"),
    Command(
        "grips", "Grips", "view", ("G",), "labelled controls that move several settings", needs="session"
    ),
    Command("rides", "Rides", "view", ("A",), "the lines of settings that move over the recording"),
    Command("record", "Record rides", "listen", ("Ctrl+R",), "while held, from here on, or not at all"),
    Command("zoom-in", "Zoom in", "view", ("Ctrl++", "Ctrl+="), "see less of the time", apart=True),
    Command("zoom-out", "Zoom out", "view", ("Ctrl+-",), "see more of it"),
    Command("zoom-all", "Whole file", "view", ("Ctrl+0",), "see all of it"),
    Command("full-screen", "Full screen", "view", ("F11",), "the whole screen, and back"),
    Command("light", "Light theme", "view", checkable=True),
    Command("keys", "Keys…", "help", ("F1",), "this list"),
    Command("about", "About Stone Kite…", "help"),
    *(
        Command(
            f"version-{n}", f"Version {n}", "", (f"Alt+{n}",), f"hear version {n}, and the state now again"
        )
        for n in range(1, VERSIONS + 1)
    ),
)
BY_ID = {command.id: command for command in COMMANDS}

LOCAL: tuple[tuple[str, str, str], ...] = (
    ("everywhere", "H", "held: hear the open stage out"),
    ("in a picture", "Left, Right, Up, Down", "move what is chosen"),
    ("in a picture", "+, -", "its width or ratio"),
    ("in a picture", "PgUp, PgDown", "choose another band"),
    ("in a picture", "Del", "remove the band, or forget"),
    ("in the signal path", "Left, Right, Up, Down", "choose a stone"),
    ("in the signal path", "Alt+Left, Alt+Right", "move the stage"),
    ("in the signal path", "Enter", "go into a stage that has branches"),
    ("in the signal path", "Esc", "go out again"),
    ("in the signal path", "+", "add a stage"),
    ("in the signal path", "Del", "remove the stage"),
    ("on the timeline", "+, -", "zoom"),
    ("on the timeline", "0", "see all"),
    ("on the timeline", "Left, Right", "step"),
)
"""Keys of what has the focus: where, which, what for. They stay as they are."""


def keys_of(command: Command, own: Mapping[str, tuple[str, ...]]) -> tuple[str, ...]:
    """The keys of a command: those that the user gave it, or the usual ones."""
    return own.get(command.id, command.keys)


def of_places() -> Iterator[tuple[str, str, str]]:
    """Of what has the focus: where, which keys, and what for."""
    for where, keys, words in LOCAL:
        yield said(where), keys, said(words)


def conflicts(own: Mapping[str, tuple[str, ...]]) -> list[tuple[str, str, str]]:
    """Keys that two have: the key, and what each does, in words. One that belongs to what has the focus counts, too."""
    taken = {key.strip(): words for _, keys, words in of_places() for key in keys.split(",")}
    found = []
    for command in COMMANDS:
        for key in keys_of(command, own):
            if key in taken:
                found.append((key, taken[key], command.words))
            taken[key] = command.words
    return found


def hint(id: str, own: Mapping[str, tuple[str, ...]]) -> str:
    """The key of a command as a tooltip says it: (key K), (Ctrl+E); nothing where it has none."""
    keys = keys_of(BY_ID[id], own)
    if not keys:
        return ""
    return said("(key {key})").format(key=keys[0]) if len(keys[0]) == 1 else f"({keys[0]})"


def rows(own: Mapping[str, tuple[str, ...]]) -> Iterator[tuple[str, str]]:
    """The list of keys: which, and what for. Versions stand in one line."""
    for command in COMMANDS:
        keys = keys_of(command, own)
        if keys and not command.id.startswith("version-"):
            yield " or ".join(keys), command.help
    numbered = [keys_of(BY_ID[f"version-{n}"], own) for n in range(1, VERSIONS + 1)]
    given = [keys[0] for keys in numbered if keys]
    if given:
        yield f"{given[0]} … {given[-1]}", said("hear a version, and the state now again")
    for where, keys_there, words in of_places():
        yield keys_there, said("{where}: {words}").format(where=where, words=words)


def table() -> str:
    """The list of keys as Markdown, for the README."""
    return "\n".join(["| key | does |", "|---|---|", *(f"| {keys} | {words} |" for keys, words in rows({}))])


if __name__ == "__main__":
    print(table())
