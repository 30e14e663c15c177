"""Films a scene without a window: for scripts and for the command line."""

import os
from pathlib import Path
from typing import Any

from ...errors import EstampaError
from ...evaluate.evaluator import Evaluator


def film_scene(
    scene, path: Path, size, frames, camera, progress=None, cancelled=lambda: False, **asked: Any
) -> list[Path]:
    """See estampa.api.film."""
    if not (os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY")):
        os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PySide6.QtWidgets import QApplication

    from ..model.looks import look
    from ..session import Session
    from ..shell import theme
    from .movie import Order, film
    from .viewport import Viewport

    app = QApplication.instance() or QApplication(["estampa"])
    theme.use(app)
    session = Session()
    try:
        session.replace(scene)
        doc = session.doc
        held = next((t for t in doc.of_kind("camera") if t.name == camera), None)
        if camera is not None and held is None:
            names = ", ".join(t.name for t in doc.of_kind("camera")) or "none"
            raise EstampaError(f"The camera “{camera}”", "is not in the scene.", f"Cameras: {names}.")
        session.view.panes[0].camera = held.id if held is not None else None
        frames = list(frames) if frames is not None else list(range(doc.start, doc.end + 1))
        width, height = (int(n) // 2 * 2 for n in size)
        order = Order(path, (width, height), frames, **asked)
        order.check()
        viewport = Viewport(session)
        if viewport.renderer is None:
            raise EstampaError("The movie", "cannot be drawn: OpenGL could not be started.", "", viewport.trouble)
        viewport.resize(width, height)
        evaluator = Evaluator(doc, scene, session.store)
        evaluator.solve_through(max(frames), progress, cancelled)
        session.pictures.picture = look(evaluator, frames[len(frames) // 2])
        viewport.frame_moving()
        return film(order, viewport, evaluator, progress or (lambda share, text: None), cancelled)
    finally:
        session.end()
