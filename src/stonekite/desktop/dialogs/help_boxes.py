"""What the program is."""

from PySide6.QtWidgets import QMessageBox, QWidget

from stonekite import __version__


def show_about(parent: QWidget) -> None:
    """Name, version and licence."""
    words = (
        f"<b>Stone Kite {__version__}</b><br><br>Separate processing of the two halves of a stereo "
        "recording,<br>and an honest comparison with what you started from.<br><br>"
        "Typeface: B612, SIL Open Font Licence."
    )
    QMessageBox(QMessageBox.Icon.NoIcon, "About Stone Kite", words, parent=parent).exec()
