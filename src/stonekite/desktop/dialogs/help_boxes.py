"""The two boxes of the help menu."""

from PySide6.QtWidgets import QMessageBox, QWidget

from stonekite import __version__

_KEYS = (
    ("Space", "play, pause"),
    ("Home", "back to the start, or to the start of the loop"),
    ("1  2  3", "hear processed, unprocessed, difference"),
    ("V  Alt+1 … Alt+9", "keep a version; hear a version, and the state now again"),
    ("R", "hear the next reference"),
    ("M", "level match on or off"),
    ("Shift+L  R  M  S", "hear Left, Right, Mid or Side alone"),
    ("L", "loop on or off"),
    ("B", "the open stage in or out; hold H to hear it out"),
    ("O", "edit the other leg"),
    ("F5  F6  F7  F8", "source check, stages, output, compare"),
    ("P", "presets for the open stage"),
    ("Ctrl+C  Ctrl+V", "copy the open stage, paste one behind it"),
    ("Ctrl+Z  Ctrl+Shift+Z", "undo, redo"),
    ("Ctrl+O  Ctrl+S  Ctrl+E", "open, save, export"),
    ("In the picture", "arrows move a band, + and − its Q, PageUp and PageDown choose, Delete removes"),
    ("In the signal path", "arrows choose, Alt+arrows reorder, + adds, Delete removes a stage"),
    ("On the timeline", "+ and − zoom, 0 shows all, arrows step"),
)


def show_keys(parent: QWidget) -> None:
    """Every key and what it does."""
    rows = "".join(
        f"<tr><td style='padding:3px 22px 3px 0'><b>{keys}</b></td><td>{words}</td></tr>"
        for keys, words in _KEYS
    )
    QMessageBox(QMessageBox.Icon.NoIcon, "Keys", f"<table>{rows}</table>", parent=parent).exec()


def show_about(parent: QWidget) -> None:
    """Name, version and licence."""
    words = (
        f"<b>Stone Kite {__version__}</b><br><br>Separate processing of the two halves of a stereo "
        "recording,<br>and an honest comparison with what you started from.<br><br>"
        "Typeface: B612, SIL Open Font Licence."
    )
    QMessageBox(QMessageBox.Icon.NoIcon, "About Stone Kite", words, parent=parent).exec()
