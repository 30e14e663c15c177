"""A thin layer over a source stage: only points over time on the same prims, so that the source opened through it shows
the asset with all its looks, and our motion (OpenUSD: sublayers, and opinions that are stronger than theirs)."""

import os
from collections.abc import Callable
from pathlib import Path

import numpy as np

from ..errors import EstampaError
from . import usd_open
from .asset import into_metres
from .usd_asset import measures
from .usd_skel import skins_of


def write_thin(
    path: Path, home: Path, source: Path, points_at: dict[str, Callable[[int], np.ndarray]], frames: list[int],
    rate: float, progress,
) -> None:  # fmt: skip
    """points_at -- of each prim's path: frame -> (n, 3) m, in the world, +Y up. home -- where the file will lie: it
    names its source from there. Frames are whole, so many a second."""
    from pxr import Sdf, Usd, UsdGeom, UsdSkel, Vt

    stage = usd_open.stage(source)
    into, first, codes = into_metres(*measures(stage)), _first(stage), stage.GetTimeCodesPerSecond() or 24.0
    layer = Sdf.Layer.CreateNew(str(path))
    layer.subLayerPaths.append(os.path.relpath(source, home).replace(os.sep, "/"))
    layer.comment = "Points over time by Estampa, over its source."
    code = lambda frame: first + (frame - frames[0]) * codes / rate
    layer.startTimeCode, layer.endTimeCode, layer.timeCodesPerSecond = code(frames[0]), code(frames[-1]), codes
    layer.framesPerSecond = rate
    layer.customLayerData = {"estampa:frames": Vt.IntArray(list(frames))}
    # what a stage says of itself is its root layer's alone
    layer.pseudoRoot.SetInfo("upAxis", UsdGeom.GetStageUpAxis(stage))
    layer.pseudoRoot.SetInfo("metersPerUnit", UsdGeom.GetStageMetersPerUnit(stage))
    if stage.GetDefaultPrim():
        layer.defaultPrim = stage.GetDefaultPrim().GetName()
    attributes = {}
    with Sdf.ChangeBlock():
        for prim in points_at:
            made = Sdf.CreatePrimInLayer(layer, prim)
            made.specifier = Sdf.SpecifierOver
            points = Sdf.AttributeSpec(made, "points", Sdf.ValueTypeNames.Point3fArray)
            extent = Sdf.AttributeSpec(made, "extent", Sdf.ValueTypeNames.Float3Array)
            attributes[prim] = points.path, extent.path
            if stage.GetPrimAtPath(prim).HasAPI(UsdSkel.BindingAPI):  # its points tell what its skin does, too
                skeleton = Sdf.RelationshipSpec(made, "skel:skeleton", False)
                skeleton.targetPathList.ClearEditsAndMakeExplicit()  # an empty list says that none moves it
    for i, frame in enumerate(frames):
        cache = UsdGeom.XformCache(Usd.TimeCode(code(frame)))
        for prim, at in points_at.items():
            back = np.linalg.inv(into @ np.array(cache.GetLocalToWorldTransform(stage.GetPrimAtPath(prim))).T)
            own = _moved(at(frame), back)
            points, extent = attributes[prim]
            layer.SetTimeSample(points, code(frame), Vt.Vec3fArray.FromNumpy(own))
            ends = np.array([[own[:, j].min() for j in range(3)], [own[:, j].max() for j in range(3)]], np.float32)
            layer.SetTimeSample(extent, code(frame), Vt.Vec3fArray.FromNumpy(ends))
        progress((i + 1) / len(frames), f"Writing frame {frame}")
    layer.Save()


def _moved(points, matrix) -> np.ndarray:
    """(n, 3) float32"""
    if np.abs(matrix - np.eye(4)).max() < 1e-15:
        return np.ascontiguousarray(points, np.float32)
    return np.ascontiguousarray(points @ matrix[:3, :3].T + matrix[:3, 3], np.float32)


def check_prims(source: Path, counts: dict[str, int]) -> None:
    """Raises EstampaError where a source has not the prims with so many points."""
    from pxr import UsdGeom

    stage = usd_open.stage(source)
    for prim, count in counts.items():
        found = stage.GetPrimAtPath(prim)
        if not found or not found.IsA(UsdGeom.Mesh):
            raise EstampaError(source.name, f"has no mesh “{prim}” any more.", "Take the new version first.")
        if found.IsInstanceProxy():
            cause = f"has “{prim}” within an instance, which takes no points of its own."
            raise EstampaError(source.name, cause, "Make it no instance where it was made, or print a cache.")
        own = UsdGeom.Mesh(found).GetPointsAttr()
        value = own.Get(own.GetTimeSamples()[0]) if own.GetTimeSamples() else own.Get()
        if value is None or len(value) != count:
            cause = f"has {0 if value is None else len(value):,} points in “{prim}”, and the subject has {count:,}."
            raise EstampaError(source.name, cause, "Take the new version, or switch layers off that change them.")


class ThinReader:
    """Opens a thin layer with its source below, as any program does."""

    def __init__(self, path: Path):

        self.stage = usd_open.stage(path, laid_over=True)
        layer = self.stage.GetRootLayer()
        self.frames = list(layer.customLayerData["estampa:frames"])
        codes = self.stage.GetTimeCodesPerSecond() / self.stage.GetFramesPerSecond()
        self._code = lambda frame: layer.startTimeCode + (frame - self.frames[0]) * codes
        self._into = into_metres(*measures(self.stage))
        self._skinned = skins_of(self.stage)

    def points(self, frame: int, prim: str) -> np.ndarray:
        """(n, 3) m in the world."""
        from pxr import Usd, UsdGeom

        code = Usd.TimeCode(self._code(frame))
        found = self.stage.GetPrimAtPath(prim)
        if prim in self._skinned:
            raise EstampaError(prim, "is moved by its skin once more in the file.", "Print the shot instead.")
        world = self._into @ np.array(UsdGeom.XformCache(code).GetLocalToWorldTransform(found)).T
        return np.array(UsdGeom.Mesh(found).GetPointsAttr().Get(code), float) @ world[:3, :3].T + world[:3, 3]


def _first(stage) -> float:
    return stage.GetStartTimeCode() if stage.HasAuthoredTimeCodeRange() else 1.0
