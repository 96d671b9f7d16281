"""Colours, fonts and the style sheet of the two schemes, paper and night, following the desktop's own choice."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace

from PySide6.QtCore import QObject, Qt, Signal
from PySide6.QtGui import QColor, QFont, QFontDatabase, QGuiApplication, QPalette, QShowEvent
from PySide6.QtWidgets import QApplication, QToolTip, QWidget

from yondle.desktop.look.turns import turns_later
from yondle.model.marks import NIGHT, PAPER, Palette
from yondle.model.verdicts import Verdict

FAMILIES = ("Inter", "Noto Sans", "Cantarell", "DejaVu Sans")
BODY_PX, SMALL_PX, TITLE_PX, LARGE_PX = 13, 11, 15, 18
MARGIN, HEAD_PX = 12, 28
"""Everything stands on a grid of 4: margins of 12, rows of 28 for heads and fields."""


@dataclass(frozen=True, slots=True)
class Colours:
    """A scheme as Qt colours, with the few tints that follow from it."""

    ground: QColor
    panel: QColor
    ink: QColor
    muted: QColor
    rule: QColor
    in_play: QColor
    chosen: QColor
    verdicts: dict[Verdict, QColor]
    night: bool

    @classmethod
    def of(cls, palette: Palette, night: bool) -> Colours:
        """Make the colours of a palette."""
        ground, in_play = QColor(palette.ground), QColor(palette.in_play)
        return cls(
            ground,
            QColor(palette.panel),
            QColor(palette.ink),
            QColor(palette.muted),
            QColor(palette.rule),
            in_play,
            mixed(QColor(palette.panel), in_play, 0.13),
            {verdict: QColor(value) for verdict, value in palette.verdicts.items()},
            night,
        )


def mixed(a: QColor, b: QColor, share: float) -> QColor:
    """Mix two colours; `share` is how much of the second."""
    return QColor.fromRgbF(
        a.redF() + (b.redF() - a.redF()) * share,
        a.greenF() + (b.greenF() - a.greenF()) * share,
        a.blueF() + (b.blueF() - a.blueF()) * share,
    )


def faded(colour: QColor, opacity: float) -> QColor:
    """Give a copy of a colour with an opacity from 0 to 1; the colour itself stays as it is."""
    copy = QColor(colour)
    copy.setAlphaF(opacity)
    return copy


def font(pixels: int, weight: QFont.Weight = QFont.Weight.Normal) -> QFont:
    """Make an interface font with figures of one width."""
    made = QFont(QApplication.font())
    made.setPixelSize(pixels)
    made.setWeight(weight)
    return made


class Theme(QObject):
    """The scheme in use; `changed` is sent when the desktop goes from light to dark or back.

    The style sheet is worn by the parts of the window one by one (`sheet`): to dress every widget there is takes long, and most
    of them are in places that nobody looks at. `printing` tells that what is drawn is for a printer, seen or not.
    """

    changed = Signal()

    def __init__(self, app: QApplication, forced: str | None = None) -> None:
        super().__init__(app)
        self._app = app
        self._forced = forced
        self.colours = self._wanted()
        self.sheet = ""
        self.printing = False
        installed = set(QFontDatabase.families())
        family = next((f for f in FAMILIES if f in installed), QApplication.font().family())
        base = QFont(family)
        base.setPixelSize(BODY_PX)
        base.setFeature(QFont.Tag("tnum"), 1)
        app.setFont(base)
        app.setStyle("Fusion")
        hints = QGuiApplication.styleHints()
        hints.colorSchemeChanged.connect(self._follow)
        self._dress()

    def force(self, scheme: str | None) -> None:
        """Use 'paper' or 'night' whatever the desktop says, or follow it again with None."""
        self._forced = scheme
        self._follow()

    @contextmanager
    def printed(self) -> Iterator[None]:
        """Have what paints itself do so for a printer: the paper scheme on white."""
        before, white = self.colours, QColor("white")
        self.colours = replace(Colours.of(PAPER, False), ground=white, panel=white)
        self.printing = True
        self.changed.emit()
        try:
            yield
        finally:
            self.colours = before
            self.changed.emit()
            self.printing = False

    def _follow(self) -> None:
        self.colours = self._wanted()
        self._dress()
        self.changed.emit()

    def _wanted(self) -> Colours:
        dark = QGuiApplication.styleHints().colorScheme() == Qt.ColorScheme.Dark
        night = self._forced == "night" or (self._forced is None and dark)
        return Colours.of(NIGHT if night else PAPER, night)

    def _dress(self) -> None:
        c = self.colours
        palette = QPalette()
        for role, colour in (
            (QPalette.ColorRole.Window, c.ground),
            (QPalette.ColorRole.Base, c.panel),
            (QPalette.ColorRole.AlternateBase, c.panel),
            (QPalette.ColorRole.Button, c.panel),
            (QPalette.ColorRole.WindowText, c.ink),
            (QPalette.ColorRole.Text, c.ink),
            (QPalette.ColorRole.ButtonText, c.ink),
            (QPalette.ColorRole.PlaceholderText, c.muted),
            (QPalette.ColorRole.ToolTipBase, c.panel),
            (QPalette.ColorRole.ToolTipText, c.ink),
            (QPalette.ColorRole.Highlight, c.in_play),
            (QPalette.ColorRole.HighlightedText, c.panel),
            (QPalette.ColorRole.Mid, c.rule),
        ):
            palette.setColor(role, colour)
        self._app.setPalette(palette)
        QToolTip.setPalette(palette)
        self.sheet = _style_sheet(c)

    def wear(self, widget: QWidget) -> None:
        """Have a part of the window wear the scheme, if it doesn't yet."""
        if widget.styleSheet() != self.sheet:
            widget.setStyleSheet(self.sheet)


class Redrawn:
    """For a widget that is drawn anew in another scheme: where it is seen, in a turn of its own, else when it is shown again."""

    _stale = False

    def redraw_with(self, theme: Theme, redraw: Callable[[], object]) -> None:
        """Redraw so; to be called once."""
        self._theme_followed, self._redraw_all = theme, redraw
        theme.changed.connect(self._scheme_changed)

    def _scheme_changed(self) -> None:
        self._stale = True
        if self._theme_followed.printing:
            self._redraw_now()
        elif self.isVisible():  # type: ignore[attr-defined]
            turns_later(self, 1, self._redraw_now)  # type: ignore[arg-type]

    def _redraw_now(self) -> None:
        if self._stale:
            self._stale = False
            self._redraw_all()

    def showEvent(self, event: QShowEvent) -> None:
        """Draw what was put off."""
        super().showEvent(event)  # type: ignore[misc]
        self._redraw_now()


def _style_sheet(c: Colours) -> str:
    ink, panel, ground, rule, muted = (x.name() for x in (c.ink, c.panel, c.ground, c.rule, c.muted))
    accent, down = c.in_play.name(), c.verdicts[Verdict.DOWN].name()
    pressed = mixed(c.ink, c.panel, 0.2).name()
    return f"""
    QWidget {{ color: {ink}; }}
    QMainWindow, QWidget#middle, QWidget#page {{ background: {ground}; }}
    QFrame#bar, QFrame#foot, QFrame#side {{ background: {panel}; border: none; }}
    QFrame#bar {{ border-bottom: 1px solid {rule}; }}
    QFrame#foot {{ border-top: 1px solid {rule}; }}
    QFrame#trail {{ background: {panel}; border: none; border-right: 1px solid {rule}; }}
    QFrame#side {{ border-left: 1px solid {rule}; }}
    QFrame#card {{ background: {ground}; border: 1px solid {rule}; border-radius: 6px; }}
    QLabel[role="heading"] {{ color: {muted}; font-size: {SMALL_PX}px; font-weight: 600; }}
    QLabel[role="muted"] {{ color: {muted}; }}
    QLabel[role="small"] {{ color: {muted}; font-size: {SMALL_PX}px; }}
    QLabel[role="warning"] {{ color: {accent}; }}
    QLabel[role="title"] {{ font-size: {TITLE_PX}px; font-weight: 600; }}
    QLabel[role="large"] {{ font-size: {LARGE_PX}px; font-weight: 600; }}
    QLabel[role="strong"] {{ font-weight: 600; }}
    QPushButton {{ background: {panel}; border: 1px solid {mixed(c.rule, c.ink, 0.18).name()}; border-radius: 4px;
                   padding: 4px 12px; min-height: 18px; }}
    QPushButton:hover {{ border-color: {ink}; }}
    QPushButton:focus {{ border: 1px solid {accent}; }}
    QPushButton:disabled {{ color: {muted}; border-color: {rule}; }}
    QPushButton[kind="main"] {{ background: {ink}; color: {panel}; border-color: {ink}; font-weight: 600;
                                 padding: 6px 16px; }}
    QPushButton[kind="main"]:hover {{ background: {pressed}; }}
    QPushButton[kind="main"]:focus {{ border: 1px solid {accent}; }}
    QPushButton[kind="main"]:disabled {{ background: {rule}; color: {muted}; border-color: {rule}; }}
    QPushButton[kind="danger"] {{ color: {down}; }}
    QPushButton[kind="danger"]:hover {{ border-color: {down}; }}
    QPushButton[kind="flat"] {{ background: transparent; border: none; padding: 4px 8px; color: {muted}; border-radius: 4px; }}
    QPushButton[kind="flat"]:hover {{ color: {ink}; }}
    QPushButton[kind="flat"]:focus {{ color: {ink}; border: 1px solid {accent}; padding: 3px 7px; }}
    QPushButton[kind="row"] {{ background: transparent; border: none; border-bottom: 1px solid transparent; padding: 4px 0 3px 0;
                              color: {muted}; border-radius: 0; text-align: left; }}
    QPushButton[kind="row"]:hover {{ color: {ink}; }}
    QPushButton[kind="row"]:focus {{ color: {ink}; border-bottom-color: {accent}; }}
    QPushButton[kind="flat"]:checked {{ color: {ink}; font-weight: 600; border-bottom: 2px solid {accent};
                                        border-radius: 0; padding-bottom: 2px; }}
    QLineEdit, QPlainTextEdit {{ background: {panel}; border: 1px solid {rule}; border-radius: 4px; padding: 4px 8px;
                                  min-height: 18px; placeholder-text-color: {muted}; }}
    QLineEdit[role="tight"] {{ padding: 2px 6px; }}
    QLineEdit:focus, QPlainTextEdit:focus {{ border-color: {accent}; }}
    QSpinBox, QDoubleSpinBox, QComboBox {{ background: {panel}; border: 1px solid {rule}; border-radius: 4px;
                                          padding: 4px 8px; min-height: 18px; selection-background-color: {rule};
                                          selection-color: {ink}; }}
    QSpinBox, QDoubleSpinBox {{ max-height: 18px; }}
    QSpinBox::up-button, QSpinBox::down-button, QDoubleSpinBox::up-button, QDoubleSpinBox::down-button {{
        width: 0; border: none; }}
    QComboBox::drop-down {{ border: none; width: 20px; }}
    QSpinBox:focus, QDoubleSpinBox:focus, QComboBox:focus {{ border-color: {accent}; }}
    QComboBox QAbstractItemView {{ background: {panel}; border: 1px solid {rule}; selection-background-color: {rule};
                                   selection-color: {ink}; }}
    QTreeWidget {{ background: transparent; }}
    QTreeWidget::item {{ padding: 4px; }}
    QTreeWidget::item:selected {{ background: {rule}; color: {ink}; }}
    QTableView {{ background: {panel}; border: 1px solid {rule}; outline: none; gridline-color: {rule};
                  selection-background-color: {rule}; selection-color: {ink}; }}
    QTableView::item {{ padding: 0 4px; border-bottom: 1px solid {mixed(c.rule, c.panel, 0.5).name()}; }}
    QTableView::item:selected {{ background: {mixed(c.panel, c.rule, 0.7).name()}; color: {ink}; }}
    QHeaderView {{ background: {panel}; border: none; }}
    QTableView QTableCornerButton::section {{ background: {panel}; border: none; border-bottom: 1px solid {rule}; }}
    QHeaderView::section {{ background: {panel}; color: {muted}; border: none; border-bottom: 1px solid {rule};
                            padding: 4px 8px; }}
    QMenu {{ background: {panel}; border: 1px solid {rule}; padding: 4px; }}
    QMenu::item {{ padding: 4px 16px 4px 8px; }}
    QMenu::item:selected {{ background: {rule}; }}
    QListView, QScrollArea {{ background: transparent; border: none; outline: none; }}
    QListWidget::item {{ padding: 4px; }}
    QListWidget::item:selected {{ background: {rule}; color: {ink}; }}
    QTreeWidget::indicator, QListWidget::indicator, QCheckBox::indicator, QMenu::indicator {{
        width: 11px; height: 11px; border: 1px solid {muted}; border-radius: 3px; background: {panel}; }}
    QMenu::indicator {{ margin-left: 8px; }}
    QTextBrowser {{ background: {panel}; border: 1px solid {rule}; border-radius: 4px; }}
    QTreeWidget::indicator:checked, QListWidget::indicator:checked, QCheckBox::indicator:checked,
    QMenu::indicator:checked {{ background: {ink}; border-color: {ink}; }}
    QAbstractScrollArea::corner {{ background: transparent; border: none; }}
    QTabBar#places {{ background: transparent; border: none; }}
    QTabBar#places::tab {{ color: {muted}; padding: 4px 8px 2px 8px; margin-right: 8px; border: none;
                           border-bottom: 2px solid transparent; background: transparent; }}
    QTabBar#places::tab:hover {{ color: {ink}; }}
    QTabBar#places::tab:selected {{ color: {ink}; font-weight: 600; border-bottom: 2px solid {accent}; }}
    QTabBar#places:focus {{ border: 1px solid {accent}; border-radius: 4px; }}
    QToolButton[role="section"] {{ background: transparent; border: none; color: {ink}; font-weight: 600; padding: 2px 0; }}
    QToolButton[role="section"]:focus {{ color: {accent}; }}
    QSplitter::handle {{ background: {rule}; }}
    QSplitter::handle:hover {{ background: {accent}; }}
    QScrollBar:vertical {{ background: transparent; width: 8px; margin: 0; }}
    QScrollBar:horizontal {{ background: transparent; height: 8px; margin: 0; }}
    QScrollBar::handle {{ background: {rule}; border-radius: 4px; min-height: 30px; min-width: 30px; }}
    QScrollBar::add-line, QScrollBar::sub-line, QScrollBar::add-page, QScrollBar::sub-page {{
        background: none; height: 0; width: 0; }}
    QToolTip {{ background: {panel}; color: {ink}; border: 1px solid {rule}; padding: 4px; }}
    """
