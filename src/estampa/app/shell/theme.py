"""Paper and ink: the palette, the type, and the drawing of icons."""

from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

from PySide6.QtCore import QByteArray, QRectF, Qt
from PySide6.QtGui import QBrush, QColor, QFont, QFontDatabase, QIcon, QPainter, QPalette, QPixmap
from PySide6.QtSvg import QSvgRenderer

from ...kinds.registry import kind_of

ASSETS = Path(__file__).parents[1] / "assets"


@dataclass(frozen=True)
class Ink:
    """One set of colours."""

    paper: str
    sheet: str  # lighter than paper: where one writes
    fold: str  # darker than paper: headers
    rule: str
    ink: str
    soft: str  # ink for what matters less
    accent: str
    on_accent: str
    good: str
    chosen: str  # behind the selected row


PAPER = Ink(
    "#efe8da", "#f8f4ea", "#e3d9c6", "#bfb298", "#2a2420", "#63584b", "#b5391f", "#fff8ec", "#5b6b3a", "#ecd7bd"
)
NIGHT = Ink(
    "#2a272b", "#1f1d20", "#343036", "#57504f", "#ece4d6", "#b3a899", "#e4694a", "#1f1d20", "#a3b573", "#4a3a36"
)

RAMP = ["#301442", "#75265e", "#bd4a4a", "#ed8f30", "#fcd673"]  # plum to amber: weights and activity

ink: Ink = PAPER


def use(app, night: bool = False) -> None:
    """Dress the application."""
    global ink
    ink = NIGHT if night else PAPER
    for font in (ASSETS / "fonts").glob("*.otf"):
        QFontDatabase.addApplicationFont(str(font))
    if app.property("dressed") is None:  # a style sheet hides the style's own name
        app.setStyle("Fusion")
        app.setProperty("dressed", True)
    if app.font().family() != "Cabin":
        app.setFont(type_face())
    palette = QPalette()
    for role, colour in (
        (QPalette.Window, ink.paper),
        (QPalette.Base, ink.sheet),
        (QPalette.AlternateBase, ink.paper),
        (QPalette.Button, ink.fold),
        (QPalette.Text, ink.ink),
        (QPalette.WindowText, ink.ink),
        (QPalette.ButtonText, ink.ink),
        (QPalette.Highlight, ink.accent),
        (QPalette.ToolTipBase, ink.sheet),
        (QPalette.HighlightedText, ink.on_accent),
        (QPalette.ToolTipText, ink.ink),
        (QPalette.PlaceholderText, ink.soft),
        (QPalette.Mid, ink.rule),
        (QPalette.Link, ink.accent),
    ):
        palette.setColor(role, QColor(colour))
    for role in (QPalette.Text, QPalette.WindowText, QPalette.ButtonText):
        palette.setColor(QPalette.Disabled, role, QColor(ink.rule))
    app.setPalette(palette)
    arrow = ASSETS / ("arrow-night.svg" if night else "arrow.svg")
    app.setStyleSheet(_SHEET.format(arrow=arrow.as_posix(), tick=(ASSETS / "tick.svg").as_posix(), **vars(ink)))
    icon.cache_clear()


def type_face(points: float = 10.0, bold: bool = False, italic: bool = False) -> QFont:
    """Cabin with tabular lining figures, so that numbers stand in columns."""
    face = QFont("Cabin")
    face.setPointSizeF(points)
    face.setWeight(QFont.DemiBold if bold else QFont.Normal)
    face.setItalic(italic)
    for tag in ("tnum", "lnum"):
        face.setFeature(QFont.Tag(tag), 1)
    return face


def brush(colour: str) -> QBrush:
    return QBrush(QColor(colour))


def ramp_colour(t: float) -> QColor:
    t = min(max(t, 0.0), 1.0) * (len(RAMP) - 1)
    i = min(int(t), len(RAMP) - 2)
    a, b, f = QColor(RAMP[i]), QColor(RAMP[i + 1]), t - i
    return QColor.fromRgbF(*(x + (y - x) * f for x, y in zip(a.getRgbF(), b.getRgbF(), strict=True)))


# Drawn for Estampa on a 16 x 16 grid, as an engraver would: one weight of line.
_PATHS = {
    "play": "M5 3.2 L12.5 8 L5 12.8 Z",
    "pause": "M5 3.5 V12.5 M11 3.5 V12.5",
    "stop": "M4 4 H12 V12 H4 Z",
    "first": "M4 3.5 V12.5 M12 3.5 L6.5 8 L12 12.5 Z",
    "last": "M12 3.5 V12.5 M4 3.5 L9.5 8 L4 12.5 Z",
    "solve": "M3 12.5 C5 3 7 3 8 8 S11 13 13 3.5",
    "add": "M8 3 V13 M3 8 H13",
    "remove": "M3 8 H13",
    "key": "M8 2.5 A3 3 0 1 1 7.99 2.5 M8 8.5 V13.5 M8 11 H10.5",
    "reset": "M4 5.5 A5 5 0 1 1 3.2 9.2 M4 2.5 V5.7 H7.2",
    "hand": "M8 8 m-5.5 0 a5.5 5.5 0 1 0 11 0 a5.5 5.5 0 1 0 -11 0 M8 2.5 C5 5.5 5 10.5 8 13.5 M8 2.5 C11 5.5 11 10.5 8 13.5 M2.6 8 H13.4",
    "pick": "M3 3 h3 M3 3 v3 M13 3 h-3 M13 3 v3 M3 13 h3 M3 13 v-3 M13 13 h-3 M13 13 v-3 M8 7 a1 1 0 1 0 .01 0",
    "match": "M2.5 13 L8 3.5 L13.5 13 M4.6 9.5 L13 6 M11.4 9.5 L3 6 M8 2 a1.4 1.4 0 1 0 .01 0",
    "gradient": "M3 13 L13 3 M2 10 L6 14 M10 2 L14 6",
    "eye": "M2 8 C4.5 4 11.5 4 14 8 C11.5 12 4.5 12 2 8 Z M8 6.4 a1.6 1.6 0 1 0 .01 0",
    "eye_off": "M2 8 C4.5 11 11.5 11 14 8 M4 10 L3 11.5 M8 10.6 V12.4 M12 10 L13 11.5",
    "bend": "M4 13.5 V9 C4 5 7 3.5 12.5 3.5 M10 1.5 L12.8 3.5 L10 5.6",
    "link": "M6.5 9.5 L9.5 6.5 M7.5 5 L9.3 3.2 A2.4 2.4 0 0 1 12.8 6.7 L11 8.5 M8.5 11 L6.7 12.8 A2.4 2.4 0 0 1 3.2 9.3 L5 7.5",
    "formula": "M3.5 5 C6 2 7 3 8 8 S10 14 12.5 11 M3.5 11 L12.5 5",
    "lock": "M4 7.5 H12 V13.5 H4 Z M5.5 7.5 V5 A2.5 2.5 0 0 1 10.5 5 V7.5",
    "pin": "M8 9.5 V14 M5 9.5 H11 L9.8 7 V3 H6.2 V7 Z",
    "curves": "M2.5 12.5 C6 12.5 6 4 8.5 4 S11 12.5 13.5 12.5 M8.5 2.8 a1.2 1.2 0 1 0 .01 0",
    "tangent_flat": "M2.5 8 H13.5 M8 6.5 a1.5 1.5 0 1 0 .01 0",
    "tangent_smooth": "M2.5 12.5 C6 11 10 5 13.5 3.5 M8 6.5 a1.5 1.5 0 1 0 .01 0",
    "tangent_free": "M3 11.5 L13 4.5 M8 6.5 a1.5 1.5 0 1 0 .01 0 M2.2 11.2 h1.6 v1.6 h-1.6 Z M12.2 3.2 h1.6 v1.6 h-1.6 Z",
    "tangent_broken": "M3 4 L8 8 L13 4 M8 6.5 a1.5 1.5 0 1 0 .01 0",
    "segment_curve": "M3 12.5 C8 12.5 8 3.5 13 3.5",
    "segment_linear": "M3 12.5 L13 3.5",
    "segment_step": "M3 12.5 H13 V3.5",
    "soft": "M2 12.5 C6 12.5 6 4.5 8 4.5 S10 12.5 14 12.5 M8 12.5 V9",
    "snap": "M3 3 V13 M8 3 V13 M13 3 V13 M8 8 m-1.6 0 a1.6 1.6 0 1 0 3.2 0 a1.6 1.6 0 1 0 -3.2 0",
    "normalise": "M2.5 3 H13.5 M2.5 13 H13.5 M3 11 C6 11 6 5 9 5 S11.5 9 13 9",
    "copy": "M5.5 5.5 H13 V13 H5.5 Z M3 10.5 V3 H10.5",
    "paste": "M4 3.5 H12 V13.5 H4 Z M6.5 2.5 H9.5 V5 H6.5 Z",
    "paste_offset": "M4 6.5 H10 V13.5 H4 Z M12.5 9 V3 M10.8 4.8 L12.5 3 L14.2 4.8",
    "loop": "M5 4.5 H10.5 A3.5 3.5 0 0 1 10.5 11.5 H5.5 A3.5 3.5 0 0 1 3 6 M7 2.5 L5 4.5 L7 6.5",
    "cut_view": "M3 3 H8 V13 H3 Z M10 2 V14 M12 4 h.01 M12 8 h.01 M12 12 h.01",
    "ghost": "M4 13 V7 A4 4 0 0 1 12 7 V13 L10.5 11.5 L9.3 13 L8 11.5 L6.7 13 L5.5 11.5 Z",
    "compare": "M2.5 3.5 H7 V12.5 H2.5 Z M9 3.5 H13.5 V12.5 H9 M8 1.8 V14.2",
    "movie": "M2.5 4 H13.5 V12 H2.5 Z M6.5 6 L10.5 8 L6.5 10 Z",
    "panes": "M2.5 3 H13.5 V13 H2.5 Z M8 3 V13",
    "place": "M8 14 C5 10 3.5 8.5 3.5 6.3 A4.5 4.5 0 0 1 12.5 6.3 C12.5 8.5 11 10 8 14 Z M8 5 a1.4 1.4 0 1 0 .01 0",
    "auto_key": "M6 3 A2.5 2.5 0 1 1 5.99 3 M6 8 V13 M6 11 H8 M12 3.5 a2 2 0 1 0 .01 0",
    "different": "M2.5 12 L5 6 L7.5 12 M8.5 12 L10 9 L11.5 12 M11 12 L12.5 4 L14 12",
    "warning": "M8 2.8 L14 13 H2 Z M8 6.5 V9.8 M8 11.3 V11.6",
    "find": "M7 2.8 a4.2 4.2 0 1 0 .01 0 M10 10 L13.5 13.5",
    "press": "M3 13 H13 M4.5 13 V6 H11.5 V13 M8 6 V2.5 M5.5 2.5 H10.5 M4.5 9.5 H11.5",
    "frame": "M2.5 5.5 V2.5 H5.5 M10.5 2.5 H13.5 V5.5 M13.5 10.5 V13.5 H10.5 M5.5 13.5 H2.5 V10.5 M6 6 H10 V10 H6 Z",
    "wire": "M8 2.5 L13.5 12.5 H2.5 Z M5.2 7.5 H10.8 M8 12.5 L5.2 7.5 M8 12.5 L10.8 7.5",
    "unknown": "M6 6 A2.2 2.2 0 1 1 8 8.5 V10 M8 12 V12.3",
    "open": "M2.5 12.5 V4 H6.5 L8 5.5 H13.5 V12.5 Z",
    "save": "M8 2.5 V10 M5 7.2 L8 10.2 L11 7.2 M3 13 H13",
    "more": "M4 6 L8 10 L12 6",
    "beads": "M4 2 V14 M8 2 V14 M12 2 V14 M4 4 a1.2 1.2 0 1 0 .01 0 M8 7 a1.2 1.2 0 1 0 .01 0 M12 4 a1.2 1.2 0 1 0 .01 0 M4 10 a1.2 1.2 0 1 0 .01 0 M12 10 a1.2 1.2 0 1 0 .01 0",
    "bake": "M3 13 H13 M4.5 13 C4.5 7 6 7 6 4 M8 13 V5 M11.5 13 C11.5 7 10 7 10 4 M6 3 a1 1 0 1 0 .01 0 M10 3 a1 1 0 1 0 .01 0",
    "paint": "M12.5 2.5 L7.5 8 M7.5 8 C5 7.5 4.5 10 3 13 C6.5 12.8 9 11.5 7.5 8",
    "live": "M4.5 3.5 L10 7 L4.5 10.5 Z M12 3 V11 M3 13.5 C6 12 9 15 13 13",
    "joint_csv": "M3 3 H13 V13 H3 Z M3 6.3 H13 M3 9.7 H13 M7 3 V13",
}


@lru_cache(maxsize=256)
def icon(name: str, colour: str | None = None, size: int = 16) -> QIcon:
    kind = kind_of(name)
    path = (kind.icon if kind is not None else "") or _PATHS.get(name, _PATHS["unknown"])
    svg = (
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 16 16"><path d="{path}" fill="none" '
        f'stroke="{colour or ink.ink}" stroke-width="1.25" stroke-linejoin="round" stroke-linecap="round"/></svg>'
    )
    renderer = QSvgRenderer(QByteArray(svg.encode()))
    pixmap = QPixmap(size * 2, size * 2)
    pixmap.fill(Qt.transparent)
    painter = QPainter(pixmap)
    renderer.render(painter, QRectF(0, 0, size * 2, size * 2))
    painter.end()
    pixmap.setDevicePixelRatio(2)
    return QIcon(pixmap)


# No rule for every widget: the palette has the colours of text, and one more rule for each makes restyling slower.
_SHEET = """
QMainWindow, QDialog {{ background: {paper}; }}
QMenuBar {{ background: {fold}; border-bottom: 1px solid {rule}; padding: 1px 4px; }}
QMenuBar::item {{ padding: 3px 9px; background: transparent; }}
QMenuBar::item:selected, QMenu::item:selected {{ background: {accent}; color: {on_accent}; }}
QMenu {{ background: {sheet}; border: 1px solid {rule}; padding: 4px; }}
QMenu::item {{ padding: 4px 26px 4px 22px; }}
QMenu::item:disabled {{ color: {rule}; }}
QMenu::separator {{ height: 1px; background: {rule}; margin: 4px 8px; }}
QToolTip {{ background: {sheet}; color: {ink}; border: 1px solid {rule}; padding: 4px; }}
QPushButton, QToolButton {{ background: {sheet}; border: 1px solid {rule}; border-radius: 2px; padding: 3px 9px; }}
QToolButton {{ padding: 3px; }}
QPushButton:hover, QToolButton:hover {{ border-color: {ink}; }}
QPushButton:pressed, QToolButton:pressed, QToolButton:checked, QPushButton:checked {{ background: {chosen}; border-color: {accent}; }}
QPushButton:focus, QToolButton:focus, QLineEdit:focus, QComboBox:focus {{ border-color: {accent}; }}
QPushButton:disabled, QToolButton:disabled {{ color: {rule}; border-color: {fold}; }}
QPushButton[strong="true"] {{ background: {accent}; color: {on_accent}; border-color: {accent}; }}
QPushButton[strong="true"]:disabled {{ background: {fold}; color: {soft}; border-color: {rule}; }}
QToolButton[flat="true"], QPushButton[flat="true"] {{ background: transparent; border-color: transparent; }}
QToolButton[flat="true"]:hover {{ border-color: {rule}; }}
QToolButton[flat="true"]:focus {{ border-color: {accent}; }}
QToolButton::menu-indicator {{ image: none; }}
QLineEdit, QComboBox {{ background: {sheet}; border: 1px solid {rule}; border-radius: 2px; padding: 2px 5px; selection-background-color: {accent}; selection-color: {on_accent}; }}
QComboBox::drop-down {{ border: none; width: 18px; }}
QComboBox::down-arrow {{ image: url("{arrow}"); width: 10px; height: 10px; }}
QComboBox QAbstractItemView {{ background: {sheet}; border: 1px solid {rule}; selection-background-color: {accent}; selection-color: {on_accent}; }}
QCheckBox::indicator {{ width: 13px; height: 13px; border: 1px solid {soft}; background: {sheet}; border-radius: 2px; }}
QCheckBox::indicator:checked {{ background: {accent}; border-color: {accent}; image: url("{tick}"); }}
QCheckBox:focus {{ color: {accent}; }}
QTabWidget::pane {{ border: none; border-top: 1px solid {rule}; background: {paper}; }}
QTabWidget {{ background: {fold}; }}
QTabBar {{ background: {fold}; border: none; }}
QTabBar::tab {{ background: {fold}; border: 1px solid {rule}; border-bottom: none; padding: 4px 8px; margin-right: 1px; color: {soft}; }}
QTabBar::tab:selected {{ background: {paper}; color: {ink}; border-top: 2px solid {accent}; }}
QTabBar::tab:focus {{ color: {accent}; }}
QTreeWidget, QListWidget {{ background: {paper}; border: none; outline: none; }}
QListWidget::item {{ padding: 4px; border-bottom: 1px solid {fold}; }}
QTreeWidget::item:selected, QListWidget::item:selected {{ background: {chosen}; color: {ink}; }}
QHeaderView::section {{ background: {fold}; border: none; padding: 3px; }}
QScrollArea {{ background: {paper}; border: none; }}
QScrollBar:vertical {{ background: transparent; width: 10px; }}
QScrollBar:horizontal {{ background: transparent; height: 10px; }}
QScrollBar::handle {{ background: {rule}; border-radius: 4px; min-height: 24px; min-width: 24px; margin: 1px; }}
QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
QScrollBar::add-page, QScrollBar::sub-page {{ background: transparent; }}
QSplitter::handle {{ background: {rule}; }}
QProgressBar {{ background: {sheet}; border: 1px solid {rule}; border-radius: 2px; text-align: center; }}
QProgressBar::chunk {{ background: {chosen}; border-right: 2px solid {accent}; }}
QLabel[soft="true"] {{ color: {soft}; }}
QLabel[title="true"] {{ font-weight: 600; font-size: 12pt; }}
QFrame[strip="true"] {{ background: {fold}; border-bottom: 1px solid {rule}; }}
QFrame[notice="error"] {{ background: {accent}; }}
QFrame[notice="error"] QLabel {{ color: {on_accent}; }}
QFrame[notice="note"] {{ background: {chosen}; border-bottom: 1px solid {rule}; }}
"""
