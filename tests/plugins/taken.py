"""A plug-in that takes a word that is taken."""

from estampa.motion.layer import Deformer


class OtherBend(Deformer):
    """Not a bend."""

    kind, title = "bend", "Other bend"
