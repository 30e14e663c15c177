"""What a remark is: a plain finding about a scene."""

from dataclasses import dataclass
from typing import Literal


@dataclass(frozen=True)
class Remark:
    """What is wrong, what it causes, and how to mend it."""

    severity: Literal["error", "warning", "note"]
    thing: str  # id of the culprit, "" for the scene
    wrong: str
    causes: str
    mend: str

    def __str__(self) -> str:
        return f"{self.wrong} {self.causes} {self.mend}"
