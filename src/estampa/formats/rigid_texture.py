"""Rigid animation textures: places and turns of a mesh's pieces as images, played by the formula in their JSON."""

from pathlib import Path

import numpy as np

from . import bounds, exr, glb
from .vertex_texture import read_description

FORMULA = (
    "piece = TEXCOORD_1.x; pivot = (TEXCOORD_1.y, TEXCOORD_2.x, TEXCOORD_2.y); row = frame - first_frame, row 0 is on "
    "top; position = place[row][piece] + rotate(turn[row][piece], size * (POSITION - pivot)); the turn is a unit "
    "quaternion x, y, z, w in red, green, blue and alpha; size is the place's alpha, or 1 where it has none"
)


class RigidTextureFile:
    """Plays the files back by that formula, and nothing else. triangles (t, 3); frames, the scene's numbers of them"""

    def __init__(self, path: Path):
        self.meta = meta = read_description(path)
        mesh = bounds.inside(path, meta["mesh"])
        read = lambda word: glb.read_attribute(mesh, word)
        one, two = read("TEXCOORD_1"), read("TEXCOORD_2")
        self.piece = np.rint(one[:, 0]).astype(int)
        self.arms = read("POSITION") - np.concatenate([one[:, 1:], two], axis=1)
        self.triangles = glb.read_triangles(mesh)
        image = lambda word: exr.read_image(bounds.inside(path, meta[f"{word}_texture"]))
        self.place, self.turn = image("place"), image("turn")
        count = bounds.whole(path.name, "frames", meta["frames"], len(self.place))
        self.frames = list(range(meta["first_frame"], meta["first_frame"] + count))
        self.frame_rate = bounds.positive(path.name, "frame rate", meta["frame_rate"])

    def at(self, step: int) -> np.ndarray:
        """(n, 3) m, so many frames after the first."""
        place, turn = self.place[step][self.piece], self.turn[step][self.piece].astype(float)
        arms = self.arms * place[:, 3:] if place.shape[1] > 3 else self.arms
        across = 2 * np.cross(turn[:, :3], arms)
        return place[:, :3] + arms + turn[:, 3:] * across + np.cross(turn[:, :3], across)

    def points(self, frame: float) -> np.ndarray:
        """(n, 3) m at a frame of the scene."""
        return self.at(int(frame) - self.frames[0])
