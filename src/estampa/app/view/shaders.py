"""The shaders by which a picture is drawn. IN_LIGHT stands for how much light comes to a place: see shadows."""

from .shadows import INK, ON_SURFACE, SHADER

MESH_VERTEX = f"""
#version 330
{SHADER}{ON_SURFACE}
uniform mat4 to_clip; uniform int casting;
in vec3 place; in vec3 normal; in float weight; in float yarn; in vec3 tint; in mat4 stand;
out vec3 v_place; out vec3 v_normal; out float v_weight; out float v_yarn; out vec3 v_tint; out vec3 v_sun;
void main() {{
    vec3 p = (stand * vec4(place, 1.0)).xyz;
    v_sun = towards_sun(p, normalize(mat3(stand) * normal));
    v_place = p; v_normal = mat3(stand) * normal; v_weight = weight; v_yarn = yarn; v_tint = tint;
    gl_Position = casting == 1 ? vec4(along_ray(p), 2.0 * deep(p.y) - 1.0, 1.0) : to_clip * vec4(p, 1.0);
}}
"""

MESH_FRAGMENT = """
#version 330
IN_LIGHT
uniform vec3 eye, colour, key; uniform int facets, ramp, yarns, tinted, casting, one_sided, catching;
uniform float opacity; uniform vec4 slice;
in vec3 v_place; in vec3 v_normal; in float v_weight; in float v_yarn; in vec3 v_tint; in vec3 v_sun;
out vec4 result;
vec3 steps[5] = vec3[](vec3(.19,.08,.26), vec3(.46,.15,.37), vec3(.74,.29,.29), vec3(.93,.56,.19), vec3(.99,.84,.45));
void main() {
    if (dot(slice.xyz, v_place) > slice.w) discard;  // what is nearer than the cut
    if (one_sided == 1 && !gl_FrontFacing) discard;
    vec3 look = normalize(eye - v_place);
    vec3 facet = normalize(cross(dFdx(v_place), dFdy(v_place)) + vec3(1e-12));
    if (dot(facet, look) < 0.0) facet = -facet;
    vec3 n = normalize(v_normal + vec3(1e-9));
    if (dot(n, facet) < 0.0) n = -n;
    if (facets == 1) n = facet;
    float lit = max(dot(n, key), 0.0), sky = 0.5 + 0.5 * n.y, rim = pow(1.0 - max(dot(n, look), 0.0), 3.0);
    vec3 base = tinted == 1 ? v_tint : colour;
    if (yarns == 1) {
        float edge = abs(fract(v_yarn) - 0.5) - 0.25, soft = max(fwidth(v_yarn), 1e-4);
        base = mix(base, base * vec3(0.76, 0.56, 0.50), smoothstep(-soft, soft, edge));
    }
    if (ramp == 1) {
        float t = clamp(v_weight, 0.0, 1.0) * 4.0; int i = int(min(t, 3.0));
        base = mix(steps[i], steps[i + 1], t - float(i));
    }
    float open = in_light(v_sun);
    if (catching == 1) { result = vec4(SHADOW, 0.40 * (1.0 - open)); return; }
    lit *= 0.42 + 0.58 * open; sky *= 0.78 + 0.22 * open;
    float light = ramp == 1 ? 0.62 + 0.25 * lit + 0.16 * sky : 0.24 + 0.62 * lit + 0.26 * sky;
    result = vec4(base * light + 0.05 * rim, opacity);
}
""".replace("SHADOW", INK)

# With pictures each corner of a triangle lies somewhere in one, whatever its neighbours do: a stage between gives it
# that, from a table by the number of the triangle, so that vertices need not be parted.
PICTURED_STAGE = """
#version 330
layout(triangles) in; layout(triangle_strip, max_vertices = 3) out;
uniform sampler2D where; uniform int first;
in vec3 g_place[]; in vec3 g_normal[]; in float g_weight[]; in float g_yarn[]; in vec3 g_tint[]; in vec3 g_sun[];
out vec3 v_place; out vec3 v_normal; out float v_weight; out float v_yarn; out vec3 v_tint; out vec3 v_sun;
out vec2 v_uv;
void main() {
    for (int i = 0; i < 3; i++) {
        int k = 3 * (first + gl_PrimitiveIDIn) + i;
        v_uv = texelFetch(where, ivec2(k % 3072, k / 3072), 0).xy;
        v_place = g_place[i]; v_normal = g_normal[i]; v_weight = g_weight[i]; v_yarn = g_yarn[i]; v_tint = g_tint[i];
        v_sun = g_sun[i];
        gl_Position = gl_in[i].gl_Position;
        EmitVertex();
    }
    EndPrimitive();
}
"""
PICTURED_FRAGMENT = (
    MESH_FRAGMENT.replace(
        "out vec4 result;",
        "in vec2 v_uv; uniform sampler2D image; uniform int alpha_how; uniform float cutoff, clear;\nout vec4 result;",
    )
    .replace(
        "void main() {",
        "void main() {\n    vec4 seen = texture(image, v_uv); seen.a *= clear;\n"
        "    if (alpha_how > 0 && seen.a < (alpha_how == 1 ? cutoff : 0.004)) discard;",
    )
    .replace("vec3 base = tinted == 1 ? v_tint : colour;", "vec3 base = (tinted == 1 ? v_tint : colour) * seen.rgb;")
    .replace("+ 0.05 * rim, opacity);", "+ 0.05 * rim, alpha_how == 2 ? opacity * seen.a : opacity);")
)
# what casts a shadow has no look, but what is cut away or cut out of it casts none
CAST_FRAGMENT = """
#version 330
uniform vec4 slice;
in vec3 v_place;
out vec4 result;
void main() {
    if (dot(slice.xyz, v_place) > slice.w) discard;
    result = vec4(1.0);
}
"""
PICTURED_CAST_FRAGMENT = CAST_FRAGMENT.replace(
    "out vec4 result;", "in vec2 v_uv; uniform sampler2D image; uniform int alpha_how; uniform float cutoff, clear;\n"
    "out vec4 result;"
).replace("void main() {", "void main() {\n    float seen = texture(image, v_uv).a * clear;\n"
          "    if (alpha_how > 0 && seen < (alpha_how == 1 ? cutoff : 0.4)) discard;")  # fmt: skip

LINE_VERTEX = """
#version 330
uniform mat4 to_clip; uniform float nearer, point_size;
in vec3 place; in mat4 stand;
void main() {
    gl_Position = to_clip * stand * vec4(place, 1.0);
    gl_Position.z -= nearer * gl_Position.w;
    gl_PointSize = point_size;
}
"""

LINE_FRAGMENT = """
#version 330
uniform vec4 colour; uniform int round_points;
out vec4 result;
void main() {
    if (round_points == 1 && length(gl_PointCoord - 0.5) > 0.5) discard;
    result = colour;
}
"""


PICTURE_VERTEX = """
#version 330
out vec2 at;
void main() {
    at = vec2(gl_VertexID & 1, gl_VertexID >> 1);
    gl_Position = vec4(at * 2.0 - 1.0, 0.9999, 1.0);
}
"""

PICTURE_FRAGMENT = """
#version 330
uniform sampler2D image; uniform vec2 share; uniform float opacity; uniform vec3 ground;
in vec2 at;
out vec4 result;
void main() {
    vec2 p = (at - 0.5) / share + 0.5;
    bool outside = any(lessThan(p, vec2(0.0))) || any(greaterThan(p, vec2(1.0)));
    vec4 seen = outside ? vec4(ground, 0.0) : texture(image, vec2(p.x, 1.0 - p.y));
    result = vec4(mix(ground, seen.rgb, seen.a * opacity), 1.0);
}
"""


SHADE_FRAGMENT = """
#version 330
uniform vec3 top, bottom;
in vec2 at;
out vec4 result;
void main() { result = vec4(mix(bottom, top, smoothstep(0.0, 1.0, at.y)), 1.0); }
"""
