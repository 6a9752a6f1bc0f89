"""All keys and what they do; those of commands can be changed."""

from collections.abc import Mapping

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeySequence
from PySide6.QtWidgets import (
    QDialog,
    QDialogButtonBox,
    QGridLayout,
    QKeySequenceEdit,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from stonekite import commands
from stonekite.desktop.controls.plain import Label
from stonekite.words import said

_MENUS = {
    "file": said("File"),
    "demos": said("Demos"),
    "edit": said("Edit"),
    "listen": said("Listen"),
    "view": said("View"),
    "help": said("Help"),
    "": said("Versions"),
}


class KeysDialog(QDialog):
    """`changed` gives the keys that are not the usual ones, after each change."""

    changed = Signal(object)

    def __init__(self, own: Mapping[str, tuple[str, ...]], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle(said("Keys"))
        self.resize(560, 620)
        self._own = dict(own)
        self.fields: dict[str, QKeySequenceEdit] = {}
        self.words = Label(
            said("Click a key and press another one; the cross beside it leaves the command without a key.")
        )
        self.words.setWordWrap(True)
        self.words.setObjectName("muted")
        inside = QWidget()
        grid = QGridLayout(inside)
        grid.setColumnStretch(0, 1)
        grid.setHorizontalSpacing(18)
        menu = None
        for command in commands.COMMANDS:
            if command.menu != menu:
                menu = command.menu
                self._heading(grid, _MENUS[menu])
            self._row(grid, command)
        self._heading(grid, said("Of what has the focus; these stay as they are"))
        for where, keys, words in commands.of_places():
            row = grid.rowCount()
            grid.addWidget(Label(said("{where}: {words}").format(where=where, words=words)), row, 0)
            grid.addWidget(Label(keys), row, 1)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        area.setWidget(inside)
        self.usual = QPushButton(said("All as usual"))
        self.usual.setToolTip(said("Give all commands the keys that they had at first"))
        self.usual.setAutoDefault(False)  # Enter is a key like others here
        self.usual.clicked.connect(self._reset)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Close)
        buttons.addButton(self.usual, QDialogButtonBox.ButtonRole.ResetRole)
        close = buttons.button(QDialogButtonBox.StandardButton.Close)
        close.setAutoDefault(False)
        close.setToolTip(said("Close (Esc)"))
        buttons.rejected.connect(self.reject)
        layout = QVBoxLayout(self)
        layout.addWidget(self.words)
        layout.addWidget(area, 1)
        layout.addWidget(buttons)

    @staticmethod
    def _heading(grid: QGridLayout, words: str) -> None:
        heading = Label(words)
        heading.setObjectName("title")
        grid.addWidget(heading, grid.rowCount(), 0, 1, 2)

    def _row(self, grid: QGridLayout, command: commands.Command) -> None:
        field = self.fields[command.id] = QKeySequenceEdit()
        field.setMaximumSequenceLength(1)
        field.setClearButtonEnabled(True)
        field.setMaximumWidth(170)
        line = field.findChild(QLineEdit)
        assert line is not None
        line.setPlaceholderText(said("no key"))
        field.setAccessibleName(said("Key of {words}").format(words=command.words))
        field.setToolTip(said("Press another key; several of the usual ones are kept until then"))
        self._show(command)
        field.editingFinished.connect(lambda: self._take(command))
        row = grid.rowCount()
        grid.addWidget(Label(command.words), row, 0)
        grid.addWidget(field, row, 1)

    def _show(self, command: commands.Command) -> None:
        keys = commands.keys_of(command, self._own)
        self.fields[command.id].setKeySequence(QKeySequence(keys[0] if keys else ""))

    def _take(self, command: commands.Command) -> None:
        """Give a command the key that was pressed, unless another one has it."""
        key = self.fields[command.id].keySequence().toString(QKeySequence.SequenceFormat.PortableText)
        now = commands.keys_of(command, self._own)
        if key == (now[0] if now else ""):
            return
        wanted = {**self._own, command.id: (key,) if key else ()}
        if wanted[command.id] == command.keys[:1]:
            del wanted[command.id]  # the usual ones, all of them
        for taken, one, other in commands.conflicts(wanted):
            if taken == key:
                mine = other if one == command.words else one
                self.words.setText(
                    said("{key} is taken: {mine}. {words} keeps its key.").format(
                        key=key, mine=mine, words=command.words
                    )
                )
                self._show(command)
                return
        self._own = wanted
        self.words.setText(f"{command.words}: {key or said('no key')}.")
        self._show(command)
        self.changed.emit(dict(self._own))

    def _reset(self) -> None:
        self._own = {}
        for command in commands.COMMANDS:
            self._show(command)
        self.words.setText(said("All keys are the usual ones."))
        self.changed.emit({})
