"""What the program is."""

from PySide6.QtWidgets import QMessageBox, QWidget

from stonekite import __version__
from stonekite.words import said


def show_about(parent: QWidget) -> None:
    """Name, version and licence."""
    words = said(
        "<b>Stone Kite {version}</b><br><br>Separate processing of the two halves of a stereo "
        "recording,<br>and an honest comparison with what you started from.<br><br>Typeface: B612, SIL "
        "Open Font Licence."
    ).format(version=__version__)
    QMessageBox(QMessageBox.Icon.NoIcon, said("About Stone Kite"), words, parent=parent).exec()
