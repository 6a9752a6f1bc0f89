"""Choosing, keeping and exchanging presets; the chosen one is heard at once."""

from pathlib import Path
from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QDialog,
    QFileDialog,
    QHBoxLayout,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from stonekite.desktop.controls.choices import Segments
from stonekite.desktop.controls.entry import Entry
from stonekite.desktop.controls.plain import Label, tip
from stonekite.desktop.model import preferences
from stonekite.desktop.model.document import Document
from stonekite.desktop.model.stage_actions import StageActions
from stonekite.session import presets
from stonekite.session.presets import Preset, PresetError, Scope
from stonekite.stages.registry import label_of
from stonekite.words import NAMES, said

_FILTER = said("Presets (*{suffix})").format(suffix=presets.SUFFIX)


class PresetsDialog(QDialog):
    """Presets for the open stage, its leg in front, or the whole strip."""

    def __init__(self, document: Document, actions: StageActions, parent: QWidget, folder: Path) -> None:
        super().__init__(parent)
        self._document, self._actions, self._folder = document, actions, folder
        self._gesture = object()
        self._before = document.session
        self.setWindowTitle(said("Presets"))
        self.resize(560, 430)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(18, 16, 18, 14)
        layout.setSpacing(10)
        words: dict[Any, str] = {}
        if actions.stage is not None and actions.chosen is not None:
            leg = NAMES[document.strip.split.component(actions.chosen[1])]
            label = label_of(actions.stage)
            words = {
                "stage": said("{label}, both legs").format(label=label),
                "leg": said("{label} on {name}").format(label=label, name=leg),
            }
        words["strip"] = said("Whole strip")
        self.scope = Segments(
            words,
            said("What the preset is for"),
            said("A stage with both legs, one leg of it, or all stages"),
        )
        self.list = QListWidget()
        self.list.setAccessibleName(said("Presets"))
        self.about = Label("")
        self.about.setObjectName("muted")
        self.about.setWordWrap(True)
        self.about.setMinimumHeight(38)
        self.about.setAlignment(Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag.AlignLeft)
        self.name = Entry()
        self.name.setPlaceholderText(said("Name to keep the settings as they are now"))
        self.name.setAccessibleName(said("Name of a new preset"))
        self.keep = QPushButton(said("Keep"))
        self.keep.setEnabled(False)
        self.message = Label("")
        self.message.setWordWrap(True)
        self.read = QPushButton(said("Import…"))
        self.write = QPushButton(said("Export…"))
        self.delete = QPushButton(said("Delete"))
        self.cancel = QPushButton(said("Cancel"))
        self.use = QPushButton(said("Use"))
        self.use.setDefault(True)
        naming = QHBoxLayout()
        naming.addWidget(self.name, 1)
        naming.addWidget(self.keep)
        buttons = QHBoxLayout()
        for button in (self.read, self.write, self.delete):
            buttons.addWidget(button)
        buttons.addStretch()
        buttons.addWidget(self.cancel)
        buttons.addWidget(self.use)
        layout.addWidget(self.scope)
        layout.addWidget(self.list, 1)
        layout.addWidget(self.about)
        layout.addLayout(naming)
        layout.addWidget(self.message)
        layout.addLayout(buttons)
        for button in (self.read, self.write, self.delete, self.keep, self.cancel):
            button.setAutoDefault(False)
        self.scope.chosen.connect(lambda scope: self._fill())
        self.list.currentItemChanged.connect(lambda item, old: self._try(item))
        self.list.itemDoubleClicked.connect(lambda item: self.accept())
        # What one is for is said before it is heard, too.
        self.list.setMouseTracking(True)
        self.list.itemEntered.connect(lambda item: self._show_about(item.data(Qt.ItemDataRole.UserRole)))
        self.name.textChanged.connect(lambda text: self.keep.setEnabled(bool(text.strip())))
        self.name.returnPressed.connect(self._keep)
        self.name.left.connect(self.reject)
        self.keep.clicked.connect(self._keep)
        self.read.clicked.connect(self._import)
        self.write.clicked.connect(self._export)
        self.delete.clicked.connect(self._delete)
        self.cancel.clicked.connect(self.reject)
        self.use.clicked.connect(self.accept)
        self._fill()

    @property
    def _kind(self) -> str | None:
        stage = self._actions.stage
        return None if self.scope.value == "strip" or stage is None else stage.__struct_config__.tag

    def _fill(self, choose: str = "") -> None:
        found, faults = presets.listed([self._folder, presets.SHIPPED])
        self.list.blockSignals(True)
        self.list.clear()
        for path, preset in found:
            if preset.fits(self.scope.value, self._kind):
                shipped = path.parent == presets.SHIPPED
                yours = said("{name}   (yours)").format(name=preset.name)
                item = QListWidgetItem(said(preset.name) if shipped else yours)
                item.setData(Qt.ItemDataRole.UserRole, (path, preset))
                item.setToolTip(tip(_about(path, preset)))
                self.list.addItem(item)
                if preset.name == choose and self.list.currentItem() is None:  # one's own come first
                    self.list.setCurrentItem(item)
        self.list.blockSignals(False)
        self.message.setText(" ".join(faults))
        self._show(self._chosen())

    def _chosen(self) -> tuple[Path, Preset] | None:
        item = self.list.currentItem()
        return item.data(Qt.ItemDataRole.UserRole) if item is not None else None

    def _show_about(self, chosen: tuple[Path, Preset] | None) -> None:
        self.about.setText(
            _about(*chosen) if chosen else said("Choose one to hear it; Cancel goes back to what was.")
        )

    def _show(self, chosen: tuple[Path, Preset] | None) -> None:
        self._show_about(chosen)
        self.write.setEnabled(chosen is not None)
        self.delete.setEnabled(chosen is not None and chosen[0].parent != presets.SHIPPED)

    def _try(self, item: QListWidgetItem | None) -> None:
        """Hear the chosen one."""
        chosen = self._chosen() if item is not None else None
        self._show(chosen)
        if chosen is not None:
            self._actions.use_preset(chosen[1], self._gesture)

    def _made(self, name: str) -> Preset:
        scope: Scope = self.scope.value
        if scope == "strip":
            return presets.of_strip(name, self._document.strip)
        if scope == "leg":
            return presets.of_leg(name, self._actions.stage, self._actions.chosen[1])  # type: ignore[index]
        return presets.of_stage(name, self._actions.stage)

    def _keep(self) -> None:
        name = self.name.text().strip()
        if not name:
            return
        try:
            preset = self._made(name[:60])
            path = presets.path_for(preset, self._folder)
            if path.exists():
                self.message.setText(
                    said(
                        "There is a preset “{name}” already: choose another name, or delete it first."
                    ).format(name=name)
                )
                return
            presets.save(preset, path)
        except PresetError as error:
            self.message.setText(str(error))
            return
        self.name.clear()
        self._fill(choose=preset.name)
        self.message.setText(said("Kept as “{name}”.").format(name=preset.name))

    def _import(self) -> None:
        name, _ = QFileDialog.getOpenFileName(
            self, said("Import a preset"), preferences.last_folder(), _FILTER
        )
        if name:
            self.import_from(Path(name))

    def import_from(self, source: Path) -> None:
        """Take a preset file into the user's folder."""
        try:
            preset = presets.load(source)
            path = presets.path_for(preset, self._folder)
            if path.exists():
                self.message.setText(
                    said("There is a preset “{name}” already; it was left as it is.").format(name=preset.name)
                )
                return
            presets.save(preset, path)
        except PresetError as error:
            self.message.setText(str(error))
            return
        self._fill(choose=preset.name)
        fits = preset.fits(self.scope.value, self._kind)
        self.message.setText(
            said("Imported “{name}”.").format(name=preset.name)
            if fits
            else said("Imported “{name}”; it is for something else.").format(name=preset.name)
        )

    def _export(self) -> None:
        chosen = self._chosen()
        if chosen is None:
            return
        name, _ = QFileDialog.getSaveFileName(self, said("Export the preset"), chosen[0].name, _FILTER)
        if name:
            path = Path(name)
            try:
                presets.save(
                    chosen[1], path if path.suffix == presets.SUFFIX else Path(name + presets.SUFFIX)
                )
                self.message.setText(said("Exported as “{name}”.").format(name=path.name))
            except PresetError as error:
                self.message.setText(str(error))

    def _delete(self) -> None:
        chosen = self._chosen()
        if chosen is not None and chosen[0].parent != presets.SHIPPED:
            try:
                chosen[0].unlink(missing_ok=True)
            except OSError as error:
                self.message.setText(
                    said("“{name}” was not deleted: {reason}.").format(
                        name=chosen[0].name, reason=error.strerror
                    )
                )
                return
            self._fill()

    def reject(self) -> None:
        """Back to what was before the first one was tried."""
        if self._document.session is not self._before:  # all that were tried are one step
            self._document.undo()
        super().reject()


def _about(path: Path, preset: presets.Preset) -> str:
    """What a preset is for; what was shipped is said in the user's language."""
    return said(preset.about) if path.parent == presets.SHIPPED else preset.about
