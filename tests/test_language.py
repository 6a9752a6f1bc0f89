"""What is said in another language: a catalogue that turns every text into capitals between brackets."""

import json
import os
import struct
import subprocess
import sys
from pathlib import Path

import pytest

from stonekite import catalogue, commands
from stonekite.stages.registry import KINDS
from stonekite.stages.settings import settings_of
from stonekite.words import parsed_time


def foreign(text: str) -> str:
    """Capitals between brackets; what is filled in later stays."""
    parts = text.replace("{", "\0{").replace("}", "}\0").split("\0")
    return f"[{''.join(part if part.startswith('{') else part.upper() for part in parts)}]"


def written(folder: Path, texts: list[str]) -> None:
    """A compiled catalogue (the format of GNU gettext's MO files) with all texts."""
    pairs = [("", "Content-Type: text/plain; charset=UTF-8\n"), *((t, foreign(t)) for t in sorted(texts))]
    coded = [(a.encode(), b.encode()) for a, b in pairs]
    at = 28 + 16 * len(coded)
    tables, body = [b"", b""], b""
    for side in (0, 1):
        for pair in coded:
            tables[side] += struct.pack("<2I", len(pair[side]), at + len(body))
            body += pair[side] + b"\0"
    head = struct.pack("<7I", 0x950412DE, 0, len(coded), 28, 28 + 8 * len(coded), 0, 0)
    place = folder / "stonekite" / "locale" / "xx" / "LC_MESSAGES"
    place.mkdir(parents=True)
    (place / "stonekite.mo").write_bytes(head + tables[0] + tables[1] + body)


ASKED = """
import json, os, sys
from PySide6.QtWidgets import QApplication
from stonekite import commands, notes
from stonekite.desktop.controls import theme
from stonekite.desktop.shell.window import Window
from stonekite.stages.registry import KINDS
from stonekite.stages.settings import settings_of
from stonekite.words import NAMES, parsed_time

def refused(act):
    try:
        act()
    except ValueError as error:
        return str(error)

app = QApplication([])
theme.apply(app)
window = Window()
window.show()
frequency = settings_of(KINDS["eq"].offers.bands.band)["frequency_hz"]
print(json.dumps({
    "menus": [action.text() for menu in window.menus.bar.actions() for action in [menu, *menu.menu().actions()]
              if action.text() and not action.isSeparator()],
    "kinds": [word for kind in KINDS.values() for word in (kind.label, kind.help)],
    "settings": [word for kind in KINDS.values() for one in settings_of(kind.side).values()
                 for word in (one.label, one.help, *(one.words or {}).values()) if word],
    "names": list(NAMES.values()),
    "keys": [does for _, does in commands.rows({})],
    "refused": [refused(lambda: parsed_time("soon")), refused(lambda: notes.kept("soon")),
                refused(lambda: frequency.typed("loud")), refused(lambda: frequency.typed("900k"))],
}))
window.measuring.close()
window.close()
"""


def asked(data: Path) -> dict[str, list[str]]:
    found = subprocess.run(
        [sys.executable, "-c", ASKED],
        env={**os.environ, "XDG_DATA_HOME": str(data), "LANGUAGE": "xx", "QT_QPA_PLATFORM": "offscreen"},
        capture_output=True,
        text=True,
        check=True,
    )
    return json.loads(found.stdout)


def test_all_that_is_said_in_one_place_is_said_in_the_users_language(tmp_path):
    written(tmp_path, catalogue.texts())
    theirs = asked(tmp_path)
    for what, words in theirs.items():
        left = [word for word in words if "[" not in word]
        assert words and not left, (what, left)
    assert theirs["refused"][0] == "[“soon” IS NOT A TIME: TYPE MINUTES:SECONDS, SUCH AS 1:15.]"
    assert "[FREQUENCY]: “loud”" in theirs["refused"][2] and "20.0 Hz" in theirs["refused"][3]


def test_without_a_catalogue_it_is_said_as_it_stands(tmp_path):
    plain = asked(tmp_path)
    assert "Undo" in plain["menus"] and plain["names"] == ["Left", "Right", "Mid", "Side"]
    with pytest.raises(ValueError, match="is not a time: type minutes:seconds"):
        parsed_time("soon")


def test_the_template_has_every_command_setting_and_kind_once():
    texts = catalogue.texts()
    assert len(texts) == len(set(texts)) > 500
    there = set(texts)
    assert {command.words for command in commands.COMMANDS} <= there
    for kind in KINDS.values():
        assert {kind.label, kind.help} <= there
        assert {one.label for one in settings_of(kind.side).values()} <= there
    template = catalogue.template()
    assert template.count("\nmsgid ") == len(texts)
    assert 'msgid "“{text}” is not a time: type minutes:seconds, such as 1:15."' in template
