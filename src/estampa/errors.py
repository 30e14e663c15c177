"""Trouble told for an artist: the thing, the cause and the cure, with details one click away."""


class EstampaError(Exception):
    """A fault that a person can act on.

    what   -- the thing in trouble, e.g. the file or the layer by its name
    cause  -- why it failed, in plain words
    cure   -- what to do next
    detail -- for an engineer; may be empty
    """

    def __init__(self, what: str, cause: str, cure: str = "", detail: str = ""):
        what, cause = shortened(what, 200), shortened(cause, 600)  # names from a damaged file may be of any length
        self.what, self.cause, self.cure, self.detail = what, cause, cure, detail
        super().__init__(f"{what}: {cause}" + (f" {cure}" if cure else ""))

    def __reduce__(self):
        return _made_again, (type(self), self.what, self.cause, self.cure, self.detail)


def _made_again(kind: type[EstampaError], *words: str) -> EstampaError:
    """An error as it comes from another process."""
    err = kind.__new__(kind)
    EstampaError.__init__(err, *words)
    return err


def shortened(text: str, most: int) -> str:
    return text if len(text) <= most else f"{text[: most // 2]} … {text[-most // 4 :]}"


class Cancelled(Exception):
    """Raised inside long work when the person asked it to stop."""


def disk_trouble(what: str, err: OSError, kept: str) -> EstampaError:
    """Words for a write that the disk refused. `kept` says what was not lost."""
    import errno

    causes = {
        errno.ENOSPC: ("the disk is full.", "Free some space or choose another folder, then try again."),
        errno.EDQUOT: ("your disk quota is used up.", "Free some space, then try again."),
        errno.EACCES: ("this folder does not let you write.", "Choose another folder or ask for permission."),
        errno.EPERM: ("this folder does not let you write.", "Choose another folder or ask for permission."),
        errno.EROFS: ("this disk is read-only.", "Choose a folder on another disk."),
        errno.ENOENT: ("the folder does not exist.", "Choose a folder that exists."),
        errno.ENOTDIR: ("a file stands where the folder should be.", "Choose another folder."),
    }
    cause, cure = causes.get(err.errno, (f"the disk refused ({err.strerror}).", "Try another folder."))
    return EstampaError(what, cause, f"{kept} {cure}", detail=repr(err))
