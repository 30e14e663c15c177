"""What compositing asks for beside colours: how far away what is seen is, how it moves in the picture, and how much of
each pixel each thing covers."""

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import moderngl
import numpy as np

from ...formats.vertex_texture import SHADER
from ..model.grains import ROW, LookedGrains, LookedSwarm
from .camera import Camera
from .grains import INSTANCED, _box_of

NOTHING = 1e10  # m away, where nothing is seen; common practice, no source
SAMPLES = 4
AT_ONCE = 4  # mattes in one picture
_VARYING = (("vec3", "place"), ("vec4", "now"), ("vec4", "after"))
_AFTER_NAMES = tuple(f"{name}_after" for name, *_ in ROW.descr)
_AFTER = np.dtype([(f"{name}_after", *more) for name, *more in ROW.descr])
BOTH = np.dtype([*ROW.descr, *_AFTER.descr])  # a grain as it is, and a frame later

VERTEX = """
#version 330
uniform mat4 to_clip, to_clip_after; uniform int moves;
in vec3 place; in vec3 after; in mat4 stand; in mat4 stand_after;
out vec3 v_place; out vec4 v_now; out vec4 v_after;
void main() {
    vec4 p = stand * vec4(place, 1.0), q = moves == 1 ? stand_after * vec4(after, 1.0) : p;
    v_place = p.xyz; v_now = to_clip * p; v_after = to_clip_after * q;
    gl_Position = v_now;
}
"""
# how a place moves in the picture until the next frame, in pixels to the right and up; metres along the line of sight
_FRAGMENT = """
#version 330
uniform vec4 slice, matte; uniform int as_matte, one_sided, hides; uniform vec2 size;
in vec3 v_place; in vec4 v_now; in vec4 v_after;
out vec4 result;
void main() {
    if (dot(slice.xyz, v_place) > slice.w) discard;
    if (one_sided == 1 && !gl_FrontFacing) discard;
    vec2 moved = v_after.xy / max(v_after.w, 1e-6) - v_now.xy / max(v_now.w, 1e-6);
    result = as_matte == 1 ? matte : hides == 1 ? vec4(0.0, 0.0, 1e10, 1.0) : vec4(moved * 0.5 * size, v_now.w, 1.0);
}
"""
_CUT_OUT = _FRAGMENT.replace(
    "out vec4 result;", "in vec2 v_uv; uniform sampler2D image; uniform int alpha_how; uniform float cutoff, clear;\n"
    "out vec4 result;"
).replace("void main() {", "void main() {\n    float seen = texture(image, v_uv).a * clear;\n"
          "    if (alpha_how > 0 && seen < (alpha_how == 1 ? cutoff : 0.4)) discard;")  # fmt: skip
FRAGMENTS = (_FRAGMENT, _CUT_OUT)
_EACH = "v_place = g_place[i]; v_now = g_now[i]; v_after = g_after[i];"
STAGE = f"""
#version 330
layout(triangles) in; layout(triangle_strip, max_vertices = 3) out;
uniform sampler2D where; uniform int first;
{" ".join(f"in {kind} g_{name}[]; out {kind} v_{name};" for kind, name in _VARYING)}
out vec2 v_uv;
void main() {{
    for (int i = 0; i < 3; i++) {{
        int k = 3 * (first + gl_PrimitiveIDIn) + i;
        v_uv = texelFetch(where, ivec2(k % 3072, k / 3072), 0).xy;
        {_EACH}
        gl_Position = gl_in[i].gl_Position;
        EmitVertex();
    }}
    EndPrimitive();
}}
"""
_GRAINS = f"""
#version 330
uniform sampler2D offsets; uniform int rows_per_frame; uniform mat4 to_clip_after;
in vec3 place; in vec2 lookup;
in vec3 at_after; in ivec4 turn_after; in float size_after; in uint shape_after;
out vec3 v_place; out vec4 v_now; out vec4 v_after;
{SHADER}
{INSTANCED}
vec3 put(vec4 q, vec3 own, float large, vec3 to) {{
    q = normalize(q);
    return to + large * (own + 2.0 * cross(q.xyz, cross(q.xyz, own) + q.w * own));
}}
void main() {{
    vec3 p = put(vec4(turn), place + texel(offsets, lookup, int(shape), rows_per_frame), size, at);
    vec3 own = place + texel(offsets, lookup, int(shape_after), rows_per_frame);
    v_place = p; v_now = to_clip * vec4(p, 1.0);
    v_after = to_clip_after * vec4(put(vec4(turn_after), own, size_after, at_after), 1.0);
    gl_Position = v_now;
}}
"""


class Passes:
    """Draws what a renderer draws, measured. draw -- (item, its buffers are ready) by the renderer: see Renderer"""

    def __init__(self, renderer: Any, programs: tuple, draw: Callable[[Any], None]):
        self.renderer, self.context, self._programs, self._draw = renderer, renderer.context, programs, draw
        self._grains = self.context.program(vertex_shader=_GRAINS, fragment_shader=_FRAGMENT)
        self._size: tuple[int, int] | None = None

    def _sized(self, width: int, height: int) -> None:
        if self._size == (width, height):
            return
        if self._size:
            for target in (self._plain, self._many, self._one):
                target.release()
        c, size = self.context, (width, height)
        deep = lambda **more: c.depth_renderbuffer(size, **more)
        self._plain = c.framebuffer([c.texture(size, 4, dtype="f4")], deep())
        self._many = c.framebuffer([c.renderbuffer(size, 4, samples=SAMPLES)], deep(samples=SAMPLES))
        self._one = c.framebuffer([c.texture(size, 4)])
        self._size = size

    def depth_and_motion(
        self, drawn: list, swarms: list, camera: Camera, after: Camera, size: tuple[int, int], values: dict
    ) -> tuple[np.ndarray, np.ndarray]:
        """((height, width) m along the line of sight, NOTHING where nothing is; (height, width, 2) pixels to the right
        and up, by which what is seen moves until the next frame), float32, rows from the top, not smoothed at edges.

        swarms -- layers whose rows are as BOTH; after -- the camera a frame later; values -- of uniforms
        """
        self._sized(*size)
        self._tell({"as_matte": 0, "size": tuple(map(float, size))} | values, camera, after, size)
        self._plain.use()
        self._plain.clear(0.0, 0.0, NOTHING, 0.0, depth=1.0)
        self._draw_all(drawn, swarms, lambda of: None)
        found = np.frombuffer(self._plain.read(components=4, dtype="f4", alignment=1), np.float32)
        found = found.reshape(size[1], size[0], 4)[::-1]
        return found[:, :, 2].copy(), found[:, :, :2].copy()

    def mattes(
        self, drawn: list, swarms: list, camera: Camera, size: tuple[int, int], values: dict, of: list[str]
    ) -> np.ndarray:
        """(height, width, k) uint8: how much of each pixel the things of those ids cover, rows from the top."""
        self._sized(*size)
        self._tell({"as_matte": 1} | values, camera, camera, size)
        found = []
        for first in range(0, len(of), AT_ONCE):
            now = of[first : first + AT_ONCE]
            self._many.use()
            self._many.clear(0.0, 0.0, 0.0, 0.0, depth=1.0)

            def ink(owner, now=now):
                self._each({"matte": tuple(float(owner == i) for i in now) + (0.0,) * (AT_ONCE - len(now))})

            self._draw_all(drawn, swarms, ink)
            self.context.copy_framebuffer(self._one, self._many)
            raw = np.frombuffer(self._one.read(components=4, alignment=1), np.uint8)
            found.append(raw.reshape(size[1], size[0], 4)[::-1, :, : len(now)])
        return np.concatenate(found, axis=2) if found else np.zeros((size[1], size[0], 0), np.uint8)

    def _each(self, values: dict) -> None:
        for program in (*self._programs, self._grains):
            self.renderer._tell(program, values)

    def _tell(self, values: dict, camera: Camera, after: Camera, size: tuple[int, int]) -> None:
        matrix = lambda c: c.matrix(size[0] / size[1]).T.astype("f4").tobytes()
        self.context.enable(moderngl.DEPTH_TEST)
        for program in (*self._programs, self._grains):
            for name, seen in (("to_clip", camera), ("to_clip_after", after)):
                program[name].write(matrix(seen))
        self._each({"one_sided": 0} | values)

    def _draw_all(self, drawn: list, swarms: list, ink: Callable[[str], None]) -> None:
        """ink(id) -- called before what belongs to a thing is drawn"""
        for item in drawn:
            ink("" if item.catches else item.id.split(" skin ")[0])
            self._each({"moves": int(item.after is not None), "hides": int(item.catches)})
            self._draw(item)
        self._each({"hides": 0})
        for owner, layer, near, boxes, points in swarms:
            ink(owner)
            self._draw_grains(layer.cycle, near)
            self._draw_grains(_box_of(layer.cycle), np.concatenate([boxes, points]))

    def _draw_grains(self, cycle, rows: np.ndarray) -> None:
        if not len(rows) or not len(cycle.triangles):
            return
        if len(cycle.offsets) <= 1:  # a box has one shape
            rows = rows.copy()
            rows["shape"] = rows["shape_after"] = 0
        card, program = self.renderer.grains._on_card(cycle), self._grains
        buffer = self.context.buffer(np.ascontiguousarray(rows).tobytes())
        instance = " ".join(["3f4 4i2 1f4 4x 1u2 2x"] * 2)
        names = [f"{n}{late}" for late in ("", "_after") for n in ("at", "turn", "size", "shape")]
        own = [(card.own[0], "3f", "place"), (card.own[1], "2f", "lookup")]
        array = self.context.vertex_array(program, [*own, (buffer, f"{instance}/i", *names)], card.triangles)
        card.offsets.use(0)
        program["offsets"], program["rows_per_frame"] = 0, cycle.rows
        array.render(instances=len(rows))
        array.release()
        buffer.release()


def with_after(now: LookedGrains, later: LookedSwarm | None) -> LookedGrains:
    """Grains with where each is a frame later; one that is gone by then stays where it is."""
    rows = np.zeros(len(now.rows), BOTH)
    for name, *_ in ROW.descr:
        rows[name] = now.rows[name]
    for layer in later.layers if later is not None else ():
        if layer.cycle is not now.cycle or not len(layer.ids):
            continue
        order = np.argsort(layer.ids, kind="stable")
        row = order[np.minimum(np.searchsorted(layer.ids, now.ids, sorter=order), len(order) - 1)]
        lives = layer.ids[row] == now.ids
        for name in _AFTER_NAMES:
            own = name.removesuffix("_after")
            rows[name] = np.where(lives.reshape(-1, *[1] * (rows[own].ndim - 1)), layer.rows[row][own], rows[own])
        return replace(now, rows=rows)
    for name in _AFTER_NAMES:
        rows[name] = rows[name.removesuffix("_after")]
    return replace(now, rows=rows)
