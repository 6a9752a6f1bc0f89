"""Asking the system to let sound come before everything else, as audio programs on Linux do.

Where it is allowed, directly; otherwise the desktop's broker is asked over D-Bus (RealtimeKit, which grants a thread a
real-time priority if it never runs longer than RLIMIT_RTTIME without waiting). A process that was granted it and runs
too long is warned by SIGXCPU: then it goes back to being one of many.
"""

import os
import resource
import signal
import threading

from PySide6.QtCore import QLoggingCategory
from PySide6.QtDBus import QDBusConnection, QDBusInterface, QDBusMessage

PRIORITY = 5
_LONGEST_US = 200_000
_NAME, _PATH = "org.freedesktop.RealtimeKit1", "/org/freedesktop/RealtimeKit1"


def ask() -> bool:
    """Have the thread that calls play before everything else; whether that was granted."""
    try:
        os.sched_setscheduler(0, os.SCHED_RR | os.SCHED_RESET_ON_FORK, os.sched_param(PRIORITY))
    except OSError:
        return _by_broker()
    return True


def _by_broker() -> bool:
    QLoggingCategory.setFilterRules("qt.dbus.*=false")
    bus = QDBusConnection.systemBus()
    if not bus.isConnected():
        return False
    try:
        resource.setrlimit(resource.RLIMIT_RTTIME, (_LONGEST_US, _LONGEST_US))
    except (OSError, ValueError):
        return False
    signal.signal(signal.SIGXCPU, _give_back)
    broker = QDBusInterface(_NAME, _PATH, _NAME, bus)
    if not broker.isValid():
        return False
    answer = broker.call("MakeThreadRealtime", threading.get_native_id(), PRIORITY)
    return answer.type() == QDBusMessage.MessageType.ReplyMessage


def _give_back(*_: object) -> None:
    os.sched_setscheduler(0, os.SCHED_OTHER, os.sched_param(0))
