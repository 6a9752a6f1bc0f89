"""Dialogs, only for what needs an answer."""
