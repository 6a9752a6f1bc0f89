"""Commands and their keys: said once, the same everywhere, and changed by the user."""

import re
from pathlib import Path

import pytest
from hands import press, to_front
from PySide6.QtCore import Qt
from PySide6.QtGui import QKeySequence
from PySide6.QtTest import QTest

from stonekite import commands
from stonekite.desktop.model import preferences


def test_no_two_commands_have_the_same_key():
    assert commands.conflicts({}) == []
    assert len(commands.BY_ID) == len(commands.COMMANDS)
    (found,) = commands.conflicts({"loop": ("K",)})
    assert found[0] == "K" and set(found[1:]) == {"Loop", "Link its two sides"}
    assert commands.conflicts({"loop": ("+",)})  # what has the focus wants it


def test_every_key_is_one_that_qt_knows():
    for command in commands.COMMANDS:
        for key in command.keys:
            assert QKeySequence(key).toString(QKeySequence.SequenceFormat.PortableText) == key
    assert all(command.help for command in commands.COMMANDS if command.keys)


def test_the_readme_has_the_list_of_keys():
    readme = (Path(__file__).parents[1] / "README.md").read_text()
    assert commands.table() in readme


def test_tooltips_name_keys_only_by_their_commands():
    source = Path(commands.__file__).parent / "desktop"
    for path in source.rglob("*.py"):
        assert not re.search(r"\((key [A-Z0-9]|Ctrl\+|Shift\+|Space)", path.read_text()), path.name


@pytest.fixture
def keys_of(opened):
    """The keys dialog of a window."""
    dialog = opened.menus.show_keys()
    yield dialog
    dialog.reject()
    opened.menus._use_keys({})


def typed(qtbot, dialog, id: str, key: Qt.Key) -> None:
    field = dialog.fields[id]
    field.setFocus()
    QTest.keyClick(field, key)
    qtbot.waitUntil(
        lambda: dialog.words.text().startswith(commands.BY_ID[id].words) or "taken" in dialog.words.text(),
        timeout=5000,
    )


def test_a_command_gets_another_key_at_once_and_for_the_next_start(opened, keys_of, qtbot):
    assert "(key K)" in opened.panel.linked.toolTip()
    typed(qtbot, keys_of, "link", Qt.Key.Key_J)
    assert preferences.own_keys() == {"link": ("J",)}
    assert "(key J)" in opened.panel.linked.toolTip()
    keys_of.reject()
    opened.stages.add("gain")
    to_front(qtbot, opened)
    opened.timeline.setFocus()
    before = opened.stages.stage.linked
    press(qtbot, opened, Qt.Key.Key_K)
    assert opened.stages.stage.linked is before
    press(qtbot, opened, Qt.Key.Key_J)
    assert opened.stages.stage.linked is not before


def test_a_key_that_is_taken_is_refused_in_words(opened, keys_of, qtbot):
    typed(qtbot, keys_of, "link", Qt.Key.Key_B)
    assert keys_of.words.text() == "B is taken: Stage in or out. Link its two sides keeps its key."
    assert keys_of.fields["link"].keySequence().toString() == "K"
    assert preferences.own_keys() == {}


def test_all_keys_can_be_the_usual_ones_again(opened, keys_of, qtbot):
    typed(qtbot, keys_of, "link", Qt.Key.Key_J)
    keys_of.usual.click()
    assert preferences.own_keys() == {} and "(key K)" in opened.panel.linked.toolTip()


def test_hostile_preferences_give_no_keys(tmp_path):
    preferences.place().parent.mkdir(parents=True)
    preferences.place().write_text('{"keys": {"link": ["B"], "sails": ["X"]}}')
    assert preferences.own_keys() == {}
