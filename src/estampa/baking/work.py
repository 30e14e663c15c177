"""What bakes share: the frames that they are of, and how they tell of themselves and stop."""

from collections.abc import Callable

from ..errors import Cancelled, EstampaError
from ..scene.document import Document

Step = Callable[[float, str], None]  # the share that is done, and words


def default_frames(doc: Document) -> tuple[int, int]:
    """The scene's range; with the frame that equals the first again, where its loop ends right behind it."""
    return doc.start, doc.loop[1] if doc.loop and doc.loop[1] == doc.end + 1 else doc.end


def frames_of(doc: Document, frames: tuple[int, int] | None) -> tuple[int, int]:
    """The frames that were asked for, or else those by default. Raises EstampaError when they end before they begin."""
    first, last = frames or default_frames(doc)
    if last < first:
        raise EstampaError("The bake", f"would end at {last}, before its start at {first}.", "Give a later end.")
    return first, last


def reporter(progress: Step | None, cancelled: Callable[[], bool]) -> Step:
    """What a bake calls at each step: it tells of it, and raises Cancelled where that is wanted."""

    def step(share: float, text: str) -> None:
        if cancelled():
            raise Cancelled
        if progress:
            progress(share, text)

    return step
