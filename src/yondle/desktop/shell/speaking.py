"""Qt's own words and figures in the language of this run: its dialogs, its key names, and the decimal mark of its fields."""

from __future__ import annotations

from PySide6.QtCore import QLibraryInfo, QLocale, QTranslator
from PySide6.QtWidgets import QApplication

from yondle.language.saying import LANGUAGE


def speak(app: QApplication) -> None:
    """Let Qt speak as the rest of the window does; what it has no words for stays English."""
    locale = QLocale(LANGUAGE)
    locale.setNumberOptions(QLocale.NumberOption.OmitGroupSeparator)
    QLocale.setDefault(locale)
    words = QTranslator(app)
    if words.load(locale, "qtbase", "_", QLibraryInfo.path(QLibraryInfo.LibraryPath.TranslationsPath)):
        app.installTranslator(words)
