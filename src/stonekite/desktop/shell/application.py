"""Starting the window."""

import gc
import signal
import sys
from pathlib import Path

from PySide6.QtCore import QLibraryInfo, QLocale, QTimer, QTranslator
from PySide6.QtWidgets import QApplication

from stonekite.desktop.controls import theme
from stonekite.desktop.model import preferences
from stonekite.desktop.shell.window import Window
from stonekite.words import translated

_SETTLED_MS = 2000


def settle() -> None:
    """Take what the window is made of out of what Python looks through for garbage: a whole look holds it for 0.1 s."""
    gc.freeze()


def speak(application: QApplication) -> None:
    """Let Qt say what it says itself, such as the buttons of questions, in the language of the rest."""
    spoken = QTranslator(application)
    place = QLibraryInfo.path(QLibraryInfo.LibraryPath.TranslationsPath)
    if translated() and spoken.load(QLocale(), "qtbase", "_", place):
        application.installTranslator(spoken)


def run(paths: list[Path], demo: bool = False) -> int:
    """Open the window with a session or recording; returns the exit code when it is closed."""
    application = QApplication(sys.argv[:1])
    application.setApplicationName("Stone Kite")
    application.setDesktopFileName("stonekite")
    speak(application)
    theme.apply(application, preferences.load().theme)
    # Ctrl-C in the terminal and the end of a desktop session end it properly, but without a question that nobody may be
    # there to answer: what is not saved stays in its journal.
    for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, lambda *_: application.exit(0))
    heartbeat = QTimer()
    heartbeat.timeout.connect(lambda: None)
    heartbeat.start(250)
    window = Window()
    window.faults.listen()
    application.aboutToQuit.connect(window.shut_down)
    window.show()
    if demo:
        QTimer.singleShot(0, window, window.opening.open_demo)
    elif paths:
        QTimer.singleShot(0, window, lambda: window.mixing.open_paths(paths))
    QTimer.singleShot(0, window, window.start)
    QTimer.singleShot(0, window, window.recovering.offer)
    QTimer.singleShot(_SETTLED_MS, window, settle)
    return application.exec()
