"""Vertex and rigid animation textures, played by the formula in their JSON: on the graphics card, or with NumPy."""

from pathlib import Path

import numpy as np

from ..formats.rigid_texture import RigidTextureFile
from ..formats.vertex_texture import SHADER, VertexTextureFile
from .actor import Actor, PlayedClip, PlayedShape

POINTS = f"""
#version 330
uniform sampler2D offsets; uniform int frame, rows_per_frame;
in vec3 place; in vec2 lookup;
out vec3 seen;
{SHADER}
void main() {{ seen = place + texel(offsets, lookup, frame, rows_per_frame); }}
"""


class FramesActor(Actor):
    """What has points at each of so many frames. file -- it says `at(step)`, and how many there are."""

    def __init__(self, name: str, file):
        self.file, rate = file, float(file.frame_rate)
        super().__init__(name, [PlayedClip("All of it", 0.0, (len(file.frames) - 1) / rate, True)], 1 / rate)

    def step_at(self, seconds: float) -> int:
        return int(np.floor(seconds / self.step + 1e-6)) % len(self.file.frames)

    def seen(self, clip, seconds):
        return [PlayedShape(self.file.at(self.step_at(seconds)).astype(float), self.file.triangles)]


class TextureActor(FramesActor):
    """A mesh whose vertices are read from a texture of offsets."""

    def __init__(self, path: Path):
        super().__init__(path.name, VertexTextureFile(path))
        self.card = None

    def memory(self):
        f = self.file
        return f.offsets.nbytes + f.rest.nbytes + f.lookup.nbytes + f.triangles.nbytes

    def seen(self, clip, seconds):
        if self.card is None:
            return super().seen(clip, seconds)
        return [PlayedShape(self.on_card(self.step_at(seconds)).astype(float), self.file.triangles)]

    def on_card(self, step: int) -> np.ndarray:
        """(n, 3) float32 m, worked out by the graphics card and read back."""
        program, array, out = self.card
        self.ground.use()  # without a screen there is nothing to draw into, and then nothing is worked out
        self.texture.use(0)
        program["frame"].value = step
        array.transform(out, mode=array.ctx.POINTS, vertices=len(self.file.rest))
        return np.frombuffer(out.read(), np.float32).reshape(-1, 3)

    def put_on(self, context) -> None:
        """Put it on a graphics card (a moderngl context)."""
        program = context.program(vertex_shader=POINTS, varyings=["seen"])
        f, half = self.file, self.file.offsets.dtype == np.float16
        height, width = f.offsets.shape[:2]
        texels = np.ascontiguousarray(f.offsets).tobytes()
        self.texture = context.texture((width, height), 3, texels, alignment=1, dtype="f2" if half else "f4")
        self.texture.filter = (context.NEAREST, context.NEAREST)
        program["offsets"].value, program["rows_per_frame"].value = 0, f.meta["rows_per_frame"]
        place = context.buffer(np.ascontiguousarray(f.rest, np.float32))
        lookup = context.buffer(np.ascontiguousarray(f.lookup, np.float32))
        array = context.vertex_array(program, [(place, "3f", "place"), (lookup, "2f", "lookup")])
        self.ground = context.simple_framebuffer((1, 1))
        self.card = program, array, context.buffer(reserve=12 * len(f.rest))


class RigidTextureActor(FramesActor):
    """A mesh whose pieces are placed and turned by textures."""

    def __init__(self, path: Path):
        super().__init__(path.name, RigidTextureFile(path))

    def memory(self):
        f = self.file
        return f.place.nbytes + f.turn.nbytes + f.arms.nbytes + f.triangles.nbytes
