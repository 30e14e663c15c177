"""Lists of points from files: CSV, PLY, OpenUSD points."""

from pathlib import Path

import numpy as np

from ...errors import EstampaError
from ...formats import bounds, usd_open

MOST = 10_000_000


def read_points(path: str) -> np.ndarray:
    """(n, 3) m. Raises EstampaError where there is no list of finite points."""
    file = Path(path).expanduser()
    if not path or not file.exists():
        raise EstampaError(file.name or "The list of points", "is not there.", "Choose a CSV, PLY or OpenUSD file.")
    bounds.plain(file)
    try:
        points = {".csv": _csv, ".txt": _csv, ".ply": _ply}.get(file.suffix.lower(), _usd)(file)
    except EstampaError:
        raise
    except Exception as err:
        raise EstampaError(
            file.name, "holds no list of points that can be read.", "Look into the file.", repr(err)
        ) from err
    points = np.asarray(points, float).reshape(-1, 3)
    if len(points) > MOST:
        raise EstampaError(file.name, f"has {len(points):,} points.", f"{MOST:,} are the most.")
    wrong = np.flatnonzero(~np.isfinite(points).all(axis=1))
    if len(wrong):
        raise EstampaError(
            file.name,
            f"has {len(wrong):,} points that are not numbers, the first in row {wrong[0] + 1:,}.",
            "Take them out of the file.",
        )
    return points


def _csv(file):
    with open(file, encoding="utf-8-sig") as stream:
        first = stream.readline()
    try:
        [float(x) for x in first.replace(";", ",").split(",")[:3]]
        names = 0
    except ValueError:
        names = 1
    return np.loadtxt(
        file, delimiter=";" if ";" in first else ",", skiprows=names, usecols=(0, 1, 2), ndmin=2, encoding="utf-8-sig"
    )


def _ply(file):
    import trimesh

    bounds.check_ply(file.name, bounds.read_bytes(file))
    return trimesh.load(file, process=False).vertices


def _usd(file):
    from pxr import Usd, UsdGeom

    stage = usd_open.stage(file)
    metres = UsdGeom.GetStageMetersPerUnit(stage)
    for prim in stage.Traverse():
        if prim.IsA(UsdGeom.PointBased):
            found = np.array(UsdGeom.PointBased(prim).GetPointsAttr().Get(Usd.TimeCode.EarliestTime()), float)
            into = np.array(UsdGeom.Xformable(prim).ComputeLocalToWorldTransform(Usd.TimeCode.EarliestTime()))
            return (np.column_stack([found, np.ones(len(found))]) @ into)[:, :3] * metres
    raise EstampaError(file.name, "has no points in it.", "Choose another file.")
