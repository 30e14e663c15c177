"""Asks for the size, range, form and file of a movie."""

from pathlib import Path

from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QFileDialog,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
)

from ...errors import EstampaError
from ...evaluate.evaluator import Evaluator
from ...kinds.channels import whole
from ..model.tasks import Task
from ..panels.fields import NumberField
from ..view.movie import ALPHAS, FORMS, Order, film, first_path
from .files import unless_there, with_ending

SIZES = {
    "1280 × 720": (1280, 720),
    "1920 × 1080": (1920, 1080),
    "1080 × 1920, upright": (1080, 1920),
    "1080 × 1080, square": (1080, 1080),
    "640 × 360": (640, 360),
}


class MovieDialog(QDialog):
    """Asks for the size, range and file of a preview movie."""

    def __init__(self, window, viewport):
        super().__init__(window)
        self.window_, self.viewport, self.session = window, viewport, window.session
        self.setWindowTitle("Film this pane")
        doc = self.session.doc
        grid = QGridLayout(self)
        self.kind = QComboBox()
        self.kind.addItems([words for words, _ in FORMS.values()])
        self.kind.currentIndexChanged.connect(self._formed)
        self.behind = QComboBox()
        self.behind.setToolTip(
            "Over nothing, it is an element for compositing: with alpha, and with the shadows on the floor and on what "
            "shows only its shadows"
        )
        self.behind.currentIndexChanged.connect(self._enabled)
        self.size = QComboBox()
        self.size.addItems([*SIZES, "Another size"])
        self.size.currentTextChanged.connect(self._sized)
        self.wide, self.tall = (self._whole(t, v) for t, v in (("Width", 1280), ("Height", 720)))
        self.first, self.last = self._whole("First frame", doc.start), self._whole("Last frame", doc.end)
        self.stamp = QCheckBox("Frame stamp")
        self.stamp.setToolTip("Write the frame number and time into the corner of each picture")
        self.mattes = QCheckBox("A matte for each thing")
        self.mattes.setToolTip("How much of each pixel a thing covers: pictures beside PNG, channels in OpenEXR")
        self.measured = QCheckBox("Depth and motion")
        self.measured.setToolTip("In OpenEXR: metres along the line of sight, and pixels until the next frame")
        self.loop = QCheckBox("The loop range")
        self.loop.setEnabled(doc.loop is not None)
        self.loop.setToolTip("Without the last frame, which equals the first")
        self.loop.clicked.connect(self._looped)
        home = str(Path.home())
        self.path = QLineEdit(str(window.press.folder / f"{doc.name}.mp4").replace(home, "~", 1))
        choose = QPushButton("Choose…")
        choose.clicked.connect(self._choose)
        sizes, frames, file, more = (QHBoxLayout() for _ in range(4))
        for widget in (self.stamp, self.mattes, self.measured):
            more.addWidget(widget)
        more.addStretch(1)
        for widget in (self.size, self.wide, QLabel("×"), self.tall):
            sizes.addWidget(widget)
        for widget in (self.first, QLabel("to"), self.last, self.loop):
            frames.addWidget(widget)
        frames.addStretch(1)
        for widget in (self.path, choose):
            file.addWidget(widget)
        rows = (
            ("Kind", self.kind), ("Behind it", self.behind), ("Size", sizes), ("Frames", frames), ("", more),
            ("File", file),
        )  # fmt: skip
        for i, (name, field) in enumerate(rows):
            grid.addWidget(QLabel(name), i, 0)
            (grid.addLayout if isinstance(field, QHBoxLayout) else grid.addWidget)(field, i, 1)
        buttons = QDialogButtonBox(QDialogButtonBox.Ok | QDialogButtonBox.Cancel)
        buttons.button(QDialogButtonBox.Ok).setText("Film it")
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        grid.addWidget(buttons, len(rows), 0, 1, 2)
        self._agreed: Path | None = None
        self.resize(520, 240)
        self._formed()
        self._sized(self.size.currentText())

    @staticmethod
    def _whole(title, value):
        unit = "frames" if "frame" in title else ""
        field = NumberField(whole(value, title, title=title, unit=unit, soft=(0, 0)))
        field.show_value(value)
        field.setFixedWidth(72)
        return field

    @property
    def form(self) -> str:
        """The ending of its file."""
        return list(FORMS)[self.kind.currentIndex()]

    def _formed(self):
        """What can be behind it, as the file may have it; the name ends so."""
        path = Path(self.path.text())
        if path.suffix.lower() in FORMS:
            self.path.setText(str(path.with_suffix(self.form)))
        self.behind.clear()
        for alpha in FORMS[self.form][1]:
            self.behind.addItem(ALPHAS[alpha], alpha)
        self._enabled()

    def _enabled(self):
        alpha = self.behind.currentData()
        self.behind.setEnabled(self.behind.count() > 1)
        can = {
            self.stamp: not alpha,
            self.mattes: bool(alpha) and self.form != ".mov",
            self.measured: self.form == ".exr",
        }
        for box, able in can.items():
            box.setEnabled(able)

    def _sized(self, words):
        known = SIZES.get(words)
        for field, i in ((self.wide, 0), (self.tall, 1)):
            field.setEnabled(known is None)
            if known:
                field.show_value(known[i])

    def _looped(self, on):
        first, last = self.session.doc.loop_range
        if on:
            self.first.show_value(first)
            self.last.show_value(last - 1)

    def _choose(self):
        path, _ = QFileDialog.getSaveFileName(self, "Save the movie", self.path.text())
        if path:
            self.path.setText(path)
            self._agreed = Path(path)  # the dialog asked already whether it may be replaced

    def order(self) -> Order:
        """Raises EstampaError when what is asked for cannot be filmed."""
        size = int(self.wide.value) // 2 * 2, int(self.tall.value) // 2 * 2
        first, last = int(self.first.value), int(self.last.value)
        if last < first:
            raise EstampaError("The movie", f"would end at frame {last}, before its start at {first}.", "Swap them.")
        path = Path(self.path.text()).expanduser()
        path = path.with_suffix("") if path.suffix.lower() in FORMS else path  # the kind was changed after the name
        asked = [box.isEnabled() and box.isChecked() for box in (self.stamp, self.mattes, self.measured)]
        frames, alpha = list(range(first, last + 1)), self.behind.currentData()
        order = Order(with_ending(path, self.form), size, frames, asked[0], alpha, *asked[1:])
        order.check()
        return order

    def accept(self):
        try:
            order = self.order()
        except EstampaError as err:
            self.session.tell(err)
            return
        first = first_path(order)
        unless_there(self.window_, None if first == self._agreed else first, lambda: self._film(order))

    def _film(self, order: Order):
        super().accept()
        s, viewport = self.session, self.viewport
        evaluator = Evaluator(s.doc, s.scene, s.store)

        def then(written):
            size = sum(p.stat().st_size for p in written)
            words = f"{written[0].name}" if len(written) == 1 else f"{len(written)} pictures"
            s.notice.emit(
                "done", f"Filmed {words}, {len(order.frames)} frames, {size / 1e6:.2f} MB", str(written[0].parent)
            )

        work = lambda progress, cancelled: film(order, viewport, evaluator, progress, cancelled)
        s.work.jobs.add(Task("Film", work, then))
