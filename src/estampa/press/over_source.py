"""What prints share that lay motion over the file that an asset came from."""

from pathlib import Path
from typing import Any, ClassVar

from ..kinds.channels import switch
from .prints import Job, MeshPrint


class SourcePrint(MeshPrint):
    """Base of the prints of motion over a source, with all else that is in it."""

    suffixes: ClassVar[tuple[str, ...]] = ()  # of files that it can lie over
    source: ClassVar[str] = ""  # what such a file is, in words
    instead: ClassVar[str] = ""  # what else may be printed

    every = switch(True, "All subjects that came from the same file, not one alone.", title="All of that file")

    def trouble(self, doc, printed):
        file = printed.mesh.file
        if not file or Path(file).suffix.lower() not in self.suffixes:
            return f"{printed.name} did not come from {self.source}. Print {self.instead}, or import it from one."
        return "" if Path(file).is_file() else f"{file} is not there. Put it back, or print {self.instead}."

    def others(self, doc, printed, v):
        own = (s for s in doc.subjects if s.on and s.id != printed.id)
        return [s for s in own if s.mesh.file == printed.mesh.file] if v["every"] else []

    def subjects(self, job: Job) -> list[Any]:
        """The things that are printed, which have a mesh."""
        return [job.subject, *self.others(job.evaluator.doc, job.subject, job.v)]

    @staticmethod
    def words(job: Job, count: int) -> str:
        """What was printed."""
        return f"{count} subject{'s' if count > 1 else ''} of {Path(job.subject.mesh.file).name}"
