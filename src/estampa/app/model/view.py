"""What the panes show, and the tool in hand. Nothing of it is saved with the scene."""

from dataclasses import dataclass

from PySide6.QtCore import QObject, Signal

from ...evaluate.evaluator import Evaluator
from .grains import MOST


@dataclass
class Pane:
    """How one pane looks: its shading, what it shows, and what it looks through."""

    shading: str = "smooth"  # smooth, facets, none
    wire: bool = False
    yarns: bool = True
    pieces: bool = False  # an ink for each piece
    stretch: bool = False  # inked by how far edges are stretched
    show_map: bool = True
    meshes: bool = True
    controls: bool = True  # grips, zones, paths, cameras, winds
    floor: bool = True
    shadows: bool = True
    shade: str = "plain"  # what lies behind everything: a key of render.SHADES
    joints: bool = True  # joints of skeletons, over the mesh
    ghosts: bool = False
    shapes: bool = False  # what bodies run into
    trails: bool = True
    grains: str = "distance"  # how grains are drawn: by distance, or all as meshes, boxes or points
    grain_trails: bool = False
    cut: bool = False  # what is nearer than what the view turns about is taken away
    camera: str | None = None  # id of the camera that is looked through


@dataclass
class Brush:
    """How weights are painted."""

    how: str = "add"  # add, take, smooth, set
    radius: float = 0.15  # m
    strength: float = 0.5
    through: bool = False  # on both sides of a thin thing
    mirror: str = ""  # x, y or z


@dataclass
class Held:
    """A result held to compare with: the document as it was; its frames are worked out as they are looked at."""

    doc: object
    evaluator: Evaluator | None = None


@dataclass
class Beside:
    """A printed file played back beside its subject."""

    title: str
    subject: str
    reader: object


@dataclass(frozen=True)
class Picked:
    """One grain of a swarm, by its number."""

    swarm: str
    id: int


class ViewState(QObject):
    """Panes, tools, and what is shown to compare with."""

    view_changed = Signal()

    def __init__(self, session):
        super().__init__(session)
        self.session = session
        self.panes, self.pane = [Pane(), Pane(meshes=False)], 0
        self.tool, self.brush = "hand", Brush()
        self.auto_key = False  # what hands change becomes keys
        self.test_turn = 0.0  # rad that the selected joint is bent for a look at the weights; never saved
        self.ghost_step, self.ghost_count = 4, 2  # frames apart, and how many either way
        self.most_grains = MOST  # of a swarm that are worked out for a picture
        self.clear()

    def clear(self) -> None:
        """Forget what is of one scene."""
        self.held: Held | None = None
        self.beside: Beside | None = None
        self.picked: Picked | None = None
        self.following = False  # the view goes along with the picked grain
        for pane in self.panes:
            pane.camera = None

    def set_view(self, **changes) -> None:
        """Change how the active pane looks, or the tool in hand."""
        for name, value in changes.items():
            setattr(self.look_of_pane if hasattr(self.look_of_pane, name) else self, name, value)
        self.view_changed.emit()
        if changes.keys() & {"ghosts", "shapes", "pieces", "grain_trails"}:
            self.session.pictures.look()

    @property
    def look_of_pane(self) -> Pane:
        return self.panes[self.pane]

    def pick(self, picked: Picked | None) -> None:
        """Pick a grain, or none."""
        self.picked, self.following = picked, self.following and picked is not None
        self.session.pictures.look()
        self.view_changed.emit()

    def hold(self) -> None:
        """Hold the present result, to compare with while channels change; or let go of what is held."""
        self.held = None if self.held else Held(self.session.doc)
        self.session.pictures.look()
        self.view_changed.emit()
