"""Vertex and rigid animation textures, played by the formula in their JSON: on the graphics card, or with NumPy."""

import json
from pathlib import Path

import numpy as np

from ..errors import EstampaError
from ..formats import exr, glb
from .actor import Actor, Clip, Shown

SHADER = """
#version 330
uniform sampler2D offsets; uniform int width; uniform int rows_per_frame; uniform int frame; uniform float height;
in vec3 place; in vec2 lookup;
out vec3 seen;
void main() {
    // position(vertex, frame) = POSITION + offset[texel]; row 0 is on top, as the file has it
    int column = int(floor(lookup.x * float(width))), row = int(floor(lookup.y * height)) + frame * rows_per_frame;
    seen = place + texelFetch(offsets, ivec2(column, row), 0).xyz;
}
"""


class TextureActor(Actor):
    """A mesh whose vertices are read from a texture of offsets."""

    def __init__(self, path: Path):
        told = json.loads(path.read_text())
        folder = path.parent
        self.told, self.card = told, None
        for word in ("mesh", "offset_texture"):
            if not (folder / told[word]).is_file():
                raise EstampaError(path.name, f"names {told[word]}, which is not there.", "Keep its files together.")
        mesh = folder / told["mesh"]
        self.rest, self.lookup = (glb.read_attribute(mesh, w) for w in ("POSITION", told["lookup"]))
        self.triangles, self.offsets = glb.read_triangles(mesh), exr.read_image(folder / told["offset_texture"])
        rate = float(told["frame_rate"])
        clip = Clip("All of it", 0.0, (told["frames"] - 1) / rate, True)
        super().__init__(path.name, [clip], 1 / rate)

    def memory(self):
        return self.offsets.nbytes + self.rest.nbytes + self.lookup.nbytes + self.triangles.nbytes

    def shown(self, clip, seconds):
        frame = int(np.floor(seconds / self.step + 1e-6)) % self.told["frames"]
        points = self.on_card(frame) if self.card is not None else self.by_formula(frame)
        return [Shown(points.astype(float), self.triangles)]

    def by_formula(self, frame: int) -> np.ndarray:
        """(n, 3) float32 m, as the JSON says it, with NumPy."""
        told = self.told
        column = np.floor(self.lookup[:, 0] * told["width"]).astype(int)
        row = np.floor(self.lookup[:, 1] * told["height"]).astype(int) + frame * told["rows_per_frame"]
        return self.rest + self.offsets[row, column].astype(np.float32)

    def on_card(self, frame: int) -> np.ndarray:
        """The same, worked out by the graphics card and read back."""
        program, array, out = self.card
        self.ground.use()  # without a screen there is nothing to draw into, and then nothing is worked out
        self.texture.use(0)
        program["frame"].value = frame
        array.transform(out, mode=array.ctx.POINTS, vertices=len(self.rest))
        return np.frombuffer(out.read(), np.float32).reshape(-1, 3)

    def put_on(self, context) -> None:
        """Put it on a graphics card (a moderngl context)."""
        program = context.program(vertex_shader=SHADER, varyings=["seen"])
        told, half = self.told, self.offsets.dtype == np.float16
        texture = context.texture((told["width"], told["height"]), 3, np.ascontiguousarray(self.offsets).tobytes(),
                                  alignment=1, dtype="f2" if half else "f4")  # fmt: skip
        texture.filter = (context.NEAREST, context.NEAREST)
        texture.use(0)
        program["offsets"].value, program["width"].value, program["height"].value = 0, told["width"], told["height"]
        program["rows_per_frame"].value = told["rows_per_frame"]
        place = context.buffer(np.ascontiguousarray(self.rest, np.float32))
        lookup = context.buffer(np.ascontiguousarray(self.lookup, np.float32))
        array = context.vertex_array(program, [(place, "3f", "place"), (lookup, "2f", "lookup")])
        self.texture, self.ground = texture, context.simple_framebuffer((1, 1))
        self.card = program, array, context.buffer(reserve=12 * len(self.rest))


class RigidTextureActor(Actor):
    """A mesh whose pieces are placed and turned by textures."""

    def __init__(self, path: Path):
        self.told = told = json.loads(path.read_text())
        mesh = path.parent / told["mesh"]
        read = lambda word: glb.read_attribute(mesh, word)
        one, two = read("TEXCOORD_1"), read("TEXCOORD_2")
        self.piece = np.rint(one[:, 0]).astype(int)
        self.arms = read("POSITION") - np.concatenate([one[:, 1:], two], axis=1)
        self.triangles = glb.read_triangles(mesh)
        self.place, self.turn = (exr.read_image(path.parent / told[f"{n}_texture"]) for n in ("place", "turn"))
        rate = float(told["frame_rate"])
        super().__init__(path.name, [Clip("All of it", 0.0, (told["frames"] - 1) / rate, True)], 1 / rate)

    def memory(self):
        return self.place.nbytes + self.turn.nbytes + self.arms.nbytes + self.triangles.nbytes

    def shown(self, clip, seconds):
        row = int(np.floor(seconds / self.step + 1e-6)) % self.told["frames"]
        place, turn = self.place[row][self.piece], self.turn[row][self.piece].astype(float)
        arms = self.arms * place[:, 3:] if place.shape[1] > 3 else self.arms
        across = 2 * np.cross(turn[:, :3], arms)
        points = place[:, :3] + arms + turn[:, 3:] * across + np.cross(turn[:, :3], across)
        return [Shown(points, self.triangles)]
