"""Shadows of the sky's light: along each of its rays the highest thing that is met, seen from above, in a picture of
heights over a square of the floor (Williams 1978, "Casting curved shadows on curved surfaces"; compared before they are
blended, as Reeves, Salesin and Cook 1987 do). What lies lower on its ray is in shadow: other meshes, and the floor, on
which it is the softer the higher what casts it."""

import moderngl
import numpy as np

from .camera import Camera

WIDE = 1536  # texels
PART = 4  # pixels to one in which the floor's shadow is worked out
UNIT = 3  # of the card, where the picture is bound
INK = "vec3(0.05, 0.045, 0.06)"  # of a shadow

# `slant` is how far rays run aside for each metre down; `roof` the square: its middle, and what makes it -1 to 1;
# `tall` the lowest height that is told, and what makes heights 0 to 1; `span` a texel in metres
SHADER = """
const vec2 slant = vec2(0.30, 0.18);
uniform vec4 roof; uniform vec2 tall; uniform float span;
vec2 along_ray(vec3 p) { return (p.xz - p.y * slant - roof.xy) * roof.zw; }
float deep(float height) { return clamp(1.0 - (height - tall.x) * tall.y, 0.0, 1.0); }
"""
# where a place of a surface that looks along `n` lies in the picture, and how deep, a little off the surface, so that
# it does not shade itself: all of it goes evenly over a triangle, so that corners alone work it out
ON_SURFACE = """
const vec3 sun = vec3(0.283, 0.944, 0.170);
vec3 towards_sun(vec3 p, vec3 n) {
    p += n * (dot(n, sun) < 0.0 ? -2.0 : 2.0) * span;
    return vec3(along_ray(p) * 0.5 + 0.5, 1.0 - (p.y + 1.5 * span - tall.x) * tall.y);
}
"""
IN_LIGHT = """
uniform sampler2DShadow roofs;
float in_light(vec3 at) { return texture(roofs, at); }
"""
NO_LIGHT = "float in_light(vec3 at) { return 1.0; }\n"

_FLOOR_VERTEX = """
#version 330
uniform mat4 to_clip;
in vec3 place; out vec3 v_place;
void main() { v_place = place; gl_Position = to_clip * vec4(place, 1.0); }
"""
_FLOOR_FRAGMENT = (
    """
#version 330
in vec3 v_place; out vec4 result;
"""
    + SHADER
    + """
uniform sampler2D roofs;
float height(vec2 at) { return (1.0 - texture(roofs, at).r) / tall.y + tall.x; }
void main() {
    vec2 at = along_ray(v_place) * 0.5 + 0.5;
    if (any(lessThan(at, vec2(0.0))) || any(greaterThan(at, vec2(1.0)))) discard;
    float met = 0.0, high = 0.0, shade = 0.0;
    for (int k = 0; k < 6; k++) {  // what is met near here, and how high it is
        float turn = 2.4 * float(k), far = 0.10 * sqrt(float(k) / 6.0);
        float h = height(at + far * vec2(cos(turn), sin(turn)) * 0.5 * roof.zw);
        if (h > 2.0 * span) { met += 1.0; high += h; }
    }
    if (met == 0.0) discard;
    float reach = clamp(0.07 * high / met, span, 0.25);
    for (int k = 0; k < 12; k++) {
        float turn = 2.4 * float(k) + 6.28 * fract(dot(floor(gl_FragCoord.xy), vec2(0.7548, 0.5698)));
        vec2 off = reach * sqrt((float(k) + 0.5) / 12.0) * vec2(cos(turn), sin(turn));
        shade += 1.0 - step(height(at + off * 0.5 * roof.zw), 2.0 * span);
    }
    result = vec4(shade / 12.0);
}
"""
)
_OVER_FRAGMENT = """
#version 330
uniform sampler2D shade; uniform vec2 size;
in vec3 v_place; out vec4 result;
void main() { result = vec4(SHADOW, 0.40 * texture(shade, gl_FragCoord.xy / size).r); }
""".replace("SHADOW", INK)


class Shadows:
    def __init__(self, context):
        self.context = context
        self.texture = context.depth_texture((WIDE, WIDE))
        self.texture.filter = moderngl.LINEAR, moderngl.LINEAR
        self.texture.repeat_x = self.texture.repeat_y = False
        self._target = context.framebuffer(depth_attachment=self.texture)
        self._floor = context.program(vertex_shader=_FLOOR_VERTEX, fragment_shader=_FLOOR_FRAGMENT)
        self._floor["roofs"] = UNIT
        self._over = context.program(vertex_shader=_FLOOR_VERTEX, fragment_shader=_OVER_FRAGMENT)
        self._over["shade"], self._size = 0, None
        self._place = context.buffer(reserve=48, dynamic=True)
        self._quad, self._laid = (context.vertex_array(p, [(self._place, "3f", "place")])
                                  for p in (self._floor, self._over))  # fmt: skip
        self._made = None  # where the square lay, how wide, of what, and what was told
        self.off()

    def off(self) -> None:
        """No shadows: `told` are values for the shaders."""
        self.uniforms = {"roof": (0.0, 0.0, 0.0, 0.0), "tall": (0.0, 1.0), "span": 0.0}

    def aim(self, camera: Camera, of: list, cut: tuple) -> bool:
        """Lay the square where the camera looks; `told` are values for the shaders then. Returns whether the picture is
        there already: of the very same things `of`, cut alike, and about there."""
        reach = 1.6 * camera.distance
        middle = camera.target[[0, 2]] - 0.5 * camera.axes[2][[0, 2]] * reach * 0.5 - camera.target[1] * _SLANT
        if self._made is not None:
            there, wide, held, uniforms = self._made
            alike = held[0] == cut and len(held[1]) == len(of) and all(a is b for a, b in zip(held[1], of, strict=True))
            if alike and abs(reach / wide - 1) < 0.25 and np.abs(middle - there).max() < 0.2 * wide:
                self.uniforms = uniforms
                return True
        texel = 2 * reach / WIDE
        middle = np.round(middle / texel) * texel  # what stands still does not shimmer
        low = float(camera.target[1]) - 2 * reach
        self.uniforms = {
            "roof": (*map(float, middle), 1 / reach, 1 / reach),
            "tall": (low, 1 / (6 * reach)),
            "span": texel,
        }
        self._made = middle, reach, (cut, of), self.uniforms
        return False

    def cast(self, casts: list) -> None:
        """Make the picture of heights. casts -- each draws something, `casting` being 1, with values `told`"""
        self._target.use()
        self._target.clear(depth=1.0)
        self.context.enable(moderngl.DEPTH_TEST)
        for one in casts:
            one()

    def use(self) -> None:
        """Bind the picture for meshes, which compare their height with it."""
        self.texture.compare_func = "<="
        self.texture.use(UNIT)

    def _sized(self, width: int, height: int) -> None:
        if self._size != (width, height):
            for part in (self._shade, self._part) if self._size else ():
                part.release()
            self._shade = self.context.texture((max(width // PART, 1), max(height // PART, 1)), 1)
            self._shade.repeat_x = self._shade.repeat_y = False
            self._part, self._size = self.context.framebuffer([self._shade]), (width, height)

    def over_floor(self, target, to_clip: bytes, camera: Camera, width: int, height: int) -> None:
        """Draw the shadow on the floor, over what is drawn of it; worked out in few pixels, as it is soft."""
        x, z, per, _ = self.uniforms["roof"]
        if per == 0 or camera.eye[1] <= 0:
            return
        self._sized(width, height)
        corners = [[x + a / per, 0, z + b / per] for a, b in ((-1, -1), (1, -1), (-1, 1), (1, 1))]
        self._place.write(np.array(corners, "f4").tobytes())
        self._floor["to_clip"].write(to_clip)
        self._over["to_clip"].write(to_clip)
        for name, value in self.uniforms.items():
            self._floor[name] = value
        self.texture.compare_func = ""
        self.texture.use(UNIT)
        self._over["size"] = float(width), float(height)
        self.context.disable(moderngl.DEPTH_TEST)
        self._part.use()
        self._part.clear()
        self._quad.render(moderngl.TRIANGLE_STRIP)
        target.use()
        self._shade.use(0)
        self.context.enable(moderngl.BLEND)
        self._laid.render(moderngl.TRIANGLE_STRIP)
        self.context.disable(moderngl.BLEND)
        self.context.enable(moderngl.DEPTH_TEST)


_SLANT = np.array([0.30, 0.18])
