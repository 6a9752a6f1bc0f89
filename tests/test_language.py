"""What is said in another language: a catalogue that turns every text into capitals between brackets."""

import json
import os
import re
import struct
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest

from stonekite import catalogue, commands
from stonekite.stages.registry import KINDS
from stonekite.stages.settings import settings_of
from stonekite.words import NAMES, parsed_time


def foreign(text: str) -> str:
    """Capitals between brackets; what is filled in later stays."""
    parts = text.replace("{", "\0{").replace("}", "}\0").split("\0")
    return f"[{''.join(part if part.startswith('{') else part.upper() for part in parts)}]"


def written(folder: Path, texts: list[str], turned: Callable[[str], str] = foreign) -> None:
    """A compiled catalogue (the format of GNU gettext's MO files) with all texts."""
    pairs = [("", "Content-Type: text/plain; charset=UTF-8\n"), *((t, turned(t)) for t in sorted(texts))]
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


WALK = """
import json, os
from PySide6.QtCore import QEventLoop, QTimer
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import QAbstractButton, QApplication, QComboBox, QLabel, QLineEdit, QMenu, QTableWidget, QWidget

found, draw = {}, QPainter.drawText

def note(text, where):
    if text:
        found.setdefault(text, where)

def drawn(painter, *given):
    for one in given:
        if isinstance(one, str):
            note(one, "painted")
    return draw(painter, *given)

QPainter.drawText = drawn

from stonekite.desktop.controls import theme
from stonekite.desktop.shell.window import Window
from stonekite.stages.registry import KINDS

def look(root):
    for one in [root, *root.findChildren(QWidget)]:
        texts = [one.toolTip(), one.accessibleName(), one.accessibleDescription()]
        if isinstance(one, (QLabel, QAbstractButton, QLineEdit)):
            texts.append(one.text())
        if isinstance(one, QLineEdit):
            texts.append(one.placeholderText())
        if isinstance(one, QComboBox):
            texts += [one.itemText(k) for k in range(one.count())]
        if isinstance(one, QMenu):
            texts += [act.text() for act in one.actions()]
        if isinstance(one, QTableWidget):
            cells = [(row, column) for row in range(one.rowCount()) for column in range(one.columnCount())]
            texts += [one.item(*cell).text() for cell in cells if one.item(*cell) is not None]
        if one.isWindow():
            texts.append(one.windowTitle())
        for text in texts:
            note(text, type(one).__name__)
    root.grab()

def wait(seconds):
    loop = QEventLoop()
    QTimer.singleShot(int(seconds * 1000), loop.quit)
    loop.exec()

app = QApplication([])
theme.apply(app)
window = Window()
window.resize(1280, 800)
window.show()
look(window)
window.opening.open_demo()
window.start()
for _ in range(600):  # What is measured is painted, too.
    wait(0.1)
    if window.showing.measured is not None:
        break
assert window.showing.measured is not None
window.show_view("compare")
while window.switching.comparing.waiting:
    wait(0.1)
look(window)
for kind in KINDS:
    window.stages.add(kind)
    app.processEvents()
    wait(0.05)
    look(window)
    while len(window.document.strip.stages) > 3:
        window.stages.remove(window.document.strip.stages[0].id)
acts = window.menus.actions_by_id
for act in ("view-source", "view-output", "view-compare", "view-stage", "press-copy", "keep", "keys", "tempo", "presets",
            "export", "blind"):
    acts[act].trigger()
    wait(0.2)
    for one in app.topLevelWidgets():
        if one.isVisible():
            look(one)
            if one is not window:
                one.close()
print(json.dumps(found))
window.document.discard()
window.close()
os._exit(0)
"""

UNITS = {
    "Hz",
    "kHz",
    "dB",
    "dBFS",
    "dBTP",
    "LUFS",
    "LU",
    "ms",
    "cm",
    "st",
    "oct",
    "BPM",
    "bit",
    "WAV",
    "FLAC",
    "AIFF",
    "OGG",
}
KEYS = {"Alt", "Ctrl", "Shift", "Esc", "Enter", "Return", "Space", "Home", "End", "Del", "Backspace", "Delete", "Left", "Right",
        "Up", "Down", "Escape", "Page", "Tab", "PgUp", "PgDown"}  # fmt: skip
NAMES_OF_ITS_OWN = {"landing", "stage", "Stone", "Kite", "Pressed", "copy"}
FROM_QT = {"Close", "Press", "shortcut"}
"""What Qt says by itself, from a catalogue of its own."""


def outside(text: str) -> set[str]:
    """Words of a text that no catalogue gave."""
    while (shorter := re.sub(r"\[[^\[\]]*(\]|…)", "", text)) != text:
        text = shorter
    return set(re.findall(r"[A-Za-z]{2,}", text)) - UNITS - KEYS - NAMES_OF_ITS_OWN - FROM_QT


def heard(script: str, data: Path) -> str:
    done = subprocess.run(
        [sys.executable, "-c", script],
        env={**os.environ, "XDG_DATA_HOME": str(data), "LANGUAGE": "xx", "QT_QPA_PLATFORM": "offscreen"},
        capture_output=True,
        text=True,
    )
    assert done.returncode == 0, done.stderr
    return done.stdout


def test_the_whole_window_is_said_in_the_users_language(tmp_path):
    """Every text of every editor, view and dialog, its tooltips and what is read aloud, and what is painted."""
    written(tmp_path, catalogue.texts())
    found = json.loads(heard(WALK, tmp_path))
    assert len(found) > 1500 and {"painted", "Label", "QMenu", "QPushButton"} <= set(found.values())
    plain = {text: words for text in found if (words := outside(text))}
    assert not plain, [(found[text], text, sorted(words)) for text, words in plain.items()]


def test_the_command_line_and_what_is_refused_are_said_in_the_users_language(tmp_path):
    written(tmp_path, catalogue.texts())
    helps = heard(
        "from stonekite.cli import main; main(['encode', '--help'], standalone_mode=False)", tmp_path
    )
    assert (
        "[WRITE MID AND SIDE OF A STEREO FILE AS COMPONENT FILES.]" in helps
        and "[FOLDER TO WRITE TO.]" in helps
    )
    refused = heard(
        "from stonekite.notes import kept; from stonekite.words import NAMES, parsed_time; from stonekite.session.storage import load\n"
        "from pathlib import Path\n"
        "for act in (lambda: parsed_time('soon'), lambda: kept('soon'), lambda: load(Path('/nowhere'))):\n"
        "    try: act()\n"
        "    except Exception as error: print(error)",
        tmp_path,
    ).splitlines()
    assert len(refused) == 3 and not [line for line in refused if outside(line) - {"soon", "nowhere"}], (
        refused
    )


def test_a_report_is_said_in_the_users_language(tmp_path):
    """A table's headings and rows; what is machine-readable stays."""
    written(tmp_path, catalogue.texts())
    rows = json.loads(
        heard(
            "import json; from stonekite.reports.table import ROWS\n"
            "print(json.dumps([text for row in ROWS for text in (row.group, row.label, row.help)]))",
            tmp_path,
        )
    )
    assert len(rows) > 60 and not [text for text in rows if outside(text)]


@pytest.mark.parametrize("there", ["{", "{other}", "{text:d}", "nothing filled in"])
def test_a_mistake_in_a_catalogue_is_not_used(tmp_path, there):
    """What is filled in has to fit, or it is said as it stands."""
    mine = "“{text}” is not a time: type minutes:seconds, such as 1:15."
    written(tmp_path, [mine, "on"], lambda text: there if text == mine else "[ON]")
    said = heard(
        "from stonekite.words import parsed_time, said\n"
        "print(said('on'))\n"
        "try: parsed_time('soon')\n"
        "except ValueError as error: print(error)",
        tmp_path,
    )
    assert said.splitlines() == ["[ON]", mine.format(text="soon")]


@pytest.mark.parametrize(
    "rest", [b"", b"\xde\x12\x04\x95", b"\xde\x12\x04\x95" + b"\xff" * 40, b"no catalogue at all"]
)
def test_a_damaged_catalogue_is_none(tmp_path, rest):
    written(tmp_path, ["on"])
    next(tmp_path.rglob("*.mo")).write_bytes(rest)
    assert heard("from stonekite.words import said; print(said('on'))", tmp_path).strip() == "on"


def test_without_a_catalogue_it_is_said_as_it_stands():
    assert NAMES == {"left": "Left", "right": "Right", "mid": "Mid", "side": "Side"}
    with pytest.raises(ValueError, match="is not a time: type minutes:seconds"):
        parsed_time("soon")


def test_the_template_has_every_command_setting_and_kind_once():
    texts = catalogue.texts()
    assert len(texts) == len(set(texts)) > 1400
    there = set(texts)
    assert {command.words for command in commands.COMMANDS} <= there
    for kind in KINDS.values():
        assert {kind.label, kind.help} <= there
        assert {one.label for one in settings_of(kind.side).values()} <= there
    template = catalogue.template()
    assert template.count("\nmsgid ") == len(texts)
    assert 'msgid "“{text}” is not a time: type minutes:seconds, such as 1:15."' in template
