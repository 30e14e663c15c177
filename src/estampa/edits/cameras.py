"""Cameras that stand where a photograph was taken from."""

import numpy as np

from ..errors import EstampaError
from ..geometry.camera_match import CameraMatch
from ..geometry.place import Place
from ..kinds.registry import kind_of
from ..scene.scene import Scene
from ..scene.values import Rows
from .channels import set_values, thing_named

_PLACED = ("x", "y", "z", "turn_x", "turn_y", "turn_z")


def match_camera(scene: Scene, camera_id: str, found: CameraMatch) -> None:
    """Put a camera where a match found it, with its lens. Raises EstampaError where keys, links or locks hold it."""
    camera = thing_named(scene, camera_id)
    held = [kind_of("camera").channels[n].label for n in (*_PLACED, "by", "lens") if n in camera.locked]
    if held:
        raise EstampaError(camera.name, f"is locked in {', '.join(held)}.", "Unlock that, or match another camera.")
    world = np.eye(4)
    world[:3, :3], world[:3, 3] = found.axes, found.origin
    place, above = Place.of_matrices(world[None]), scene.doc.find(camera.constant("parent"))
    if above is not None:
        place = scene.values.place(above, Rows.one(scene.doc.start)).inverse() @ place
    values = {name: place.values[name] for name in _PLACED}
    lens = {"by": "lens", "lens": found.lens(float(camera.constant("film_back")))}
    set_values(scene, camera_id, values | lens, label=f"Match {camera.name}")
