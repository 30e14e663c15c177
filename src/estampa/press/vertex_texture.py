"""Vertex animation texture: a GLB mesh, offsets and normals as OpenEXR images, and a JSON on how to read them."""

import json
from pathlib import Path

import numpy as np

from ..disk import write_together
from ..errors import EstampaError
from ..formats import exr, glb
from ..formats.vertex_texture import FORMULA, VertexTextureFile, layout, lookup_of, sum_of
from ..kinds.channels import choice, switch, whole
from ..units import format_bytes
from .prints import Estimate, Job, MeshPrint


class VertexTexture(MeshPrint):
    """A mesh (.glb) with a texture coordinate per vertex, its offsets from the rest shape per frame (.exr), normals,
    and a small .json with frame rate, frames, bounds, layout and the formula to read it."""

    takes_roots = holds_cycle = True
    kind, title, suffix = "vertex_texture", "Vertex animation texture", ".glb"
    icon = "M3 3 H13 V13 H3 Z M6.3 3 V13 M9.7 3 V13 M3 6.3 H13 M3 9.7 H13"
    carries = ("points at every frame", "normals", "texture coordinates", "materials")
    parts_seams = True

    precision = choice(
        "half",
        "Half floats are smaller; their error is at most 1/2048 of the largest offset.",
        {"half": "Half float (16 bit)", "full": "Full float (32 bit)"},
    )
    normals = switch(True, "Write a texture of normals beside the offsets.")
    lookup_set = whole(
        0,
        "Which texture coordinate of the mesh holds each vertex's texel, from 1; 0 takes the first after the mesh's "
        "own. Sets between are filled with the mesh's own.",
        title="Lookup in set",
        soft=(0, 4),
        hard=(0, 8),
    )

    def estimate(self, vertices, triangles, frames, v):
        try:
            width, rows, height = layout(vertices, frames)
        except EstampaError as err:
            return Estimate(0, "does not fit", f"{err.cause} {err.cure}")
        each = 6 if v["precision"] == "half" else 12
        images = 2 if v["normals"] else 1
        size = width * height * each * images + vertices * 40 + triangles * 12
        wrap = f", {rows} rows a frame" if rows > 1 else ""
        return Estimate(
            size,
            f"{width:,} × {height:,} texels{wrap}; up to {format_bytes(size)}: {frames} frames × "
            f"{vertices:,} vertices × {each} bytes × {images} image{'s' if images > 1 else ''}, before compression",
        )

    def write(self, job: Job, target: Path, progress):
        mesh, frames = job.mesh, job.frames
        width, rows, height = layout(mesh.count, len(frames))
        kind = np.float16 if job.v["precision"] == "half" else np.float32
        offsets = np.zeros((len(frames), rows * width, 3), kind)
        normals = np.zeros_like(offsets) if job.v["normals"] else None
        low, high, reach = np.full(3, np.inf), np.full(3, -np.inf), 0.0
        for i, frame in enumerate(frames):
            points = job.points(frame)
            offset = points - mesh.points
            reach = max(reach, float(np.linalg.norm(offset, axis=1).max()))
            if not reach <= float(np.finfo(kind).max):
                raise EstampaError(
                    job.item.name,
                    f"has offsets of {reach:.3g} m, too far for a half float.",
                    "Choose full float, or look for what flies away.",
                )
            offsets[i, : mesh.count] = offset
            if normals is not None:
                normals[i, : mesh.count] = mesh.normals(points)
            low, high = np.minimum(low, points.min(axis=0)), np.maximum(high, points.max(axis=0))
            progress(0.7 * (i + 1) / len(frames), f"Reading frame {frame}")

        named = lambda ending: target.with_name(target.name + ending)
        glb_path, offset_path, normal_path, json_path = map(named, (".glb", "_offset.exr", "_normal.exr", ".json"))
        lookup = lookup_of(mesh.count, width, height)
        coordinates = coordinates_with(mesh, lookup, int(job.v["lookup_set"]))
        error = 2.0**-11 if job.v["precision"] == "half" else 2.0**-24
        meta = {
            "kind": "vertex animation texture",
            "frame_rate": job.frame_rate,
            "first_frame": frames[0],
            "frames": len(frames),
            "vertices": mesh.count,
            "mesh": glb_path.name,
            "offset_texture": offset_path.name,
            "normal_texture": normal_path.name if normals is not None else None,
            "lookup": f"TEXCOORD_{len(coordinates) - 1}",
            "width": width,
            "height": height,
            "rows_per_frame": rows,
            "precision": job.v["precision"],
            "unit": "metre",
            "up": "+Y",
            "bounds_low": low.tolist(),
            "bounds_high": high.tolist(),
            "largest_offset": reach,
            "error_bound": error * reach + 2.0**-23 * float(np.abs(mesh.points).max()),
            "formula": FORMULA,
            "formula_uv": "sample offset_texture at lookup + (0, (frame - first_frame) * rows_per_frame / height), "
            "nearest texel, v downwards",
        }
        extras = {"vertex_animation_texture": json_path.name}
        files = {offset_path: lambda part: exr.write_image(part, offsets.reshape(height, width, 3))}
        if normals is not None:
            files[normal_path] = lambda part: exr.write_image(part, normals.reshape(height, width, 3))
        files[glb_path] = lambda part: glb.write_mesh(
            part, job.subject.name, mesh.points, mesh.normals(), mesh, coordinates, extras
        )
        # the description comes last and names the content of the others, so that files of two prints are never taken
        # for one
        sums = {}
        noted = {path: noting(write, path.name, sums) for path, write in files.items()}
        noted[json_path] = lambda part: part.write_text(json.dumps(meta | {"blake2b": sums}, indent=1))
        progress(0.8, "Writing")
        write_together(noted)
        progress(1.0, "Written")
        return list(noted)

    def reader(self, target: Path):
        return VertexTextureFile(target.with_name(target.name + ".json"))


def coordinates_with(mesh, lookup: np.ndarray, wanted: int) -> list[np.ndarray]:
    """Texture coordinate sets (n, 2) of a mesh, with the lookup as the wanted one of them, from 1; 0 is the first that
    is free. Raises EstampaError where that is a set of the mesh's own."""
    own = glb.coordinates(mesh)
    if 0 < wanted <= len(own):
        cause = f"would put its lookup in set {wanted}, where the mesh has its own coordinates."
        raise EstampaError("The texture", cause, f"Choose {len(own) + 1} or more under “Lookup in set”, or 0.")
    between = (own or [np.zeros_like(lookup)]) * max(wanted - 1 - len(own), 0)
    return [*own, *between[: max(wanted - 1 - len(own), 0)], lookup]


def noting(write, name: str, sums: dict):
    """The same write, that notes the digest of what was written."""

    def noted(part: Path):
        write(part)
        sums[name] = sum_of(part)

    return noted
