"""Points over time of a mesh in an OpenUSD file, read a frame at a time and never all at once."""

from collections import OrderedDict
from pathlib import Path

import numpy as np

from ..errors import EstampaError
from .usd_open import LOCK, stage

MOST_KEPT = 192_000_000  # bytes of samples, of all files
MOST_OPEN = 16
_OPEN: "OrderedDict[tuple, PointsFile]" = OrderedDict()


def stamp(path: str) -> tuple | None:
    """What tells that a file has changed; None where it is not there."""
    try:
        found = Path(path).expanduser().stat()
    except OSError:
        return None
    return found.st_mtime_ns, found.st_size


def points_file(path: str, prim: str = "") -> "PointsFile":
    """The file that is open already, or is opened now. Raises EstampaError."""
    key = (str(path), prim, stamp(path))
    with LOCK:
        if key not in _OPEN:
            for old in [k for k in _OPEN if k[:2] == key[:2]]:
                del _OPEN[old]
            _OPEN[key] = PointsFile(Path(path).expanduser(), prim)
            while len(_OPEN) > MOST_OPEN:
                _OPEN.popitem(last=False)
        _OPEN.move_to_end(key)
        return _OPEN[key]


class PointsFile:
    """times (t,) -- time codes of its samples; rate -- of them a second; counts are told as they are read."""

    def __init__(self, path: Path, prim: str = ""):
        from pxr import Usd, UsdGeom

        from .asset import into_metres
        from .usd_asset import measures

        if not path.is_file():
            cure = "Put it back, or choose another file."
            raise EstampaError(path.name or "The cache", "is not there.", cure, str(path))
        self.name, self.stage = path.name, stage(path, laid_over=True)
        meshes = [p for p in self.stage.Traverse(Usd.TraverseInstanceProxies()) if p.IsA(UsdGeom.PointBased)]
        moving = [p for p in meshes if len(UsdGeom.PointBased(p).GetPointsAttr().GetTimeSamples()) > 1]
        if prim:
            found = self.stage.GetPrimAtPath(prim)
            found = found if found and found.IsA(UsdGeom.PointBased) else None
            if found is None:
                names = ", ".join(str(p.GetPath()) for p in (moving or meshes)[:6]) or "no mesh"
                raise EstampaError(self.name, f"has no mesh “{prim}”.", f"It has: {names}.")
        else:
            found = next(iter(moving or meshes), None)
            if found is None:
                raise EstampaError(self.name, "holds no mesh.", "Choose a file with points over time.")
        self.prim = str(found.GetPath())
        self.attribute = UsdGeom.PointBased(found).GetPointsAttr()
        self.times = np.array(self.attribute.GetTimeSamples() or [0.0], float)
        self.rate = float(self.stage.GetTimeCodesPerSecond() or 24.0)
        self.into = into_metres(*measures(self.stage))[:3, :3]  # metres with +Y up
        self._kept: OrderedDict[int, np.ndarray] = OrderedDict()

    @property
    def seconds(self) -> float:
        return float(self.times[-1] - self.times[0]) / self.rate

    def sample(self, k: int) -> np.ndarray:
        """(n, 3) float32 of the k-th sample, as the file has it."""
        with LOCK:
            found = self._kept.get(k)
            if found is None:
                value = self.attribute.Get(float(self.times[k])) if len(self.attribute.GetTimeSamples()) else None
                value = self.attribute.Get() if value is None else value
                if value is None:
                    raise EstampaError(self.name, f"has no points at {self.times[k]:g}.", "Print it again.")
                found = self._kept[k] = np.array(value, np.float32)
                size = max(found.nbytes, 1)
                while len(self._kept) > max(2, MOST_KEPT // (size * max(len(_OPEN), 1))):
                    self._kept.popitem(last=False)
            self._kept.move_to_end(k)
            return found

    def at(self, seconds: float, count: int, held: str = "hold") -> np.ndarray:
        """(n, 3) float32 so many seconds from its first sample; outside it is held, cycles or goes back and forth.
        Raises EstampaError where it has not `count` points."""
        code = self.times[0] + folded(seconds, self.seconds, held) * self.rate
        k = int(np.clip(np.searchsorted(self.times, code, side="right") - 1, 0, len(self.times) - 1))
        span = self.times[k + 1] - self.times[k] if k + 1 < len(self.times) else 0.0
        share = float(np.clip((code - self.times[k]) / span, 0, 1)) if span > 0 else 0.0
        found = self._checked(k, count)
        if share < 1e-9:
            return found
        return found + np.float32(share) * (self._checked(k + 1, count) - found)

    def _checked(self, k, count):
        found = self.sample(k)
        if len(found) != count:
            cause = f"has {len(found):,} points at its frame {self.times[k]:g}, and the mesh here has {count:,}."
            raise EstampaError(self.name, cause, "Choose the cache of this very mesh.")
        if not np.isfinite(found).all():
            cause = f"has points that are no numbers at its frame {self.times[k]:g}."
            raise EstampaError(self.name, cause, "Print it again.")
        return found


def folded(seconds: float, long: float, held: str) -> float:
    """A time within 0 to `long`."""
    if long <= 0:
        return 0.0
    if held == "cycle":
        return seconds % long
    if held == "mirror":
        at = seconds % (2 * long)
        return at if at <= long else 2 * long - at
    return min(max(seconds, 0.0), long)
