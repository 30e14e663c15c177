"""The stage: opens printed files, plays them, and tells what they take and how their loops meet."""

from dataclasses import dataclass, field, replace
from pathlib import Path

from ..errors import EstampaError
from ..formats import bounds
from ..formats.seam import SEEN, seam_jump
from ..units import format_bytes, format_length
from .actor import Actor, PlayedPart, once
from .gltf import GltfActor
from .stages import UsdActor
from .tables import TableActor
from .textures import RigidTextureActor, TextureActor

KINDS = {"vertex animation texture": TextureActor, "rigid animation texture": RigidTextureActor}


def opened(path: str | Path) -> Actor:
    """What a printed file plays. Raises EstampaError where it is none that the stage can play."""
    path = Path(path)
    if not path.exists():
        raise EstampaError(path.name, "is not there.", "Print it first, or look at its path.")
    bounds.plain(path)
    with bounds.in_words(path.name):
        actor = _opened(path)
    actor.shown(actor.clips[0], 0.0)  # so that a damaged file is told as it is opened
    return actor


def _opened(path: Path) -> Actor:
    suffix = path.suffix.lower()
    if suffix in (".glb", ".gltf"):
        beside = path.with_suffix(".json")  # a mesh of a texture is played with it
        return _of_json(beside) if beside.is_file() and _names(beside, path.name) else GltfActor(path)
    if suffix in (".usd", ".usda", ".usdc", ".usdz"):
        return UsdActor(path)
    if suffix == ".json":
        return _of_json(path)
    raise EstampaError(path.name, "is no file that the stage plays.", "It plays GLB, glTF, OpenUSD, and our JSON.")


def _names(path: Path, mesh: str) -> bool:
    try:
        return bounds.read_json(path).get("mesh") == mesh
    except EstampaError:
        return False


def _of_json(path: Path) -> Actor:
    meta = bounds.read_json(path)
    kind = KINDS.get(str(meta.get("kind")))
    if kind is None and ("table" in meta or "image" in meta):
        kind = TableActor
    if kind is not None:
        return kind(path)
    raise EstampaError(path.name, "does not say what it is of.", "It plays vertex and rigid textures, and tables.")


@dataclass
class Trigger:
    """A key that plays a clip of a part: pressed once it plays, pressed again it plays backwards."""

    part: int
    clip: str
    fade: float = 0.2
    rolled: bool = False


@dataclass
class RehearsalStage:
    """Parts that play at one time; copies of a part are the same actor, each with its own offset."""

    parts: list[PlayedPart] = field(default_factory=list)
    triggers: dict[str, Trigger] = field(default_factory=dict)

    @classmethod
    def of(cls, paths) -> "RehearsalStage":
        actors = [opened(p) for p in paths]
        return cls([PlayedPart(a, a.clips[0], loop=a.clips[0].loops) for a in actors])

    def add(self, actor: Actor, offset: float = 0.0, speed: float = 1.0) -> None:
        """Put an actor on it once more, so many seconds ahead."""
        self.parts.append(PlayedPart(actor, actor.clips[0], speed, True, 0.0, offset))

    def press(self, key: str, now: float) -> None:
        """A key is pressed: what it triggers rolls up, and down again the next time."""
        trigger = self.triggers.get(key)
        if trigger is None:
            return
        part = self.parts[trigger.part]
        clip = next((c for c in part.actor.clips if c.name == trigger.clip), None)
        if clip is None:
            raise EstampaError(part.actor.name, f"has no clip “{trigger.clip}”.", "Choose one that it has.")
        speed = -1.0 if trigger.rolled else 1.0
        if part.clip is clip and not part.loop:  # from where it is, so that a quick second press does not jump
            at = part.own(now)
            self.parts[trigger.part] = replace(part, speed=speed, began=now, at=at, faded=None, fade=0.0)
        else:
            self.parts[trigger.part] = part.play(clip, now, trigger.fade, speed, loop=False)
        trigger.rolled = not trigger.rolled

    def shown(self, now: float) -> list:
        """Everything that is seen at a moment, of parts that do not fade; those that do are one mesh each."""
        found = []
        for part in self.parts:
            seen = part.actor.shown(part.clip, part.own(now))
            if part.faded is not None and now < part.began + part.fade and all(s.stand is None for s in seen):
                points, at, begins = part.points(now), 0, {}
                for shown in seen:  # parts of one mesh share their vertices
                    if id(shown.points) not in begins:
                        begins[id(shown.points)] = at
                        at += len(shown.points)
                    begin = begins[id(shown.points)]
                    found.append(replace(shown, points=points[begin : begin + len(shown.points)]))
            else:
                found += seen
        return found

    # -- what is told ------------------------------------------------------------------------------------------
    def seam(self, part: PlayedPart) -> float | None:
        """m: how far a loop jumps as it is played, from its last frame over to its first, beyond what its steps beside
        that change anyway; None of what does not loop, has too few frames, or changes how many there are."""
        clip, step = part.clip, part.actor.step
        if not (clip.loops and clip.seconds > 4 * step):
            return None
        last = part.actor.period(clip) - step
        many = min(SEEN, int(round(last / step) + 1) // 2)
        first = [k * step for k in range(many)]
        at = [part.actor.points(clip, s) for s in (*first, *(last - s for s in reversed(first)))]
        if len({p.shape for p in at}) > 1:
            return None
        return seam_jump(at)

    def words(self) -> list[str]:
        """What is told of each part: its clips, memory, draws and seam."""
        found = []
        for part in self.parts:
            seen = part.actor.shown(part.clip, 0.0)
            many = sum(len(s.stand) if s.stand is not None else 1 for s in once(seen))
            clips = ", ".join(f"{c.name} ({c.seconds:.2f} s)" for c in part.actor.clips)
            words = f"{part.actor.name}: {clips}; {format_bytes(part.actor.memory())} on the card; {len(seen)} draws"
            words += f" of {many:,} things" if many != len(seen) else ""
            if part.actor.left:
                words += f"; not shown: {', '.join(part.actor.left)}"
            seam = self.seam(part)
            if seam is not None:
                words += f"; as a loop it {'goes round' if seam < 1e-3 else 'JUMPS'}, {format_length(seam)} at its seam"
            found.append(words)
        return found
