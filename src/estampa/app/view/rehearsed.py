"""Pictures of a rehearsal: what printed files show, drawn without a window."""

from pathlib import Path

import numpy as np

from ...errors import EstampaError
from ...geometry.mesh import Mesh
from ...light import on_screen
from ...rehearsal.stage import RehearsalStage
from ..model.looks import Pictured
from .camera import Camera
from .render import Drawn, Renderer

SMOOTH = np.radians(44)


def drawn(stage: RehearsalStage, now: float) -> list[Drawn]:
    """What is drawn of a stage at a moment, s."""
    items = []
    for k, shown in enumerate(stage.shown(now)):
        if not len(shown.triangles):
            continue
        mesh = Mesh.from_triangles(shown.points, shown.triangles)
        creased = mesh.creased(SMOOTH)
        points = creased.of(shown.points)
        tint = np.tile(on_screen(np.array(shown.colour, np.float32)), (len(points), 1))
        normals = creased.mesh.normals(points).astype(np.float32)
        parts = (points.astype(np.float32), normals, creased.mesh.triangles, mesh.edges)
        pictured = None
        if shown.material is not None and shown.uv is not None and len(shown.uv) == len(shown.triangles):
            whole = [(0, len(shown.triangles), shown.material)]
            pictured = Pictured(np.ascontiguousarray(creased.mesh.triangles), shown.uv.astype(np.float32), whole)
            parts = (*parts[:2], pictured.triangles, parts[3])
        items.append(Drawn(f"rehearsed {k}", *parts, tint=tint, stand=shown.stand, pictured=pictured))
    return items


def picture(stage: RehearsalStage, now: float, path: Path, size: tuple[int, int] = (1280, 720)) -> Path:
    """A picture of a stage at a moment, as a PNG. Raises EstampaError where nothing can be drawn."""
    from PySide6.QtGui import QImage

    try:
        renderer = Renderer()
    except RuntimeError as err:
        raise EstampaError("The picture", "cannot be drawn: OpenGL could not be started.", "", str(err)) from err
    every = [s.in_world() for s in stage.shown(now)]
    every = np.concatenate([p for p in every if len(p)] or [np.zeros((1, 3))])
    camera = Camera().framing(every, size[0] / size[1])
    pixels = renderer.picture(drawn(stage, now), camera, *size)
    image = QImage(pixels, *size, QImage.Format_RGBA8888).mirrored(False, True)
    if not image.save(str(path)):
        raise EstampaError(path.name, f"could not be written to {path.parent}.", "Check that you may write there.")
    return path
