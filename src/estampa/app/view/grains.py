"""Draws grains: a row of 32 bytes for each, whose vertices are read from a vertex texture on the card by the formula of
the printed JSON; far ones as boxes and points."""

from contextlib import contextmanager

import moderngl
import numpy as np

from ...formats.vertex_texture import SHADER
from ..model.grains import ROW, Cycle, LookedGrains, LookedSwarm
from .camera import Camera
from .shadows import SHADER as SHADOWED

INSTANCE = "3f4 4i2 1f4 4f1 1u2 2x"
NAMES = ("at", "turn", "size", "dye", "shape")
HOW = {"distance": "By distance", "mesh": "As their meshes", "box": "As boxes", "point": "As points"}
NEAR, FAR = 5.0, 2.0  # pixels across, from which on a mesh is drawn, and from which on a box
CORNERS = np.array([[x, y, z] for x in (0, 1) for y in (0, 1) for z in (0, 1)], np.float32)
SIDES = np.array([[0, 1, 3, 2], [4, 6, 7, 5], [0, 4, 5, 1], [2, 3, 7, 6], [0, 2, 6, 4], [1, 5, 7, 3]])

INSTANCED = """
in vec3 at; in ivec4 turn; in float size; in vec4 dye; in uint shape;
uniform mat4 to_clip;
vec3 turned(vec3 v) {
    vec4 q = normalize(vec4(turn));  // a unit quaternion, in 16 bits each
    return v + 2.0 * cross(q.xyz, cross(q.xyz, v) + q.w * v);
}
"""
VERTEX = f"""
#version 330
{SHADOWED}
uniform int casting; uniform sampler2D offsets, directions; uniform int rows_per_frame, dyed;
in vec3 place; in vec2 lookup; in vec3 tint;
out vec3 v_place; out vec3 v_normal; out float v_weight; out float v_yarn; out vec3 v_tint; out vec3 v_sun;
{SHADER}
{INSTANCED}
void main() {{
    vec3 own = place + texel(offsets, lookup, int(shape), rows_per_frame);
    vec3 p = at + size * turned(own);
    v_place = p; v_normal = turned(texel(directions, lookup, int(shape), rows_per_frame));
    v_weight = 0.0; v_yarn = 0.0; v_sun = vec3(0.0); v_tint = dyed == 1 ? dye.rgb : tint;
    gl_Position = casting == 1 ? vec4(along_ray(p), 2.0 * deep(p.y) - 1.0, 1.0) : to_clip * vec4(p, 1.0);
}}
"""
POINT_VERTEX = f"""
#version 330
uniform float pixels, across; uniform vec3 middle, ink; uniform int dyed; uniform vec4 slice;
out vec3 v_tint; out float v_seen;
{INSTANCED}
void main() {{
    v_tint = (dyed == 1 ? dye.rgb : ink) * (shape < 70000u ? 1.0 : 0.0);  // so that it reads its shape too
    vec3 p = at + size * turned(middle);
    gl_Position = dot(slice.xyz, p) > slice.w ? vec4(2.0, 2.0, 2.0, 1.0) : to_clip * vec4(p, 1.0);
    float wide = size * across * pixels / max(gl_Position.w, 1e-6);
    gl_PointSize = clamp(wide, 1.0, 12.0);
    v_seen = clamp(wide * wide, 0.25, 1.0);  // of what is smaller than a pixel less is seen
}}
"""
POINT_FRAGMENT = """
#version 330
in vec3 v_tint; in float v_seen;
out vec4 result;
void main() { result = vec4(v_tint * 0.92 * v_seen, v_seen); }
"""
TRAIL_VERTEX = """
#version 330
uniform mat4 to_clip;
in vec3 place;
void main() { gl_Position = to_clip * vec4(place, 1.0); }
"""
TRAIL_FRAGMENT = """
#version 330
uniform vec4 colour;
out vec4 result;
void main() { result = vec4(colour.rgb * colour.a, colour.a); }
"""
# colours come multiplied by their opacity: without a graphics card the other way of blending runs over where much lies
# on one pixel
OVER, PLAIN = (moderngl.ONE, moderngl.ONE_MINUS_SRC_ALPHA), (moderngl.SRC_ALPHA, moderngl.ONE_MINUS_SRC_ALPHA)


class GrainPainter:
    """Draws swarms into what is being drawn to. mesh_fragment -- the shader by which meshes are lit."""

    def __init__(self, context, mesh_fragment: str):
        self.context = context
        program = lambda v, f: context.program(vertex_shader=v, fragment_shader=f)
        self.meshes, self.points = program(VERTEX, mesh_fragment), program(POINT_VERTEX, POINT_FRAGMENT)
        self.lines = program(TRAIL_VERTEX, TRAIL_FRAGMENT)
        self._cycles: dict[int, _OnCard] = {}
        self.blending: tuple = PLAIN  # of what is not drawn by this
        soft = ("llvmpipe", "softpipe", "swrast")
        self.software = any(word in context.info["GL_RENDERER"].lower() for word in soft)
        self.budget = 100_000 if self.software else 8_000_000  # triangles of grains in a picture

    def layers(self, swarms: list[LookedSwarm], camera: Camera, height: int, how: str) -> list[tuple]:
        """(layer, rows that are drawn as meshes, as boxes, as points) of all swarms; how -- a key of HOW"""
        layers = [l for s in swarms for l in s.layers if len(l.rows)]
        share = self.budget / max(len(layers), 1)
        return [(l, *parted(l, camera, height, how, share)) for l in layers]

    def cast(self, layer: tuple) -> None:
        """Draw what casts shadows."""
        layer, near, boxes, _ = layer
        for cycle, rows in ((layer.cycle, near), (_box_of(layer.cycle), boxes)):
            self._draw_meshes(layer, cycle, rows)

    def draw(self, swarms: list[LookedSwarm], parts: list[tuple], camera: Camera, width: int, height: int, look: dict):
        """parts -- see layers; look -- values of the light's uniforms"""
        layers = [part[0] for part in parts]
        wanted = {id(l.cycle) for l in layers} | {id(_box_of(l.cycle)) for l in layers}
        for gone in self._cycles.keys() - wanted:
            self._cycles.pop(gone).release()
        to_clip = camera.matrix(width / height).T.astype("f4").tobytes()
        for program in (self.meshes, self.points, self.lines):
            program["to_clip"].write(to_clip)
        for name, value in look.items():
            if name in self.meshes:
                self.meshes[name] = value
        self.points["slice"] = look["slice"]
        for layer, near, boxes, points in parts:
            self._draw_meshes(layer, layer.cycle, near)
            self._draw_meshes(layer, _box_of(layer.cycle), boxes)
            self._draw_points(layer, points, camera, height)
        for swarm in swarms:
            self._draw_trails(swarm)

    def _on_card(self, cycle: Cycle) -> "_OnCard":
        if id(cycle) not in self._cycles:
            self._cycles[id(cycle)] = _OnCard(self.context, self.meshes, self.points, cycle)
        return self._cycles[id(cycle)]

    def _draw_meshes(self, layer, cycle, rows):
        if not len(rows) or not len(cycle.triangles):
            return
        if cycle is not layer.cycle:
            rows = rows.copy()
            rows["shape"] = 0
            if not layer.dyed:
                rows["dye"][:, :3] = np.rint(255 * np.clip(layer.cycle.ink, 0, 1))
        m, card = self.meshes, self._on_card(cycle)
        card.show(rows)
        card.offsets.use(0)
        card.normals.use(1)
        m["offsets"], m["directions"], m["rows_per_frame"] = 0, 1, cycle.rows
        m["dyed"] = int(layer.dyed or cycle is not layer.cycle)
        card.mesh.render(instances=len(rows))

    def _draw_points(self, layer, rows, camera, height):
        if not len(rows):
            return
        p, card, cycle = self.points, self._on_card(layer.cycle), layer.cycle
        card.show(rows)
        p["pixels"], p["across"] = 0.5 * height / np.tan(camera.view / 2), 0.6 * cycle.across
        p["middle"], p["ink"], p["dyed"] = tuple((cycle.low + cycle.high) / 2), tuple(cycle.ink), int(layer.dyed)
        with self._over():
            card.dots.render(moderngl.POINTS, vertices=len(rows))

    def _draw_trails(self, swarm):
        if swarm.trails is None or len(swarm.trails) < 2 or not swarm.trails.shape[1]:
            return
        many = len(swarm.trails) - 1
        with self._over():
            for k in range(many):
                ends = np.stack([swarm.trails[k], swarm.trails[k + 1]], axis=1)
                ends = ends[np.isfinite(ends).all(axis=(1, 2))].reshape(-1, 3)
                self.lines["colour"] = (0.99, 0.84, 0.45, 0.55 * (1 - k / many))
                self._draw_lines(ends)

    def _draw_lines(self, ends):
        if not len(ends):
            return
        buffer = self.context.buffer(ends.astype("f4").tobytes())
        array = self.context.vertex_array(self.lines, [(buffer, "3f", "place")])
        array.render(moderngl.LINES)
        array.release()
        buffer.release()

    @contextmanager
    def _over(self):
        """Blend what is drawn over what is there."""
        self.context.enable(moderngl.BLEND)
        self.context.blend_func = OVER
        yield
        self.context.blend_func = self.blending
        self.context.disable(moderngl.BLEND)


class _OnCard:
    """A cycle's mesh and textures on the card, and the rows that were sent last."""

    def __init__(self, context, meshes, points, cycle: Cycle):
        c, self.context, self._programs, self._held = context, context, (meshes, points), cycle
        sent = lambda array, kind: c.buffer(np.ascontiguousarray(array, kind).tobytes() or b"\0" * 12)
        self.own = [sent(cycle.rest, "f4"), sent(cycle.lookup, "f4"), sent(cycle.tint, "f4")]
        self.triangles = sent(cycle.triangles, "u4")
        self.offsets, self.normals = (self._texture(t) for t in (cycle.offsets, cycle.normals))
        self.rows, self._room = None, 0

    def _texture(self, texels):
        height, width = texels.shape[:2]
        data = np.ascontiguousarray(texels, np.float16).tobytes()
        found = self.context.texture((max(width, 1), max(height, 1)), 3, data or b"\0" * 6, alignment=1, dtype="f2")
        found.filter = (moderngl.NEAREST, moderngl.NEAREST)
        return found

    def show(self, rows: np.ndarray):
        """Send rows to the card."""
        if self.rows is None or self._room < len(rows):
            if self.rows is not None:
                for held in (self.mesh, self.dots, self.rows):
                    held.release()
            c, self._room = self.context, int(1.25 * len(rows)) + 64
            self.rows = c.buffer(reserve=ROW.itemsize * self._room, dynamic=True)
            names = ("place", "lookup", "tint")
            kinds = ("3f", "2f", "3f")
            own = [(b, k, n) for b, k, n in zip(self.own, kinds, names, strict=True)]
            meshes, points = self._programs
            self.mesh = c.vertex_array(meshes, [*own, (self.rows, f"{INSTANCE}/i", *NAMES)], self.triangles)
            self.dots = c.vertex_array(points, [(self.rows, INSTANCE, *NAMES)])
        self.rows.write(np.ascontiguousarray(rows).view(np.uint8))

    def release(self):
        for held in (*self.own, self.triangles, self.offsets, self.normals):
            held.release()
        if self.rows is not None:
            for held in (self.mesh, self.dots, self.rows):
                held.release()


def parted(layer: LookedGrains, camera: Camera, height: int, how: str, budget: float):
    """(rows that are drawn as meshes, as boxes, as points): by how large they are on the screen, the largest first,
    within a budget of triangles; what stands behind the eye is none of them."""
    rows, cycle = layer.rows, layer.cycle
    away = (rows["place"] - camera.eye.astype(np.float32)) @ -camera.axes[2].astype(np.float32)
    rows, away = (rows, away) if (away > 0).all() else (rows[away > 0], away[away > 0])
    none = rows[:0]
    if how == "point":
        return none, none, rows
    large = rows["size"] * np.float32(cycle.across * 0.5 * height / np.tan(camera.view / 2)) / away
    least = {"distance": NEAR, "mesh": 0.0, "box": np.inf}[how]
    near = _largest(large, large >= least, int(budget * (3 if how == "mesh" else 1) / max(len(cycle.triangles), 1)))
    box = _largest(large, ~near & (large >= (0.0 if how == "box" else FAR)), int(budget / 24))
    return rows[near], rows[box], rows[~near & ~box]


def _largest(large, which, most) -> np.ndarray:
    """(k,) bool: of those the largest, so many at the most."""
    if int(which.sum()) <= most:
        return which
    found = np.zeros(len(large), bool)
    if most > 0:
        own = np.flatnonzero(which)
        found[own[np.argpartition(-large[own], most - 1)[:most]]] = True
    return found


def _box_of(cycle: Cycle) -> Cycle:
    """The box around all shapes of a cycle, as a cycle of one; kept with it."""
    kept = cycle.__dict__.get("box")
    if kept is None:
        corners = (cycle.low + CORNERS * (cycle.high - cycle.low)).astype(np.float32)
        rest = corners[SIDES].reshape(-1, 3)  # each side has corners of its own
        first = 4 * np.arange(6)[:, None]
        triangles = np.concatenate([first + [0, 1, 2], first + [0, 2, 3]])
        out = np.repeat(np.array([[-1, 0, 0], [1, 0, 0], [0, -1, 0], [0, 1, 0], [0, 0, -1], [0, 0, 1]], float), 4, 0)
        lookup = np.stack([(np.arange(24) + 0.5) / 24, np.full(24, 0.5)], axis=1).astype(np.float32)
        texels, ink = np.zeros((1, 24, 3), np.float16), np.tile(cycle.ink.astype(np.float32), (24, 1))
        kept = cycle.__dict__["box"] = Cycle(
            rest, lookup, ink, triangles, np.zeros((0, 2), int), texels, out[None].astype(np.float16), 1,
            cycle.low, cycle.high,
        )  # fmt: skip
    return kept
